package endpoint

import "passepartout/internal/core/token"

// What a log holds of a machine is written in words.

// MarshalText writes a hardware address in its usual form; none is the empty text.
func (h HardwareAddr) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads what MarshalText writes.
func (h *HardwareAddr) UnmarshalText(text []byte) (err error) {
	if len(text) == 0 {
		*h = HardwareAddr{}
		return nil
	}
	*h, err = ParseHardware(string(text))
	return err
}

// MarshalText gives the kind's word.
func (k Kind) MarshalText() ([]byte, error) { return token.Marshal(kindNames[:], k) }

// UnmarshalText reads a kind's word.
func (k *Kind) UnmarshalText(text []byte) error { return token.Unmarshal(kindNames[:], text, k) }

// MarshalText gives the state's word.
func (c Carrier) MarshalText() ([]byte, error) { return token.Marshal(carrierNames[:], c) }

// UnmarshalText reads a state's word.
func (c *Carrier) UnmarshalText(text []byte) error { return token.Unmarshal(carrierNames[:], text, c) }

// MarshalText gives the mode's word.
func (d Duplex) MarshalText() ([]byte, error) { return token.Marshal(duplexNames[:], d) }

// UnmarshalText reads a mode's word.
func (d *Duplex) UnmarshalText(text []byte) error { return token.Unmarshal(duplexNames[:], text, d) }

// MarshalText gives the scope's word.
func (s Scope) MarshalText() ([]byte, error) { return token.Marshal(scopeNames[:], s) }

// UnmarshalText reads a scope's word.
func (s *Scope) UnmarshalText(text []byte) error { return token.Unmarshal(scopeNames[:], text, s) }

// MarshalText gives the origin's word.
func (o Origin) MarshalText() ([]byte, error) { return token.Marshal(originNames[:], o) }

// UnmarshalText reads an origin's word.
func (o *Origin) UnmarshalText(text []byte) error { return token.Unmarshal(originNames[:], text, o) }

// MarshalText gives the state's word.
func (s NeighbourState) MarshalText() ([]byte, error) { return token.Marshal(neighbourNames[:], s) }

// UnmarshalText reads a state's word.
func (s *NeighbourState) UnmarshalText(text []byte) error {
	return token.Unmarshal(neighbourNames[:], text, s)
}

// MarshalText gives the verdict's word.
func (v RouteVerdict) MarshalText() ([]byte, error) { return token.Marshal(routeNames[:], v) }

// UnmarshalText reads a verdict's word.
func (v *RouteVerdict) UnmarshalText(text []byte) error {
	return token.Unmarshal(routeNames[:], text, v)
}
