package evidence

// Outcome is what became of a question. "Said no", "spoke nonsense" and "said nothing" are three different pieces of evidence.
type Outcome uint8

// The outcomes. Zero means that the question was not asked, or that its time is not over.
const (
	NotKnown    Outcome = iota
	Answered            // the answer that was hoped for
	Silent              // nothing within the time
	Refused             // the asked host itself said no: a reset, or port unreachable
	Unreachable         // somebody said that it cannot be reached
	Expired             // the hop limit ran out at a router, which said so
	LocalError          // this machine did not send
	Malformed           // an answer that breaks the protocol
)

// NoNextHop is the reason of a LocalError for a packet that could not leave because the next hop did not answer for its hardware address:
// this machine has asked the segment, and nobody is there (RFC 1122 §2.3.2.2).
const NoNextHop = "the next hop's hardware address is not to be had"

var outcomeNames = [...]string{"not known", "answered", "silent", "refused", "unreachable", "hop limit reached", "not sent", "nonsense"}

func (o Outcome) String() string { return outcomeNames[o] }

// Why is the reason that an ICMP error gives, the same for both families.
type Why uint8

// The reasons, from RFC 792, RFC 1122 §3.2.2.1, RFC 1812 §5.2.7.1 and RFC 4443 §3.1.
const (
	NoReason Why = iota
	NoNet
	NoHost
	NoProtocol
	NoPort
	TooBig
	Prohibited
	OtherReason
)

var whyNames = [...]string{"", "no way to that network", "host not found on its link", "protocol not spoken there", "port closed",
	"too big for the next link", "administratively prohibited", "other reason"}

func (w Why) String() string { return whyNames[w] }

// WhyOf reads type and code of an ICMP error that says "unreachable" or "too big".
func WhyOf(v6 bool, icmpType, code uint8) Why {
	if v6 {
		if icmpType == 2 {
			return TooBig
		}
		switch code { // RFC 4443 §3.1
		case 0:
			return NoNet
		case 1, 5, 6:
			return Prohibited
		case 3:
			return NoHost
		case 4:
			return NoPort
		}
		return OtherReason
	}
	switch code { // RFC 792, RFC 1122 §3.2.2.1, RFC 1812 §5.2.7.1
	case 0, 6, 11:
		return NoNet
	case 1, 7, 12:
		return NoHost
	case 2:
		return NoProtocol
	case 3:
		return NoPort
	case 4:
		return TooBig
	case 9, 10, 13:
		return Prohibited
	}
	return OtherReason
}
