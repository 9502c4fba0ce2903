package tui

import (
	"passepartout/internal/core/series"
	"passepartout/internal/core/verdict"
)

// helpPage explains the marks and the keys of the view that it was called from.
func (m *model) helpPage() []string {
	t := m.theme
	lines := []string{m.title(), m.rule(), ""}
	say := func(head string, pairs [][2]string, style func(i int) string) {
		lines = append(lines, "  "+t.loud.Render(head))
		for i, p := range pairs {
			r := &row{}
			r.at(4)
			if style != nil {
				r.b.WriteString(style(i))
				r.width += 2
			} else {
				r.put(t.key, p[0])
			}
			r.at(12).put(t.text, p[1])
			lines = append(lines, r.cut(m.width))
		}
		lines = append(lines, "")
	}
	order := []verdict.State{verdict.Holds, verdict.Strained, verdict.Broken, verdict.StateUnknown, verdict.Skipped}
	say("The strand", [][2]string{
		{"", "holds: what was asked came back as it should"},
		{"", "strained: something is wrong here, and it does not stand in the way"},
		{"", "broken: here it ends"},
		{"", "not known yet, or not reached"},
		{"", "skipped: not asked, or silence that proves nothing"},
	}, func(i int) string { return t.state[order[i]].Render(strands[order[i]]) })
	switch m.page {
	case pageReach:
		say("Reach", [][2]string{
			{"⠤⠒⠉", "a reply: the higher, the longer; each zone has its own scale, named at the right"},
			{"├4┤ ┼", "a run of probes without answer, and its length; ┼ where there is no room for it"},
			{marksOf[series.Late].shape + " " + again, "an answer after its time; more than one answer"},
			{marksOf[series.Unreachable].shape + " " + marksOf[series.NotSent].shape, "somebody said unreachable; this machine did not send"},
			{"▁ ▄ █", "whose loss: this host, the local subnet, beyond. The nearest that failed at that moment"},
			{"a", "add targets: names, addresses, a pasted list, or @ and a file that lists them"},
			{"enter", "how the chosen one is asked: every 0.2s size 1400 count 100 whole tcp ipv4"},
		}, nil)
	case pagePath:
		say("Path", [][2]string{
			{"┃", "a station, at its usual round trip on the ruler; ├─●─┤ from its quickest to its slowest answer"},
			{"m f", "another method (TCP, ICMP echo, UDP); eight flows side by side, to show where load is shared"},
			{"c", "lay beside it: as it is now, another method, the other address family; esc takes it away"},
		}, nil)
	case pageLease:
		say("Lease", [][2]string{
			{"━ ● ┈", "the lease's life: past, now, to come; ┊ T1 and T2, when the client renews; ╳ past its end"},
			{"╍╍", "held here and offered part in this line"},
			{"─▸ ─▸▸", "a message to one, to everybody; ● its sender. The same message seen again, behind a relay, is faint"},
			{"d", "ask the DHCP servers now, for four seconds; no lease is taken"},
			{"o / tab", "a capture file in place of what is heard; a filter; comparison or exchanges on a small screen"},
		}, nil)
	case pageHood:
		say("Neighbours", [][2]string{
			{"● ◆", "this machine, the gateway: on the strip of the segment, where their addresses lie"},
			{"• ○ ·", "answered or spoke within a minute; only believed; asked and silent"},
			{"╳", "wrong: two machines answer, the hardware address has changed, or an entry fixed by hand differs"},
			{"╌", "a range of the site sheet"},
			{"a esc", "ask everybody on the segment, within its rate; stop"},
			{"f m", "is an address free; does anybody else use this machine's: conflict probes and an echo"},
		}, nil)
	case pageNames:
		say("Names", [][2]string{
			{"1 2 ·", "the servers in the order in which they are asked; · not set here, and named by somebody"},
			{"╍╍ ▪ ▫", "the servers part; those with the same shape agree"},
			{"├─●─┤", "the quickest look-up, the typical one, the longest, on one ruler for all servers"},
			{"n y p c", "look a name up; other records; TCP beside UDP or not; compare the servers"},
		}, nil)
	case pageSuspects:
		say("Suspects", [][2]string{
			{"╳ ╍ ┈ ━", "found, likely, open, ruled out: each fault of the catalogue is one mark, in its zone, from the host outwards"},
			{"↑ ↓", "choose one: at the right stands what speaks for it and against it, and what it rests on"},
			{"enter", "the exchange itself, in the overview"},
		}, nil)
	case pagePort:
		say("Counters", [][2]string{
			{"▁▄█", "octets a second, received and sent, on one scale"},
			{"z", "count from zero: only what grows matters, totals since the start of the machine say nothing"},
		}, nil)
	case pageAddress:
		say("Address", [][2]string{
			{"●", "this machine   ◆ gateway   ◇ gateway offered   ■ resolver: inside the span, where the mask has them"},
			{"╳", "outside the span: an octet that differs is named"},
		}, nil)
	case pageCases, pageQuestion:
	default:
		say("Overview", [][2]string{
			{"↑ ↓", "choose a check; at the right stands what it rests on and clears"},
			{"r", "after a repair: the same tests again, before beside after"},
		}, nil)
	}
	var pairs [][2]string
	for _, b := range m.keys.foot() {
		if b.Enabled() {
			pairs = append(pairs, [2]string{b.Help().Key, b.Help().Desc})
		}
	}
	does := map[string]string{"overview": "checks by zone, and what each one rests on", "address": "addresses in their prefix, and the routes", "lease": "the lease in its time, offers beside it, and the DHCP exchanges", "neighbours": "who is on the segment, and how sure that is", "names": "one name as every server has it, and the servers compared", "suspects": "every fault and how it stands: what is found, open and ruled out, and why", "counters": "what goes through the port, and what it loses", "reach": "the witnesses of each zone over time, and whose loss it was", "path": "the way to the target, stretch by stretch",
		"found": "tell what only a person can find out: each answer counts as evidence", "export": "write what is on screen: a drawing or the data", "again": "run the same tests again",
		"target": "ask for another target", "port": "mean another network port", "mended": "in this demonstration: have the repair done, and run the same tests again", "scenarios": "look into another complaint", "help": "this page", "quit": "leave"}
	for i := range pairs {
		pairs[i][1] = does[pairs[i][1]]
	}
	if len(lines)+len(pairs)+3 <= m.height {
		say("Keys", pairs, nil)
	}
	for len(lines) < m.height-2 {
		lines = append(lines, "")
	}
	r := &row{}
	r.put(t.key, " any key").put(t.faint, " back")
	return append(lines[:m.height-2], m.rule(), r.cut(m.width))
}
