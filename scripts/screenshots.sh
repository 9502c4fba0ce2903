#!/usr/bin/env bash
# Pictures of the main views, from the demonstration, as a person sees them: the program in tmux in a terminal window of 1280 by 800.
# Needs tmux, xterm, Xvfb, ImageMagick's import, and the DejaVu Sans Mono font.
set -euo pipefail
cd "$(dirname "$0")/.."
out=docs/screenshots
only=" $* " # names of pictures; none: all
mkdir -p "$out"
for program in tmux xterm Xvfb import; do
	command -v "$program" >/dev/null || { echo "screenshots: $program is not installed" >&2; exit 3; }
done
dir=$(mktemp -d)
state=/var/tmp/passepartout-pictures # nobody's own folder, in a path that may be shown
trap 'tmux -L shots kill-server 2>/dev/null || true; kill $(jobs -p) 2>/dev/null || true; rm -rf "$dir" "$state"' EXIT
printf 'set -g status off\nset -g default-terminal "tmux-256color"\nset -ga terminal-overrides ",xterm-256color:RGB"\nset -g escape-time 10\n' >"$dir/tmux.conf"
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$dir/display" >/dev/null 2>&1 &
for _ in $(seq 50); do [[ -s $dir/display ]] && break; sleep 0.1; done
DISPLAY=:$(<"$dir/display"); export DISPLAY

# picture NAME SIZE SCENARIO [KEY[=SECONDS]...]: opens the demonstration, presses keys, each with a wait after it, and takes the picture;
# with theme=light before it, on a light ground.
picture() {
	local name=$1 size=$2 scenario=$3 terminal theme=${theme:-dark} ground=#101418 ink=#d8dee6
	[[ $theme == dark ]] || { ground=#fbfbf8 ink=#22262b; }
	shift 3
	[[ $only == "  " || $only == *" $name "* ]] || return 0
	COLORTERM=truecolor tmux -L shots -f "$dir/tmux.conf" new-session -d -x "${size%x*}" -y "${size#*x}" "sleep 0.7; XDG_STATE_HOME=$state COLORTERM=truecolor ./passepartout demo --theme $theme $scenario"
	TERM=xterm-256color xterm -fa 'DejaVu Sans Mono' -fs 10.5 -geometry "$size+0+0" -bw 0 -b 4 -bg "$ground" -fg "$ink" +sb \
		-xrm 'xterm*directColor: true' -xrm 'xterm*termName: xterm-256color' -e tmux -L shots attach >/dev/null 2>&1 &
	terminal=$!
	sleep 1.7 # the program asks tmux what the terminal can show, so the terminal must be there first
	for key in "$@"; do
		tmux -L shots send-keys "${key%%=*}"
		sleep "${key##*=}"
	done
	import -window root "$out/$name.png"
	tmux -L shots kill-server
	wait "$terminal" 2>/dev/null || true
	echo "$out/$name.png"
}

picture cases 142x44 "" Down=0.3 Down=0.3
picture question 142x44 uplink-down
theme=light picture overview-healthy 142x44 healthy Enter=2
picture overview-gateway-silent 142x44 gateway-silent Enter=3
picture change 142x44 gateway-outside-subnet Enter=3 g=1.5 Enter=4
picture exchanges 142x44 service-refused Enter=3 X=1 r=6
picture overview-small 60x20 gateway-silent Enter=5
picture address-gateway-outside 142x44 gateway-outside-subnet Enter=2 2=0.5
picture sockets 142x44 destination-silent Enter=3 S=6
picture lease-rogue 142x44 dhcp-rogue Enter=3 3=1
picture neighbours 142x44 gateway-impersonated Enter=4 4=2 a=4
picture names 142x44 name-answers-differ Enter=3 5=2 c=6
picture counters 142x44 link-errors Enter=4 8=3 r=4
picture suspects 142x44 gateway-silent Enter=4 9=1
picture reach 142x44 fault-comes-and-goes Enter=2 6=42
picture path 142x44 rate-limited-hop Enter=2 7=30
picture values 142x44 gateway-silent Enter=3 v=0.5 Down=0.2 Down=0.2 Down=0.2 Down=0.2 Enter=0.5
picture help 142x44 healthy Enter=1.5 ?=0.5
picture outdated 142x44 fault-comes-and-goes Enter=14.2
