package report

import (
	"fmt"
	"strings"

	"passepartout/internal/core/dhcp"
)

// The width of the times in front of a ladder: a time of day to the millisecond, and the time since the first message.
const ladderTimes = 24

// RungTime writes when a message was seen, and how long after the first.
func RungTime(r dhcp.Rung) string {
	after := ""
	switch ms := float64(r.After.Microseconds()) / 1000; {
	case r.After == 0:
	case ms < 1000:
		after = fmt.Sprintf("+%.1f ms", ms)
	case ms < 600_000:
		after = fmt.Sprintf("+%.2f s", ms/1000)
	default:
		after = "+" + LeaseTime(r.After)
	}
	return fmt.Sprintf("%s %*s", r.Step.At.UTC().Format("15:04:05.000"), ladderTimes-13, after)
}

// LadderWidths places the parties of a ladder: the column of each one's post, within width.
func LadderWidths(l dhcp.Ladder, width int) []int {
	posts := make([]int, len(l.Parties))
	for i := range posts {
		if len(posts) > 1 {
			posts[i] = i * (width - 1) / (len(posts) - 1)
		}
	}
	return posts
}

// PartyName is what a party is called: its role, and its address.
func PartyName(l dhcp.Ladder, i int) string {
	p := l.Parties[i]
	if !p.Address.IsValid() {
		return p.Role
	}
	return p.Role + " " + p.Address.String()
}

// shortName is the same with the last part of the address alone.
func shortName(l dhcp.Ladder, i int) string {
	p := l.Parties[i]
	if !p.Address.IsValid() {
		return p.Role
	}
	text := p.Address.String()
	return p.Role + " " + text[strings.LastIndexAny(text, ".:"):]
}

// LadderHead names the parties above their posts, after indent columns.
func LadderHead(l dhcp.Ladder, posts []int, indent int) string {
	called := PartyName
	for i := range posts {
		if i > 0 && posts[i]-posts[i-1] < 24 {
			called = shortName
		}
	}
	out := []rune(strings.Repeat(" ", indent+2))
	for i := range l.Parties {
		name := []rune(called(l, i))
		at := indent + 2 + posts[i]
		if i > 0 && i == len(l.Parties)-1 {
			at -= len(name) - 1
		} else if i > 0 {
			at -= len(name) / 2
		}
		for len(out) < at {
			out = append(out, ' ')
		}
		out = append(out[:min(at, len(out))], name...)
	}
	return string(out)
}

// RungLine draws one message between the posts: an arrow to the one it was sent to, a doubled one when it was sent to everybody.
func RungLine(l dhcp.Ladder, r dhcp.Rung, posts []int) string {
	line := make([]rune, posts[len(posts)-1]+1)
	for i := range line {
		line[i] = ' '
	}
	for _, p := range posts {
		line[p] = '│'
	}
	from, to := r.From, r.To
	if from < 0 || from >= len(posts) {
		from = len(posts) - 1
	}
	if to < 0 || to >= len(posts) {
		to = len(posts) - 1
	}
	a, b := posts[from], posts[to]
	if a == b {
		line[a] = '●'
		return string(line)
	}
	step, head := 1, '▸'
	if b < a {
		step, head = -1, '◂'
	}
	for c := a + step; c != b; c += step {
		line[c] = '─'
	}
	line[a] = '●'
	line[b-step] = head
	if r.All && b-2*step != a {
		line[b-2*step] = head
	}
	return string(line)
}
