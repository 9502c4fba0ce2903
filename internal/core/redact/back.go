package redact

import (
	"net/netip"
	"strconv"
	"strings"
)

// Back turns the stand-ins in a text back into what they stand for.
func Back(text string, pairs []Pair) string {
	addresses, cards, names := map[netip.Addr]string{}, map[hardware]hardware{}, map[string]string{}
	for _, p := range pairs {
		if a, err := netip.ParseAddr(p.StandIn); err == nil {
			addresses[a] = p.Original
			continue
		}
		if h, _, ok := parseHardware(p.StandIn); ok {
			cards[h], _, _ = parseHardware(p.Original)
			continue
		}
		names[p.StandIn] = p.Original
	}
	return scan(text, func(t token) string {
		switch t.sort {
		case isAddress:
			if out, ok := addresses[t.addr.WithZone("")]; ok {
				if t.bits >= 0 {
					out += "/" + strconv.Itoa(t.bits)
				}
				return out
			}
		case isHardware:
			if h, ok := cards[t.hardware]; ok {
				return h.write(t.between)
			}
		case isName:
			labels := strings.Split(t.text, ".")
			for i, label := range labels {
				if out, ok := names[strings.ToLower(label)]; ok {
					labels[i] = out
				}
			}
			return strings.Join(labels, ".")
		}
		return t.text
	})
}
