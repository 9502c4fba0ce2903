//go:build !unix

package casefile

import "os"

// hold has nothing to do: a file that is open cannot be removed or renamed here.
func hold(*os.File) {}

func isHeld(string) bool { return false }
