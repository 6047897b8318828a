package engine

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Milliseconds is a duration as a fact: with three decimals.
func Milliseconds(d time.Duration) *float64 {
	ms := math.Round(float64(d.Nanoseconds())/1e3) / 1e3
	return &ms
}

// Median is the middle one of some durations, of which there is at least one.
func Median(all []time.Duration) time.Duration {
	slices.Sort(all)
	return all[len(all)/2]
}

// Either is one of two words by a fact, "" where it is not known.
func Either(known *bool, yes, no string) string {
	switch {
	case known == nil:
		return ""
	case *known:
		return yes
	}
	return no
}

// Summary joins the parts of a session's line: what an engine puts in front,
// the clock and the round trip, and the server's id. Empty parts are left out.
func (f *Facts) Summary(parts ...string) string {
	if f.ClockDifference != nil {
		parts = append(parts, fmt.Sprintf("clock %+d ms", int(math.Round(*f.ClockDifference))))
	}
	if f.RoundTrip != nil {
		parts = append(parts, fmt.Sprintf("round trip %.2f ms", *f.RoundTrip))
	}
	if f.ServerID != "" {
		parts = append(parts, "server "+f.ServerID)
	}
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}
