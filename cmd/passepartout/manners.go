package main

import (
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"passepartout/internal/scenario"
	"passepartout/internal/tui"
)

// examples are a call or two of each command, by its name.
var examples = map[string][]string{
	"passepartout": {"", "bookings.kittiwake.example:443", "check 172.27.40.2:53"},
	"add":          {"add route 192.168.7.0/24 --via 172.27.40.1 --dry-run", "add address 172.27.40.99/24"},
	"answer":       {"answer --port 50907"},
	"cases":        {"cases", "cases --close 2026-03-02-0914.case"},
	"changes":      {"changes"},
	"check":        {"check bookings.kittiwake.example:443", "check --format json --deadline 5s"},
	"completion":   {"completion bash"},
	"demo":         {"demo", "demo gateway-not-set"},
	"dhcp":         {"dhcp -i eth0", "dhcp --read pier.pcapng --host ticket-03"},
	"free":         {"free 172.27.40.99", "free"},
	"help":         {"help check"},
	"lease":        {"lease -i eth0", "lease renew"},
	"names":        {"names bookings.kittiwake.example --type AAAA --tcp"},
	"neighbours":   {"neighbours --ask", "neighbours --for 1m --format csv"},
	"open":         {"open pier.case", "open before.case after.case"},
	"ping":         {"ping bookings.kittiwake.example:443 --count 20", "ping 172.27.40.1 203.0.113.53 --duration 1m"},
	"port":         {"port -i eth0 --for 10s"},
	"remove":       {"remove route 192.168.7.0/24", "remove neighbour 172.27.40.1"},
	"report":       {"report pier.case --format html --redact"},
	"resolvers":    {"resolvers bookings.kittiwake.example --rounds 20"},
	"set":          {"set address 172.27.40.23/24 --gateway 172.27.40.1 --dns 172.27.40.2", "set mtu 1400 --dry-run"},
	"site":         {"site learn", "site check pier.yaml"},
	"sockets":      {"sockets --for 10s", "sockets --program ticketd"},
	"trace":        {"trace bookings.kittiwake.example:443 --flows 4"},
	"translate":    {"translate answer.txt --key pier.case.key"},
	"undo":         {"undo", "undo 7 --dry-run"},
	"visit":        {"visit 192.168.1.1 --for 10m"},
	"watch":        {"watch bookings.kittiwake.example:443 --for 8h --case night.case"},
}

// mind gives a command the manners that people expect of one: an example with its help, what a shell may complete, its version.
func (f *flags) mind(root *cobra.Command) {
	root.Version = version()
	root.SetVersionTemplate("passepartout {{.Version}}\n")
	root.InitDefaultHelpCmd()
	root.InitDefaultCompletionCmd()
	for _, cmd := range append(root.Commands(), root) {
		for _, call := range examples[cmd.Name()] {
			if cmd.Example != "" {
				cmd.Example += "\n"
			}
			cmd.Example += strings.TrimRight("  passepartout "+call, " ")
		}
	}
	among := func(words func() []string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return words(), cobra.ShellCompDirectiveNoFileComp
		}
	}
	for flag, words := range map[string]func() []string{"scenario": scenario.Names, "interface": interfaces,
		"format": func() []string { return []string{"text", "json", "csv"} }, "theme": func() []string { return tui.Themes }} {
		_ = root.RegisterFlagCompletionFunc(flag, among(words)) // it fails for a flag that there is not, which a test would show
	}
}

func interfaces() (names []string) {
	all, _ := net.Interfaces()
	for _, i := range all {
		names = append(names, i.Name)
	}
	return names
}

// oneTarget takes no more than a target, and no word that was meant for a command.
func oneTarget(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	word := args[0]
	bare := !strings.ContainsFunc(word, func(r rune) bool { return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') })
	cmd.SuggestionsMinimumDistance = 2 // letters that are wrong
	if len(word) < 5 {
		cmd.SuggestionsMinimumDistance = 1
	}
	meant := cmd.SuggestionsFor(word)
	if word == "version" {
		meant = []string{"--version"}
	}
	slices.Sort(meant)
	switch {
	case bare && len(meant) > 0:
		return fmt.Errorf("%q is no command; did you mean %s? For a host of that name: passepartout check %s", word,
			strings.Join(meant, " or "), word)
	case len(args) > 1:
		return fmt.Errorf("%q is no command, and there is one target at most; for several: passepartout ping %s", word,
			strings.Join(args, " "))
	}
	return nil
}

// manualsCommand writes the manual pages; make build has it do so.
func manualsCommand() *cobra.Command {
	var output string
	cmd := &cobra.Command{
		Use: "manuals", Short: "Writes the manual pages of all commands", Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := os.MkdirAll(output, 0o755); err != nil {
				return err
			}
			cmd.Root().DisableAutoGenTag = true
			day := time.Unix(0, 0) // the same source gives the same pages
			return doc.GenManTree(cmd.Root(), &doc.GenManHeader{Section: "1", Source: "Passepartout " + release, Manual: "Passepartout",
				Date: &day}, output)
		},
	}
	cmd.Flags().StringVar(&output, "output", "man", "the folder to write them to")
	return cmd
}
