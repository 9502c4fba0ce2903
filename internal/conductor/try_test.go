package conductor

import (
	"context"
	"fmt"
	"testing"
	"time"

	"passepartout/internal/core/target"
	"passepartout/internal/machine/simulated"
	"passepartout/internal/scenario"
)

func TestTry(t *testing.T) {
	s, _ := scenario.Load("healthy")
	s.Timeline = scenario.Timeline{Events: []scenario.Event{{From: scenario.Duration(8 * time.Second), For: scenario.Duration(10 * time.Second), Segment: "backbone", Loss: 100, Zone: "beyond"},
		{From: scenario.Duration(30 * time.Second), For: scenario.Duration(10 * time.Second), Unplug: "ticket-03/eth0", Zone: "host"}}}
	site, err := simulated.Build(s, simulated.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer site.Close()
	want, _ := target.Parse(s.Target)
	c := New(context.Background(), Config{Machine: site.Machine(), Target: want, Thorough: true})
	c.Start()
	was := ""
	for time.Since(site.Began) < 52*time.Second {
		<-c.News()
		st := c.State()
		v := st.Verdict
		now := fmt.Sprintf("%v %v %s [%s]", v.Standing, v.Result.Zone, v.Result.Fault, v.Because)
		if now != was {
			fmt.Printf("%6.2f %s (round %d %v)\n", time.Since(site.Began).Seconds(), now, st.Round.Number, v.Since.Sub(site.Began).Seconds())
			was = now
		}
	}
	c.Close()
	for _, p := range c.State().Past {
		fmt.Println(p.Title, p.From.Sub(site.Began), p.To.Sub(site.Began), p.Because)
	}
	for _, o := range c.State().Outages {
		fmt.Println(o.Zone, o.From.Sub(site.Began), o.To.Sub(site.Began), o.Evidence)
	}
}
