package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"passepartout/internal/core/evidence"
	"passepartout/internal/probe"
	"passepartout/internal/report"
)

// askServers puts the DHCP question on the segment, collects every offer for a time and prints them beside what this machine holds.
func (f *flags) askServers(cmd *cobra.Command, wait time.Duration) error {
	if wait < 100*time.Millisecond || wait > time.Minute {
		return fmt.Errorf("--wait %v: give 100ms to 1m", wait)
	}
	m, e, iface, stop, err := f.standing(cmd.Context())
	if err != nil {
		return err
	}
	defer stop()
	if err := askable(e, iface); err != nil {
		return err
	}
	segment, err := probe.OpenSegment(m, iface, e.Owns, func(evidence.Heard) {}, nil)
	if errors.Is(err, fs.ErrPermission) {
		return needsFrames(m)
	}
	if err != nil {
		return err
	}
	defer segment.Close()
	ctx, cancel := context.WithTimeout(cmd.Context(), wait)
	defer cancel()
	i, _ := e.Interface(iface)
	q := probe.DHCPQuestion{Interface: iface, At: []time.Duration{0, wait / 4, wait / 2}}
	if own := i.Usable(false); len(own) > 0 {
		q.Held = own[0].Prefix.Addr()
	}
	asked := report.Asked{Endpoint: e, Interface: iface, At: time.Now()}
	var wg sync.WaitGroup
	var mu sync.Mutex
	if own, ok := i.LinkLocal(); ok {
		wg.Go(func() {
			segment.Solicit(ctx, own, func(r evidence.Advertisement) { mu.Lock(); asked.Routers6 = append(asked.Routers6, r); mu.Unlock() },
				func(r evidence.Information) { mu.Lock(); asked.Informed6 = append(asked.Informed6, r); mu.Unlock() })
		})
	}
	asked.Discovery = segment.Discover(ctx, q)
	wg.Wait()
	mu.Lock()
	defer mu.Unlock()
	if f.format == "json" {
		err = asked.WriteJSON(stdout)
	} else {
		err = asked.WriteText(stdout)
	}
	if err == nil && len(asked.Discovery.Offers) == 0 {
		return status(exitFault)
	}
	return err
}
