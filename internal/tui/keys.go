package tui

import "charm.land/bubbles/v2/key"

// keys binds what can be pressed. The same bindings drive the program, the line at the foot and the help.
type keys struct {
	export, again, target, ports, found, values, mend, mended, cases, help, quit, up, down, walk key.Binding
}

func newKeys(demo bool) keys {
	bind := func(text, does string, keys ...string) key.Binding {
		return key.NewBinding(key.WithKeys(keys...), key.WithHelp(text, does))
	}
	k := keys{
		export: bind("e", "export", "e"),
		again:  bind("r", "again", "r"),
		target: bind("t", "target", "t"),
		ports:  bind("i", "interface", "i"),
		found:  bind("w", "found", "w"),
		values: bind("v", "values", "v"),
		mend:   bind("g", "go and mend", "g"),
		mended: bind("h", "mended", "h"),
		cases:  bind("s", "scenarios", "s"),
		help:   bind("?", "all keys", "?"),
		quit:   bind("q", "quit", "q"),
		up:     bind("↑", "up", "up", "k"),
		down:   bind("↓", "down", "down", "j"),
		walk:   bind("← →", "along the line", "left", "right"),
	}
	k.cases.SetEnabled(demo)
	k.mended.SetEnabled(demo)
	return k
}

// foot lists what the line at the foot names.
func (k keys) foot() []key.Binding {
	return []key.Binding{k.again, k.target, k.found, k.values, k.mend, k.mended, k.ports, k.cases, k.export, k.walk, k.help, k.quit}
}
