// Package guard gives the terminal back when the program comes to grief in a goroutine of its own: a panic there ends the program at once,
// and whoever reads the trace must not find it in a screen that is gone, on a terminal that does not echo.
package guard

import "sync/atomic"

var (
	restore atomic.Pointer[func()]
	ending  atomic.Bool
)

// Ending reports whether a goroutine has come to grief: it ends the program, as soon as it has called what OnPanic was given.
func Ending() bool { return ending.Load() }

// OnPanic has f called before a panic in a guarded goroutine ends the program; nil: nothing is called.
func OnPanic(f func()) {
	if f == nil {
		restore.Store(nil)
		return
	}
	restore.Store(&f)
}

// Goroutine is deferred, first of all, by every goroutine that the program starts.
func Goroutine() {
	v := recover()
	if v == nil {
		return
	}
	if !ending.CompareAndSwap(false, true) {
		select {} // another one came to grief before, and ends the program when the terminal has been given back
	}
	if f := restore.Swap(nil); f != nil {
		(*f)()
	}
	panic(v)
}
