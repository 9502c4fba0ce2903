// Package library works out what the system's library does with a name: whom it asks for what in which order, what it makes of the answers,
// and how long that takes (getaddrinfo(3), resolver(3), resolv.conf(5), nsswitch.conf(5)). It asks nobody: how each server answers is
// given.
package library

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
)

// Question is one question to one server.
type Question struct {
	Server netip.Addr
	Name   string // without the last dot
	Type   string // A or AAAA
	TCP    bool
	EDNS   bool
}

// Fate is what becomes of a question.
type Fate uint8

// The fates. Zero: it is not known.
const (
	Unknown Fate = iota
	Silence
	Refused // an error came back: nobody serves there, or the server cannot be reached
	Message
)

// Reply is what comes back to a question.
type Reply struct {
	Fate      Fate
	After     time.Duration
	RCode     string // as RFC 6895 names it
	Addresses []netip.Addr
	Records   bool // there are records in the answer, addresses or others
	Truncated bool
	Lame      bool // neither an answer nor authority nor recursion: it knows nothing of the name
	Short     bool // too short to be a message
}

// answers reports whether a message holds something.
func (r Reply) answers() bool {
	return r.Fate == Message && r.RCode == "NOERROR" && (r.Records || len(r.Addresses) > 0)
}

// Status is what a program is told in the end.
type Status uint8

// The statuses.
const (
	NotKnown   Status = iota // it hangs on the fate of a question that is not known
	Found                    // addresses
	NoName                   // EAI_NONAME: the name does not exist
	NoData                   // EAI_NODATA: it exists, and has no address
	TryAgain                 // EAI_AGAIN: no server could say
	NoRecovery               // EAI_FAIL: the servers will not say
)

// Settings are what the library goes by.
type Settings struct {
	Sources []endpoint.NameSource // where it looks, in order
	Hosts   []netip.Addr          // what the hosts file has for the name
	Servers []netip.Addr          // those that it heeds
	Names   []string              // the name as it is completed, in order (endpoint.Completed)
	AsIs    int                   // the place of the name as it stands; -1: never
	Full    bool                  // it has dots enough, so that it is asked for as it stands at first
	Asking  endpoint.Asking
	First   int // the server with which it begins, where it takes turns (rotate)
}

// Of are the settings of an endpoint for a name.
func Of(e *endpoint.Endpoint, name string) Settings {
	s := Settings{Sources: e.NameSources(), Hosts: e.HostsEntries(name), Asking: e.Asking}
	for _, a := range e.AskedResolvers() {
		if !e.Behind(a) { // programs ask the stub, not whom it asks
			s.Servers = append(s.Servers, a)
		}
	}
	s.Names, s.AsIs = e.Completed(name)
	s.Full = strings.HasSuffix(name, ".") || strings.Count(name, ".") >= e.Asking.Dots()
	return s
}

// Outcome is what a program gets.
type Outcome struct {
	Status    Status
	Addresses []netip.Addr
	ByDNS     bool // the addresses come from name servers, and not from the hosts file
	Asked     []Question
	Took      time.Duration
}

// Resolve works a name's look-up out. ask tells the fate of each question.
func Resolve(s Settings, ask func(Question) Reply) (out Outcome) {
	out.Status = NoName
	asked := false
	for i, source := range s.Sources {
		over := source.EndsUnavailable
		// the answer of one that goes on is given up, whatever the next one says
		if asks := source.IsHostsFile() || source.AsksDNS(); asks && out.Status == Found {
			out.Status, out.Addresses, out.ByDNS = NoName, nil, false
		}
		found := func() bool { return out.Status == Found && (!source.GoesOn || i == len(s.Sources)-1) }
		switch {
		case source.IsHostsFile():
			out.Status = NoName // that it does not know the name stands, whatever came before
			if len(s.Hosts) > 0 {
				out.Status, out.Addresses = Found, s.Hosts
			}
			if found() {
				return out
			}
			over = source.EndsNotFound && out.Status != Found
		case source.AsksDNS() && !asked: // the manager's module asks the same servers
			asked = true
			l := &search{Settings: s, ask: ask, out: &out, single: s.Asking.SingleRequest, reopen: s.Asking.Reopen, edns: s.Asking.EDNS0,
				late: map[Question]time.Duration{}, held: map[Question]Reply{}}
			l.run()
			out.ByDNS = out.Status == Found
			if found() || out.Status == NotKnown {
				return out
			}
			over = out.Status != Found && (source.EndsNotFound && !l.unavailable || source.EndsUnavailable && l.unavailable)
		}
		if over {
			break
		}
	}
	return out
}

