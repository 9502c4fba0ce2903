package fault_test

import (
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/site"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var qualityCases = []testCase{
	{name: "a loss that the port knows nothing of", change: func(s *evidence.Set) {
		lossy(s)
		counted(s, endpoint.Counters{ReceivedPackets: 120, SentPackets: 180, ReceiveDrops: 2})
	}, zone: zone.LocalSubnet, fault: "segment-lossy", cleared: []string{"link-errors"}},
	{name: "slower than the sheet allows", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 20, 20, 120)
		s.Sheet = pier()
		s.Sheet.Services = []site.Service{{Target: s.Target, Delay: 80 * time.Millisecond}}
	}, zone: zone.Beyond, fault: "path-slow"},
	{name: "slow, and the sheet allows it", change: func(s *evidence.Set) {
		Measured(s)
		s.Bursts[1] = Probed(Bookings, 20, 20, 620)
		s.Sheet = pier()
		s.Sheet.Services = []site.Service{{Target: s.Target, Delay: 700 * time.Millisecond}}
	}, zone: zone.None, cleared: []string{"path-slow"}},
}

// A target that is reached is still not in order when packets are lost, slow, or too small.
func TestQuality(t *testing.T) {
	stations := func(s *evidence.Set, received ...int) {
		for i, a := range []evidence.Burst{Probed(Edge, 40, 40, 4), Probed(Provider, 40, 40, 9), Probed(Exchange, 40, 40, 14)} {
			a.Received = received[i]
			s.Bursts = append(s.Bursts, a)
		}
	}
	sizes := func(gateway, target evidence.Sizing) []evidence.Sizing {
		gateway.To, target.To = Gateway, Bookings
		return []evidence.Sizing{gateway, target}
	}
	whole := evidence.Sizing{Full: 1500, Passes: 1500}
	hole := evidence.Sizing{Full: 1500, Passes: 1400, Lost: 1401}
	for _, c := range []struct {
		name       string
		change     func(*evidence.Set)
		zone       zone.Zone
		fault      fault.ID
		confidence verdict.Confidence
		words      string
		cleared    []string
	}{
		{"clean", Measured, zone.None, "", verdict.Certain, "",
			[]string{"segment-lossy", "path-lossy", "path-slow", "mtu-too-large", "mtu-black-hole"}},
		{"one or two lost prove nothing", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 20, 20, 1), Probed(Bookings, 57, 60, 20)}
		}, zone.None, "", verdict.Certain, "", []string{"path-lossy"}},
		{"loss on the segment", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 40, 60, 1), Probed(Bookings, 41, 60, 20), Connected(29, 40, 20)}
		}, zone.LocalSubnet, "segment-lossy", verdict.Certain, "172.27.40.1", nil},
		{"echo replies are missing everywhere, and nothing else was asked", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 40, 60, 1), Probed(Bookings, 41, 60, 20)}
		}, zone.LocalSubnet, "segment-lossy", verdict.Likely, "172.27.40.1", nil},
		{"echo replies are missing everywhere, and no connection is", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 20, 60, 1), Probed(Bookings, 12, 60, 20), Connected(40, 40, 20)}
		}, zone.None, "", verdict.Likely, "", []string{"segment-lossy", "path-lossy"}},
		{"a gateway that rations its answers, and a loss behind it", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 5, 100, 1), Probed(Bookings, 40, 60, 20), Connected(29, 40, 20)}
		}, zone.Beyond, "path-lossy", verdict.Likely, "", nil},
		{"one connection of many is lost beside many echo replies", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 1), Probed(Bookings, 48, 60, 20), Connected(39, 40, 20)}
		}, zone.Beyond, "path-lossy", verdict.Certain, "", nil},
		{"a gateway that rations its answers", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 40, 60, 1), Probed(Bookings, 20, 20, 20)}
		}, zone.None, "", verdict.Certain, "", []string{"segment-lossy", "path-lossy"}},
		{"loss behind the gateway", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 1), Probed(Bookings, 61, 100, 20), Connected(26, 40, 20)}
			stations(s, 40, 40, 22)
		}, zone.Beyond, "path-lossy", verdict.Certain, "after 198.51.100.9 and before 198.51.100.13", []string{"segment-lossy"}},
		{"no station in between was asked", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 1), Probed(Bookings, 61, 100, 20)}
		}, zone.Beyond, "path-lossy", verdict.Likely, "after 172.27.40.1 and before 203.0.113.80", nil},
		{"loss at one station alone", func(s *evidence.Set) { Measured(s); stations(s, 40, 12, 40) }, zone.None, "", verdict.Certain, "",
			[]string{"path-lossy"}},
		{"slow from one station on", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 1), Probed(Bookings, 60, 60, 420), Probed(Edge, 40, 40, 4),
				Probed(Provider, 40, 40, 409), Probed(Exchange, 40, 40, 414)}
		}, zone.Beyond, "path-slow", verdict.Certain, "after 198.51.100.1 and before 198.51.100.9", nil},
		{"slow by less than this machine itself kept its probes waiting", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 177), Probed(Bookings, 60, 60, 517), Probed(Edge, 40, 40, 286),
				Probed(Provider, 40, 40, 517), Probed(Exchange, 40, 40, 517)}
			s.Bursts[1].Late = 40 * time.Millisecond
		}, zone.None, "", verdict.Certain, "", nil},
		{"slow by more than that", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 177), Probed(Bookings, 60, 60, 717), Probed(Edge, 40, 40, 186),
				Probed(Provider, 40, 40, 717), Probed(Exchange, 40, 40, 717)}
			s.Bursts[1].Late = 40 * time.Millisecond
		}, zone.Beyond, "path-slow", verdict.Certain, "", nil},
		{"all held up by less than this machine itself kept its probes waiting", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 410), Probed(Bookings, 60, 60, 430)}
			s.Bursts[0].Late = 100 * time.Millisecond
		}, zone.None, "", verdict.Certain, "", nil},
		{"far, and not too far", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 20, 20, 1), Probed(Bookings, 20, 20, 280)}
		}, zone.None, "", verdict.Certain, "", []string{"path-slow"}},
		{"held up on the segment", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 410), Probed(Bookings, 60, 60, 430)}
		}, zone.LocalSubnet, "segment-lossy", verdict.Likely, "held up", nil},
		{"large packets vanish on the way", func(s *evidence.Set) { Measured(s); s.Sizings = sizes(whole, hole) }, zone.Beyond,
			"mtu-black-hole", verdict.Certain, "1400", []string{"mtu-too-large"}},
		{"somebody says too big", func(s *evidence.Set) {
			Measured(s)
			s.Sizings = sizes(whole, evidence.Sizing{Full: 1500, Passes: 1400, Lost: 1500, Told: true, From: Edge})
		}, zone.None, "", verdict.Certain, "", []string{"mtu-black-hole"}},
		{"the port sends too large", func(s *evidence.Set) {
			Measured(s)
			big := evidence.Sizing{Full: 9000, Passes: 1500, Lost: 1501}
			s.Sizings = sizes(big, big)
		}, zone.Host, "mtu-too-large", verdict.Certain, "9000", []string{"mtu-black-hole"}},
		{"the port sends too large, and the gateway does not tell", func(s *evidence.Set) {
			Measured(s)
			s.Sizings = []evidence.Sizing{{To: Bookings, Full: 9000, Passes: 1500, Lost: 1501}}
		}, zone.Host, "mtu-too-large", verdict.Likely, "9000", []string{"mtu-black-hole"}},
		{"a gateway and a neighbour that lose, the one far more", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 5, 100, 1), Probed(Core, 26, 40, 1), Connected(25, 40, 20)}
		}, zone.LocalSubnet, "segment-lossy", verdict.Certain, "", nil},
		{"slow, beside a gateway that rations its answers", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 4, 60, 1), Probed(Bookings, 20, 20, 420)}
		}, zone.Beyond, "path-slow", verdict.Certain, "", nil},
		{"the gateway answers no large echo, the target does", func(s *evidence.Set) { Measured(s); s.Sizings = sizes(hole, whole) },
			zone.None, "", verdict.Certain, "", []string{"mtu-too-large"}},
		{"sizes that were lost like all else", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 40, 60, 1), Probed(Bookings, 41, 60, 20)}
			s.Sizings = sizes(whole, hole)
		}, zone.LocalSubnet, "segment-lossy", verdict.Likely, "", nil},
		{"what is wrong and was not in the way stays aside", func(s *evidence.Set) {
			s.Loopback[0].Reply = Silence()
			s.Bursts = []evidence.Burst{Probed(Gateway, 60, 60, 1), Probed(Bookings, 61, 100, 20)}
		}, zone.Beyond, "path-lossy", verdict.Likely, "", nil},
		{"and is not the verdict while that is measured", func(s *evidence.Set) {
			s.Loopback[0].Reply = Silence()
			s.Open = []evidence.Kind{evidence.LossProbes}
		}, zone.Beyond, "", verdict.Maybe, "", nil},
		{"a gateway that loses, and nobody else counted", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 38, 60, 4), Probed(Bookings, 0, 20, 0)}
		}, zone.None, "", verdict.Likely, "", nil},
		{"a gateway that loses, the target's ration used up, and its connections still being counted", func(s *evidence.Set) {
			s.Bursts = []evidence.Burst{Probed(Gateway, 38, 60, 4), Probed(Bookings, 0, 20, 0)}
			s.Open = []evidence.Kind{evidence.LossProbes}
		}, zone.Beyond, "", verdict.Maybe, "Not yet known", nil},
		{"still measured", func(s *evidence.Set) { s.Open = []evidence.Kind{evidence.LossProbes, evidence.PacketSize} }, zone.Beyond, "",
			verdict.Maybe, "Not yet known", nil},
		{"measured enough, though the gateway is still asked",
			func(s *evidence.Set) { Measured(s); s.Open = []evidence.Kind{evidence.LossProbes, evidence.PacketSize} }, zone.None, "",
			verdict.Certain, "", nil},
	} {
		s := Healthy()
		c.change(s)
		r := verdict.Judge(s)
		assert.Equal(t, c.zone, r.Zone, c.name)
		assert.Equal(t, c.fault, r.Fault, c.name)
		assert.Equal(t, c.confidence, r.Confidence, c.name)
		assert.Contains(t, r.Sentence, c.words, c.name)
		assert.Equal(t, c.confidence != verdict.Maybe, r.Settled, c.name)
		for _, id := range c.cleared {
			suspect, _ := r.Suspect(fault.ID(id))
			assert.Equal(t, "cleared", suspect.Standing.String(), "%s: %s %v", c.name, id, suspect.Against)
		}
	}
}
