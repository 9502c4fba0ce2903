package verdict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"passepartout/internal/core/endpoint"
	"passepartout/internal/core/evidence"
	. "passepartout/internal/core/evidence/evidencetest"
	"passepartout/internal/core/fault"
	"passepartout/internal/core/verdict"
	"passepartout/internal/core/zone"
)

func said(t *testing.T, texts ...string) (out []evidence.Answer) {
	for _, text := range texts {
		s, err := verdict.ParseSaid(text)
		require.NoError(t, err)
		out = append(out, s)
	}
	return out
}

func TestQuestions(t *testing.T) {
	mute := func(s *evidence.Set) { Isolated(s); WithoutFrames(s) }
	unforwarded := func(s *evidence.Set) {
		GatewayGone(s)
		s.Neighbours[0] = evidence.Neighbour{Asked: Gateway, Method: "arp", Asks: 1, Reply: Answer(Gateway, 0.4)}
		WithoutFrames(s)
	}
	for _, c := range []struct {
		name   string
		change func(*evidence.Set)
		said   []string
		zone   zone.Zone
		fault  fault.ID
		asks   string // the first question that is put, if any
	}{
		{name: "healthy asks nothing", zone: zone.None},
		{name: "certain asks nothing", change: GatewayGone, zone: zone.LocalSubnet, fault: "gateway-silent"},
		{name: "nobody answers, and nobody can be heard", change: mute, zone: zone.Undetermined, asks: "address-for-here"},
		{name: "it works in another socket", change: mute, said: []string{"machine-elsewhere=works"}, zone: zone.LocalSubnet,
			fault: "segment-isolated"},
		{name: "it fails elsewhere too", change: mute, said: []string{"machine-elsewhere=fails", "another-machine-here=works"},
			zone: zone.Host},
		{name: "the address is another place's", change: mute, said: []string{"address-for-here=another-place"}, zone: zone.Host,
			fault: "wrong-network"},
		{name: "the switch's port is in another network", change: mute, said: []string{"switch-port=wrong"}, zone: zone.LocalSubnet,
			fault: "segment-isolated"},
		{name: "the gateway or the own filter", change: unforwarded, zone: zone.Undetermined, asks: "others-affected"},
		{name: "without the filter it works", change: unforwarded, said: []string{"own-filter=reached"}, zone: zone.Host,
			fault: "host-firewall"},
		{name: "others reach it", change: unforwarded, said: []string{"others-affected=they-do"}, zone: zone.Host},
		{name: "others do not either", change: unforwarded, said: []string{"others-affected=none-does"}, zone: zone.Undetermined},
		{name: "what was confirmed stands against what was said", change: GatewayGone, said: []string{"others-affected=they-do"},
			zone: zone.LocalSubnet, fault: "gateway-silent"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := Healthy()
			if c.change != nil {
				c.change(s)
			}
			s.Answers = said(t, c.said...)
			r := verdict.Judge(s)
			assert.Equal(t, c.zone, r.Zone, r.Sentence)
			assert.Equal(t, c.fault, r.Fault, r.Sentence)
			if c.asks == "" {
				return
			}
			if assert.NotEmpty(t, r.Questions) {
				assert.Equal(t, c.asks, r.Questions[0].ID)
			}
			for _, q := range r.Questions {
				for _, a := range q.Answers {
					for _, id := range a.Clears {
						assert.NotEqual(t, "cleared", standing(r, id), "%s=%s clears %s, which is cleared already", q.ID, a.ID, id)
					}
				}
			}
		})
	}
}

// An answer is evidence like any other: it stands with the suspect that it speaks for or against, and a question that was answered is not
// put again.
func TestAnswersAreEvidence(t *testing.T) {
	s := Healthy()
	Isolated(s)
	WithoutFrames(s)
	s.Answers = said(t, "address-for-here=another-place")
	r := verdict.Judge(s)
	x, _ := r.Suspect("wrong-network")
	assert.Contains(t, x.For[len(x.For)-1], "another place's")
	x, _ = r.Suspect("segment-isolated")
	assert.Equal(t, fault.Cleared, x.Standing)
	assert.Contains(t, x.Against[len(x.Against)-1], "one of this place's network")
	for _, q := range r.Questions {
		assert.NotEqual(t, "address-for-here", q.ID)
	}
	s.Open = []evidence.Kind{evidence.PathTrace}
	assert.Empty(t, verdict.Judge(s).Questions, "while more may come a person is not troubled")
}

func TestEveryQuestionNamesKnownFaults(t *testing.T) {
	known := map[fault.ID]bool{}
	for _, f := range fault.Catalogue {
		known[f.ID] = true
	}
	for _, q := range verdict.Questions {
		assert.GreaterOrEqual(t, len(q.Answers), 2, q.ID)
		for _, a := range q.Answers {
			assert.NotEmpty(t, append(a.Clears, a.Points...), "%s=%s changes nothing", q.ID, a.ID)
			for _, id := range append(a.Clears, a.Points...) {
				assert.True(t, known[id], "%s=%s: %s", q.ID, a.ID, id)
			}
		}
	}
	for text, want := range map[string]string{"": "the questions are", "nonsense=yes": "the questions are",
		"others-affected": "others-affected=they-do", "others-affected=maybe": "others-affected=none-does"} {
		_, err := verdict.ParseSaid(text)
		assert.ErrorContains(t, err, want, text)
	}
}

func TestTunnelIsAskedForOnlyWhereThereIsOne(t *testing.T) {
	s := Healthy()
	Beside(s, "tun0", endpoint.Tunnel, 50, Silence())
	WithoutFrames(s)
	var ids []string
	for _, q := range verdict.Judge(s).Questions {
		ids = append(ids, q.ID)
	}
	assert.Contains(t, ids, "tunnel-down")
}

func standing(r verdict.Result, id fault.ID) string {
	s, _ := r.Suspect(id)
	return s.Standing.String()
}
