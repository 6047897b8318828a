package catalogue

import (
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
)

// Pattern chooses things by their names: NAME, SCHEMA.NAME, with * for any characters. A name in the engine's quotes
// is exact. A name without * is first compared exactly, then without regard to capital letters.
type Pattern struct {
	text         string
	schema, name part
	hasSchema    bool
}

// part is a name of a pattern.
type part struct {
	text   string
	quoted bool
}

// NewPattern reads a pattern for a kind.
func NewPattern(text string, kind *Kind, by *engine.Statements) Pattern {
	p := Pattern{text: text}
	quote := by.Quote("")[0]
	if before, after, dotted := engine.CutName(text, quote); dotted && kind.Schema {
		p.schema, p.name, p.hasSchema = unquotePart(before, quote), unquotePart(after, quote), true
	} else {
		p.name = part{text: text}
		if kind.Columns[kind.Pattern].Is == Name {
			p.name = unquotePart(text, quote)
		}
	}
	return p
}

func unquotePart(s string, quote byte) part {
	name, was := engine.Unquote(s, quote)
	return part{name, was}
}

// Exact is the name where the pattern has no *, and so means one thing.
func (p Pattern) Exact() (name string, exact bool) {
	return p.name.text, p.name.text != "" && (p.name.quoted || !strings.Contains(p.name.text, "*"))
}

// Choose returns the rows that fit the pattern, or all without one. It includes the system's own where system is
// true, or where the pattern names one.
func (p Pattern) Choose(kind *Kind, rows []Row, system bool) []Row {
	choose := func(same func(part, string) bool, system bool) (chosen []Row) {
		for _, row := range rows {
			if row.System && !system || p.hasSchema && !same(p.schema, row.Text(kind.Pattern-1)) {
				continue
			}
			if p.text == "" || same(p.name, row.Text(kind.Pattern)) {
				chosen = append(chosen, row)
			}
		}
		return chosen
	}
	if _, exact := p.Exact(); !exact {
		return choose(matches, system)
	}
	exactly := func(p part, name string) bool { return p.text == name || !p.quoted && matchesAccount(p.text, name) }
	for _, same := range []func(part, string) bool{exactly, matches} {
		for _, system := range []bool{system, true} {
			if chosen := choose(same, system); len(chosen) > 0 {
				return chosen
			}
		}
	}
	return nil
}

// matchesAccount reports whether a pattern is the name of an account, without its host.
func matchesAccount(text, name string) bool {
	user, host, found := strings.Cut(name, "@")
	return found && (strings.Trim(user, "'`") == text || strings.Trim(user, "'`")+"@"+strings.Trim(host, "'`") == text)
}

// matches compares without regard to capital letters, with * for any characters.
func matches(p part, name string) bool {
	if p.quoted {
		return p.text == name
	}
	return glob(strings.ToLower(p.text), strings.ToLower(name))
}

// glob reports whether a name matches a pattern in which * stands for any characters.
func glob(pattern, name string) bool {
	first, rest, star := strings.Cut(pattern, "*")
	if !star {
		return pattern == name
	}
	if !strings.HasPrefix(name, first) {
		return false
	}
	name = name[len(first):]
	for {
		part, after, more := strings.Cut(rest, "*")
		if !more {
			return strings.HasSuffix(name, part)
		}
		at := strings.Index(name, part)
		if at < 0 {
			return false
		}
		name, rest = name[at+len(part):], after
	}
}

// Missing is a name that no thing has.
type Missing struct {
	Near    []string // names that are like it, as they must be typed
	Schemas []string // other schemas that have a thing of that name
}

// Missing returns names that are similar to a pattern which chose nothing. rows are all of the kind.
func (p Pattern) Missing(kind *Kind, rows []Row, by *engine.Statements) Missing {
	var m Missing
	name, exact := p.Exact()
	if !exact {
		return m
	}
	typed := make(map[string]string)
	var names []string
	for _, row := range rows {
		full := row.Text(kind.Pattern)
		if p.hasSchema && matches(part{text: name}, full) {
			m.Schemas = append(m.Schemas, by.Name(row.Text(kind.Pattern-1)))
		}
		if !row.System {
			names = append(names, full)
			typed[full] = full
			if kind.Columns[kind.Pattern].Is == Name {
				typed[full] = by.Name(full)
			}
		}
	}
	slices.Sort(names)
	for _, n := range nearest.Names(name, slices.Compact(names), 3) {
		m.Near = append(m.Near, typed[n])
	}
	slices.Sort(m.Schemas)
	m.Schemas = slices.Compact(m.Schemas)
	return m
}
