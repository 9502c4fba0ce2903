package change

import (
	"slices"
	"strings"

	"passepartout/internal/core/endpoint"
)

// sourcesOf writes down where hosts are looked for, as the hosts line of nsswitch.conf(5) says it.
func sourcesOf(list []endpoint.NameSource) string {
	var words []string
	for _, s := range list {
		words = append(words, s.Service)
		if s.GoesOn {
			words = append(words, "[SUCCESS=continue]")
		}
		if s.EndsNotFound {
			words = append(words, "[NOTFOUND=return]")
		}
		if s.EndsUnavailable {
			words = append(words, "[UNAVAIL=return]")
		}
	}
	return strings.Join(words, " ")
}

// saidBy is what a line says of where hosts are looked for; "" if it says nothing of it.
func saidBy(line string) string { return sourcesOf(endpoint.ParseSwitching(strings.NewReader(line))) }

// WithSources is the text of nsswitch.conf with hosts looked for there; "" takes the line out. The line that was there stays as a comment,
// and comes back as it was when that is undone.
func WithSources(text, sources string) string {
	lines := slices.Collect(strings.Lines(text))
	now := -1 // of several, the last one counts
	for i, line := range lines {
		if saidBy(line) != "" {
			now = i
		}
	}
	before := now - 1
	switch {
	case now >= 0 && saidBy(lines[now]) == sources:
		return text // as it is
	case now > 0 && strings.HasPrefix(lines[before], aside) && saidBy(strings.TrimPrefix(lines[before], aside)) == sources:
		lines[before] = strings.TrimPrefix(lines[before], aside)
		lines = slices.Delete(lines, now, now+1)
	case now >= 0 && sources == "":
		lines = slices.Delete(lines, now, now+1)
	case now >= 0:
		lines[now] = aside + lines[now]
		if !strings.HasSuffix(lines[now], "\n") {
			lines[now] += "\n"
		}
		lines = slices.Insert(lines, now+1, "hosts: "+sources+"\n")
	case sources != "":
		lines = append(lines, "hosts: "+sources+"\n")
	}
	return strings.Join(lines, "")
}
