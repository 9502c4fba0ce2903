package dhcplab

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/lease"
)

// onBus starts networkd as its unit does: with the system's message bus, and as its own user.
func onBus(l *lab) *process {
	plain := "exec /lib/systemd/systemd-networkd"
	caps := "+net_admin,+net_raw,+net_bind_service,+net_broadcast"
	script := strings.Replace(networkdScript(l), plain, "mkdir -p /run/dbus\nchown systemd-network: /run/systemd/network\n"+
		"dbus-daemon --system --nofork --nopidfile &\nsleep 0.5\nexec setpriv --reuid systemd-network --regid systemd-network "+
		"--clear-groups --inh-caps "+caps+" --ambient-caps "+caps+" /lib/systemd/systemd-networkd", 1)
	return l.run(client, "networkd", script)
}

// beside runs the program where a client runs, so that it sees what that one says of itself.
func (l *lab) beside(p *process, args string) (out, errs string, status int) {
	l.t.Helper()
	path, err := program()
	require.NoError(l.t, err)
	cmd := exec.Command("nsenter", "-m", "-t", fmt.Sprint(p.cmd.Process.Pid), "sh", "-c",
		fmt.Sprintf("export PATH=$PATH:/usr/sbin:/sbin XDG_STATE_HOME=%s/state\nexec %s %s", l.dir, path, args))
	var o, e strings.Builder
	cmd.Stdout, cmd.Stderr = &o, &e
	l.in(l.nodes[client], cmd.Start)
	_ = cmd.Wait()
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// A client of DHCP that manages an interface is told by its own public way, and what it does then is seen on the wire and in the kernel.
func TestClientsAreTold(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for _, c := range []struct {
		name     string
		needs    string
		start    func(*lab) *process
		releases string // what it says where it cannot; "" where it does
		manager  string
	}{
		{lease.Dhcpcd, "dhcpcd", startDhcpcd, "", lease.Dhcpcd},
		{lease.NetworkManager, "NetworkManager", startNetworkManager, "", lease.NetworkManager},
		{lease.Networkd, "systemd-networkd", onBus, "has no word for that", lease.Networkd},
		{lease.Dhclient, "dhclient", startDhclient, "dhclient -r eth0 ends it", lease.Dhclient},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, c.needs, "dhcpd", "nsenter", "setpriv")
			o := served()
			o.lease, o.t1 = 600, 0 // it does not renew by itself meanwhile
			l.node("server", "near "+o.address)
			iscServer(l, "server", o)
			p := c.start(l)
			taken := func() (n int) {
				for _, e := range l.exchanges() {
					if e.Outcome == dhcp.BoundTo || e.Outcome == dhcp.Renewed || e.Outcome == dhcp.Rebound {
						n++
					}
				}
				return n
			}
			l.until("bound", time.Minute, func() bool {
				_, told := l.inForce()
				return taken() > 0 && len(l.held()) > 0 && told
			})
			had := taken()
			out, errs, status := l.beside(p, "lease renew -i eth0 --yes --target 172.27.40.2 --format json")
			if c.name == lease.Dhclient {
				assert.Equal(t, 3, status)
				assert.Contains(t, errs, c.releases)
				return
			}
			var got struct{ Manager, Outcome string }
			require.NoError(t, json.Unmarshal([]byte(out), &got), "%s%s", out, errs)
			assert.Equal(t, []any{c.manager, "kept", 0}, []any{got.Manager, got.Outcome, status}, errs)
			assert.Greater(t, taken(), had, "seen on the wire")
			l.until("it has its address", time.Minute, func() bool { return len(l.held()) == 1 })
			out, errs, status = l.beside(p, "lease release -i eth0 --yes --force --target 172.27.40.2")
			if c.releases != "" {
				assert.Equal(t, 3, status)
				assert.Contains(t, errs, c.releases)
				return
			}
			assert.Contains(t, []int{0, 2}, status, "%s%s", out, errs) // nothing is reached without an address
			assert.Empty(t, l.held())
		})
	}
}

