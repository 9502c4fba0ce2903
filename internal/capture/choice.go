package capture

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/wiretext"
)

// Choice says which frames are wanted. The zero Choice wants every frame.
type Choice struct {
	root node
	text string
}

// node is a part of a choice: and, or and not over words.
type node interface{}

type (
	allOf  []node
	anyOf  []node
	unless struct{ of node }
	// word is one that needs no value, such as arp.
	word string
	// host is a machine's address, or all addresses of a prefix.
	host netip.Prefix
	port uint16
)

// words are those that need no value.
var words = []word{
	"mine",       // what this machine itself sends and gets, by its hardware address
	"everything", // every frame
	"arp",        // address resolution (RFC 826)
	"icmp",       // ICMP of both families, neighbour discovery among it (RFC 792, 4443, 4861)
	"dhcp",       // DHCP of both families (RFC 2131, 8415)
	"dns",        // look-ups, at port 53 (RFC 1035)
	"mdns",       // multicast look-ups, at port 5353 (RFC 6762)
	"lldp",       // what switches say of themselves (IEEE 802.1AB)
	"tcp", "udp",
	"connections", // openings and ends of TCP connections: SYN, FIN and RST (RFC 9293 §3.1)
}

// choiceWords are all that may stand in a choice.
var choiceWords = func() (all string) {
	for _, w := range words {
		all += string(w) + ", "
	}
	return all + "host A, net PREFIX, port N; joined by and, or, not and brackets"
}()

// Most that a choice may say: what is compiled from it must have room in the kernel (BPF_MAXINSNS, 4096 instructions).
const mostWords = 100

// token is a word of a choice and where it begins, from 1.
type token struct {
	text string
	at   int
}

// parser reads a choice from its words.
type parser struct {
	rest []token
	end  int
}

// ParseChoice reads what somebody wants to keep. The error says in one line where it is wrong, and what would be right.
func ParseChoice(text string) (*Choice, error) {
	p := &parser{end: len(text) + 1}
	for i := 0; i < len(text); {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == ',':
			i++
		case c == '(' || c == ')':
			p.rest = append(p.rest, token{text[i : i+1], i + 1})
			i++
		default:
			j := i
			for j < len(text) && !strings.ContainsRune(" \t\n,()", rune(text[j])) {
				j++
			}
			p.rest = append(p.rest, token{strings.ToLower(text[i:j]), i + 1})
			i = j
		}
	}
	switch {
	case len(p.rest) == 0:
		return nil, fmt.Errorf("nothing is chosen: give %s", choiceWords)
	case len(p.rest) > mostWords:
		return nil, fmt.Errorf("%d words: give at most %d", len(p.rest), mostWords)
	}
	root, err := p.any()
	if err == nil && len(p.rest) > 0 {
		err = p.wrong("and, or, or the end")
	}
	if err != nil {
		return nil, err
	}
	return &Choice{root, text}, nil
}

// String gives the choice as it was written.
func (c *Choice) String() string { return c.text }

// wrong says what stands where something else should.
func (p *parser) wrong(want string) error {
	if len(p.rest) == 0 {
		return fmt.Errorf("it ends at character %d, where there should be %s", p.end, want)
	}
	return fmt.Errorf("%q at character %d: there should be %s", wiretext.Clip(wiretext.Clean(p.rest[0].text)), p.rest[0].at, want)
}

// next takes the next word, if it is that.
func (p *parser) next(text string) bool {
	if len(p.rest) > 0 && p.rest[0].text == text {
		p.rest = p.rest[1:]
		return true
	}
	return false
}

func (p *parser) any() (node, error) {
	var out anyOf
	for {
		n, err := p.all()
		if err != nil {
			return nil, err
		}
		if out = append(out, n); !p.next("or") {
			break
		}
	}
	if len(out) == 1 {
		return out[0], nil
	}
	return out, nil
}

func (p *parser) all() (node, error) {
	var out allOf
	for {
		n, err := p.one()
		if err != nil {
			return nil, err
		}
		if out = append(out, n); !p.next("and") {
			break
		}
	}
	if len(out) == 1 {
		return out[0], nil
	}
	return out, nil
}

func (p *parser) one() (node, error) {
	switch {
	case p.next("not"):
		n, err := p.one()
		return unless{n}, err
	case p.next("("):
		n, err := p.any()
		if err == nil && !p.next(")") {
			err = p.wrong("and, or, or a closing bracket")
		}
		return n, err
	case len(p.rest) == 0:
		return nil, p.wrong("one of " + choiceWords)
	}
	t := p.rest[0]
	if slices.Contains(words, word(t.text)) {
		p.rest = p.rest[1:]
		return word(t.text), nil
	}
	if t.text != "host" && t.text != "net" && t.text != "port" {
		return nil, p.wrong("one of " + choiceWords)
	}
	p.rest = p.rest[1:]
	return p.value(t.text)
}

// value reads what follows host, net or port.
func (p *parser) value(of string) (node, error) {
	text := ""
	if len(p.rest) > 0 {
		text = p.rest[0].text
	}
	var n node
	switch of {
	case "host":
		a, err := netip.ParseAddr(text)
		if err != nil || a.Zone() != "" {
			return nil, p.wrong("an address after host, such as 172.27.40.23")
		}
		n = host(netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()))
	case "net":
		x, err := netip.ParsePrefix(text)
		if err != nil {
			return nil, p.wrong("a prefix after net, such as 172.27.40.0/24")
		}
		n = host(x.Masked())
	default:
		x, err := strconv.ParseUint(text, 10, 16)
		if err != nil || x == 0 {
			return nil, p.wrong("a port after port, 1 to 65535")
		}
		n = port(x)
	}
	p.rest = p.rest[1:]
	return n, nil
}

// AboutMine reports that the choice asks which machine is this one, which a file does not tell.
func (c *Choice) AboutMine() bool { return asksMine(c.root) }

func asksMine(n node) bool {
	switch n := n.(type) {
	case anyOf:
		return slices.ContainsFunc(n, asksMine)
	case allOf:
		return slices.ContainsFunc(n, asksMine)
	case unless:
		return asksMine(n.of)
	}
	return n == node(word("mine"))
}

// Mine is this machine at an interface, which the word mine stands for.
type Mine struct{ Hardware endpoint.HardwareAddr }
