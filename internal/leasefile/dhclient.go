package leasefile

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"passepartout/internal/core/dhcp"
	"passepartout/internal/core/lease"
	"passepartout/internal/core/wiretext"
)

// dhclient reads the text blocks of a dhclient lease file. Of each interface the last block counts, even if an older one runs out later.
func dhclient(f file) ([]lease.Lease, error) {
	if noise(f.content) {
		return nil, errNoise
	}
	blocks, rest := leaseBlocks(string(f.content))
	var out []lease.Lease
	older := map[string]int{}
	for _, b := range blocks {
		l := dhclientBlock(b)
		if !l.Terms.Address.IsValid() {
			continue
		}
		for i := range out {
			if out[i].Interface == l.Interface {
				out = append(out[:i], out[i+1:]...)
				older[l.Interface]++
				break
			}
		}
		out = append(out, l)
	}
	for i := range out {
		if n := older[out[i].Interface]; n > 0 {
			out[i].Remark("the last of %d leases in the file", n+1)
		}
	}
	switch {
	case rest:
		return out, errors.New("half written: its last lease does not end, and was not read")
	case len(blocks) == 0 && strings.TrimSpace(string(f.content)) != "" && !strings.Contains(string(f.content), "lease6") &&
		!strings.Contains(string(f.content), "default-duid"):
		return out, errors.New("no lease: nothing in it begins with the word lease")
	}
	return out, nil
}

// Dhclient reads the content of a dhclient lease file that does not stand in a tree.
func Dhclient(source string, content []byte) []lease.Lease {
	out, _ := dhclient(file{source: source, content: content})
	for i := range out {
		out[i].Source = source
		out[i].Complete()
	}
	return out
}

// statement is one statement of a block: words, then a value up to its semicolon.
type statement struct {
	word  string
	value string
}

// leaseBlocks takes a file apart into the statements of its "lease { }" blocks; rest says that the last one has no end. Quoted text may
// hold anything.
func leaseBlocks(s string) (blocks [][]statement, rest bool) {
	var block []statement
	depth, wanted := 0, false
	var b strings.Builder
	quoted := false
	for i := 0; i < len(s); i++ {
		c := s[i]
		if quoted {
			b.WriteByte(c)
			switch {
			case c == '\\' && i+1 < len(s):
				i++
				b.WriteByte(s[i])
			case c == '"':
				quoted = false
			}
			continue
		}
		switch c {
		case '"':
			quoted = true
			b.WriteByte(c)
		case '#':
			for i < len(s) && s[i] != '\n' {
				i++
			}
		case '{':
			if depth == 0 {
				block, wanted = nil, strings.TrimSpace(b.String()) == "lease"
			}
			depth++
			b.Reset()
		case '}':
			if depth == 1 && wanted {
				blocks = append(blocks, block)
			}
			depth = max(depth-1, 0)
			b.Reset()
		case ';':
			if depth == 1 {
				word, value, _ := strings.Cut(strings.TrimSpace(b.String()), " ")
				block = append(block, statement{word, strings.TrimSpace(value)})
			}
			b.Reset()
		default:
			b.WriteByte(c)
		}
	}
	return blocks, depth > 0 && wanted
}

func dhclientBlock(block []statement) lease.Lease {
	l := lease.Lease{Client: lease.Dhclient}
	var rebind time.Time
	endless := false
	for _, s := range block {
		switch s.word {
		case "interface":
			l.Interface = wiretext.Clean(unquote(s.value))
		case "fixed-address":
			l.Terms.Address, _ = netip.ParseAddr(s.value)
		case "option":
			name, value, _ := strings.Cut(s.value, " ")
			if c, ok := code(name); ok {
				put(&l.Terms, &l.Options, c, value)
			} else {
				l.Options = append(l.Options, dhcp.Described{Name: wiretext.Clean(name), Value: wiretext.Clean(unquote(value))})
			}
		case "renew":
			l.Plan, _ = dhclientTime(s.value)
		case "rebind":
			rebind, _ = dhclientTime(s.value)
		case "expire":
			if t, ok := dhclientTime(s.value); ok {
				l.Expires = t
			} else {
				endless = s.value == "never"
			}
		}
	}
	l.Endless = endless
	switch {
	case !l.Expires.IsZero() && l.Plan.Equal(l.Expires) && rebind.Equal(l.Expires):
		l.Released = true // on release all three are set to that moment; when the lease began is then not told any more
		l.Remark("given back at %s", l.Expires.Format(time.RFC3339))
		l.Expires, l.Plan = time.Time{}, time.Time{}
	case !l.Endless && l.Terms.Lease != dhcp.Endless:
		if !rebind.IsZero() && !l.Expires.IsZero() && l.Terms.Lease > 0 {
			l.T2 = rebind
		}
		if !l.Plan.IsZero() {
			l.Remark("the client means to renew at %s, a time of its own choice", l.Plan.Format(time.RFC3339))
		}
	}
	return l
}

// dhclientTime reads "1 2026/11/23 09:12:00", in UTC after a weekday, or "epoch 1795425120". False for "never" and for nonsense.
func dhclientTime(s string) (time.Time, bool) {
	words := strings.Fields(s)
	switch {
	case len(words) >= 2 && words[0] == "epoch":
		n, err := strconv.ParseInt(words[1], 10, 64)
		return time.Unix(n, 0).UTC(), err == nil
	case len(words) == 3:
		var y, mo, d, h, mi, sec int
		n, err := fmt.Sscanf(words[1]+" "+words[2], "%d/%d/%d %d:%d:%d", &y, &mo, &d, &h, &mi, &sec)
		if err != nil || n != 6 || mo < 1 || mo > 12 || d < 1 || d > 31 {
			return time.Time{}, false
		}
		return time.Date(y, time.Month(mo), d, h, mi, sec, 0, time.UTC), true
	}
	return time.Time{}, false
}