// startIfupdown sets the interface as interfaces(5) has it, and stays.
func startIfupdown(l *lab) *process {
	if _, err := os.Stat(filepath.Join(l.root(), "etc/network/interfaces")); err != nil {
		l.write("root/etc/network/interfaces", "# The counter.\nauto lo\niface lo inet loopback\n\n"+
			"auto eth0\niface eth0 inet dhcp\n\thostname ticket-03\n\tup true # a hook of the site's\n\nsource-directory interfaces.d\n")
	}
	l.write("root/etc/dhcp/dhclient.conf", "initial-interval 1;\n")
	return l.run(client, "ifupdown", private(l, "/etc/network", "/etc/dhcp", "/var/lib/dhcp")+
		"cd /etc/network; mkdir -p /run/network if-pre-up.d if-up.d if-down.d if-post-down.d\n"+
		"ip addr flush dev eth0\nifup --force eth0\nexec sleep 300")
}

// What is set for good is kept by whoever manages the interface: it survives his restart, and after the undoing his files are byte for
// byte what they were.
func TestSettingsForGood(t *testing.T) {
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	for _, c := range []struct {
		name  string
		needs string
		start func(*lab) *process
		files string // below the lab's folder
	}{
		{lease.NetworkManager, "NetworkManager", startNetworkManager, "nm/system-connections"},
		{lease.Networkd, "systemd-networkd", onBus, "root/etc/systemd/network"},
		{endpoint.Ifupdown, "ifup", startIfupdown, "root/etc/network"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t, c.needs, "dhcpd", "nsenter", "setpriv", "dhclient")
			o := served()
			o.lease, o.t1 = 600, 0
			l.node("server", "near "+o.address)
			iscServer(l, "server", o)
			p := c.start(l)
			set := netip.MustParsePrefix("172.27.40.77/24")
			has := func(want bool) func() bool {
				return func() bool {
					h := l.held()
					return len(h) == 1 && (h[0].Address == set) == want && h[0].Expires.IsZero() == want
				}
			}
			l.until("bound", time.Minute, has(false))
			before := l.files(c.files)
			args := " -i eth0 --yes --trial 0 --target 172.27.40.2 --format json"
			out, errs, status := l.beside(p, "set address "+set.String()+" --gateway 172.27.40.1 --last for-good"+args)
			var got struct {
				Last, Outcome string
				Steps         []struct{ By, Outcome string }
			}
			require.NoError(t, json.Unmarshal([]byte(out), &got), "%s%s", out, errs)
			assert.Equal(t, []any{"for-good", "kept", 0}, []any{got.Last, got.Outcome, status}, "%s%s", out, errs)
			assert.Equal(t, c.name, got.Steps[0].By)
			assert.True(t, has(true)(), "%v", l.held())
			assert.Contains(t, l.routes(), "default via 172.27.40.1")
			assert.NotEqual(t, before, l.files(c.files))

			p.end(syscall.SIGTERM)
			l.in(l.nodes[client], func() error { return exec.Command("ip", "addr", "flush", "dev", "eth0").Run() })
			p = c.start(l)
			l.until("set again after the restart", time.Minute, has(true))
			l.until("and its route", time.Minute, func() bool { return strings.Contains(l.routes(), "default via 172.27.40.1") })

			time.Sleep(2 * time.Second) // who was started anew comes to rest
			out, errs, status = l.beside(p, "undo --yes --force")
			assert.Zero(t, status, "%s%s", out, errs)
			assert.Equal(t, before, l.files(c.files), "byte for byte")
			l.until("by DHCP again", time.Minute, func() bool { h := l.held(); return len(h) == 1 && h[0].Address != set })
		})
	}
}

// files are the contents of all files of a folder of the lab.
func (l *lab) files(folder string) map[string]string {
	out := map[string]string{}
	_ = filepath.WalkDir(filepath.Join(l.dir, folder), func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			raw, _ := os.ReadFile(path)
			out[path] = string(raw)
		}
		return nil
	})
	return out
}

// routes are the client's, as the system's own tool has them.
func (l *lab) routes() (text string) {
	l.in(l.nodes[client], func() error {
		out, err := exec.Command("ip", "route").Output()
		text = string(out)
		return err
	})
	return text
}
