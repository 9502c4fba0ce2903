package main

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/casefile"
	"passepartout/internal/core/wiretext"
)

// casesSchema names the shape of the list's JSON.
const casesSchema = "passepartout.cases/1"

// casesCommand lists the cases that the screen has kept, and closes or throws away one of them.
func (f *flags) casesCommand() *cobra.Command {
	var closed, thrown string
	cmd := &cobra.Command{Use: "cases", Short: "Lists the cases that the screen has kept; closes one that was left, or throws one away",
		Long: fmt.Sprintf(`Lists what the screen keeps by itself in the state folder, the newest first. open and report take the path.
A case that was left unfinished (the power went, the program was killed) is closed by --close. The newest %d
closed ones stay.`, casefile.Most),
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if err := f.check(); err != nil {
				return err
			}
			for _, do := range []struct {
				name string
				with func(casefile.Kept) error
				done string
			}{
				{closed, func(k casefile.Kept) error { return shelf().Close(k, time.Now()) }, "closed"},
				{thrown, shelf().Throw, "thrown away"},
			} {
				if do.name == "" {
					continue
				}
				k, err := shelf().Find(do.name)
				if err == nil {
					err = do.with(k)
				}
				if err != nil {
					return err
				}
				fmt.Fprintf(stdout, "%s: %s\n", k.Name(), do.done)
			}
			if closed != "" || thrown != "" {
				return nil
			}
			all, err := shelf().List()
			if err != nil {
				return err
			}
			if f.format == "json" {
				return casesJSON(all)
			}
			if len(all) == 0 {
				fmt.Fprintln(stdout, "No case is kept here.")
			}
			for _, k := range all {
				what := wiretext.Clean(k.Host + "  " + k.Target)
				if k.Flaw != "" {
					what = wiretext.Clean(k.Flaw)
				}
				fmt.Fprintf(stdout, "%s  %-10s  %6.1f kB  %s\n    %s\n", k.Began.Local().Format("2006-01-02 15:04:05"), standingOf(k),
					float64(k.Size)/1000, what, k.Path)
			}
			return nil
		}}
	cmd.Flags().StringVar(&closed, "close", "", "make a closed case of this one, which was left unfinished")
	cmd.Flags().StringVar(&thrown, "throw", "", "throw this one away")
	return cmd
}

func standingOf(k casefile.Kept) string {
	switch {
	case k.Writes:
		return "written"
	case k.Left:
		return "unfinished"
	}
	return "closed"
}

type caseJSON struct {
	Path     string    `json:"path"`
	Standing string    `json:"standing"` // closed, unfinished, written: by a program that runs
	Began    time.Time `json:"began,omitzero"`
	Closed   time.Time `json:"closed,omitzero"`
	Host     string    `json:"host"`
	Target   string    `json:"target"`
	Octets   int64     `json:"octets"`
	Flaw     string    `json:"flaw,omitempty"`
}

func casesJSON(all []casefile.Kept) error {
	out := struct {
		Schema string     `json:"schema"`
		Cases  []caseJSON `json:"cases"`
	}{casesSchema, []caseJSON{}}
	for _, k := range all {
		out.Cases = append(out.Cases, caseJSON{k.Path, standingOf(k), k.Began, k.Closed, k.Host, k.Target, k.Size, k.Flaw})
	}
	e := json.NewEncoder(stdout)
	e.SetIndent("", "  ")
	return e.Encode(out)
}
