package tui

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
)

// sentencesOnScreen are what a person reads there: verdicts, advice, questions, what checks mean, the faults' titles, what keys do and what
// marks mean.
func sentencesOnScreen(t *testing.T) []string {
	all := map[string]bool{}
	add := func(texts ...string) {
		for _, text := range texts {
			if len(strings.Fields(text)) >= 4 {
				all[text] = true
			}
		}
	}
	for _, change := range []func(*evidence.Set){nil, GatewayGone, NoAddress, Cut, Isolated, WithoutFrames, Unserved, NobodyOffers,
		func(s *evidence.Set) { Unnamed(s, Unanswered) }} {
		m := showing(t, 142, 44, change)
		add(m.result.Sentence)
		add(m.result.Next...)
		for _, q := range m.result.Questions {
			add(q.Text)
		}
		for _, r := range m.result.Remarks {
			add(r.Sentence)
		}
		for _, c := range m.result.Checks {
			add(c.Means, c.Asked)
			add(c.Mend...)
		}
	}
	for _, f := range fault.Catalogue {
		add(f.Title())
	}
	for _, v := range views {
		for _, d := range v.deeds {
			add(d.does)
		}
		for _, mark := range v.marks {
			add(mark[1])
		}
	}
	out := make([]string, 0, len(all))
	for s := range all {
		out = append(out, s)
	}
	return out
}

// drawnFor is how many sentences the cold reader reads.
const drawnFor = 40

// ownWords are of this program alone: nobody who has never seen it knows them.
var ownWords = regexp.MustCompile(`(?i)\b(strand|witness|witnesses|ledger|conductor|step|observation|scenario|oracle|ground truth|refuted)\b`)

// A technician who has never seen the program reads forty sentences, drawn by a fixed seed: each stands in docs/words.md in other words,
// and none needs the program's own vocabulary.
func TestAColdReaderUnderstands(t *testing.T) {
	const seed = "2026"
	rank := func(s string) string {
		sum := sha256.Sum256([]byte(seed + s))
		return hex.EncodeToString(sum[:])
	}
	list := sentencesOnScreen(t)
	require.Greater(t, len(list), 3*drawnFor, "there is something to draw from")
	slices.SortFunc(list, func(a, b string) int { return strings.Compare(rank(a), rank(b)) })
	list = list[:drawnFor]
	slices.Sort(list)
	const file = "../../docs/words.md"
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	head, _, ok := strings.Cut(string(raw), "\n| sentence |")
	require.True(t, ok)
	meant := map[string]string{}
	for line := range strings.Lines(string(raw)) {
		if cells := strings.Split(strings.TrimSpace(line), " | "); len(cells) == 2 && strings.HasPrefix(line, "| ") {
			meant[strings.TrimPrefix(cells[0], "| ")] = strings.TrimSuffix(strings.TrimSuffix(cells[1], "|"), " ")
		}
	}
	escaped := func(s string) string { return strings.ReplaceAll(s, "|", `\|`) }
	if *update {
		var b strings.Builder
		b.WriteString(head + "\n| sentence | in other words |\n|---|---|\n")
		for _, s := range list {
			fmt.Fprintf(&b, "| %s | %s |\n", escaped(s), meant[escaped(s)])
		}
		require.NoError(t, os.WriteFile(file, []byte(b.String()), 0o644))
	}
	for _, s := range list {
		assert.NotEmpty(t, meant[escaped(s)], "%q has no meaning in other words in docs/words.md (-update writes its row)", s)
		assert.NotEqual(t, s, meant[escaped(s)])
		assert.NotRegexp(t, ownWords, s)
	}
}
