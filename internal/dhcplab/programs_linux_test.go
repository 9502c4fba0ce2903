package dhcplab

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

func netipPrefix(n *net.IPNet) (netip.Prefix, bool) {
	a, ok := netip.AddrFromSlice(n.IP)
	ones, _ := n.Mask.Size()
	return netip.PrefixFrom(a.Unmap(), ones), ok
}

// offering is what a server of the lab gives.
type offering struct {
	address        string // of the server itself, with its prefix length
	first, last    string // the range
	network        string // of the range; by default the server's own
	router         string
	lease, t1, t2  int // seconds; t1 and t2 0: the server does not say
	endless, rapid bool
	extra          string // lines for the program's own settings
}

// served is the usual service of the pier.
func served() offering {
	return offering{address: "172.27.40.2/24", first: "172.27.40.100", last: "172.27.40.120", router: "172.27.40.1", lease: 120, t1: 3,
		t2: 7}
}

// serverKind is a real server and how it is started.
type serverKind struct {
	name    string
	program string
	start   func(l *lab, node string, o offering)
}

var servers = []serverKind{{"dnsmasq", "dnsmasq", dnsmasq}, {"isc", "dhcpd", iscServer}, {"kea", "kea-dhcp4", kea}}

func dnsmasq(l *lab, node string, o offering) {
	lasting := fmt.Sprint(max(o.lease, 120)) // it gives no less than two minutes
	if o.endless {
		lasting = "infinite"
	}
	args := []string{"--conf-file=/dev/null", "--keep-in-foreground", "--no-resolv", "--no-hosts", "--no-ping", "--bind-interfaces",
		"--interface=eth0", "--port=0", "--dhcp-authoritative", "--log-dhcp", "--log-facility=-",
		"--user=root", "--pid-file=", "--dhcp-leasefile=" + l.dir + "/" + node + ".leases",
		fmt.Sprintf("--dhcp-range=%s,%s,255.255.255.0,%s", o.first, o.last, lasting),
		"--dhcp-option=3," + o.router, "--dhcp-option=6,172.27.40.2", "--dhcp-option=15,kittiwake.example",
		"--dhcp-option=option:domain-search,kittiwake.example,pier.kittiwake.example"}
	if o.t1 > 0 {
		args = append(args, fmt.Sprintf("--dhcp-option-force=58,%d", o.t1), fmt.Sprintf("--dhcp-option-force=59,%d", o.t2))
	}
	if o.rapid {
		args = append(args, "--dhcp-rapid-commit")
	}
	if o.extra != "" {
		args = append(args, strings.Fields(o.extra)...)
	}
	l.run(node, node+"-dnsmasq", "exec dnsmasq "+strings.Join(args, " "))
}

func iscServer(l *lab, node string, o offering) {
	network := o.network
	if network == "" {
		network = netip.MustParsePrefix(o.address).Masked().Addr().String()
	}
	times := ""
	if o.t1 > 0 {
		times = fmt.Sprintf("option dhcp-renewal-time %d;\noption dhcp-rebinding-time %d;\n", o.t1, o.t2)
	}
	own := ""
	if o.network != "" { // the server's own segment must be declared, though nothing is given there
		own = fmt.Sprintf("subnet %s netmask 255.255.255.0 { }\n", netip.MustParsePrefix(o.address).Masked().Addr())
	}
	conf := l.write(node+"/dhcpd.conf", fmt.Sprintf(`authoritative;
ping-check off;
dhcp-cache-threshold 0;
default-lease-time %d;
max-lease-time %d;
%s%ssubnet %s netmask 255.255.255.0 {
 range %s %s;
 option routers %s;
 option domain-name-servers 172.27.40.2;
 option domain-name "kittiwake.example";
 option domain-search "kittiwake.example", "pier.kittiwake.example";
%s}
`, o.lease, o.lease, times, own, network, o.first, o.last, o.router, o.extra))
	leases := l.write(node+"/dhcpd.leases", "")
	l.run(node, node+"-dhcpd", fmt.Sprintf("exec dhcpd -4 -f -d -cf %s -lf %s -pf %s/dhcpd.pid eth0", conf, leases, l.dir+"/"+node))
}

func kea(l *lab, node string, o offering) {
	times := ""
	if o.t1 > 0 {
		times = fmt.Sprintf(`"renew-timer": %d, "rebind-timer": %d,`, o.t1, o.t2)
	}
	conf := l.write(node+"/kea.json", fmt.Sprintf(`{"Dhcp4": {
 "interfaces-config": {"interfaces": ["eth0"], "dhcp-socket-type": "raw"},
 "lease-database": {"type": "memfile", "persist": false},
 "authoritative": true, "valid-lifetime": %d, %s
 "loggers": [{"name": "kea-dhcp4", "severity": "INFO", "output_options": [{"output": "stdout"}]}],
 "subnet4": [{"subnet": "172.27.40.0/24", "pools": [{"pool": "%s - %s"}],
  "option-data": [{"name": "routers", "data": "%s"}, {"name": "domain-name-servers", "data": "172.27.40.2"}, {"name": "domain-name", "data": "kittiwake.example"},
   {"name": "domain-search", "data": "kittiwake.example, pier.kittiwake.example"}]}]}}
`, o.lease, times, o.first, o.last, o.router))
	l.run(node, node+"-kea", fmt.Sprintf("export KEA_PIDFILE_DIR=%[1]s KEA_LOCKFILE_DIR=%[1]s\nexec kea-dhcp4 -c %s", l.dir+"/"+node, conf))
}

