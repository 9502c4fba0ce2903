package linux

import (
	"bufio"
	"context"
	"encoding/gob"
	"fmt"
	"io"
	"os/exec"
	"sync"

	"passepartout/internal/core/sockets"
)

// Teller is another process that tells whose the sockets are. What that takes of permission (CAP_SYS_PTRACE, for the files that other
// processes have open) is enough to take a machine over: it is not kept where strangers are heard.
type Teller struct {
	mu      sync.Mutex
	in      io.WriteCloser
	answers *gob.Decoder
	failed  error
}

// StartTeller begins that process, which has to call ServeOwners.
func StartTeller(program string, args ...string) (*Teller, error) {
	cmd := exec.Command(program, args...)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("the process that tells whose the sockets are: %w", err)
	}
	return &Teller{in: in, answers: gob.NewDecoder(bufio.NewReader(out))}, nil
}

func (t *Teller) ask(context.Context) (*sockets.Owners, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.failed != nil {
		return nil, t.failed
	}
	out := &sockets.Owners{}
	if _, t.failed = t.in.Write([]byte{'\n'}); t.failed == nil {
		t.failed = t.answers.Decode(out)
	}
	return out, t.failed
}

// ServeOwners answers each octet with whose the sockets are at that moment, until nothing more comes. Nothing else is understood.
func ServeOwners(ctx context.Context, in io.Reader, out io.Writer) error {
	written := bufio.NewWriter(out)
	answers := gob.NewEncoder(written)
	for asked := make([]byte, 1); ctx.Err() == nil; {
		if _, err := in.Read(asked); err != nil {
			return nil
		}
		if err := answers.Encode(readOwners(ctx)); err != nil {
			return err
		}
		if err := written.Flush(); err != nil {
			return err
		}
	}
	return nil
}
