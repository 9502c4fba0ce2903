package plan_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"testing/synctest"
	"time"
	"unicode"

	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"passepartout/internal/probe/plan"
	"passepartout/internal/report"
)

// stageEndpoint is what a machine on that network says of itself.
func stageEndpoint() *endpoint.Endpoint {
	return &endpoint.Endpoint{Host: "ticket-03", At: time.Now(), Resolvers: []endpoint.Resolver{{Address: core, Source: "/etc/resolv.conf"}},
		Interfaces: []endpoint.Interface{
			{Index: 1, Name: "lo", Kind: endpoint.LoopbackKind, Up: true, Carrier: endpoint.CarrierPresent, MTU: 65536,
				Addresses: []endpoint.Address{{Prefix: netip.MustParsePrefix("127.0.0.1/8"), Scope: endpoint.ScopeHost}}},
			{Index: 2, Name: "eth0", Kind: endpoint.Wired, Up: true, Carrier: endpoint.CarrierPresent, MTU: 1500, Hardware: ownHardware,
				Addresses: []endpoint.Address{{Prefix: netip.PrefixFrom(own, 24), Scope: endpoint.ScopeGlobal, Origin: endpoint.ByHand}}}},
		Routes: []endpoint.Route{{To: segment, Interface: "eth0", Source: own, Table: 254},
			{To: netip.MustParsePrefix("0.0.0.0/0"), Via: gateway, Interface: "eth0", Table: 254}}}
}

// FuzzNetwork is a whole check on a network that answers what the fuzzer says. It ends by its deadline, gives out no control character, and
// where the truth comes beside the noise it is not certain of anything else.
func FuzzNetwork(f *testing.F) {
	rng := rand.New(rand.NewPCG(8, 9))
	seeds := 14
	if testing.Short() { // beside what is timed
		seeds = 3
	}
	for i := range seeds {
		script := make([]byte, 16<<(i%7))
		for k := range script {
			script[k] = byte(rng.Uint32())
		}
		f.Add(script, i%2 == 0, uint8(i))
	}
	f.Add([]byte(nil), true, uint8(0))
	f.Add([]byte(nil), false, uint8(0))
	targets := []string{"bookings.kittiwake.example:443", "https://bookings.kittiwake.example/", "203.0.113.80", "203.0.113.80:443", "",
		"172.27.40.2", "nothing.example"}
	f.Fuzz(func(t *testing.T, script []byte, truthful bool, which uint8) {
		text := targets[int(which)%len(targets)]
		synctest.Test(t, func(t *testing.T) {
			wanted, err := target.Parse(text)
			require.NoError(t, err)
			const deadline = 10 * time.Second
			ctx, cancel := context.WithTimeout(t.Context(), deadline)
			defer cancel()
			began := time.Now()
			set, r, err := plan.Run(ctx, plan.Config{Machine: newStage(stageEndpoint(), script, truthful), Target: wanted}, nil)
			require.NoError(t, err)
			require.LessOrEqual(t, time.Since(began), deadline+500*time.Millisecond, "ended by its deadline")
			t.Logf("%s truthful %v: %v %s %s, %v: %s", text, truthful, r.Zone, r.Fault, r.Confidence, time.Since(began), r.Sentence)
			var out bytes.Buffer
			require.NoError(t, report.CheckText(&out, set, r))
			require.NoError(t, report.CheckJSON(&out, began, set, r))
			require.Less(t, out.Len(), 4<<20)
			for _, c := range out.String() {
				require.True(t, c == '\n' || unicode.IsPrint(c), "%U in %q", c, out.String())
			}
			if truthful && r.Confidence == verdict.Certain && (which < 4 && !strings.HasPrefix(text, "https")) {
				require.Equal(t, zone.None, r.Zone, "%s: %s", r.Fault, r.Sentence)
			}
			time.Sleep(time.Minute) // what is still in the air
		})
	})
}
