package endpoint

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"passepartout/internal/core/wiretext"
)

// Asking is how the system's library asks for names: the options of resolv.conf(5). The zero value is what that page has for a file without
// any.
type Asking struct {
	NDots         int // a name with fewer dots is completed before it is asked for as it stands; what a file says, and one more: see Dots
	Timeout       time.Duration
	Attempts      int
	Rotate        bool // the servers in turn
	UseVC         bool // by TCP
	EDNS0         bool
	TrustAD       bool
	NoAAAA        bool
	SingleRequest bool // A and AAAA one after the other
	Reopen        bool // and each from a socket of its own
	NoTLDQuery    bool // a name without a dot is not asked for as it stands
}

// The defaults and bounds of resolv.conf(5).
const (
	heeded          = 3 // MAXNS
	defaultDots     = 1
	mostDots        = 15
	defaultTimeout  = 5 * time.Second
	longestTimeout  = 30 * time.Second
	defaultAttempts = 2
	mostAttempts    = 5
)

// mostResolvers bounds what a file of rubbish can fill.
const mostResolvers = 16

// Dots is how many dots a name must have to be asked for as it stands before it is completed.
func (a Asking) Dots() int {
	if a.NDots == 0 {
		return defaultDots
	}
	return a.NDots - 1
}

// Patience is how long one server is waited for at first, and how often all are asked.
func (a Asking) Patience() (timeout time.Duration, attempts int) {
	timeout, attempts = a.Timeout, a.Attempts
	if timeout == 0 {
		timeout = defaultTimeout
	}
	if attempts == 0 {
		attempts = defaultAttempts
	}
	return timeout, attempts
}

// options reads the words of an options line; what it does not know it passes over, as the library does.
func (a *Asking) options(words []string) {
	flags := map[string]*bool{"rotate": &a.Rotate, "use-vc": &a.UseVC, "edns0": &a.EDNS0, "trust-ad": &a.TrustAD, "no-aaaa": &a.NoAAAA,
		"single-request": &a.SingleRequest, "single-request-reopen": &a.Reopen, "no-tld-query": &a.NoTLDQuery}
	for _, word := range words {
		if on, known := flags[word]; known {
			*on = true
			a.SingleRequest = a.SingleRequest || a.Reopen
			continue
		}
		name, text, _ := strings.Cut(word, ":")
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			continue
		}
		switch name {
		case "ndots":
			a.NDots = min(n, mostDots) + 1
		case "timeout":
			a.Timeout = min(max(time.Duration(n)*time.Second, time.Second), longestTimeout)
		case "attempts":
			a.Attempts = min(max(n, 1), mostAttempts)
		}
	}
}

// mostCompleted bounds with how many domains a name is completed.
const mostCompleted = 6

// Completed lists the names under which a name is looked up, in the order in which the system's library asks (res_search in resolver(3)):
// one with enough dots as it stands and then with each domain of the search list, any other one the other way round. asIs is the place of
// the name as it stands, -1 if it is never asked for so.
func (e *Endpoint) Completed(name string) (names []string, asIs int) {
	if name == "" {
		return nil, -1
	}
	if full, ends := strings.CutSuffix(name, "."); ends {
		return []string{full}, 0
	}
	dots := strings.Count(name, ".")
	var completed []string
	root := false // the root stands in the list: the name as it stands
	for _, domain := range e.Search[:min(len(e.Search), mostCompleted)] {
		if domain == "" {
			if !root {
				completed = append(completed, name)
			}
			root = true
			continue
		}
		completed = append(completed, name+"."+domain)
	}
	if dots >= e.Asking.Dots() {
		return append([]string{name}, slices.DeleteFunc(completed, func(n string) bool { return n == name })...), 0
	}
	if root {
		return completed, slices.Index(completed, name)
	}
	if dots == 0 && e.Asking.NoTLDQuery && len(completed) > 0 {
		return completed, -1
	}
	return append(completed, name), len(completed)
}

// ResolvConf is what a resolv.conf says.
type ResolvConf struct {
	Resolvers []Resolver
	Search    []string
	Asking    Asking
	Remarks   []string // on what makes no sense or is passed over, as the system's own library does
}

// ParseResolvConf reads a resolv.conf (resolv.conf(5)). Lines that make no sense become remarks.
func ParseResolvConf(r io.Reader, source string) (out ResolvConf) {
	odd := 0
	remark := func(n int, msg string) {
		if odd++; odd <= 3 {
			out.Remarks = append(out.Remarks, fmt.Sprintf("%s: line %d: %s", source, n, msg))
		}
	}
	passed := 0
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
			if len(out.Resolvers) >= mostResolvers {
				return
			}
			addr = addr.Unmap()
			x := Resolver{Address: addr, Source: source, Stub: addr.IsLoopback(), Passed: len(out.Resolvers) >= heeded}
			if x.Passed {
				passed++
			}
			out.Resolvers = append(out.Resolvers, x)
		case "search", "domain":
			out.Search = nil // the last one counts
			for _, s := range fields[1:] {
				out.Search = append(out.Search, wiretext.Clean(strings.ToLower(strings.TrimSuffix(s, "."))))
			}
		case "options":
			out.Asking.options(fields[1:])
		case "sortlist", "family", "lookup":
		default:
			remark(n, fmt.Sprintf("%q is no setting", wiretext.Clean(fields[0])))
		}
	})
	if err != nil {
		out.Remarks = append(out.Remarks, fmt.Sprintf("%s: %v", source, err))
	}
	if odd > 3 {
		out.Remarks = append(out.Remarks, fmt.Sprintf("%s: %d more lines make no sense", source, odd-3))
	}
	if passed > 0 {
		out.Remarks = append(out.Remarks,
			fmt.Sprintf("%s: %d name servers stand there, and programs ask the first %d alone", source, len(out.Resolvers), heeded))
	}
	return out
}

// StubFile is where systemd-resolved writes down the servers that it asks itself.
const StubFile = "/run/systemd/resolve/resolv.conf"

// StubBefore reports whether a resolver of the endpoint is systemd-resolved's own: it listens on 127.0.0.53 and .54.
func (e *Endpoint) StubBefore() bool {
	return slices.ContainsFunc(e.Resolvers, func(r Resolver) bool { return strings.HasPrefix(r.Address.String(), "127.0.0.5") })
}

// TakeBehind takes in what the stub asks.
func (e *Endpoint) TakeBehind(upstream ResolvConf) {
	for _, u := range upstream.Resolvers {
		u.Behind, u.Passed = true, false // the stub asks them all
		e.Resolvers = append(e.Resolvers, u)
	}
	if len(e.Search) == 0 {
		e.Search = upstream.Search
	}
}
