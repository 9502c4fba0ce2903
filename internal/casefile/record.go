// Package casefile keeps a case in a file, and opens it again. While the work goes on, all that happens is appended to a file beside it,
// and is on the disk within a second: a machine that loses power has lost no more. When the case is closed, the file is made of that.
package casefile

import (
	"compress/gzip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"passepartout/internal/core/event"
	"passepartout/internal/core/state"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/guard"
)

// Ending is that of a case's name; Unfinished, that of the file beside it while it is written.
const (
	Ending     = ".case"
	Unfinished = ".unfinished"
)

// Schema names the shape of the manifest.
const Schema = "passepartout.case/1"

// Manifest says what a case is of. It is the first line of an unfinished one, and a member of a closed one.
type Manifest struct {
	Schema      string    `json:"schema"`
	Version     string    `json:"version"` // of the program that wrote it; "" if that is not known
	Began       time.Time `json:"began"`
	Closed      time.Time `json:"closed,omitzero"` // zero: it was not closed, and ends where the machine stood still
	Host        string    `json:"host"`
	Target      string    `json:"target"`
	Complaint   string    `json:"complaint"`
	Permissions []string  `json:"permissions"` // what the program was not allowed, in words
	Simulated   bool      `json:"simulated"`
}

// Recorder writes a case while the work goes on. It is safe for concurrent use.
type Recorder struct {
	mu       sync.Mutex
	path     string
	manifest Manifest
	file     *os.File
	pack     *gzip.Writer
	events   *event.Writer
	dirty    bool
	taken    bool // anything at all
	err      error
	stop     chan struct{}
	stopped  sync.WaitGroup
}

// synced is how often what was written is brought to the disk.
const synced = 500 * time.Millisecond

// Record begins to write a case that will be kept at path. What is there already stays: another name has to be given.
func Record(path string, m Manifest) (*Recorder, error) {
	if !strings.HasSuffix(path, Ending) {
		return nil, fmt.Errorf("%q: let the name of a case end in %s", wiretext.Clip(path), Ending)
	}
	for _, name := range []string{path, path + Unfinished} {
		if _, err := os.Lstat(name); err == nil {
			return nil, fmt.Errorf("%s is there already; give another name, or move it away", wiretext.Clean(name))
		}
	}
	f, err := os.OpenFile(path+Unfinished, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return nil, told(path, err)
	}
	hold(f)
	m.Schema = Schema
	r := &Recorder{path: path, manifest: m, file: f, pack: gzip.NewWriter(f), stop: make(chan struct{})}
	r.events = event.NewWriter(r.pack)
	head, err := json.Marshal(m)
	if err == nil {
		_, err = r.pack.Write(append(head, '\n'))
	}
	if err = errors.Join(err, r.flush()); err != nil {
		f.Close()
		os.Remove(path + Unfinished)
		return nil, told(path, err)
	}
	r.stopped.Go(func() {
		defer guard.Goroutine()
		tick := time.NewTicker(synced)
		defer tick.Stop()
		for {
			select {
			case <-r.stop:
				return
			case <-tick.C:
				r.sync()
			}
		}
	})
	return r, nil
}

// sync brings to the disk what was written since. Nobody waits for the disk who only has something to take note of.
func (r *Recorder) sync() {
	r.mu.Lock()
	waits := r.dirty && r.err == nil
	if waits {
		r.dirty, r.err = false, r.pack.Flush()
	}
	r.mu.Unlock()
	if !waits {
		return
	}
	if err := r.file.Sync(); err != nil {
		r.mu.Lock()
		r.err = errors.Join(r.err, err)
		r.mu.Unlock()
	}
}

// flush brings to the disk what was written.
func (r *Recorder) flush() error {
	if err := r.pack.Flush(); err != nil {
		return err
	}
	return r.file.Sync()
}

// Take takes note of an event, as a case's log does.
func (r *Recorder) Take(e event.Event, _ *state.State) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.manifest.know(e)
	if r.err == nil {
		r.err = r.events.Write(e)
		r.dirty, r.taken = true, true
	}
}

// know takes from an event of whom the case is, where that is not known.
func (m *Manifest) know(e event.Event) {
	if b, ok := e.Body.(event.Began); ok && m.Host == "" && b.Endpoint != nil {
		m.Host, m.Target = b.Endpoint.Host, b.Question.Target.String()
	}
}

// Err is what keeps the case from being written on, if anything does.
func (r *Recorder) Err() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil {
		return nil
	}
	return told(r.path, r.err)
}

// Close makes the case of what was written. Where that fails, the unfinished one stays, and can be opened.
func (r *Recorder) Close(at time.Time) error {
	close(r.stop)
	r.stopped.Wait()
	r.mu.Lock()
	defer r.mu.Unlock()
	err := errors.Join(r.err, r.pack.Close(), r.file.Sync())
	if err == nil && r.taken { // else nothing was asked: there is no case
		r.manifest.Closed = at
		err = finish(r.path+Unfinished, r.path, r.manifest)
	}
	removed := err == nil && os.Remove(r.path+Unfinished) == nil // while it is held: nobody else takes it for one that was left
	if err = errors.Join(err, r.file.Close()); err != nil {
		return told(r.path, err)
	}
	if removed {
		return nil
	}
	return os.Remove(r.path + Unfinished) // there are systems on which no file is removed that is open
}

// told says in one line why a case could not be written: of several causes the first.
func told(path string, err error) error {
	var p *fs.PathError
	why := err
	if errors.As(err, &p) {
		why = p.Err
	}
	line, _, _ := strings.Cut(why.Error(), "\n")
	return fmt.Errorf("the case %s: %s", wiretext.Clean(filepath.Base(path)), line)
}

// unpack gives the manifest and the log of an unfinished case. A log that is cut short ends where it is cut.
func unpack(from io.Reader) (m Manifest, log io.Reader, err error) {
	z, err := gzip.NewReader(from)
	if err != nil {
		return m, nil, errors.New("it is no case")
	}
	whole := &untilCut{z}
	head, rest, err := firstLine(whole)
	if err != nil || json.Unmarshal(head, &m) != nil {
		return m, nil, errors.New("it is no case, or was cut before anything was written")
	}
	return m, rest, nil
}

// untilCut ends where what it reads is cut short.
type untilCut struct{ from io.Reader }

func (u *untilCut) Read(p []byte) (int, error) {
	n, err := u.from.Read(p)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, gzip.ErrChecksum) {
		err = io.EOF
	}
	return n, err
}
