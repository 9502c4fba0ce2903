package event

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"passepartout/internal/core/evidence"
)

// line is the form of an event in a log: one JSON object a line. Times are RFC 3339 with nanoseconds, durations whole nanoseconds.
type line struct {
	At    time.Time       `json:"at"`
	Event string          `json:"event"`
	Sort  string          `json:"sort,omitempty"` // of an observation
	Round int             `json:"round,omitempty"`
	Data  json.RawMessage `json:"data"`
}

// form is how a log holds one sort of event.
type form struct {
	name string
	is   func(Body) bool
	read func([]byte) (Body, error)
}

func formOf[T Body](name string) form {
	return form{name, func(b Body) bool { _, is := b.(T); return is }, func(raw []byte) (Body, error) {
		var b T
		err := json.Unmarshal(raw, &b)
		return b, err
	}}
}

// forms are those of all events.
var forms = []form{
	formOf[Began]("began"), formOf[Observed]("observed"), formOf[UnderWay]("under-way"), formOf[Judged]("judged"), formOf[Ended]("ended"),
	formOf[Changed]("changed"), formOf[Watched]("watched"), formOf[Probed]("probed"), formOf[Tried]("tried"), formOf[Outage]("outage"),
	formOf[Acted]("acted"), formOf[Noted]("noted"), formOf[Stopped]("stopped"),
}

// NameOf is what a log calls an event of that body.
func NameOf(b Body) string {
	return forms[slices.IndexFunc(forms, func(f form) bool { return f.is(b) })].name
}

// MarshalJSON writes an event as an object of one line.
func (e Event) MarshalJSON() ([]byte, error) {
	l := line{At: e.At, Event: NameOf(e.Body)}
	what := any(e.Body)
	if o, ok := e.Body.(Observed); ok {
		l.Sort, l.Round, what = evidence.SortName(o.What), o.Round, o.What
	}
	var err error
	if l.Data, err = json.Marshal(what); err != nil {
		return nil, err
	}
	return json.Marshal(l)
}

// UnmarshalJSON reads what MarshalJSON writes.
func (e *Event) UnmarshalJSON(raw []byte) error {
	var l line
	if err := json.Unmarshal(raw, &l); err != nil {
		return err
	}
	e.At = l.At
	if l.Event == "observed" {
		o, err := evidence.Decode(l.Sort, l.Data)
		e.Body = Observed{Round: l.Round, What: o}
		return err
	}
	i := slices.IndexFunc(forms, func(f form) bool { return f.name == l.Event })
	if i < 0 {
		return fmt.Errorf("no event is called %q", clip(l.Event))
	}
	var err error
	if e.Body, err = forms[i].read(l.Data); err != nil {
		return fmt.Errorf("%s: %w", l.Event, err)
	}
	return nil
}

func clip(s string) string {
	if len(s) > 40 {
		return s[:37] + "..."
	}
	return s
}

// Writer writes a log, one event a line. It is not safe for concurrent use.
type Writer struct{ to io.Writer }

// NewWriter returns a Writer.
func NewWriter(to io.Writer) *Writer { return &Writer{to} }

// Write adds an event.
func (w *Writer) Write(e Event) error {
	raw, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = w.to.Write(append(raw, '\n'))
	return err
}

// MostLine bounds one line of a log: a machine with thousands of routes fits.
const MostLine = 16 << 20

// Read reads a log and hands out its events in order. What is wrong is told with the number of its line.
func Read(from io.Reader, take func(Event) error) error {
	s := bufio.NewScanner(from)
	s.Buffer(make([]byte, 64<<10), MostLine)
	for n := 1; s.Scan(); n++ {
		if len(s.Bytes()) == 0 {
			continue
		}
		e, err := Parse(s.Bytes())
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if err := take(e); err != nil {
			return err
		}
	}
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		return fmt.Errorf("a line is longer than %d octets", MostLine)
	}
	return s.Err()
}
