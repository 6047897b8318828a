package profile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/schema"
)

// SessionSettings are those of interactive sessions, from [session] and [session.ENGINE] of the user's file. The zero
// value sets nothing.
type SessionSettings struct {
	Clock, Stacked *bool
	Format         string // of results; package results has the words
	Keys           string // "emacs" or "vi"
	Rows           int    // of a result that are shown at once
	First          []string
	FirstOf        map[string][]string // by the engine's word, after First
}

// sessionKeys are the keys of [session].
var sessionKeys = []string{"clock", "stacked", "format", "keys", "rows", "first"}

// session takes a key of [session] or [session.ENGINE]; k is the key without "session".
func (a *assembler) session(e *entry, k []string) error {
	line := int(e.line)
	if a.Project || a.ForAlias {
		return a.fail(line, "session goes in your profiles.toml")
	}
	if len(k) == 0 {
		if e.problem == "an empty table" {
			return nil
		}
		return a.fail(line, "session is a table: [session]")
	}
	if len(k) == 2 && k[1] == "first" {
		if a.schema.Engines().ByWord(k[0]) == nil {
			return a.fail(line, "session.%s: no engine of that name; one of %s", clean.Line(k[0], 40),
				strings.Join(a.schema.Engines().Words(), ", "))
		}
		if a.Settings.Session.FirstOf == nil {
			a.Settings.Session.FirstOf = make(map[string][]string)
		}
		list, err := a.statements(e, strings.Join(k, "."))
		a.Settings.Session.FirstOf[k[0]] = list
		return err
	}
	return a.sessionKey(e, strings.Join(k, "."))
}

func (a *assembler) sessionKey(e *entry, name string) (err error) {
	s := &a.Settings.Session
	wrong := func(expected string) error {
		return a.fail(int(e.line), "session: %s: expected %s", name, expected)
	}
	switch name {
	case "clock", "stacked":
		if e.problem != "" || e.value.Kind != schema.Switch {
			return wrong("true or false")
		}
		on := e.value.Raw == "true"
		if name == "clock" {
			s.Clock = &on
		} else {
			s.Stacked = &on
		}
	case "format":
		if e.problem != "" || e.value.Kind != schema.Text {
			return wrong("a word such as \"table\"")
		}
		s.Format = e.value.Raw
	case "keys":
		if e.problem != "" || e.value.Kind != schema.Text || e.value.Raw != "emacs" && e.value.Raw != "vi" {
			return wrong("emacs or vi")
		}
		s.Keys = e.value.Raw
	case "rows":
		const most = 10_000
		n, err := strconv.Atoi(e.value.Raw)
		if e.problem != "" || e.value.Kind != schema.Number || err != nil || n < 1 || n > most {
			return wrong(fmt.Sprintf("a number from 1 to %d", most))
		}
		s.Rows = n
	case "first":
		s.First, err = a.statements(e, name)
		return err
	default:
		near := ""
		if n := nearest.Name(name, sessionKeys); n != "" {
			near = fmt.Sprintf("; did you mean %q?", n)
		}
		return a.fail(int(e.line), "session: unknown key %s%s", clean.Quote(name), near)
	}
	return nil
}

// statements reads a list of statements.
func (a *assembler) statements(e *entry, name string) ([]string, error) {
	if e.problem != "" || e.value.Kind != schema.List || slices.Contains(e.value.Items, "") {
		return nil, a.fail(int(e.line),
			`session: %s: expected a list of statements such as ["SET statement_timeout = '30s'"]`, name)
	}
	return e.value.Items, nil
}
