package frame

import (
	"fmt"
	"strings"

	"passepartout/internal/core/wiretext"
)

var (
	opcodes = map[int]string{0: "query", 2: "status", 4: "notify", 5: "update"}
	rcodes  = map[int]string{0: "no error", 1: "format error", 2: "server failure", 3: "name error: there is no such name",
		4: "not implemented", 5: "refused"} // RFC 1035 §4.1.1
	types = map[int]string{1: "A", 2: "NS", 5: "CNAME", 6: "SOA", 12: "PTR", 13: "HINFO", 15: "MX", 16: "TXT", 28: "AAAA", 33: "SRV",
		41: "OPT", 43: "DS", 46: "RRSIG", 47: "NSEC", 48: "DNSKEY", 64: "SVCB", 65: "HTTPS", 252: "AXFR", 255: "ANY"}
)

func typeName(n int) string {
	if t := types[n]; t != "" {
		return t
	}
	return fmt.Sprintf("TYPE%d", n) // RFC 3597 §5
}

// dns opens a message of DNS, or of what has its form (RFC 6762 §18, RFC 4795 §2.1).
func (r *reader) dns(name string) {
	n := r.end - r.at
	source := map[string]string{"mDNS": "RFC 6762 §18", "LLMNR": "RFC 4795 §2.1"}[name]
	if source == "" {
		source = "RFC 1035 §4.1"
	}
	l, b, ok := r.header(name, source, max(n, 12))
	m := &message{l, b, 12}
	l.put(0, 2, "ID", octetWords(b[:2]))
	l.put(2, 1, "QR", map[bool]string{false: "a query", true: "a response"}[b[2]&0x80 != 0])
	l.put(2, 1, "OPCODE", coded(int(b[2]>>3&0xf), opcodes))
	l.put(2, 2, "Flags", flags(int(b[2]&7)<<8|int(b[3]&0xf0), "authoritative (AA)", "truncated (TC)", "recursion desired (RD)",
		"recursion available (RA)", "", "authentic data (AD)", "checking disabled (CD)", "", "", "", ""))
	l.put(3, 1, "RCODE", coded(int(b[3]&0xf), rcodes))
	counts := [4]int{}
	for i, what := range []string{"QDCOUNT", "ANCOUNT", "NSCOUNT", "ARCOUNT"} {
		counts[i] = numberOf(b[4+2*i : 6+2*i])
		l.number(b, 4+2*i, 2, what, "")
	}
	if !ok {
		return
	}
	for i, what := range []string{"Question", "Answer", "Authority", "Additional"} {
		for range counts[i] {
			if !m.record(what, i == 0, name == "mDNS") {
				l.wrong("a record runs past the message")
				return
			}
			if len(l.Fields) >= mostFields {
				return
			}
		}
	}
	if m.at < n {
		l.put(m.at, n-m.at, "behind the records", octetWords(b[m.at:]))
	}
}

// message is a message of DNS that is gone through.
type message struct {
	l  *Layer
	b  []byte
	at int
}

// record reads a question or a record; false where it runs past the message.
func (m *message) record(section string, question, group bool) bool {
	from := m.at
	name, next, ok := nameAt(m.b, m.at)
	if !ok || next+4 > len(m.b) {
		return false
	}
	kind, class := numberOf(m.b[next:next+2]), numberOf(m.b[next+2:next+4])
	words := name + " " + typeName(kind)
	if group && class&0x8000 != 0 { // RFC 6762 §5.4, §10.2
		class &^= 0x8000
		words += map[bool]string{true: ", answered to the asker alone if possible", false: ", the only one of its kind"}[question]
	}
	if class != 1 && kind != 41 {
		words += fmt.Sprintf(", class %d", class)
	}
	if question {
		m.at = next + 4
		m.l.put(from, m.at-from, section, words)
		return true
	}
	if next+10 > len(m.b) {
		return false
	}
	size := numberOf(m.b[next+8 : next+10])
	if m.at = next + 10 + size; m.at > len(m.b) {
		return false
	}
	if kind == 41 { // RFC 6891 §6.1.3
		m.l.put(from, m.at-from, section, fmt.Sprintf("OPT: answers of up to %d octets by UDP", class))
		return true
	}
	m.l.put(from, m.at-from, section, fmt.Sprintf("%s  %s, for %d s", words, m.data(kind, next+10, size), numberOf(m.b[next+4:next+8])))
	return true
}

// data writes the data of a record (RFC 1035 §3.3, RFC 3596, RFC 2782).
func (m *message) data(kind, at, size int) string {
	b := m.b[at : at+size]
	named := func(lead int) (string, bool) {
		name, _, ok := nameAt(m.b, at+lead)
		return name, ok && size > lead
	}
	switch {
	case kind == 1 && size == 4, kind == 28 && size == 16:
		return addressOf(b).String()
	case kind == 2 || kind == 5 || kind == 12:
		if name, ok := named(0); ok {
			return name
		}
	case kind == 15 && size > 2:
		if name, ok := named(2); ok {
			return fmt.Sprintf("%s, preference %d", name, numberOf(b[:2]))
		}
	case kind == 33 && size > 6:
		if name, ok := named(6); ok {
			return fmt.Sprintf("%s port %d, priority %d, weight %d", name, numberOf(b[4:6]), numberOf(b[:2]), numberOf(b[2:4]))
		}
	case kind == 6:
		first, next, ok := nameAt(m.b, at)
		second, end, also := nameAt(m.b, next)
		if ok && also && end+20 <= at+size {
			return fmt.Sprintf("%s, by %s, serial %d, nothing is kept for %d s", first, second, numberOf(m.b[end:end+4]),
				numberOf(m.b[end+16:end+20]))
		}
	case kind == 16:
		var texts []string
		for i := 0; i < size; i += 1 + int(b[i]) {
			texts = append(texts, `"`+wiretext.Clean(string(b[i+1:min(i+1+int(b[i]), size)]))+`"`)
		}
		return strings.Join(texts, " ")
	}
	return octetWords(b)
}

// longestName is that of RFC 1035 §2.3.4, and with it how many labels and references a name can have.
const longestName = 255

// nameAt reads a name, and where what follows it begins (RFC 1035 §4.1.4). A reference must lead back, so that reading ends.
func nameAt(b []byte, at int) (name string, next int, ok bool) {
	var labels []string
	octets, limit := 0, at
	next = -1
	for at < len(b) {
		switch c := int(b[at]); {
		case c == 0:
			if next < 0 {
				next = at + 1
			}
			if len(labels) == 0 {
				return ".", next, true
			}
			return wiretext.Clean(strings.Join(labels, ".")), next, true
		case c&0xc0 == 0xc0:
			if at+1 >= len(b) {
				return "", 0, false
			}
			if next < 0 {
				next = at + 2
			}
			to := numberOf(b[at:at+2]) & 0x3fff
			if to >= limit {
				return "", 0, false
			}
			at, limit = to, to
		case c&0xc0 != 0:
			return "", 0, false
		default:
			if octets += c + 1; at+1+c > len(b) || octets > longestName {
				return "", 0, false
			}
			labels = append(labels, string(b[at+1:at+1+c]))
			at += 1 + c
		}
	}
	return "", 0, false
}

// names are those that follow each other to the end, without references.
func names(b []byte) string {
	var list []string
	for at := 0; at < len(b) && b[at] != 0; {
		name, next, ok := nameAt(b, at)
		if !ok {
			break
		}
		list, at = append(list, name), next
	}
	return strings.Join(list, ", ")
}
