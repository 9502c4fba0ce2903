#!/bin/sh
# Installs the Debian packages that the namespace and terminal tests use, when that is allowed; otherwise says which tests are skipped.
need=
for pair in tmux:tmux dnsmasq:dnsmasq-base nft:nftables setpriv:util-linux unshare:util-linux; do
	command -v "${pair%%:*}" >/dev/null 2>&1 || PATH="$PATH:/usr/sbin:/sbin" command -v "${pair%%:*}" >/dev/null 2>&1 || need="$need ${pair##*:}"
done
[ -z "$need" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	{ apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $need; } >/dev/null 2>&1 && exit 0
	echo "these packages could not be installed:$need" >&2
fi
echo "not here:$need. Tests that need them are skipped: the screens in a terminal need tmux, the sites in kernel namespaces need dnsmasq-base, nftables and util-linux." >&2
