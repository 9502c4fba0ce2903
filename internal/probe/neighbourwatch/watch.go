// Package neighbourwatch keeps watch over the neighbours of one port: it reads the system's table, listens to the segment where that is
// permitted, and asks when it is told to.
package neighbourwatch

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/neighbours"
	"passepartout/internal/core/site"
	"passepartout/internal/core/subnet"
	"passepartout/internal/guard"
	"passepartout/internal/machine"
	"passepartout/internal/machine/wire"
	"passepartout/internal/probe"
)

// The rates and bounds of asking a whole segment.
const (
	UsualRate = 300  // requests a second, as bursts of a few at a time
	LargeRate = 1000 // on a segment larger than a /24, after a question
	Largest   = 4096 // addresses: a /20
	patience  = 400 * time.Millisecond
	byKernel  = 1200 * time.Millisecond
)

// The pace of what happens without being asked for.
const (
	readEvery  = time.Second
	nameEvery  = 700 * time.Millisecond
	nameAtOnce = 8
	nameFor    = 900 * time.Millisecond
)

// Config says where.
type Config struct {
	Machine   machine.Machine
	Interface string
	Endpoint  *endpoint.Endpoint
	Sheet     *site.Sheet
	Known     *evidence.Set // what tests have found before; may be nil
	Began     time.Time     // when those began
	Quiet     bool          // names are not looked up
	Foreign   bool          // addresses of other networks are tried as well: this machine is to have one
}

// Progress is how far asking the segment has come.
type Progress struct {
	Asked, Total int
	Answered     int
	Rate         int
	Began        time.Time
	Took         time.Duration // once it is over
	Over         bool
	Why          string // why it ended early
}

// Picture is what is known at a moment.
type Picture struct {
	At       time.Time
	Began    time.Time
	Rows     []neighbours.Row
	Missed   int
	Withheld string // why frames can be neither heard nor sent; "" if they can
	Progress Progress
	Trial    *neighbours.Trial
	Switch   *evidence.Switch
	SwitchAt time.Time
}

// Watch is at work until its context ends and Wait has returned.
type Watch struct {
	Config
	Prefixes []netip.Prefix // of the port, those of IPv4 first
	Home     site.Network
	HasHome  bool

	segment *probe.Segment
	wg      sync.WaitGroup

	mu      sync.Mutex
	picture Picture
	book    *neighbours.Book
	tried   map[netip.Addr]bool // names were looked up for
	asking  bool
	trying  context.CancelFunc
	servers []netip.Addr
	own     *endpoint.Interface
}

// prepared is a watch that knows what was known before it, and has not begun.
func prepared(c Config) (*Watch, error) {
	i, ok := c.Endpoint.Interface(c.Interface)
	if !ok {
		return nil, fmt.Errorf("%w: %q", endpoint.ErrNoInterface, c.Interface)
	}
	p := &Watch{Config: c, own: i, tried: map[netip.Addr]bool{}, servers: c.Endpoint.AskedResolvers()}
	for _, v6 := range []bool{false, true} {
		for _, a := range i.Usable(v6) {
			p.Prefixes = append(p.Prefixes, a.Prefix)
		}
	}
	p.Home, p.HasHome = c.Sheet.Home(c.Endpoint.Host, i.Hardware)
	var gateways []netip.Addr
	for _, v6 := range []bool{false, true} {
		if gw, ok := c.Endpoint.Gateway(i.Name, v6); ok {
			gateways = append(gateways, gw)
		}
	}
	p.book = neighbours.NewBook(gateways)
	p.recall()
	return p, nil
}

// Recalled gives the picture of a segment at a moment, as it follows from the settings and from what tests had found by then. Nobody is
// watched: the machine is not asked for anything.
func Recalled(c Config, at time.Time) (*Watch, Picture, error) {
	p, err := prepared(c)
	if err != nil {
		return nil, Picture{}, err
	}
	p.book.Table(c.Began, slices.DeleteFunc(slices.Clone(c.Endpoint.Neighbours), func(n endpoint.Neighbour) bool {
		return n.Interface != c.Interface
	}))
	p.known()
	return p, Picture{At: at, Began: c.Began, Rows: p.book.Rows(at), Missed: p.book.Missed}, nil
}

// Start begins to watch.
func Start(ctx context.Context, c Config) (*Watch, error) {
	p, err := prepared(c)
	if err != nil {
		return nil, err
	}
	p.picture.Began = time.Now()
	segment, err := probe.OpenSegment(c.Machine, p.own.Name, c.Endpoint.Owns, func(evidence.Heard) {}, nil)
	if err != nil {
		p.picture.Withheld = c.Machine.Permissions().Frames.Why
		if p.picture.Withheld == "" {
			p.picture.Withheld = err.Error()
		}
	} else {
		p.segment = segment
		stop := segment.OnFrame(p.hear)
		p.wg.Go(func() {
			defer guard.Goroutine()
			<-ctx.Done()
			stop()
			segment.Close()
		})
	}
	p.read(ctx)
	p.wg.Go(func() {
		defer guard.Goroutine()
		for probe.Sleep(ctx, readEvery) {
			p.read(ctx)
		}
	})
	p.wg.Go(func() {
		defer guard.Goroutine()
		for !c.Quiet && probe.Sleep(ctx, nameEvery) {
			p.name(ctx)
		}
	})
	return p, nil
}

