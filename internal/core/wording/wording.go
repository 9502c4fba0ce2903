// Package wording writes what a person reads: addresses in a row, times and lengths of time, numbers of things. Each in one way everywhere.
package wording

import (
	"fmt"
	"net/netip"
	"strings"
	"time"
)

// List writes addresses in a row, the first few of them.
func List(addrs []netip.Addr) string {
	const most = 6
	var parts []string
	for i, a := range addrs {
		if i == most {
			parts = append(parts, fmt.Sprintf("and %d more", len(addrs)-most))
			break
		}
		parts = append(parts, a.String())
	}
	return strings.Join(parts, ", ")
}

// Millis writes a time with a unit that fits it.
func Millis(d time.Duration) string {
	switch {
	case d > 0 && d < 100*time.Microsecond: // 0.00 ms would say that it took no time
		return fmt.Sprintf("%.0f µs", max(float64(d)/1e3, 1))
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", float64(d)/1e6)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// Plural writes how many of a thing there are.
func Plural(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// Times writes how often something was done.
func Times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// Days writes a long time in a unit that fits it.
func Days(d time.Duration) string {
	switch {
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f hours", d.Hours())
	case d < 730*24*time.Hour:
		return fmt.Sprintf("%.0f days", d.Hours()/24)
	}
	return fmt.Sprintf("%.1f years", d.Hours()/24/365.25)
}

// Lasting writes a length of time in whole seconds, or tenths of short ones.
func Lasting(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// Clock writes a time of day, to the second, in the zone that the time is in.
func Clock(at time.Time) string { return at.Format(time.TimeOnly) }
