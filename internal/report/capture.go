package report

import (
	"fmt"
	"io"
	"time"

	"passepartout/internal/core/wording"
)

// CaptureSchema names the shape of the JSON.
const CaptureSchema = "passepartout.capture/1"

// Recorded is what was kept of an interface's frames.
type Recorded struct {
	Interface string
	Keep      string
	Frames    int
	Octets    int64
	Dropped   uint64
	Files     []string
	Began     time.Time
	Ended     time.Time
	Why       string // it ended early; "" if it did not
}

// WriteJSON writes it as one object.
func (r Recorded) WriteJSON(w io.Writer) error {
	return writeJSON(w, struct {
		Schema    string    `json:"schema"`
		Interface string    `json:"interface"`
		Keep      string    `json:"keep"`
		Frames    int       `json:"frames"`
		Octets    int64     `json:"octets"`
		Dropped   uint64    `json:"dropped"`
		Files     []string  `json:"files"`
		Began     time.Time `json:"began"`
		Ended     time.Time `json:"ended"`
		Why       string    `json:"because,omitempty"`
	}{CaptureSchema, r.Interface, r.Keep, r.Frames, r.Octets, r.Dropped, orEmpty(r.Files), r.Began.UTC(), r.Ended.UTC(), r.Why})
}

// Line says it in one.
func (r Recorded) Line() string {
	words := fmt.Sprintf("%s of %s kept, %d octets in %s", wording.Plural(r.Frames, "frame", "frames"), r.Interface, r.Octets,
		wording.Plural(len(r.Files), "file", "files"))
	if r.Dropped > 0 {
		return words + fmt.Sprintf("; %d were dropped by the system, which had no room for them", r.Dropped)
	}
	return words + "; none was dropped"
}