// search is one search by DNS.
type search struct {
	Settings
	ask         func(Question) Reply
	out         *Outcome
	single      bool // one question after the other, since a server did not stand two at once
	reopen      bool // and each from a socket of its own
	edns        bool
	unknown     bool
	unavailable bool                       // no server said anything of use
	said        string                     // the code of the last message that came first in its turn
	late        map[Question]time.Duration // when answers come that were not waited for: the socket is still open
	held        map[Question]Reply         // and what they are
}

// trouble is why a query brought nothing (h_errno).
type trouble uint8

const (
	none trouble = iota
	hostNotFound
	noData
	tryAgain
	noRecovery
)

var statusOf = [...]Status{none: Found, hostNotFound: NoName, noData: NoData, tryAgain: TryAgain, noRecovery: NoName}

// run asks for the name and its completions (res_search).
func (l *search) run() {
	saved, last := none, hostNotFound
	empty, failed := false, false
	for i := 0; i < len(l.Names); i++ {
		why, servfail, unreachable := l.query(l.Names[i])
		switch {
		case l.unknown:
			l.out.Status = NotKnown
			return
		case why == none:
			l.out.Status = Found
			return
		}
		last = why
		switch {
		case i == 0 && l.Full:
			saved = why
		case i == l.AsIs && i == len(l.Names)-1:
		case unreachable:
			l.out.Status = TryAgain
			return
		case why == noData:
			empty = true
		case why == tryAgain && servfail:
			failed = true
		case why == hostNotFound:
		case l.AsIs > i: // the list is done with; the name as it stands is still tried
			i = l.AsIs - 1
		default:
			i = len(l.Names)
		}
	}
	l.end(saved, empty, failed, last)
}

func (l *search) end(saved trouble, empty, failed bool, last trouble) {
	switch {
	case saved != none:
		last = saved
	case empty:
		last = noData
	case failed:
		last = tryAgain
	}
	l.out.Status = statusOf[last]
}

// query asks for both families of one name (res_query).
func (l *search) query(name string) (why trouble, servfail, unreachable bool) {
	types := []string{"A", "AAAA"}
	if l.Asking.NoAAAA {
		types = types[:1]
	}
	replies, got, refused := l.send(name, types)
	l.unavailable = !got
	if l.unknown {
		return tryAgain, false, false
	}
	if !got {
		return tryAgain, l.said == "SERVFAIL", refused
	}
	first, second := replies[0], replies[len(replies)-1]
	if second.Fate != Message {
		second = first
	}
	if first.Fate != Message {
		first = second
	}
	for _, r := range replies {
		if r.answers() {
			l.out.Addresses = append(l.out.Addresses, r.Addresses...)
		}
	}
	if len(l.out.Addresses) > 0 {
		return none, false, false
	}
	code := first.RCode
	if code == "NOERROR" {
		code = second.RCode
	}
	switch {
	case first.answers() || second.answers(): // records, and no address among them
		return noData, false, false
	case code == "NXDOMAIN":
		return hostNotFound, false, false
	case code == "SERVFAIL":
		return tryAgain, true, false
	case code == "NOERROR":
		return noData, false, false
	}
	return noRecovery, false, false
}

// send puts questions to the servers until one has answered (res_send). refused: none of them so much as kept silent.
func (l *search) send(name string, types []string) (replies []Reply, got, refused bool) {
	somewhere, closed := false, false
	clear(l.late)
	tcp := l.Asking.UseVC
	timeout, attempts := l.Asking.Patience()
	for try := 0; try < attempts; try++ {
		for shift := range l.Servers {
			place := (shift + l.First) % len(l.Servers)
			if !tcp {
				var again bool
				replies, got, again = l.datagram(l.Servers[place], name, types, patienceAt(timeout, place, len(l.Servers)), &somewhere)
				tcp = again
			}
			if tcp {
				try = attempts // a connection is tried with each server once
				replies, got, closed = l.stream(l.Servers[place], name, types)
			}
			if got || l.unknown {
				return replies, got, false
			}
		}
	}
	return nil, false, closed || !tcp && !somewhere
}

// patienceAt is how long the server at a place of the list is waited for.
func patienceAt(timeout time.Duration, place, servers int) time.Duration {
	d := timeout << place
	if place > 0 {
		d = (d / time.Duration(servers)).Truncate(time.Second)
	}
	return max(d, time.Second)
}

