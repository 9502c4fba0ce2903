package acting

import (
	"bufio"
	"context"
	"encoding/json"
	"io"

	"passepartout/internal/guard"
)

// Hand is somebody who changes a machine when told, and takes a change back that nobody keeps. It does one thing at a time.
type Hand struct {
	say   io.WriteCloser
	news  chan News
	ended func() error // waits for its end
}

// newHand speaks to one by what it reads and writes.
func newHand(say io.WriteCloser, hears io.Reader, ended func() error) *Hand {
	h := &Hand{say, make(chan News, 64), ended}
	go func() {
		defer guard.Goroutine()
		defer close(h.news)
		lines := bufio.NewScanner(hears)
		lines.Buffer(nil, mostLine)
		for lines.Scan() {
			var n News
			if json.Unmarshal(lines.Bytes(), &n) == nil {
				h.news <- n
			}
		}
	}()
	return h
}

// Within gives one in this process: a machine that goes with it has nobody to be guarded from.
func Within(ctx context.Context, m Machine) *Hand {
	in, say := io.Pipe()
	hears, out := io.Pipe()
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() {
		defer guard.Goroutine()
		ended <- Serve(ctx, m, JournalAt(""), in, out)
		out.Close()
	}()
	return newHand(say, hears, func() error { cancel(); in.Close(); hears.Close(); return <-ended })
}

// Do has a change done. What comes of it is news, to the one that says that it has ended or was refused.
func (h *Hand) Do(o Order) error { return h.tell(request{Order: &o}) }

// Keep ends the trial: the change stays.
func (h *Hand) Keep() error { return h.tell(request{Word: wordKeep}) }

// Back has the change taken back now.
func (h *Hand) Back() error { return h.tell(request{Word: wordBack}) }

// News is closed when the hand has ended.
func (h *Hand) News() <-chan News { return h.news }

// Close leaves it. What is on trial is taken back when its time is over.
func (h *Hand) Close() error {
	h.say.Close()
	return h.ended()
}

func (h *Hand) tell(r request) error {
	line, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if _, err := h.say.Write(append(line, '\n')); err != nil {
		return ErrGone
	}
	return nil
}
