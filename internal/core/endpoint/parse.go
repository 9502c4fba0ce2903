package endpoint

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"strings"

	"passepartout/internal/core/wiretext"
)

// mostLine is the longest line of a settings file that is read; what is longer is no setting.
const mostLine = 64 << 10

// mostResolvers bounds what a file of rubbish can fill; the system's own library asks three (resolv.conf's MAXNS).
const mostResolvers = 16

// ParseResolvConf reads resolver addresses and the search list from r, as resolv.conf has them. Lines that make no sense become
// remarks and are passed over, as the system's own library does.
func ParseResolvConf(r io.Reader, source string) (resolvers []Resolver, search, remarks []string) {
	odd := 0
	remark := func(n int, msg string) {
		if odd++; odd <= 3 {
			remarks = append(remarks, fmt.Sprintf("%s: line %d: %s", source, n, msg))
		}
	}
	err := eachLine(r, func(n int, line string) {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") || strings.HasPrefix(fields[0], ";") {
			return
		}
		switch fields[0] {
		case "nameserver":
			if len(fields) < 2 {
				remark(n, "nameserver without an address")
				return
			}
			addr, err := netip.ParseAddr(fields[1])
			if err != nil {
				remark(n, fmt.Sprintf("nameserver %q is no address", wiretext.Clean(fields[1])))
				return
			}
			if len(resolvers) < mostResolvers {
				addr = addr.Unmap()
				resolvers = append(resolvers, Resolver{Address: addr, Source: source, Stub: addr.IsLoopback()})
			}
		case "search", "domain":
			search = nil // the last one counts
			for _, s := range fields[1:] {
				search = append(search, wiretext.Clean(strings.ToLower(strings.TrimSuffix(s, "."))))
			}
		case "options", "sortlist", "family", "lookup":
		default:
			remark(n, fmt.Sprintf("%q is no setting", wiretext.Clean(fields[0])))
		}
	})
	if err != nil {
		remarks = append(remarks, fmt.Sprintf("%s: %v", source, err))
	}
	if odd > 3 {
		remarks = append(remarks, fmt.Sprintf("%s: %d more lines make no sense", source, odd-3))
	}
	return resolvers, search, remarks
}

// ParseHosts reads a hosts file. Lines without a valid address are passed over.
func ParseHosts(r io.Reader, source string) (lines []HostsLine, remarks []string) {
	err := eachLine(r, func(_ int, line string) {
		line, _, _ = strings.Cut(line, "#")
		fields := strings.Fields(line)
		if len(fields) < 2 {
			return
		}
		addr, err := netip.ParseAddr(fields[0])
		if err != nil {
			return
		}
		names := fields[1:]
		for i := range names {
			names[i] = wiretext.Clean(strings.TrimSuffix(names[i], "."))
		}
		lines = append(lines, HostsLine{Address: addr.Unmap(), Names: names})
	})
	if err != nil {
		remarks = append(remarks, fmt.Sprintf("%s: %v", source, err))
	}
	return lines, remarks
}

// eachLine calls f for every line, cutting none: a line beyond mostLine is skipped whole.
func eachLine(r io.Reader, f func(n int, line string)) error {
	br := bufio.NewReaderSize(r, mostLine)
	for n := 1; ; n++ {
		line, err := br.ReadSlice('\n')
		tooLong := false
		for err == bufio.ErrBufferFull {
			tooLong = true
			_, err = br.ReadSlice('\n')
		}
		if !tooLong && len(line) > 0 {
			f(n, strings.TrimRight(string(line), "\r\n"))
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading stopped at line %d: %w", n, err)
		}
	}
}
