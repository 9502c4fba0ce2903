package verdict

import (
	"fmt"

	"passepartout/internal/core/evidence"
	"passepartout/internal/core/facts"
	"passepartout/internal/core/wording"
	"passepartout/internal/core/zone"
)

func loss(p *facts.Facts) Check {
	c := Check{ID: "loss", Label: "loss", Zone: zone.Beyond,
		Asked: "gateway and target, 20 small probes each within 40 ms, and 40 more where any was lost",
		Means: "what is sent comes back, and in good time", Fact: "nobody answered probes that could be counted"}
	far := 0
	for _, b := range p.Bursts {
		if b.Received == 0 {
			continue
		}
		c.Heard = append(c.Heard, fmt.Sprintf("%v: %d of %d came back, half within %s", b.To, b.Received, b.Sent, wording.Millis(b.Median)))
		if !p.OnLink(b.To) || p.TargetOnLink() {
			far++
			c.Fact = fmt.Sprintf("%d of %d came back from %v", b.Received, b.Sent, b.To)
		}
	}
	switch {
	case far > 0:
		c.State = Holds
	case p.IsOpen(evidence.LossProbes):
		c.Fact = "being measured"
	default:
		c.State = Skipped
	}
	if p.LossZone() == zone.LocalSubnet || p.DelayZone() == zone.LocalSubnet {
		c.State = Strained // it begins nearer by
	}
	return c
}

func size(p *facts.Facts) Check {
	c := Check{ID: "size", Label: "packet size", Zone: zone.Beyond,
		Asked: "gateway and target, packets as large as the interface sends, never in fragments",
		Means: "large packets come through as small ones do", Fact: "nobody answered probes of full size"}
	for _, s := range p.Sizings {
		if s.Passes == 0 && !s.Told {
			continue
		}
		line := fmt.Sprintf("%v: %d octets pass", s.To, s.Passes)
		if s.Lost > 0 {
			line += fmt.Sprintf(", %d do not", s.Lost)
		}
		if s.Told {
			line += fmt.Sprintf("; %v says so", s.From)
		}
		c.Heard = append(c.Heard, line)
		if p.OnLink(s.To) && !p.TargetOnLink() {
			continue
		}
		c.State, c.Fact = Holds, fmt.Sprintf("%d octets pass whole", s.Passes)
		if s.Told {
			c.Fact = fmt.Sprintf("%d octets pass; %v says that more do not", s.Passes, s.From)
		}
	}
	switch {
	case c.State == Holds:
	case p.IsOpen(evidence.PacketSize):
		c.Fact = "being tried"
	default:
		c.State = Skipped
	}
	return c
}