// recall takes in what tests have found before.
func (p *Watch) recall() {
	if p.Known == nil {
		return
	}
	for _, n := range p.Known.Neighbours {
		if n.Method != evidence.ByKernel {
			p.book.Ask(p.Config.Began.Add(n.RTT), n)
		}
	}
	for _, h := range p.Known.Heard {
		p.book.Claim(p.Config.Began, h.Address, h.Hardware)
	}
}

// Wait returns when all that was under way has ended.
func (p *Watch) Wait() { p.wg.Wait() }

func (p *Watch) read(ctx context.Context) {
	table, err := p.Machine.Neighbours(ctx)
	if err != nil {
		return
	}
	table = slices.DeleteFunc(table, func(n endpoint.Neighbour) bool { return n.Interface != p.Interface })
	p.mu.Lock()
	defer p.mu.Unlock()
	p.book.Table(time.Now(), table)
	p.known()
}

// known gives the names that need no question: those of the sheet and of the hosts file.
func (p *Watch) known() {
	for _, a := range p.book.Known() {
		if f, ok := p.Home.Holder(a); ok && f.Name != "" {
			p.book.Call(a, neighbours.Name{Text: f.Name, Source: neighbours.BySheet})
		}
		for _, line := range p.Endpoint.Hosts {
			if line.Address == a && len(line.Names) > 0 {
				p.book.Call(a, neighbours.Name{Text: line.Names[0], Source: neighbours.ByHostsFile})
			}
		}
	}
}

func (p *Watch) hear(f *wire.Frame, frame []byte) {
	now := time.Now()
	if s, ok := wire.ParseLLDP(frame); ok {
		p.mu.Lock()
		p.picture.Switch, p.picture.SwitchAt = &s, now
		p.mu.Unlock()
		return
	}
	if from := f.From.Addr(); f.Proto == "icmp" && from.Is6() && p.own.OnLink(from) && f.Source != p.own.Hardware &&
		!p.Endpoint.Owns(from) {
		p.mu.Lock()
		p.book.Claim(now, from, f.Source)
		p.mu.Unlock()
	}
	if f.Claim.IsValid() && !f.Hardware.IsZero() && f.Source != p.own.Hardware && !p.Endpoint.Owns(f.Claim) && p.near(f.Claim) {
		p.mu.Lock()
		p.book.Claim(now, f.Claim, f.Hardware)
		p.mu.Unlock()
	}
}

// near reports whether an address can be a neighbour's.
func (p *Watch) near(a netip.Addr) bool {
	return a.IsLinkLocalUnicast() || p.own.OnLink(a) || a.Is4() && !a.IsUnspecified() && !a.IsMulticast()
}

// name looks up what the machines are called that have no name yet: by reverse DNS, and by asking themselves.
func (p *Watch) name(ctx context.Context) {
	p.mu.Lock()
	var todo []netip.Addr
	for _, a := range p.book.Nameless() {
		if !p.tried[a] && len(todo) < nameAtOnce && !p.Endpoint.Owns(a) {
			todo = append(todo, a)
			p.tried[a] = true
		}
	}
	p.mu.Unlock()
	if len(todo) == 0 {
		return
	}
	call := func(a netip.Addr, text string, source neighbours.NameSource) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.book.Call(a, neighbours.Name{Text: text, Source: source})
	}
	var wg sync.WaitGroup
	defer wg.Wait()
	wg.Go(func() {
		defer guard.Goroutine()
		for a, text := range probe.Names(ctx, p.Machine, p.servers, todo, nameFor) {
			call(a, text, neighbours.ByReverseDNS)
		}
	})
	for _, a := range todo {
		if !a.IsLinkLocalUnicast() && !p.own.OnLink(a) {
			continue // anybody may claim an address that stands far away: nothing leaves the segment
		}
		wg.Go(func() {
			defer guard.Goroutine()
			ask, cancel := context.WithTimeout(ctx, nameFor)
			defer cancel()
			to := a
			if a.Is6() && a.IsLinkLocalUnicast() {
				to = a.WithZone(p.Interface)
			}
			if l := probe.LookupSelf(ask, p.Machine, to); l.Outcome == evidence.Answered && len(l.Aliases) > 0 {
				call(a, l.Aliases[0], neighbours.ByMulticastDNS)
			}
		})
	}
}

// See gives the picture as it is now.
func (p *Watch) See() Picture {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.picture
	out.At = time.Now()
	out.Rows, out.Missed = p.book.Rows(out.At), p.book.Missed
	if !out.Progress.Over && !out.Progress.Began.IsZero() {
		out.Progress.Took = time.Since(out.Progress.Began)
	}
	return out
}