// stream asks over a connection: both questions, one after the other.
func (l *search) stream(server netip.Addr, name string, types []string) (replies []Reply, got, closed bool) {
	again := false
	for i := 0; i < len(types); i++ {
		r := l.put(Question{Server: server, Name: name, Type: types[i], TCP: true, EDNS: l.edns})
		if r.Fate == Silence && i == 0 && !again { // the connection was ended: it may have been an old one
			again, i = true, -1
			continue
		}
		if r.Fate != Message || r.Short {
			return nil, false, r.Fate == Refused
		}
		l.out.Took += r.After
		replies = append(replies, r)
	}
	return replies, true, false
}

func (l *search) put(q Question) Reply {
	l.out.Asked = append(l.out.Asked, q)
	r := l.ask(q)
	l.unknown = l.unknown || r.Fate == Unknown
	return r
}

// failing are the codes at which the next server is asked.
var failing = []string{"SERVFAIL", "NOTIMP", "REFUSED"}

// ending is how an exchange by datagrams ends.
type ending uint8

const (
	useless  ending = iota // the next server is asked
	complete               // what came has to do
	tooLarge               // the answer does not fit: it is asked for over a connection
	halfDone               // one question was answered, of the other nothing was heard
)

// datagram asks one server by datagrams. tcp: the answer does not fit.
func (l *search) datagram(server netip.Addr, name string, types []string, wait time.Duration, somewhere *bool) (
	replies []Reply, got, tcp bool) {
	for {
		replies, how := l.exchange(server, name, types, wait, somewhere)
		switch {
		case l.unknown:
			return nil, false, false
		case how != halfDone:
			return replies, how == complete, how == tooLarge
		case !l.single: // it may not stand two questions at once
			l.single = true
		case !l.reopen:
			l.reopen = true
			clear(l.late) // the socket with what may still come is closed
		default:
			return replies, slices.ContainsFunc(replies, func(r Reply) bool { return r.Fate == Message }), false
		}
	}
}

// exchange puts the questions to a server once, and takes what comes in the order in which it comes.
func (l *search) exchange(server netip.Addr, name string, types []string, wait time.Duration, somewhere *bool) (replies []Reply,
	how ending) {
	came := l.both(server, name, types, wait)
	took := time.Duration(0)
	defer func() { l.out.Took += took }()
	replies = make([]Reply, len(types))
	answered, failed, silent := false, false, false
	for n, i := range l.arrivals(came) {
		r := came[i]
		if r.Fate == Silence || r.After > wait {
			silent = true
			continue
		}
		took = max(took, r.After)
		if r.Fate == Refused {
			return nil, useless
		}
		*somewhere = true
		if !failed && !answered {
			l.said = r.RCode
		}
		switch fails := slices.Contains(failing, r.RCode) || r.Lame; {
		case r.Short:
			return nil, useless
		case fails && answered: // what came first has to do
			return replies, complete
		case fails && len(types) > 1 && n == 0 && l.single: // the second, which was never asked, is waited for
			took = wait
			return nil, useless
		case fails && len(types) > 1 && n == 0:
			failed = true
		case fails:
			return nil, useless
		case r.Truncated:
			return nil, tooLarge
		default:
			replies[i], answered = r, true
		}
	}
	switch {
	case silent:
		took, *somewhere = wait, true
		if answered || failed {
			return replies, halfDone
		}
		return nil, useless
	case answered:
		return replies, complete
	}
	return nil, useless
}

// arrivals are the places of the replies, the one that comes first before the other.
func (l *search) arrivals(came []Reply) []int {
	switch {
	case len(came) == 1:
		return []int{0}
	case !l.single && came[1].After < came[0].After && came[1].Fate != Silence:
		return []int{1, 0}
	}
	return []int{0, 1}
}

// both puts the questions of both families: at once, or the second when the first has been answered.
func (l *search) both(server netip.Addr, name string, types []string, wait time.Duration) []Reply {
	came := make([]Reply, len(types))
	for i := range came {
		came[i].Fate = Silence
	}
	for i, kind := range types {
		q := Question{Server: server, Name: name, Type: kind, EDNS: l.edns}
		came[i] = l.put(q)
		if l.single && i > 0 {
			came[i].After += came[0].After
		}
		if at, ok := l.late[q]; ok && (came[i].Fate != Message || at < l.out.Took+came[i].After) {
			came[i] = l.held[q]
			came[i].After = max(0, at-l.out.Took)
		}
		if came[i].Fate == Message && came[i].After > wait {
			l.late[q], l.held[q] = l.out.Took+came[i].After, came[i]
		}
		r := came[i]
		taken := r.Fate == Message && r.After <= wait && !r.Short && !r.Lame && !r.Truncated && !slices.Contains(failing, r.RCode)
		if l.single && !taken {
			break
		}
	}
	return came
}
