package topology

import (
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

// ZoneOf is the zone in which a role stands.
func (r Role) ZoneOf() zone.Zone {
	switch r {
	case Loopback, Interface, Address:
		return zone.Host
	case DHCP, Neighbours, Gateway:
		return zone.LocalSubnet
	}
	return zone.Beyond
}

// Row is the line in a row: one station for each matter, in the order of the way, with the worst state of those that it stands for.
func (l Line) Row() []Station {
	var out []Station
	add := func(role Role, label string, list ...[]Station) {
		s := Station{Role: role, Label: label}
		for _, stations := range list {
			for _, x := range stations {
				if x.Role == role {
					if severity[x.State] > severity[s.State] {
						s.State = x.State
					}
					if label == "" {
						s.Label = x.Label
					}
				}
			}
		}
		if s.Label != "" {
			out = append(out, s)
		}
	}
	add(Interface, "", l.Host)
	add(Address, "", l.Host)
	add(DHCP, "lease", l.Local)
	add(Neighbours, "", l.Local)
	add(Gateway, "", l.Local)
	add(Names, "names", l.Local, l.Names)
	add(Path, "path", l.Beyond)
	add(Service, "", l.Beyond)
	return out
}

// severity orders states for a station that stands for several: what is known beats what is not, and what is wrong beats what holds.
var severity = map[verdict.State]int{verdict.StateUnknown: 0, verdict.Skipped: 1, verdict.Holds: 2, verdict.Strained: 3, verdict.Broken: 4}

// Doubted is the line while it is not known any more whether what it shows is so, from a zone on outwards: what held there is not known.
func (l Line) Doubted(from zone.Zone) Line {
	each := func(list []Station) []Station {
		out := make([]Station, len(list))
		for i, s := range list {
			if s.Role.ZoneOf() >= from && (s.State == verdict.Holds || s.State == verdict.Strained) && s.Role != Loopback {
				s.State = verdict.StateUnknown
			}
			out[i] = s
		}
		return out
	}
	l.Host, l.Local, l.Names, l.Beyond = each(l.Host), each(l.Local), each(l.Names), each(l.Beyond)
	return l
}
