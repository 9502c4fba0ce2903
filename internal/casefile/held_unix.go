//go:build unix

package casefile

import (
	"os"
	"syscall"
)

// hold says to other programs that a file is being written, until it is closed.
func hold(f *os.File) { _ = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) } // nobody else has a file that was just made

// isHeld reports whether a program writes a file.
func isHeld(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_SH|syscall.LOCK_NB) == syscall.EWOULDBLOCK
}
