//go:build !unix

package tui

import tea "charm.land/bubbletea/v2"

// followSuspension: programs are not stopped from outside here.
func followSuspension(*tea.Program) (stop func()) { return func() {} }
