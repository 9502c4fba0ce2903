package main

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"passepartout/internal/machine/linux"
	"passepartout/internal/privilege"
)

// dropPrivileges gives up, before anybody is heard, what a command does not need.
func (f *flags) dropPrivileges(cmd *cobra.Command) {
	if cmd.Name() == "answer" { // it does so when it has its port
		return
	}
	keep, folders := privilege.Keep{Read: true}, []string(nil)
	switch cmd.Name() {
	case "open", "report", "translate", "cases": // files are read and written, and nobody is asked
		keep.Write = true
	case "demo":
		keep.Write = true
	case ownersName:
		keep.Owners = true
	case "sockets":
		f.haveTeller()
	case "check":
		keep.Frames = f.scenario == ""
		if flag := cmd.Flags().Lookup(programFlag); flag != nil && flag.Changed { // a sheet is checked too
			f.haveTeller()
		}
	case cmd.Root().Name(): // the screen
		keep.Write, keep.Frames = true, f.scenario == ""
		f.haveHand()
		f.haveTeller()
	default:
		keep.Frames = f.scenario == ""
	}
	switch _, acts := cmd.Annotations[changes]; {
	case acts && cmd.Name() == guardName: // and the journal, files of settings, and what programs write that it has set an interface
		keep.Change, keep.Write, folders = true, true, []string{"/etc", "/run", "/var/lib/dhcp"}
	case acts && !dry(cmd):
		f.haveHand()
	}
	for _, name := range []string{"draw", "output", "case", "out"} {
		if flag := cmd.Flags().Lookup(name); flag != nil && flag.Changed {
			keep.Write = true
			folders = append(folders, filepath.Dir(flag.Value.String()))
		}
	}
	drop(keep, append(folders, filepath.Join(xdg.StateHome, "passepartout"), os.TempDir())...)
}

// dry reports whether a command shall only say what it would do.
func dry(cmd *cobra.Command) bool {
	flag := cmd.Flags().Lookup("dry-run")
	return flag != nil && flag.Value.String() == "true"
}

// haveHand begins the process that changes this machine, where this one may: from then on this one needs to no more.
func (f *flags) haveHand() {
	if f.scenario == "" && privilege.MayChange() {
		f.hands, f.handless = startHand()
	}
}

// haveTeller begins the process that tells whose the sockets are. Without it they are told all the same.
func (f *flags) haveTeller() {
	if f.scenario != "" {
		return
	}
	if program, err := os.Executable(); err == nil {
		f.teller, _ = linux.StartTeller(program, ownersName)
	}
}

// drop gives up what is not kept. That it cannot be given up is no reason not to help: it is said.
func drop(keep privilege.Keep, folders ...string) {
	if err := privilege.Drop(keep, folders...); err != nil {
		fmt.Fprintln(os.Stderr, "privileges are kept:", err)
	}
}
