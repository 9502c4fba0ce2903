package change

import (
	"bytes"
	"fmt"
	"net/netip"
	"strings"
)

// ResolvConf is the text of resolv.conf(5) with other name servers and another search list, where those stood before.
func ResolvConf(text string, resolvers []netip.Addr, search []string) string {
	var own, out bytes.Buffer
	for _, a := range resolvers {
		fmt.Fprintf(&own, "nameserver %v\n", a)
	}
	if len(search) > 0 {
		fmt.Fprintf(&own, "search %s\n", strings.Join(search, " "))
	}
	placed := false
	for line := range strings.Lines(text) {
		switch word, _, _ := strings.Cut(strings.TrimSpace(strings.ReplaceAll(line, "\t", " ")), " "); word {
		case "nameserver", "search", "domain":
			if !placed {
				out.Write(own.Bytes())
			}
			placed = true
			continue
		}
		out.WriteString(line)
		if !strings.HasSuffix(line, "\n") {
			out.WriteByte('\n')
		}
	}
	if !placed {
		out.Write(own.Bytes())
	}
	return out.String()
}
