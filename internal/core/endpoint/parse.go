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
