package profile

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// MaxHops bounds the hops of a profile: a longer way is a mistake.
const MaxHops = 16

// Hop is one jump host or proxy on the way to a server, as its file has it: a
// table [[profile.NAME.hop]].
type Hop struct {
	Line    int // of its table
	Entries []Entry
}

// OwnValue returns what the hop sets itself for a key.
func (h *Hop) OwnValue(field *schema.Field) (Entry, bool) {
	for _, e := range h.Entries {
		if e.Field == field {
			return e, true
		}
	}
	return Entry{}, false
}

func (h *Hop) has(k string) bool {
	_, ok := h.OwnValue(schema.HopField(key.Name(k)))
	return ok
}

// newHop begins a hop at its table's line.
func (a *assembler) newHop(p *Profile, line int) error {
	if len(p.Hops) == MaxHops {
		return a.fail(line, "profile %q has more than %d hops", p.Name, MaxHops)
	}
	p.Hops = append(p.Hops, &Hop{Line: line})
	return nil
}

// setHop takes a key of the hop that is being read.
func (a *assembler) setHop(p *Profile, e *entry, k []string) error {
	h, number := p.Hops[len(p.Hops)-1], len(p.Hops)
	line, name := int(e.line), strings.Join(k, ".")
	f := schema.HopField(key.Name(name))
	switch {
	case f == nil:
		return a.fail(line, "profile %q: hop %d: %s", p.Name, number, schema.UnknownHopKey(name))
	case h.has(name):
		return a.fail(line, "profile %q: hop %d: %s is set twice", p.Name, number, name)
	}
	if why := typeProblem(f, e); why != "" {
		return a.fail(line, "profile %q: hop %d: %s: expected %s, found %s", p.Name, number, name, f.Expected, why)
	}
	if f.Kind == schema.Number && e.value.Kind == schema.Text {
		e.value.Kind = f.Kind
	}
	if why := f.Check(e.value); why != "" {
		return a.fail(line, "profile %q: hop %d: %s: %s", p.Name, number, name, why)
	}
	h.Entries = append(h.Entries, Entry{Field: f, Value: e.value, Line: line})
	return nil
}

// noHops takes `hop = []`: no hops, also where the profile that this one is like has some.
func (a *assembler) noHops(p *Profile, e *entry) error {
	if e.problem != "" || e.value.Kind != schema.List || len(e.value.Items) > 0 {
		return a.fail(int(e.line),
			"profile %q: hop: a hop is a table [[profile.%s.hop]]; hop = [] means no hops", p.Name,
			nameKey(p.Name))
	}
	p.direct = int(e.line)
	return nil
}

// checkHops refuses hops that say too little or contradict themselves.
func (f *File) checkHops() error {
	for _, p := range f.Profiles {
		for i, h := range p.Hops {
			if why := h.problem(); why != "" {
				return &FileError{f.Path, h.Line, fmt.Sprintf("profile %q: hop %d: %s", p.Name, i+1, why)}
			}
		}
	}
	return nil
}

// problem says what is wrong with a hop as a whole, or "".
func (h *Hop) problem() string {
	var kinds []string
	for _, k := range []string{"ssh", "host", "proxy"} {
		if h.has(k) {
			kinds = append(kinds, k)
		}
	}
	switch {
	case len(kinds) == 0:
		return "it needs host, ssh or proxy"
	case len(kinds) > 1:
		return fmt.Sprintf("%s and %s both say where it is; keep one", kinds[0], kinds[1])
	case kinds[0] != "proxy":
		return ""
	}
	for _, e := range h.Entries {
		if !slices.Contains([]key.Name{key.Proxy, key.User, key.Secret}, e.Field.Name) {
			return fmt.Sprintf("%s has no effect for a proxy, which has only proxy, user and secret", e.Field.Name)
		}
	}
	return ""
}

func (h *Hop) equal(o *Hop) bool {
	return slices.EqualFunc(h.sortedEntries(), o.sortedEntries(),
		func(a, b Entry) bool { return a.Field == b.Field && a.Value.Equal(b.Value) })
}

// sortedEntries are the entries in the usual order.
func (h *Hop) sortedEntries() []Entry {
	var all []Entry
	for i := range schema.HopFields() {
		if e, ok := h.OwnValue(&schema.HopFields()[i]); ok {
			all = append(all, e)
		}
	}
	return all
}

// hopsOf makes the hops that a command line or a copy gives, numbered from 1.
func hopsOf(sets []schema.Override) (hops []*Hop, direct int) {
	for _, s := range sets {
		switch {
		case s.Hop < 0:
			direct = 1
		case s.Hop > 0 && !s.Unset:
			for len(hops) < s.Hop {
				hops = append(hops, &Hop{})
			}
			h := hops[s.Hop-1]
			h.Entries = append(h.Entries, Entry{Field: s.Field, Value: s.Value})
		}
	}
	return hops, direct
}
