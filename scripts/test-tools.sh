#!/bin/sh
# Installs the Debian packages that the namespace and terminal tests use, when that is allowed; otherwise says which tests are skipped.
PATH="$PATH:/usr/sbin:/sbin:/lib/systemd"
need=
for pair in tmux:tmux dnsmasq:dnsmasq-base nft:nftables ethtool:ethtool avahi-daemon:avahi-daemon lldpd:lldpd setpriv:util-linux unshare:util-linux ip:iproute2 sshd:openssh-server ssh:openssh-client busybox:busybox dbus-daemon:dbus pdftotext:poppler-utils \
	dhclient:isc-dhcp-client dhcpd:isc-dhcp-server dhcrelay:isc-dhcp-relay dhcpcd:dhcpcd-base kea-dhcp4:kea-dhcp4-server NetworkManager:network-manager systemd-networkd:systemd ifup:ifupdown; do
	command -v "${pair%%:*}" >/dev/null 2>&1 || need="$need ${pair##*:}"
done
[ -z "$need" ] && exit 0

# The servers are wanted for the tests alone. On this machine none of them may be started, now or at the next boot.
quiet() {
	deny=/usr/sbin/policy-rc.d
	made=
	[ -e $deny ] || { printf '#!/bin/sh\nexit 101\n' >$deny && chmod +x $deny && made=1; }
	"$@"
	result=$?
	[ -n "$made" ] && rm -f $deny
	for unit in isc-dhcp-server isc-dhcp-relay kea-dhcp4-server dhcpcd NetworkManager avahi-daemon avahi-daemon.socket lldpd networking ssh; do
		case "$need" in
		*isc-dhcp-server*|*isc-dhcp-relay*|*kea*|*dhcpcd*|*network-manager*|*avahi*|*lldpd*|*ifupdown*|*openssh*) systemctl disable "$unit" >/dev/null 2>&1 ;;
		esac
	done
	return $result
}

if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	{ apt-get update -qq && DEBIAN_FRONTEND=noninteractive quiet apt-get install -y -qq --no-install-recommends $need; } >/dev/null 2>&1 && exit 0
	echo "these packages could not be installed:$need" >&2
fi
echo "not here:$need. Tests that need them are skipped: the screens in a terminal need tmux, the sites in kernel namespaces need dnsmasq-base, nftables, ethtool and util-linux, the real DHCP clients and servers the rest." >&2
