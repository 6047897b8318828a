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

// MeasureTrips notes the median time there and back: of the trips that were made anyway, and of a question where they
// were too few. The median of three forgives a hiccup.
func (f *Facts) MeasureTrips(trips []time.Duration, ask func() error) error {
	const least = 3
	for len(trips) < least {
		start := time.Now()
		if err := ask(); err != nil {
			return err
		}
		trips = append(trips, time.Since(start))
	}
	f.RoundTrip = Milliseconds(Median(trips))
	return nil
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

// Server says what answers, in a few words: "PostgreSQL 15.4, writable".
func (f *Facts) Server() string {
	product := f.Product
	if f.Version != "" {
		product = strings.TrimSpace(product + " " + f.Version)
	}
	return joinComma(product, f.Role, Either(f.Writable, "writable", "read-only"))
}

// Lines are the facts for a person, one kind a line: its name, and what is known of it, "" for nothing.
func (f *Facts) Lines() [][2]string {
	account := f.Account
	if account == "" {
		account = f.User
	}
	by := f.LoginMethod
	if by != "" {
		by = "by " + by
	}
	password := ""
	if f.SecretTaken {
		password = "from: " + f.SecretSource
	}
	clock, trip := "", ""
	if f.ClockDifference != nil {
		clock = fmt.Sprintf("clock %+d ms", int(math.Round(*f.ClockDifference)))
	}
	if f.RoundTrip != nil {
		trip = fmt.Sprintf("round trip %.2f ms", *f.RoundTrip)
	}
	return [][2]string{
		{"account", joinComma(account, f.Rights, by)},
		{"password", password},
		{"server", f.Server()},
		{"settings", joinComma(f.Settings...)},
		{"identity", f.ServerID},
		{"timing", joinComma(clock, trip)},
	}
}

// joinComma puts commas between parts, and leaves empty ones out.
func joinComma(parts ...string) string {
	return strings.Join(slices.DeleteFunc(slices.Clone(parts), func(s string) bool { return s == "" }), ", ")
}
