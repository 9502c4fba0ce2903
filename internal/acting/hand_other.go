//go:build !unix

package acting

import (
	"errors"
	"os"
)

var errNotHere = errors.New("changes on trial need a system with sessions of its processes")

// Start is not known here.
func Start(string, ...string) (*Hand, error) { return nil, errNotHere }

func lockFile(string, string, func(string, bool) error) (*os.File, error) { return nil, errNotHere }

// Login is who is at it.
func Login() string { return os.Getenv("USERNAME") }
