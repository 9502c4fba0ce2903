package fault

import (
	"fmt"
	"net/netip"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/site"
	"passepartout/internal/core/zone"
)

var sheetFaults = []*Fault{WrongSegment}

// WrongSegment: the segment is alive, and it is not the documented one.
var WrongSegment = &Fault{
	ID: "wrong-segment", Zone: zone.LocalSubnet, Place: 20, Scope: OfSocket, Matters: IfItShows, Check: "neighbours",
	Needs: []evidence.Kind{evidence.Settings, evidence.DHCPOffer, evidence.OtherNeighbours},
	Explains: []ID{"gateway-does-not-forward", "uplink-down", "path-stops", "destination-unreachable", "prohibited-by-policy",
		"destination-silent", "service-refused", "service-filtered", "resolver-silent-local", "resolver-silent",
		"name-not-found", "name-server-failing", "name-answers-differ"},
	Doc: `This is not the documented segment
The segment is alive, its DHCP server has given this machine settings that work there, and the site sheet documents another network for
it: the cable leads into the wrong socket, or the switch port is in the wrong VLAN. All looks in order, and what the machine needs is
elsewhere. It is taken for a fault of the far service. Plug it into the right socket, or have the port put into its network.`,
	Judge: func(p *facts.Facts) Finding {
		home, documented := p.Home()
		if !documented {
			return possible("no site sheet says on which network this machine belongs")
		}
		if why, ok := p.Ready(); !ok {
			return possible("%s", why)
		}
		a, ok := p.Address4()
		own, known := home.Prefix(false)
		if !ok || !known {
			return possible("the site sheet documents no IPv4 network to compare with")
		}
		if home.Overlaps(a.Prefix.Masked()) {
			return cleared("%v lies in the documented network %v", a.Prefix, own)
		}
		offers, _ := p.OffersSeen()
		var said []string
		for _, o := range offers {
			if home.Overlaps(o.Address.Masked()) {
				return cleared("%v offers %v, of the documented network", o.Server, o.Address)
			}
			if o.Address.Masked().Contains(a.Prefix.Addr()) {
				said = append(said, OfferWords(o))
			}
		}
		stranger := ""
		for _, h := range p.Heard {
			if h.Address.Is4() && home.Contains(h.Address) {
				return cleared("%v was heard, which belongs to the documented network", h.Address)
			}
			if h.Address.Is4() && a.Prefix.Masked().Contains(h.Address) && h.Address != p.Gateway && stranger == "" {
				stranger = fmt.Sprintf("%v is heard on the segment", h.Address)
			}
		}
		if !p.Leased() && len(said) == 0 {
			return possible("the address %v was set by hand, and nothing shows that the segment is of that network", a.Prefix)
		}
		reasons := []string{fmt.Sprintf("the site sheet has %s on %s", p.Endpoint.Host, describe(home))}
		standing := Supported
		if len(said) > 0 {
			standing = Confirmed
		} else if l, ok := p.Lease(); ok && l.Terms.Server.IsValid() {
			said = append(said, fmt.Sprintf("the address %v came by DHCP from %v", a.Prefix, l.Terms.Server))
		}
		reasons = append(reasons, said...)
		if stranger != "" {
			reasons = append(reasons, stranger)
		}
		what := fmt.Sprintf("This machine stands on %v, and belongs on %s.", a.Prefix.Masked(), describe(home))
		if other, known := p.Sheet.At(a.Prefix.Addr()); known && other.Name != home.Name {
			what = fmt.Sprintf("This machine stands on %s, and belongs on %s.", describe(other), describe(home))
		}
		steps := []string{
			fmt.Sprintf("Plug this machine into a socket of %s, or have its switch port put into that network; then run again.",
				describe(home))}
		if home.Switch != "" || home.VLAN > 0 {
			steps = append(steps, "The site sheet documents "+strings.TrimSpace(wire(home))+".")
		}
		return found(standing, what, reasons...).oncePlain(p).next(steps...)
	},
}

// describe names a documented network.
func describe(n site.Network) string {
	prefix := ""
	if len(n.Prefixes) > 0 {
		prefix = n.Prefixes[0].String()
	}
	if n.Name == "" {
		return prefix
	}
	return strings.TrimSpace(n.Name + " " + prefix)
}

func wire(n site.Network) (words string) {
	if n.Switch != "" {
		words = "the switch " + n.Switch
	}
	if n.VLAN > 0 {
		words += fmt.Sprintf(" VLAN %d", n.VLAN)
	}
	return words
}

// said is what somebody says this machine's network should be like.
type said struct {
	Who       string // and the verb: "172.27.40.2 offers", "the site sheet has"
	Address   netip.Prefix
	Routers   []netip.Addr
	Resolvers []netip.Addr
}

// saidOf gives what is said of the network of an address of this machine: by the site sheet, and by offers.
func saidOf(p *facts.Facts, a endpoint.Address) (out []said) {
	if home, ok := p.Here(); ok {
		for _, own := range home.Prefixes {
			if own.Contains(a.Prefix.Addr()) {
				out = append(out, said{"the site sheet has", netip.PrefixFrom(a.Prefix.Addr(), own.Bits()), home.Gateways, home.Resolvers})
			}
		}
	}
	offers, _ := p.OffersSeen()
	for _, o := range offers {
		out = append(out, said{o.Server.String() + " offers", o.Address, o.Routers, o.Resolvers})
	}
	return out
}
