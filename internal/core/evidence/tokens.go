package evidence

import "passepartout/internal/core/token"

// What a log holds of evidence is written in words.

// MarshalText gives the outcome's word.
func (o Outcome) MarshalText() ([]byte, error) { return token.Marshal(outcomeNames[:], o) }

// UnmarshalText reads an outcome's word.
func (o *Outcome) UnmarshalText(text []byte) error { return token.Unmarshal(outcomeNames[:], text, o) }

// MarshalText gives the reason's words.
func (w Why) MarshalText() ([]byte, error) { return token.Marshal(whyNames[:], w) }

// UnmarshalText reads a reason's words.
func (w *Why) UnmarshalText(text []byte) error { return token.Unmarshal(whyNames[:], text, w) }

// MarshalText gives the flaw's words.
func (f TLSFlaw) MarshalText() ([]byte, error) { return token.Marshal(flawNames[:], f) }

// UnmarshalText reads a flaw's words.
func (f *TLSFlaw) UnmarshalText(text []byte) error { return token.Unmarshal(flawNames[:], text, f) }

var captivityNames = [...]string{"not said", "captive", "free"}

// MarshalText gives the answer's word.
func (c Captivity) MarshalText() ([]byte, error) { return token.Marshal(captivityNames[:], c) }

// UnmarshalText reads an answer's word.
func (c *Captivity) UnmarshalText(text []byte) error {
	return token.Unmarshal(captivityNames[:], text, c)
}

// MarshalText gives the name that the contract uses.
func (k Kind) MarshalText() ([]byte, error) { return token.Marshal(kindNames[:], k) }

// UnmarshalText reads the name that the contract uses.
func (k *Kind) UnmarshalText(text []byte) error { return token.Unmarshal(kindNames[:], text, k) }
