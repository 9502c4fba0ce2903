//go:build !linux

package privilege

// Drop gives up nothing here.
func Drop(Keep, ...string) error { return nil }

// MayChange: nothing is changed here.
func MayChange() bool { return false }
