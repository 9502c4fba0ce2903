package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"passepartout/internal/casefile"
	"passepartout/internal/core/redact"
	"passepartout/internal/core/ticket"
	"passepartout/internal/core/verdict"
	"passepartout/internal/plainfile"
	"passepartout/internal/report"
	"passepartout/internal/tui"
)

// reportCommand makes a report of a case that was kept.
func (f *flags) reportCommand() *cobra.Command {
	var format, key string
	var again, hide bool
	cmd := &cobra.Command{
		Use:   "report FILE",
		Short: "A report of a case that was kept, for whoever takes it over",
		Long: `Reads a case that check, watch or the screen has kept with --case, also one that was never closed, and
writes what the next team asks for: what is asked of them, the verdict, what was ruled out and by what,
the settings, the names, the way, what happened when, and what was done.

With --redact, addresses, hardware addresses and names have stand-ins, the same throughout, which keep what
matters: one network stays one network, private addresses stay private, the maker's half of a hardware
address stays. The key stays here, in the file that --key names (FILE.key otherwise): passepartout translate
turns an answer back with it. --format case writes the whole case so.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			writers := map[string]func(report.Ticket) error{
				"text": func(t report.Ticket) error { return t.WriteText(stdout) },
				"md":   func(t report.Ticket) error { return t.WriteMarkdown(stdout) },
				"html": func(t report.Ticket) error { return t.WriteHTML(stdout) },
				"pdf":  func(t report.Ticket) error { return t.WritePDF(stdout) },
				"json": func(t report.Ticket) error { return t.WriteJSON(stdout) }}
			write := writers[format]
			switch {
			case format == "case" && !hide:
				return errors.New("--format case: give --redact as well; without it the file is the case")
			case write == nil && format != "case":
				return fmt.Errorf("--format %q: give text, md, html, pdf, json or case", format)
			case (format == "case" || format == "pdf") && tui.IsTerminal(os.Stdout):
				return fmt.Errorf("--format %s: it is no text; send it into a file, with > NAME.%s", format, format)
			case key != "" && !hide:
				return errors.New("--key: it is for --redact; give that as well")
			}
			c, err := f.openFor(args[0], key, hide)
			if err != nil {
				return err
			}
			tellFlaws(args[0], &c.Case)
			if format == "case" {
				return c.Write(stdout)
			}
			if again {
				set, _ := c.State.Shown()
				if set.Endpoint == nil {
					return errors.New("no tests are in it that could be judged")
				}
				result := verdict.Judge(set)
				if err := report.CheckJSON(stdout, c.Began, set, result); err != nil {
					return err
				}
				return exitOf(result.Zone)
			}
			return write(report.TicketOf(&c.State, ticket.About{Complaint: c.Complaint, Version: c.Version, Simulated: c.Simulated}))
		},
	}
	cmd.Flags().StringVar(&format, "format", "text", "text, md (Markdown), html, pdf, json; with --redact also case")
	cmd.Flags().BoolVar(&again, "rejudge", false, "judge what was seen by this version, and write it as check does, as JSON")
	cmd.Flags().BoolVar(&hide, "redact", false, "put stand-ins in the place of addresses, hardware addresses and names")
	cmd.Flags().StringVar(&key, "key", "", "the file with the key of the stand-ins; made where it is not there (FILE.key)")
	return cmd
}

// openFor opens a case for a report, with stand-ins where that is asked for, whose key is kept before anything is written.
func (f *flags) openFor(path, key string, hide bool) (*casefile.Redacted, error) {
	if !hide {
		c, err := casefile.Open(path)
		if err != nil {
			return nil, err
		}
		return &casefile.Redacted{Case: *c}, nil
	}
	if key == "" {
		key = casefile.KeyOf(path)
	}
	secret, before, err := casefile.NewOrKept(key)
	if err != nil {
		return nil, err
	}
	c, err := casefile.OpenRedacted(path, secret)
	if err != nil {
		return nil, err
	}
	if err := casefile.WriteKey(key, secret, before, c.Redactor.Pairs()); err != nil {
		return nil, err
	}
	fmt.Fprintf(os.Stderr, "the key of the stand-ins is in %s: keep it here\n", key)
	return c, nil
}

// mostAnswer is how much of an answer is translated.
const mostAnswer = 16 << 20

// translateCommand turns an answer to a redacted report back.
func (f *flags) translateCommand() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "translate [FILE]",
		Short: "Turns the stand-ins in an answer to a redacted report back into what they stand for",
		Long: `Reads a text, from FILE or the standard input, and writes it with what the stand-ins of report --redact
stand for in their place. What is no stand-in stays as it is.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			if key == "" {
				return errors.New("--key FILE: give the key that report --redact has written")
			}
			_, pairs, err := casefile.ReadKey(key)
			if err != nil {
				return err
			}
			var raw []byte
			if len(args) == 1 {
				raw, err = plainfile.Read(args[0], mostAnswer)
			} else {
				raw, err = io.ReadAll(io.LimitReader(os.Stdin, mostAnswer))
			}
			if err != nil {
				return err
			}
			_, err = io.WriteString(stdout, redact.Back(string(raw), pairs))
			return err
		},
	}
	cmd.Flags().StringVar(&key, "key", "", "the file with the key")
	return cmd
}
