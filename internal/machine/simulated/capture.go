package simulated

import (
	"slices"

	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/stack"

	"passepartout/internal/scenario"
)

// capture lets a node accept connections itself that were meant for others beyond it, as a captive portal does.
func (n *node) capture() {
	if len(n.spec().Captures) == 0 {
		return
	}
	const proto = header.IPv4ProtocolNumber
	var rules []stack.Rule
	for _, c := range n.spec().Captures {
		rules = append(rules, stack.Rule{
			Filter:   stack.IPHeaderFilter{Protocol: header.TCPProtocolNumber, CheckProtocol: true},
			Matchers: []stack.Matcher{passing{n, c}},
			Target:   &stack.RedirectTarget{Port: c.At, NetworkProtocol: proto},
		})
	}
	first := len(rules) // of the rules that accept, one for each hook; the last refuses what no hook leads to
	for range 4 {
		rules = append(rules, stack.Rule{Filter: stack.EmptyFilter4(), Target: &stack.AcceptTarget{NetworkProtocol: proto}})
	}
	rules = append(rules, stack.Rule{Filter: stack.EmptyFilter4(), Target: &stack.ErrorTarget{NetworkProtocol: proto}})
	begins := [stack.NumHooks]int{stack.Prerouting: 0, stack.Input: first + 1, stack.Forward: stack.HookUnset, stack.Output: first + 2,
		stack.Postrouting: first + 3}
	ends := begins
	ends[stack.Prerouting] = first
	n.stack.IPTables().ReplaceTable(stack.NATID, stack.Table{Rules: rules, BuiltinChains: begins, Underflows: ends}, false)
}

// passing matches connections to somebody else that arrive at the node's first port and are to be captured.
type passing struct {
	node *node
	what scenario.Capture
}

// Match implements stack.Matcher.
func (m passing) Match(_ stack.Hook, packet *stack.PacketBuffer, in, _ string) (matches, drop bool) {
	transport := packet.TransportHeader().Slice()
	if len(transport) < header.TCPMinimumSize || in != m.node.ports[0].name {
		return false, false
	}
	to := fromTCPIP(header.IPv4(packet.NetworkHeader().Slice()).DestinationAddress())
	return m.what.Takes(to, header.TCP(transport).DestinationPort()) && !m.node.owns(to), false
}

// captures reports whether a frame that is to be passed on is accepted by the node itself.
func (n *node) captures(p *port, v view) bool {
	return p == n.ports[0] && !v.v6 && v.proto == "tcp" &&
		slices.ContainsFunc(n.spec().Captures, func(c scenario.Capture) bool { return c.Takes(v.dst, v.dstPort) })
}
