package main

import (
	"context"
	"errors"
	"fmt"
	"os"

	"passepartout/internal/acting"
	"passepartout/internal/core/target"
	"passepartout/internal/core/wiretext"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/nap"
	"passepartout/internal/scenario"
	"passepartout/internal/sheetfile"
	"passepartout/internal/tui"
)

var errNoTerminal = errors.New("this is no terminal; run it in one, or use passepartout check, which prints")

// screen opens full-screen on this machine, or on the site of --scenario.
func (f *flags) screen(ctx context.Context, args []string) error {
	if f.scenario != "" {
		return f.demo(ctx, []string{f.scenario})
	}
	if !tui.IsTerminal(os.Stdin) || !tui.IsTerminal(os.Stdout) {
		return errNoTerminal
	}
	m, t, _, err := f.ground(args)
	if err != nil {
		return err
	}
	far, err := f.responder()
	if err != nil {
		return err
	}
	recent := tui.OpenRecent()
	file, left := f.onShelf()
	log, closeCase, err := f.keepCase(file, "", m, nil)
	if err != nil && f.keep == "" { // nobody asked for it, and nobody is kept from looking by it
		left = "This case is not kept: " + wiretext.Clean(err.Error())
		log, closeCase, err = f.keepCase("", "", m, nil)
	}
	if err != nil {
		return err
	}
	c := tui.Config{Log: log, Ground: tui.Ground{Machine: m, Interface: f.iface, Targets: recent.Targets(), Sheet: f.sheet,
		Responder: far, Hand: func(ctx context.Context) (*acting.Hand, error) { return f.hand(ctx, nil) }},
		Families: f.families(), Deadline: f.deadline, Target: t.String(), Asked: len(args) > 0, Remember: recent.Add, Asleep: nap.Asleep,
		Handed: keepCopied, Version: version(), Left: left}
	if c.Theme, err = tui.Theme(f.theme); err != nil {
		return err
	}
	if f.hands == nil {
		c.Ground.Needs = "this needs cap_net_admin: passepartout as root, or by somebody who may"
	}
	err = errors.Join(tui.Run(ctx, c), closeCase())
	if _, gone := os.Stat(file); f.keep == "" && gone == nil {
		fmt.Fprintf(os.Stderr, "the case is kept in %s\n", file)
	}
	return err
}

// demo opens full-screen on a simulated site, with a choice of complaints when none was named.
func (f *flags) demo(ctx context.Context, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	open := openScenario
	if f.site != "" { // the sheet that was given counts, whatever the scenario's technician has
		sheet, err := sheetfile.Read(f.site)
		if err != nil {
			return err
		}
		open = func(name string) (tui.Ground, error) {
			g, err := openScenario(name)
			g.Sheet = sheet
			return g, err
		}
	}
	c := tui.Config{Families: f.families(), Deadline: f.deadline, Open: open, Asleep: nap.Asleep, Handed: keepCopied,
		Version: version()}
	var err error
	if c.Theme, err = tui.Theme(f.theme); err != nil {
		return err
	}
	c.Begin = scenario.ToBeginWith
	for _, name := range scenario.Names() {
		complaint, err := scenario.Complaint(name)
		if err != nil {
			return err
		}
		c.Cases = append(c.Cases, tui.Case{Name: name, Complaint: complaint})
	}
	if len(args) > 0 {
		g, err := open(args[0])
		if err != nil {
			return err
		}
		if f.iface != "" {
			g.Interface = f.iface
		}
		c.Ground = g
	}
	if !tui.IsTerminal(os.Stdin) || !tui.IsTerminal(os.Stdout) {
		return errNoTerminal
	}
	complaint := "a demonstration"
	if len(args) > 0 {
		complaint = complaintOf(args[0])
	}
	log, closeCase, err := f.keepCase(f.keep, complaint, c.Ground.Machine, nil)
	if err != nil {
		return err
	}
	c.Log = log
	return errors.Join(tui.Run(ctx, c), closeCase())
}

func openScenario(name string) (tui.Ground, error) {
	s, err := scenario.Load(name)
	if err != nil {
		return tui.Ground{}, err
	}
	g, err := standAt(s)
	if err == nil && s.Expect.Zone != "none" {
		g.Mended = func() (tui.Ground, error) {
			s, err := s.Mended()
			if err != nil {
				return tui.Ground{}, err
			}
			return standAt(s)
		}
	}
	return g, err
}

// standAt builds a scenario's site.
func standAt(s *scenario.Scenario) (tui.Ground, error) {
	if _, err := target.Parse(s.Target); err != nil {
		return tui.Ground{}, err
	}
	far, err := target.Parse(s.Responder)
	if err != nil {
		return tui.Ground{}, err
	}
	sheet, err := scenarioSheet(s)
	if err != nil {
		return tui.Ground{}, err
	}
	site, err := simulated.Build(s, simulated.Options{})
	if err != nil {
		return tui.Ground{}, err
	}
	return tui.Ground{Machine: site.Machine(), Interface: s.Interface, Sheet: sheet, Responder: far, Complaint: s.Complaint,
		Targets: []string{s.Target, "weather.kittiwake.example:443", "203.0.113.53"},
		Hand: func(ctx context.Context) (*acting.Hand, error) {
			return acting.Within(ctx, site.Machine().(acting.Machine)), nil
		}, Close: site.Close}, nil
}
