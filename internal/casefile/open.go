package casefile

import (
	"archive/zip"
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/plainfile"
)

// The members of a case.
const (
	manifestName = "manifest.json"
	eventsName   = "events.jsonl"
)

// The bounds of what is opened: anybody may have made a case.
const (
	mostMembers  = 1000
	mostManifest = 1 << 20
	mostEvents   = 512 << 20 // octets, unpacked
	mostFirst    = 1 << 20   // of the first line
)

// Case is one that was opened.
type Case struct {
	Manifest
	Flaws []string // what of it could not be read, one line each
	State state.State
	Count int // of its events

	take func(event.Event)
	// line is what is read in the place of a line of the log; nil: the line itself.
	line func([]byte) ([]byte, error)
}

// Open opens a case, closed or unfinished, and folds all that happened in it. What can be saved of a damaged one is.
func Open(path string) (*Case, error) {
	var s state.State
	c := &Case{take: func(e event.Event) { s = state.Fold(s, e) }}
	if err := c.open(path); err != nil {
		return nil, err
	}
	c.State = s
	return c, nil
}

// OpenInTime is Open, and gives any moment of the case as well.
func OpenInTime(path string) (*Case, *state.Timeline, error) {
	line := &state.Timeline{}
	c := &Case{take: line.Add}
	if err := c.open(path); err != nil {
		return nil, nil, err
	}
	c.State = line.End()
	return c, line, nil
}

func (c *Case) open(path string) error {
	f, err := plainfile.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := c.from(f); err != nil {
		return fmt.Errorf("%s: %w", wiretext.Clean(filepath.Base(path)), err)
	}
	return nil
}

func (c *Case) from(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	var magic [2]byte
	if _, err := f.ReadAt(magic[:], 0); err == nil && magic == [2]byte{0x1f, 0x8b} { // RFC 1952 §2.3.1
		m, log, err := unpack(f)
		if err != nil {
			return err
		}
		c.Manifest = m
		c.flaw("it was not closed: it ends where the machine or the program stood still")
		return c.read(log)
	}
	z, err := zip.NewReader(f, info.Size())
	switch {
	case err != nil:
		return errors.New("it is no case, or is cut short: a case is a zip file")
	case len(z.File) > mostMembers:
		return fmt.Errorf("it has %d members; a case has at most %d", len(z.File), mostMembers)
	}
	raw, err := member(z, manifestName, mostManifest)
	if err != nil {
		return err
	}
	if err := json.NewDecoder(raw).Decode(&c.Manifest); err != nil {
		return errors.New("its manifest cannot be read: it is no case")
	}
	switch name, number, _ := strings.Cut(c.Schema, "/"); {
	case name != "passepartout.case":
		return errors.New("it is no case: its manifest says so")
	case number != "1":
		c.flaw("it is of a later version (%s): what this one does not know is left out", wiretext.Clip(c.Schema))
	}
	log, err := member(z, eventsName, mostEvents)
	if err != nil {
		return err
	}
	return c.read(log)
}

// member opens one by its name alone: nothing is ever written to where a name in an archive leads.
func member(z *zip.Reader, name string, most int64) (io.Reader, error) {
	for _, f := range z.File {
		if f.Name != name {
			continue
		}
		from, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read", name)
		}
		return io.LimitReader(from, most), nil
	}
	return nil, fmt.Errorf("it has no %s: it is no case", name)
}

func (c *Case) flaw(format string, args ...any) {
	c.Flaws = append(c.Flaws, fmt.Sprintf(format, args...))
}

// read hands out a log. Lines that cannot be read are left out, and told; where the last one is cut short, that is the end.
func (c *Case) read(log io.Reader) error {
	s := bufio.NewScanner(log)
	s.Buffer(make([]byte, 64<<10), event.MostLine)
	unread, cut := 0, false
	for s.Scan() {
		if cut {
			unread++
		}
		if len(s.Bytes()) == 0 {
			cut = false
			continue
		}
		e, err := c.event(s.Bytes())
		if cut = err != nil; !cut {
			c.take(e)
			c.Count++
		}
	}
	if s.Err() != nil {
		c.flaw("what comes after %d of its lines could not be read", c.Count+unread)
	}
	if unread > 0 {
		c.flaw("%d of its lines could not be read, and were left out", unread)
	}
	if c.Count == 0 {
		return errors.New("nothing is written in it")
	}
	return nil
}

func (c *Case) event(line []byte) (e event.Event, err error) {
	if c.line != nil {
		if line, err = c.line(line); err != nil {
			return e, err
		}
	}
	return event.Parse(line)
}

func firstLine(from io.Reader) (line []byte, rest io.Reader, err error) {
	r := bufio.NewReader(io.LimitReader(from, mostEvents))
	for len(line) < mostFirst {
		part, err := r.ReadSlice('\n')
		line = append(line, part...)
		if err == nil {
			return line, r, nil
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, nil, err
		}
	}
	return nil, nil, errors.New("its first line has no end")
}

// finish makes a closed case of an unfinished one.
func finish(from, to string, m Manifest) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	_, log, err := unpack(f)
	if err != nil {
		return err
	}
	return plainfile.WritePrivate(to, func(w io.Writer) error {
		return pack(w, m, func(body io.Writer) error {
			_, err := io.Copy(body, log)
			return err
		})
	})
}

// pack writes a closed case, with the log that a function writes.
func pack(w io.Writer, m Manifest, log func(io.Writer) error) error {
	z := zip.NewWriter(w)
	head, err := z.CreateHeader(&zip.FileHeader{Name: manifestName, Method: zip.Deflate, Modified: m.Closed})
	if err != nil {
		return err
	}
	e := json.NewEncoder(head)
	e.SetIndent("", "  ")
	if err := e.Encode(m); err != nil {
		return err
	}
	body, err := z.CreateHeader(&zip.FileHeader{Name: eventsName, Method: zip.Deflate, Modified: m.Closed})
	if err != nil {
		return err
	}
	if err := log(body); err != nil {
		return err
	}
	return z.Close()
}