// Size is how many addresses asking the whole segment means, and whether that needs a question first, or is too much. Only IPv4 segments
// are asked: a /64 has more addresses than anybody has time for.
func (p *Watch) Size() (targets int, prefix netip.Prefix, ok bool) {
	for _, own := range p.Prefixes {
		if own.Addr().Is4() && own.Bits() < 32 {
			return int(min(subnet.Size(own), 1<<24)), own, true
		}
	}
	return 0, prefix, false
}

// ErrTooLarge is the error for a segment that is too large to be asked as a whole.
type ErrTooLarge struct {
	Prefix netip.Prefix
	Size   int
}

func (e ErrTooLarge) Error() string {
	return fmt.Sprintf(
		"%v has %d addresses: at most %d, a /20, are asked as a whole. Ask for single addresses, or see that the mask is right",
		e.Prefix.Masked(), e.Size, Largest)
}

// Ask asks everybody on the segment, at most rate requests a second (0: the usual for its size), and returns when that is over. A second
// call while one is under way returns at once.
func (p *Watch) Ask(ctx context.Context, rate int) error {
	size, prefix, ok := p.Size()
	switch {
	case !ok:
		return fmt.Errorf("%s has no IPv4 network whose addresses could be asked", p.Interface)
	case size > Largest:
		return ErrTooLarge{prefix, size}
	}
	if rate <= 0 {
		if rate = UsualRate; size > 256 {
			rate = LargeRate
		}
	}
	var targets []netip.Addr
	for a := range subnet.Around(prefix, prefix.Addr(), Largest) {
		if subnet.Usable(prefix, a) && a != prefix.Addr() {
			targets = append(targets, a)
		}
	}
	p.mu.Lock()
	if p.asking {
		p.mu.Unlock()
		return nil
	}
	p.asking = true
	p.picture.Progress = Progress{Total: len(targets), Rate: rate, Began: time.Now()}
	p.mu.Unlock()
	done := func(n evidence.Neighbour) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.book.Ask(time.Now(), n)
		if n.Outcome == evidence.Answered {
			p.picture.Progress.Answered++
		}
		if p.segment == nil {
			p.picture.Progress.Asked++
		}
	}
	reached := len(targets)
	if p.segment != nil {
		p.askAllNodes()
		reached = p.segment.Sweep(ctx, prefix.Addr(), targets, rate, patience, done, func() bool {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.picture.Progress.Asked = min(p.picture.Progress.Asked+1, len(targets))
			return false
		})
	} else {
		probe.Provoke(ctx, p.Machine, p.Interface, targets, byKernel, done)
	}
	p.read(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.asking = false
	g := &p.picture.Progress
	g.Took, g.Over = time.Since(g.Began), true
	switch {
	case ctx.Err() != nil:
		g.Why = "stopped"
	case reached < len(targets): // what was not sent was not asked
		g.Asked, g.Why = reached, "the interface sends no longer"
	default:
		g.Asked = len(targets)
	}
	return nil
}

// askAllNodes asks the IPv6 machines of the segment: from the link-local address, so that they show theirs, and from each other one.
func (p *Watch) askAllNodes() {
	for _, a := range p.own.Addresses {
		if own := a.Prefix.Addr(); own.Is6() && !a.Tentative && !a.Duplicate {
			_ = p.segment.AskAllNodes(own) // a port that has gone shows soon enough
		}
	}
}

// Try asks whether an address is free, or, if it is this machine's own, whether anybody else uses it. A trial under way ends.
func (p *Watch) Try(ctx context.Context, a netip.Addr) neighbours.Trial {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	p.mu.Lock()
	if p.trying != nil {
		p.trying()
	}
	p.trying = cancel
	t := neighbours.Trial{Address: a.WithZone(""), Own: p.Endpoint.Owns(a), OnLink: p.own.OnLink(a) || p.Foreign}
	p.picture.Trial = &t
	p.mu.Unlock()
	return probe.Try(ctx, p.Machine, p.segment, p.Interface, t, func(now neighbours.Trial) {
		if ctx.Err() == nil {
			p.mu.Lock()
			p.picture.Trial = &now
			p.mu.Unlock()
		}
	})
}

// Prefix is the prefix of the port that holds an address, else its first one.
func (p *Watch) Prefix(a netip.Addr) netip.Prefix {
	if own, ok := p.own.PrefixFor(a); ok {
		return own
	}
	if len(p.Prefixes) > 0 {
		return p.Prefixes[0]
	}
	return netip.Prefix{}
}

// OwnAddress is the address that "does anybody else use mine?" is about.
func (p *Watch) OwnAddress() (netip.Addr, bool) {
	if len(p.Prefixes) == 0 {
		return netip.Addr{}, false
	}
	return p.Prefixes[0].Addr(), true
}
