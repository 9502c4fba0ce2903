package report

import (
	"fmt"
	"io"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/site"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/wording"
)

// PortSchema names the shape of the JSON of a port.
const PortSchema = "passepartout.port/1"

// PortSeen is a port over a time.
type InterfaceSeen struct {
	At      time.Time
	Over    time.Duration
	Port    endpoint.Interface
	Grown   endpoint.Counters
	Home    site.Network
	HasHome bool
}

// PerSecond turns growth into a rate.
func PerSecond(n uint64, over time.Duration) float64 {
	if over <= 0 {
		return 0
	}
	return float64(n) / over.Seconds()
}

// Bits writes a rate in bit/s.
func Bits(octets uint64, over time.Duration) string {
	b := PerSecond(octets, over) * 8
	switch {
	case b >= 1e9:
		return fmt.Sprintf("%.2f Gbit/s", b/1e9)
	case b >= 1e6:
		return fmt.Sprintf("%.2f Mbit/s", b/1e6)
	case b >= 1e3:
		return fmt.Sprintf("%.1f kbit/s", b/1e3)
	}
	return fmt.Sprintf("%.0f bit/s", b)
}

// Usual says what a port should run at, as the site sheet has it; "" if it does not say.
func (p InterfaceSeen) Usual() string {
	if !p.HasHome || p.Home.SpeedMbit == 0 {
		return ""
	}
	return verdict.Speed(endpoint.Interface{SpeedMbit: p.Home.SpeedMbit, Duplex: p.Home.Duplex})
}

// Trouble says what the port has lost in the time; "" for nothing.
func (p InterfaceSeen) Trouble() string {
	if p.Grown.Errors()+p.Grown.Drops()+p.Grown.CarrierLosses+p.Grown.Collisions == 0 {
		return ""
	}
	return fault.TroubleWords(p.Grown)
}

// WriteJSON writes it as one object.
func (p InterfaceSeen) WriteJSON(w io.Writer) error {
	out := struct {
		Schema    string            `json:"schema"`
		At        time.Time         `json:"at"`
		Interface string            `json:"interface"`
		Over      float64           `json:"over_s"`
		SpeedMbit int               `json:"speed_mbit,omitempty"`
		Duplex    string            `json:"duplex"`
		Usual     int               `json:"documented_speed_mbit,omitempty"`
		Rates     map[string]any    `json:"per_second"`
		Grown     map[string]uint64 `json:"grown"`
	}{PortSchema, p.At.UTC(), p.Port.Name, p.Over.Seconds(), p.Port.SpeedMbit, p.Port.Duplex.String(), p.Home.SpeedMbit, map[string]any{
		"received_packets": PerSecond(p.Grown.ReceivedPackets, p.Over), "sent_packets": PerSecond(p.Grown.SentPackets, p.Over),
		"received_octets": PerSecond(p.Grown.ReceivedBytes, p.Over), "sent_octets": PerSecond(p.Grown.SentBytes, p.Over),
	}, map[string]uint64{
		"receive_errors": p.Grown.ReceiveErrors, "send_errors": p.Grown.SendErrors, "receive_drops": p.Grown.ReceiveDrops,
		"send_drops": p.Grown.SendDrops,
		"damaged":    p.Grown.Damaged, "overruns": p.Grown.Overruns, "carrier_losses": p.Grown.CarrierLosses,
		"collisions": p.Grown.Collisions,
	}}
	return writeJSON(w, out)
}

// WriteText writes it for people.
func (p InterfaceSeen) WriteText(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "%s, %v", p.Port.Name, p.Port.Kind)
	if speed := verdict.Speed(p.Port); speed != "" {
		b.WriteString(", " + speed)
	}
	if usual := p.Usual(); usual != "" {
		b.WriteString("; documented: " + usual)
	}
	fmt.Fprintf(&b, "\nin %s\n", wording.Lasting(p.Over))
	fmt.Fprintf(&b, "  received  %s, %.1f packets/s\n", Bits(p.Grown.ReceivedBytes, p.Over), PerSecond(p.Grown.ReceivedPackets, p.Over))
	fmt.Fprintf(&b, "  sent      %s, %.1f packets/s\n", Bits(p.Grown.SentBytes, p.Over), PerSecond(p.Grown.SentPackets, p.Over))
	trouble := p.Trouble()
	if trouble == "" {
		trouble = "nothing"
	}
	fmt.Fprintf(&b, "  lost      %s\n", trouble)
	_, err := io.WriteString(w, b.String())
	return err
}
