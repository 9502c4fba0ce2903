package main

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/acting"
	"passepartout/internal/conductor"
	"passepartout/internal/core/change"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/target"
	"passepartout/internal/core/verdict"
	"passepartout/internal/locale"
	"passepartout/internal/machine"
	"passepartout/internal/machine/linux"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/report"
	"passepartout/internal/scenario"
	"passepartout/internal/sheetfile"
)

// flags are those that the commands share.
type flags struct {
	iface    string
	scenario string
	format   string
	deadline time.Duration
	site     string
	far      string      // our responder at the far end, as it was named
	sheet    *site.Sheet // read from site, or the one that a scenario's technician has
	only4    bool
	only6    bool
	rows     bool   // the command's result can be written as rows
	theme    string // of the screen; "": as it was last
	keep     string // the file in which the screen's case is kept; "": it is not
	hands    *acting.Hand
	handless error // why there is none, though there should be
	teller   *linux.Teller
}

func rootCommand() *cobra.Command {
	f := &flags{}
	root := &cobra.Command{
		Use:   "passepartout [TARGET]",
		Short: "Says whether the fault lies in this host, the local subnet or beyond",
		Long: `Passepartout stands beside you at a machine that "cannot reach" something. It reads the machine's
settings, asks the segment, the gateway, the name servers and the service, and says where the fault
lies: in the host, in the local subnet, or beyond, with the evidence.

Without a command it opens full-screen on this machine.`,
		Args:          oneTarget,
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE:          func(cmd *cobra.Command, args []string) error { return f.screen(cmd.Context(), args) },
	}
	root.PersistentPreRun = func(cmd *cobra.Command, _ []string) {
		f.dropPrivileges(cmd)
		if f.format == "text" && cmd.Parent() != nil && cmd.Parent().Name() != "site" && !locale.UTF8(os.Getenv) { // a sheet is YAML
			stdout.to = locale.Writer(os.Stdout)
		}
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return fmt.Errorf("%w; see passepartout --help", err) })
	f.bind(root)
	bindCase(root, &f.keep)
	bindTheme(root, &f.theme)
	root.AddCommand(f.checkCommand(), f.watchCommand(), f.pingCommand(), f.traceCommand(), f.leaseCommand(), f.dhcpCommand(),
		f.neighboursCommand(), f.freeCommand(), f.namesCommand(), f.resolversCommand(), f.portCommand(),
		f.socketsCommand(), f.captureCommand(), f.siteCommand(), f.answerCommand(),
		f.setCommand(),
		f.addCommand("add", "Adds an address, a route or a neighbour entry", change.AddAddress, change.AddRoute, change.AddNeighbour),
		f.addCommand("remove", "Takes an address, a route or a neighbour entry away", change.RemoveAddress, change.RemoveRoute,
			change.RemoveNeighbour), f.visitCommand(), f.changesCommand(), f.undoCommand(), f.reportCommand(), f.translateCommand(),
		f.openCommand(), f.casesCommand(), f.guardCommand(), ownersCommand(), manualsCommand(), f.demoCommand())
	f.mind(root)
	return root
}

func (f *flags) bind(cmd *cobra.Command) {
	p := cmd.PersistentFlags()
	p.StringVarP(&f.iface, "interface", "i", "", "the network interface that is meant")
	p.StringVar(&f.scenario, "scenario", "", "ask a simulated site in place of this machine (passepartout demo --list names them)")
	p.StringVar(&f.site, "site", "", "a site sheet: the documented network to compare with (passepartout site --help)")
	p.StringVar(&f.far, "responder", "",
		"NAME, NAME:PORT or address of the far end where passepartout answer runs: for check, whether the way back is missing")
	p.StringVar(&f.format, "format", "text", "text or json; csv for ping, trace and neighbours")
	p.DurationVar(&f.deadline, "deadline", 10*time.Second, "the longest time that check takes")
	p.BoolVarP(&f.only4, "ipv4", "4", false, "IPv4 only")
	p.BoolVarP(&f.only6, "ipv6", "6", false, "IPv6 only")
}

func bindTheme(cmd *cobra.Command, theme *string) {
	cmd.Flags().StringVar(theme, "theme", "", "auto (as the terminal says), light or dark; it is remembered")
}

// leastDeadline is the shortest in which anything on a segment can be told.
const leastDeadline = 100 * time.Millisecond

// fits refuses an address of a family that is left out.
func (f *flags) fits(t target.Target) error {
	if t.Addr.IsValid() && !f.families().Allows(t.Addr) {
		left, out := "-6", "IPv4"
		if t.Addr.Is6() {
			left, out = "-4", "IPv6"
		}
		return fmt.Errorf("%v is an %s address, and %s leaves that family out; give a name, or leave %s away", t.Addr, out, left, left)
	}
	return nil
}

func (f *flags) check() error {
	if f.only4 && f.only6 {
		return errors.New("-4 and -6 exclude each other; give one of them, or none for both families")
	}
	switch {
	case f.format == "text" || f.format == "json" || f.format == "csv" && f.rows:
	case f.rows:
		return fmt.Errorf("--format %q: give text, json or csv", f.format)
	default:
		return fmt.Errorf("--format %q: give text or json", f.format)
	}
	if f.deadline < leastDeadline {
		return fmt.Errorf("--deadline %v: nobody can answer in that; give %v at least, such as 10s", f.deadline, leastDeadline)
	}
	return nil
}

// rowed is a result that can be written as rows too.
type rowed interface {
	WriteJSON(io.Writer) error
	WriteCSV(io.Writer) error
	WriteText(io.Writer) error
}

