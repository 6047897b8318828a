package resolve

import (
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Hop is one hop with all that it takes from elsewhere.
type Hop struct {
	Number int // from 1, from here to the server
	r      *Profile
	from   *profile.Profile
	hop    *profile.Hop
}

// Hops are the hops on the way to the server, in order: the profile's own, or all
// of the nearest profile that it is like.
func (r *Profile) Hops() []Hop {
	for _, p := range r.chain {
		if p.NoHops() {
			return nil
		}
		if len(p.Hops) == 0 {
			continue
		}
		all := make([]Hop, len(p.Hops))
		for i, h := range p.Hops {
			all[i] = Hop{i + 1, r, p, h}
		}
		return all
	}
	return nil
}

// Line is the hop's place in its file.
func (h Hop) Line() int { return h.hop.Line }

// File is the file that the hop stands in.
func (h Hop) File() string { return h.from.File().Path }

// Profile is the name, as the user wrote it, of the profile that uses the hop.
func (h Hop) Profile() string { return h.r.Called }

// Owner is the name of the profile that the hop is written in: `set` changes the hop there.
func (h Hop) Owner() string {
	if h.from.InProject() && !h.r.Profile.InProject() {
		return syntax.ProjectPrefix + h.from.Name
	}
	if h.from == h.r.Profile {
		return h.r.Called
	}
	return h.from.Name
}

// Key is the full name of one of its keys, as set and -override take it.
func (h Hop) Key(name key.Name) string { return fmt.Sprintf("hop.%d.%s", h.Number, name) }

// Get returns the effective value of a key, without what an SSH client configuration says for it.
func (h Hop) Get(name key.Name) (Effective, bool) {
	e, ok := h.WrittenValue(name)
	if !ok {
		return h.byDefault(name)
	}
	h.r.finish(&e)
	return e, true
}

// WrittenValue is the value of a key as the hop's file or the command line has it: no variable is expanded.
func (h Hop) WrittenValue(name key.Name) (Effective, bool) {
	field := schema.HopField(name)
	for i := len(h.r.overrides) - 1; i >= 0; i-- {
		if o := h.r.overrides[i]; o.Field == field && o.Hop == h.Number {
			return Effective{Field: field, Value: o.Value, Origin: Origin{Kind: FromOverride}}, !o.Unset
		}
	}
	own, ok := h.hop.OwnValue(field)
	if !ok {
		return Effective{}, false
	}
	o := Origin{Kind: FromFile, File: h.from.File().Path, Line: own.Line}
	if h.from != h.r.Profile {
		o.Kind, o.Profile = FromLike, h.from.Name
	}
	return Effective{Field: field, Value: own.Value, Origin: o}, true
}

// byDefault is the value of a key that nothing sets. A hop that an SSH client configuration names has no default port
// or user here: they are from there.
func (h Hop) byDefault(name key.Name) (Effective, bool) {
	text, reason := "", ""
	_, alias := h.WrittenValue(key.SSH)
	_, proxy := h.WrittenValue(key.Proxy)
	switch {
	case alias || proxy:
	case name == "port":
		text, reason = "22", "SSH's usual port"
	case name == "user":
		if h.r.env.Lookup != nil && h.r.notVouched == nil {
			for _, name := range []string{"USER", "LOGNAME", "USERNAME"} {
				if user, ok := h.r.env.Lookup(name); ok && user != "" && text == "" {
					text, reason = user, "your own name here"
				}
			}
		}
	}
	if name == "agent" && !proxy {
		text, reason = "true", "a running SSH agent is asked"
	}
	if text == "" {
		return Effective{}, false
	}
	return Effective{
		Field:  schema.HopField(name),
		Value:  schema.Value{Kind: schema.HopField(name).Kind, Raw: text},
		Origin: Origin{Kind: FromEngine, Reason: reason},
	}, true
}

// Port is the hop's port, 0 where its SSH client configuration says it.
func (h Hop) Port() int {
	port, _ := strconv.Atoi(h.Text(key.Port)) // the schema has seen that it is a number
	return port
}

// Text is the effective value of a key as text, "" where there is none.
func (h Hop) Text(name key.Name) string {
	e, _ := h.Get(name)
	return e.Value.Text()
}

// Values lists the effective values, in the order of schema.HopFields.
func (h Hop) Values() []Effective {
	var all []Effective
	for i := range schema.HopFields() {
		if e, ok := h.Get(schema.HopFields()[i].Name); ok {
			all = append(all, e)
		}
	}
	return all
}

// Command is the program and the words of a source command:WORDS of the hop, nil
// for another source.
func (h Hop) Command(k key.Name) []string {
	e, _ := h.Get(k)
	source, ok := strings.CutPrefix(e.Value.Text(), "command:")
	if !ok {
		return nil
	}
	words := strings.Fields(source)
	if len(words) > 0 && strings.Contains(words[0], "/") {
		words[0] = syntax.WholePath(words[0], h.r.base(e.Origin), h.r.env.Home)
	}
	return words
}

// Project reports whether the profile has something from a project's file.
func (h Hop) Project() bool { return !h.r.Own() }

// PinnedFiles are the files' bytes that the profile was judged by.
func (h Hop) PinnedFiles() map[string][]byte { return h.r.pinned }

// BoundWord is the word of the hop with all else that a wallet's secret is bound to. A project's file may say which
// host key is right, allow older algorithms, or give a proxy its address. These decide who sees a secret, so such a
// hop differs from the user's own hop of the same word.
func (h Hop) BoundWord() string {
	word := h.Word()
	if !h.from.InProject() {
		return word
	}
	for _, f := range schema.HopFields() {
		if e, ok := h.WrittenValue(f.Name); ok && !f.NotBound && !f.InWord {
			word += fmt.Sprintf(" %s=%s", f.Name, strings.Join(e.Value.Words(), ","))
		}
	}
	if u, err := url.Parse(h.Text(key.Proxy)); err == nil && u.Host != "" {
		if given, ok := h.r.HostEntry(u.Hostname()); ok {
			word += " at " + given.List()
		}
	}
	return word
}

// BoundHops has the BoundWord of each hop, in order from here.
func (r *Profile) BoundHops() []string {
	var words []string
	for _, h := range r.Hops() {
		words = append(words, h.BoundWord())
	}
	return words
}

// Recheck judges the hop's profile once more; nil where nothing of it is a project's.
func (h Hop) Recheck() func() *finding.Finding { return h.r.Recheck() }

// Folder is the folder of the file that the hop stands in.
func (h Hop) Folder() string { return filepath.Dir(h.from.File().Path) }

// Word names the hop as written: ssh:ALIAS, a proxy's URL, or USER@HOST:PORT. A wallet's entry is bound to it.
func (h Hop) Word() string {
	if alias := h.Text(key.SSH); alias != "" {
		return "ssh:" + alias
	}
	if proxy := h.Text(key.Proxy); proxy != "" {
		return strings.TrimSuffix(proxy, "/")
	}
	return h.Text(key.User) + "@" + net.JoinHostPort(strings.ToLower(h.Text(key.Host)), h.Text(key.Port))
}

// HopWords are the words of all hops, in order from here.
func (r *Profile) HopWords() []string {
	var words []string
	for _, h := range r.Hops() {
		words = append(words, h.Word())
	}
	return words
}

// hopProblem is the first variable of a hop that is not set or does not fit, and
// a number on the command line that no hop has.
func (r *Profile) hopProblem() (where string, e Effective, err error) {
	for _, h := range r.Hops() {
		for i := range schema.HopFields() {
			e, ok := h.WrittenValue(schema.HopFields()[i].Name)
			if !ok || !schema.HopFields()[i].Expands {
				continue
			}
			if err := r.finish(&e); err != nil {
				return h.Key(schema.HopFields()[i].Name), e, err
			}
		}
	}
	return "", Effective{}, nil
}

// MissingHop is the number of a hop that an override names and the profile does
// not have, 0 for none.
func (r *Profile) MissingHop() int {
	for _, o := range r.overrides {
		if o.Hop > len(r.Hops()) {
			return o.Hop
		}
	}
	return 0
}
