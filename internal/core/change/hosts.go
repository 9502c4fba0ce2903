package change

import (
	"net/netip"
	"slices"
	"strings"
)

// aside marks lines of the hosts file that were taken out: they stay, and come back when that is undone.
const aside = "#passepartout# "

// WithoutHost is the text of a hosts file (hosts(5)) in which a name has that address no more. Its line is kept as a comment, and other
// names of it get a line of their own.
func WithoutHost(text string, h Host) string {
	var out strings.Builder
	for line := range strings.Lines(text) {
		rest, has := without(line, h)
		if !has {
			out.WriteString(line)
			continue
		}
		out.WriteString(aside + line)
		if rest != "" {
			if !strings.HasSuffix(line, "\n") {
				out.WriteByte('\n')
			}
			out.WriteString(rest + "\n")
		}
	}
	return out.String()
}

// WithHost is the text of a hosts file in which a name has that address: as it was taken out, if it was.
func WithHost(text string, h Host) string {
	lines := slices.Collect(strings.Lines(text))
	for i, line := range lines {
		was, taken := strings.CutPrefix(line, aside)
		rest, has := without(was, h)
		if !taken || !has {
			continue
		}
		lines[i] = was
		if rest != "" && i+1 < len(lines) && strings.TrimSuffix(lines[i+1], "\n") == rest {
			lines = slices.Delete(lines, i+1, i+2)
		}
		return strings.Join(lines, "")
	}
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return text + h.Address.String() + " " + h.Name + "\n"
}

// without gives a line without a name, "" if nothing is left, and whether it has that name at that address.
func without(line string, h Host) (rest string, has bool) {
	said, _, _ := strings.Cut(line, "#")
	words := strings.Fields(said)
	if len(words) < 2 {
		return "", false
	}
	if a, err := netip.ParseAddr(words[0]); err != nil || a.Unmap() != h.Address.Unmap() {
		return "", false
	}
	names := slices.DeleteFunc(slices.Clone(words[1:]), func(name string) bool { return strings.EqualFold(name, h.Name) })
	if len(names) == len(words)-1 {
		return "", false
	}
	if len(names) == 0 {
		return "", true
	}
	return words[0] + " " + strings.Join(names, " "), true
}
