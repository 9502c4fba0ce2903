package tui

import "charm.land/bubbles/v2/key"

// keys binds what can be pressed. The same bindings drive the program, the line at the foot and the help.
type keys struct {
	overview, address, lease, hood, names, reach, path, counters, doubts, export, again, target, ports, found, mended, cases, help, quit, up, down key.Binding
	casePicked                                                                                                                                     int
}

func newKeys(demo bool) keys {
	bind := func(text, does string, keys ...string) key.Binding {
		return key.NewBinding(key.WithKeys(keys...), key.WithHelp(text, does))
	}
	k := keys{
		overview: bind("1", "overview", "1"),
		address:  bind("2", "address", "2"),
		lease:    bind("3", "lease", "3"),
		hood:     bind("4", "neighbours", "4"),
		names:    bind("5", "names", "5"),
		counters: bind("8", "counters", "8"),
		doubts:   bind("9", "suspects", "9"),
		reach:    bind("6", "reach", "6"),
		path:     bind("7", "path", "7"),
		export:   bind("e", "export", "e"),
		again:    bind("r", "again", "r"),
		target:   bind("t", "target", "t"),
		ports:    bind("i", "port", "i"),
		found:    bind("w", "found", "w"),
		mended:   bind("h", "mended", "h"),
		cases:    bind("s", "scenarios", "s"),
		help:     bind("?", "help", "?"),
		quit:     bind("q", "quit", "q"),
		up:       bind("↑", "up", "up", "k"),
		down:     bind("↓", "down", "down", "j"),
	}
	k.cases.SetEnabled(demo)
	k.mended.SetEnabled(demo)
	return k
}

// foot lists what the line at the foot names.
func (k keys) foot() []key.Binding {
	return []key.Binding{k.overview, k.address, k.lease, k.hood, k.names, k.reach, k.path, k.counters, k.doubts, k.again, k.target, k.found, k.mended, k.ports, k.cases, k.export, k.help, k.quit}
}
