package dhcplab

import (
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
)

// ours is the program itself, where it takes a lease and keeps it.
const ours = "passepartout"

// program is the program, built once.
var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "passepartout-dhcplab-")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, ours)
	if out, err := exec.Command("go", "build", "-o", path, "passepartout/cmd/passepartout").CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
})

func TestMain(m *testing.M) {
	code := m.Run()
	if path, err := program(); err == nil {
		_ = os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// lease starts the program in the lab's client, with a state folder of the lab.
func (l *lab) lease(args string) *process {
	path, err := program()
	require.NoError(l.t, err)
	return l.run(client, ours, private(l)+fmt.Sprintf("export XDG_STATE_HOME=%s/state\n"+
		"exec %s lease take --yes -i eth0 --target 172.27.40.2 %s", l.dir, path, args))
}

func startOurs(l *lab) *process { return l.lease("") }

func (p *process) said() string {
	raw, _ := os.ReadFile(p.log)
	return string(raw)
}

// What becomes of the lease when the program is killed, when the server is gone, when it wants the address back, and when somebody has it.
func TestALeaseOfOurOwnEnds(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for _, c := range []struct {
		name string
		do   func(l *lab, p *process)
		says string
	}{
		{name: "killed", do: func(_ *lab, p *process) { p.tell(syscall.SIGKILL) }},
		{name: "ended by the system", do: func(_ *lab, p *process) { p.tell(syscall.SIGTERM) },
			says: "is given back; the settings are as before"},
		{name: "the server is gone, to the end", do: func(l *lab, _ *process) {
			l.in(l.nodes["server"], func() error { return exec.Command("ip", "link", "set", "eth0", "down").Run() })
		}, says: "the lease is over; the settings are as before"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, "dhcpd", "ip")
			o := served()
			o.lease, o.t1, o.t2 = 16, 4, 8
			l.node("server", "near "+o.address)
			iscServer(l, "server", o)
			l.in(l.nodes[client], func() error { return exec.Command("ip", "addr", "add", "192.0.2.7/24", "dev", "eth0").Run() })
			p := l.lease("--trial 0")
			before := netip.MustParsePrefix("192.0.2.7/24")
			l.until("bound", time.Minute, func() bool {
				h := l.held()
				return strings.Contains(p.said(), "is leased") && len(h) == 1 && h[0].Address != before && !h[0].Expires.IsZero()
			})
			until := l.held()[0].Expires
			l.until("renewed, and the kernel told", time.Minute, func() bool {
				return l.held()[0].Expires.After(until.Add(2 * time.Second))
			})
			c.do(l, p)
			l.until("as it was before", 40*time.Second, func() bool {
				h := l.held()
				return len(h) == 1 && h[0].Address == before && h[0].Expires.IsZero()
			})
			l.until("it says so", 5*time.Second, func() bool { return strings.Contains(p.said(), c.says) })
			if !strings.Contains(c.name, "server") {
				l.until("the server is told", time.Minute, func() bool { return l.wanted(dhcp.Released) != nil })
			}
			raw, err := os.ReadFile(filepath.Join(l.dir, "state", "passepartout", "changes.jsonl"))
			require.NoError(t, err)
			assert.Contains(t, string(raw), `"outcome":"taken-back"`)
		})
	}
	t.Run("somebody has the address", func(t *testing.T) {
		t.Parallel()
		l := newLab(t, "dhcpd", "ip")
		o := served()
		o.last = o.first
		l.node("server", "near "+o.address)
		l.node("squatter", "near "+o.first+"/24")
		iscServer(l, "server", o)
		p := l.lease("")
		l.until("declined", time.Minute, func() bool { return l.wanted(dhcp.Declined) != nil })
		<-p.done
		assert.Contains(t, p.said(), o.first+" is in use by 02:00:00:00:10:")
		assert.Empty(t, l.held())
	})
}