// write writes a result in the format that is asked for.
func (f *flags) write(r rowed) error {
	switch f.format {
	case "json":
		return r.WriteJSON(stdout)
	case "csv":
		return r.WriteCSV(stdout)
	}
	return r.WriteText(stdout)
}

func (f *flags) families() evidence.Families { return evidence.Families{No4: f.only6, No6: f.only4} }

// ground gives the machine to examine: this one, or a simulated site's, with the site's own target if none was given.
func (f *flags) ground(args []string) (m machine.Machine, t target.Target, stop func(), err error) {
	if err := f.check(); err != nil {
		return nil, t, nil, err
	}
	text := ""
	if len(args) > 0 {
		text = args[0]
	}
	if f.site != "" {
		if f.sheet, err = sheetfile.Read(f.site); err != nil {
			return nil, t, nil, err
		}
	}
	stop = func() {}
	if f.scenario == "" {
		if t, err = target.Parse(text); err == nil {
			err = f.fits(t)
		}
		if err != nil {
			return nil, t, nil, err
		}
		m, err = linux.NewToldBy(f.teller)
		return m, t, stop, err
	}
	s, err := scenario.Load(f.scenario)
	if err != nil {
		return nil, t, nil, err
	}
	if text == "" {
		text = s.Target
	}
	if f.sheet == nil {
		if f.sheet, err = scenarioSheet(s); err != nil {
			return nil, t, nil, err
		}
	}
	if f.far == "" {
		f.far = s.Responder
	}
	if t, err = target.Parse(text); err == nil {
		err = f.fits(t)
	}
	if err != nil {
		return nil, t, nil, err
	}
	built, err := simulated.Build(s, simulated.Options{})
	if err != nil {
		return nil, t, nil, err
	}
	if f.iface == "" {
		f.iface = s.Interface
	}
	return built.Machine(), t, built.Close, nil
}

// responder is our own program at the far end, as it was named; zero if it was not.
func (f *flags) responder() (target.Target, error) {
	t, err := target.Parse(f.far)
	if err == nil && t.URL != "" {
		err = fmt.Errorf("--responder %s: give a name or an address, with or without a port", t)
	}
	return t, err
}

// scenarioSheet is the site sheet that a scenario's technician has; nil if there is none.
func scenarioSheet(s *scenario.Scenario) (*site.Sheet, error) {
	raw, err := s.SheetText()
	if err != nil || raw == nil {
		return nil, err
	}
	return sheetfile.Parse(raw, s.Sheet+".yaml")
}

// caseOf is the case that a command is about; stop gives its machine back.
func (f *flags) caseOf(args []string) (c conductor.Config, stop func(), err error) {
	m, t, stop, err := f.ground(args)
	if err != nil {
		return c, nil, err
	}
	far, err := f.responder()
	if err != nil {
		stop()
		return c, nil, err
	}
	return conductor.Config{Machine: m, Target: t, Interface: f.iface, Families: f.families(), Sheet: f.sheet, Responder: far,
		Deadline: f.deadline}, stop, nil
}

func (f *flags) checkCommand() *cobra.Command {
	drawing, file, program, said := "", "", "", []string(nil)
	cmd := &cobra.Command{
		Use:   "check [TARGET]",
		Short: "Gathers evidence once and prints one verdict",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if program != "" {
				var err error
				if args, err = f.wantedBy(cmd.Context(), program, args); err != nil {
					return err
				}
			}
			if err := f.checkDrawing(drawing); err != nil {
				return err
			}
			c, stop, err := f.caseOf(args)
			if err != nil {
				return err
			}
			defer stop()
			for _, text := range said {
				answer, err := verdict.ParseSaid(text)
				if err != nil {
					return err
				}
				c.Answers = append(c.Answers, answer)
			}
			log, closeCase, err := f.keepCase(file, complaintOf(f.scenario), c.Machine, nil)
			if err != nil {
				return err
			}
			c.Log = log
			at := time.Now()
			known, err := conductor.New(cmd.Context(), c).Once()
			unkept := closeCase()
			if err != nil {
				return err
			}
			set, result := &known.Round.Set, known.Round.Result
			if f.format == "json" {
				err = report.CheckJSON(stdout, at, set, result)
			} else {
				err = report.CheckText(stdout, set, result)
			}
			if err == nil && drawing != "" {
				err = report.CheckPage(set, result, at).WriteFile(drawing)
			}
			if err = cmp.Or(err, unkept); err != nil {
				return err
			}
			return exitOf(result.Zone)
		},
	}
	cmd.Flags().
		StringArrayVar(&said, "said", nil,
			"QUESTION=ANSWER: what a person has found out, when an earlier run asked for it; may be given more than once")
	cmd.Flags().StringVar(&program, programFlag, "",
		"in place of a target: where this program connects to, by its name or process identifier")
	f.bindDrawing(cmd, &drawing)
	bindCase(cmd, &file)
	return cmd
}

func (f *flags) demoCommand() *cobra.Command {
	list := false
	cmd := &cobra.Command{
		Use:   "demo [SCENARIO]",
		Short: "Full-screen on a simulated site: no privilege, no network",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if list {
				_, err := fmt.Fprintln(stdout, strings.Join(scenario.Names(), "\n"))
				return err
			}
			return f.demo(cmd.Context(), args)
		},
	}
	cmd.Flags().BoolVar(&list, "list", false, "list the scenarios, one a line")
	bindCase(cmd, &f.keep)
	bindTheme(cmd, &f.theme)
	return cmd
}
