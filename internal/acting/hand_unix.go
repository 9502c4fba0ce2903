//go:build unix

package acting

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
)

// Start gives a hand in a process of its own, which outlives this one for as long as a change is on trial.
func Start(program string, args ...string) (*Hand, error) {
	cmd := exec.Command(program, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // what ends this terminal's processes does not end it
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("the process that changes this machine: %w", err)
	}
	return newHand(in, out, func() error { return nil }), nil
}

// lockFile makes this process the only one that changes this machine. While another one is at it, wait is called again and again, until it
// gives up.
func lockFile(path, who string, wait func(who string, first bool) error) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	for first := true; syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil; first = false {
		other, _ := io.ReadAll(io.NewSectionReader(f, 0, 200))
		if err := wait(strings.TrimSpace(string(other)), first); err != nil {
			f.Close()
			return nil, err
		}
	}
	_ = f.Truncate(0)
	_, _ = f.WriteAt([]byte(fmt.Sprintf("process %d of %s\n", os.Getpid(), who)), 0)
	return f, nil
}

// Login is who is at it, as far as the system says.
func Login() string {
	for _, name := range []string{"SUDO_USER", "LOGNAME", "USER"} {
		if v := os.Getenv(name); v != "" {
			return v
		}
	}
	return fmt.Sprintf("user %d", os.Getuid())
}
