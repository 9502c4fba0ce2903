// Command passepartout says whether a machine that cannot reach something is at fault itself, or its local subnet, or what lies beyond.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"
)

// The exit statuses of the contract.
const (
	exitOK           = 0
	exitFault        = 1
	exitUndetermined = 2
	exitCannotRun    = 3
)

// status ends the program with a status and no message: the result has been printed.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

func main() {
	// Little is alive at any time, and much is thrown away: collecting more than twice as often as usual costs nothing that shows, and
	// keeps the program small.
	debug.SetGCPercent(20)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	os.Exit(run(ctx, os.Args[1:]))
}

func run(ctx context.Context, args []string) int {
	cmd := rootCommand()
	cmd.SetArgs(args)
	cmd.SetOut(stdout)
	err := cmd.ExecuteContext(ctx)
	if unwritten := stdout.failed(); unwritten != nil {
		err = fmt.Errorf("what was found could not be written: %w", unwritten)
	}
	var s status
	switch {
	case err == nil:
		return exitOK
	case errors.As(err, &s):
		return int(s)
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	fmt.Fprintln(os.Stderr, "passepartout: "+line)
	return exitCannotRun
}
