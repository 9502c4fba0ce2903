package neighbours

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	"passepartout/internal/core/site"
	"passepartout/internal/core/subnet"
)

// Trial is the question whether an address is free, or whether anybody else uses one of ours: conflict probes (RFC 5227 §2.1.1) and an
// echo, and what came.
type Trial struct {
	Address netip.Addr
	Own     bool // it is this machine's own address
	OnLink  bool // it lies in a prefix of the port
	Probes  int
	Frames  bool // asked in frames of our own; else by the system on our behalf
	Holders []endpoint.HardwareAddr
	Rivals  []endpoint.HardwareAddr // who was seen to probe for the same address at the same time
	Echo    evidence.Reply
	Took    time.Duration
	Over    bool
}

// Standing is what comes out of a trial.
type Standing uint8

// The outcomes. Zero: not over.
const (
	Asking Standing = iota
	Taken
	Claimed // somebody else is about to take it
	Quiet   // nobody answered
	Nobody  // nobody else uses our own
	CannotTell
)

// Result says how a trial came out, in a sentence, and what it cannot tell, in others.
func (t Trial) Result(prefix netip.Prefix, home site.Network, documented bool) (s Standing, sentence string, limits []string) {
	switch {
	case len(t.Holders) > 0:
		var who []string
		for _, h := range t.Holders {
			who = append(who, h.String())
		}
		s, sentence = Taken, fmt.Sprintf("%v is taken: %s answers for it.", t.Address, strings.Join(who, " and "))
		if t.Own {
			sentence = fmt.Sprintf("Somebody else uses this machine's address %v: %s.", t.Address, strings.Join(who, " and "))
		}
	case t.Echo.Came() && t.Echo.From == t.Address && !t.Own:
		s, sentence = Taken, fmt.Sprintf("%v is taken: it answers echo.", t.Address)
	case len(t.Rivals) > 0:
		s, sentence = Claimed, fmt.Sprintf("%v is being taken just now: %v probes for it as well.", t.Address, t.Rivals[0])
	case !t.OnLink && !t.Own:
		return CannotTell, fmt.Sprintf("%v lies outside %v: who has it cannot be asked from here.", t.Address, prefix.Masked()),
			[]string{"Ask from a machine on that segment."}
	case !t.Over:
		return Asking, fmt.Sprintf("%v is being asked for: %d of %d probes sent, no answer yet.", t.Address, t.Probes, ProbeNumber), nil
	case t.Probes == 0:
		why := "no probe could be sent"
		if t.Echo.Outcome == evidence.LocalError && t.Echo.Reason != "" {
			why += ": " + t.Echo.Reason
		}
		return CannotTell, fmt.Sprintf("Who has %v could not be asked: %s.", t.Address, why), nil
	case t.Own:
		s, sentence = Nobody, fmt.Sprintf("Nobody else uses %v: no answer to %d probes in %s.", t.Address, t.Probes, Seconds(t.Took))
	default:
		s, sentence = Quiet, fmt.Sprintf("Nobody answers for %v: no answer to %d probes in %s.", t.Address, t.Probes, Seconds(t.Took))
	}
	switch use := home.Use(t.Address); {
	case !documented:
	case use != "":
		limits = append(limits, fmt.Sprintf("The site sheet has it for: %s.", use))
	case home.Contains(t.Address):
		limits = append(limits, "The site sheet has nobody for it.")
	}
	if s != Quiet && s != Nobody {
		return s, sentence, limits
	}
	if !subnet.Usable(prefix, t.Address) && !t.Own && t.Address.Is4() {
		limits = append(limits,
			fmt.Sprintf("It is no address for a machine in %v: the first stands for the network, the last for all.", prefix.Masked()))
	}
	limits = append(limits,
		"A machine that is switched off, asleep or on another socket now is not seen: it may come back and use the address.")
	if !t.Own {
		limits = append(limits, "A DHCP server may give the address to another tomorrow, unless it lies outside its range.")
	}
	if !t.Frames {
		limits = append(limits, "The system asked on our behalf: a second machine with the same address would not show.")
	}
	return s, sentence, limits
}

// The times of the conflict probe (RFC 5227 §1.1): three probes, one to two seconds apart, then two seconds of waiting.
const (
	ProbeNumber  = 3
	ProbeApart   = time.Second
	AnnounceWait = 2 * time.Second
)

// Seconds writes a time in seconds.
func Seconds(d time.Duration) string { return fmt.Sprintf("%.1f s", d.Seconds()) }
