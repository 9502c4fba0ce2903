//go:build unix

package tui

import (
	"io"
	"os"
	"os/signal"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"

	"passepartout/internal/guard"
)

// followSuspension gives the terminal back when the program is stopped from outside, and takes it and draws anew when it goes on. stop ends
// that.
func followSuspension(p *tea.Program) (stop func()) {
	signals, done := make(chan os.Signal, 4), make(chan struct{})
	signal.Notify(signals, syscall.SIGTSTP, syscall.SIGCONT)
	go func() {
		defer guard.Goroutine()
		for {
			select {
			case <-done:
				return
			case s := <-signals:
				pause := meanwhile(func() { time.Sleep(settling) })
				if s == syscall.SIGTSTP {
					pause = func() { sleepOn(signals) }
				}
				back := make(chan error, 1)
				// in the program's own turn: nobody draws meanwhile
				p.Send(tea.Exec(pause, func(err error) tea.Msg { back <- err; return nil })())
				takeBack(p, back, done)
				p.Send(tea.ClearScreen()) // what stands there is another program's
			}
		}
	}()
	return func() {
		signal.Stop(signals)
		close(done)
	}
}

// takeBack waits until the program has the terminal again; where it could not be given back or taken, nothing would be drawn any more, and
// so it is taken once more.
func takeBack(p *tea.Program, back <-chan error, done <-chan struct{}) {
	select {
	case err := <-back:
		for try := 0; err != nil && try < mostTakes; try++ {
			time.Sleep(settling)
			err = p.RestoreTerminal()
		}
	case <-done:
	}
}

const mostTakes = 5

// settling is how long the library's own drawing is given to end before it is begun again.
const settling = 150 * time.Millisecond

// sleepOn stops this process until it is told to go on, unless it has been told so already: it would never be told again.
func sleepOn(signals <-chan os.Signal) {
	for waiting := true; waiting; {
		select {
		case s := <-signals:
			if s == syscall.SIGCONT {
				return
			}
		default:
			waiting = false
		}
	}
	_ = syscall.Kill(syscall.Getpid(), syscall.SIGSTOP) // goes on here
	select {                                            // the signal by which it goes on is heard too
	case <-signals:
	case <-time.After(settling):
	}
}

// meanwhile is what is done while the terminal is given back.
type meanwhile func()

func (m meanwhile) Run() error { m(); return nil }

func (meanwhile) SetStdin(io.Reader)  {}
func (meanwhile) SetStdout(io.Writer) {}
func (meanwhile) SetStderr(io.Writer) {}