// clientKind is a real client and how it is started and ended.
type clientKind struct {
	name    string // as the lease names it; "" for one that keeps no file
	program string
	start   func(l *lab) *process
	release func(l *lab, p *process) // nil: it cannot
}

// private gives a client files of its own for everything that it would otherwise change on this machine.
func private(l *lab, dirs ...string) string {
	l.write("resolv.conf", "")
	script := "mount --bind " + l.dir +
		"/resolv.conf $(readlink -f /etc/resolv.conf)\nmount -t tmpfs tmpfs /run\nmount -t sysfs sysfs /sys || true\n"
	for _, d := range dirs {
		script += fmt.Sprintf("mkdir -p %[1]s%[2]s %[2]s\nmount --bind %[1]s%[2]s %[2]s\n", l.root(), d)
	}
	return script
}

var clients = []clientKind{
	{"dhclient", "dhclient", startDhclient, func(l *lab, _ *process) {
		l.run(client, "dhclient-release",
			private(l, "/var/lib/dhcp")+"exec dhclient -r -d -cf dhclient.conf -pf "+l.dir+
				"/dhclient.pid -lf /var/lib/dhcp/dhclient.eth0.leases eth0")
	}},
	{"dhcpcd", "dhcpcd", startDhcpcd, func(_ *lab, p *process) { p.tell(syscall.SIGALRM) }}, // SIGALRM: release and end
	{"networkd", "systemd-networkd", startNetworkd, func(_ *lab, p *process) { p.tell(syscall.SIGTERM) }},
	{"NetworkManager", "NetworkManager", startNetworkManager, nil},
	{"", ours, startOurs, func(_ *lab, p *process) { p.tell(syscall.SIGINT) }},
	{"", "udhcpc", startUdhcpc, func(_ *lab, p *process) { p.tell(syscall.SIGUSR2) }},
}

func startDhclient(l *lab) *process {
	l.write("dhclient.conf", "send host-name = \"ticket-03\";\nrequest subnet-mask, broadcast-address, routers, domain-name, "+
		"domain-name-servers, domain-search, host-name, ntp-servers;\nretry 5;\ninitial-interval 1;\n")
	return l.run(client, "dhclient",
		private(l, "/var/lib/dhcp")+"exec dhclient -d -v -cf dhclient.conf -pf "+l.dir+
			"/dhclient.pid -lf /var/lib/dhcp/dhclient.eth0.leases eth0")
}

func startDhcpcd(l *lab) *process {
	l.write("dhcpcd.conf", "hostname ticket-03\nclientid\nipv4only\nnoipv4ll\nnohook resolv.conf, hostname, timesyncd, ntp\noption "+
		"domain_name_servers, domain_name, domain_search, routers, rapid_commit\nrequire dhcp_server_identifier\n")
	return l.run(client, "dhcpcd",
		private(l, "/var/lib/dhcpcd")+"chown _dhcpcd: /var/lib/dhcpcd 2>/dev/null || true\nexec dhcpcd -B -d -f "+l.dir+"/dhcpcd.conf eth0")
}

func startNetworkd(l *lab) *process { return l.run(client, "networkd", networkdScript(l)) }

func networkdScript(l *lab) string {
	return private(l, "/run/systemd/netif", "/etc/systemd/network") + `mount -o remount,ro /sys || mount -o bind,remount,ro /sys
mkdir -p /run/systemd/network /run/systemd/netif/leases /run/systemd/netif/links /run/systemd/netif/lldp
chown -R systemd-network: /run/systemd/netif
printf '[Match]\nName=eth0\n[Network]\nDHCP=ipv4\nIPv6AcceptRA=no\nLinkLocalAddressing=no\n[DHCPv4]\nSendRelease=yes\nHostname=ticket-03\nUseDomains=yes\n' > /run/systemd/network/10-eth0.network
exec /lib/systemd/systemd-networkd`
}

func startNetworkManager(l *lab) *process {
	l.write("nm/NetworkManager.conf",
		"[main]\nplugins=keyfile\ndhcp=internal\ndns=none\nno-auto-default=*\nrc-manager=unmanaged\n[keyfile]\nunmanaged-devices=none\n")
	const profile = "nm/system-connections/pier.nmconnection"
	text := "[connection]\nid=pier\nuuid=11111111-2222-3333-4444-555555555555\ntype=ethernet\ninterface-name=eth0\nautoconnect=true\n[ipv4]\nmethod=auto\ndhcp-hostname=ticket-03\n[ipv6]\nmethod=disabled\n"
	if _, err := os.Stat(filepath.Join(l.dir, profile)); err != nil {
		l.write(profile, text)
	}
	script := private(l, "/run/NetworkManager", "/var/lib/NetworkManager") + `mount -o remount,ro /sys || mount -o bind,remount,ro /sys
mkdir -p /run/dbus
chmod 600 nm/system-connections/pier.nmconnection
mount --bind nm /etc/NetworkManager
dbus-daemon --system --nofork --nopidfile &
sleep 0.5
exec NetworkManager --no-daemon`
	return l.run(client, "NetworkManager", script)
}

func startUdhcpc(l *lab) *process {
	l.write("udhcpc.sh", "#!/bin/sh\ncase $1 in bound|renew) ip addr flush dev eth0; ip addr add $ip/$mask dev eth0;; deconfig) ip addr "+
		"flush dev eth0;; esac\n")
	return l.run(client, "udhcpc",
		private(l)+"chmod +x udhcpc.sh\nexec busybox udhcpc -f -i eth0 -t 10 -T 1 -x hostname:ticket-03 -s "+l.dir+"/udhcpc.sh")
}
