package profile

import (
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"strings"

	"gentleharbor/core/finding"
)

// EffectiveHop is one hop with everything that it takes from elsewhere.
type EffectiveHop struct {
	Number int // from 1, from here to the server
	r      *Resolved
	from   *Profile
	hop    *Hop
}

// Hops are the hops on the way to the server, in order: the profile's own, or all
// of the nearest profile that it is like.
func (r *Resolved) Hops() []EffectiveHop {
	for _, p := range r.chain {
		if p.direct > 0 {
			return nil
		}
		if len(p.Hops) == 0 {
			continue
		}
		all := make([]EffectiveHop, len(p.Hops))
		for i, h := range p.Hops {
			all[i] = EffectiveHop{i + 1, r, p, h}
		}
		return all
	}
	return nil
}

// Line is the hop's place in its file.
func (h EffectiveHop) Line() int { return h.hop.Line }

// File is the file that the hop stands in.
func (h EffectiveHop) File() string { return h.from.in.Path }

// Profile is the name by which the profile that has the hop is meant.
func (h EffectiveHop) Profile() string { return h.r.Called }

// Owner is the name by which the profile is changed that the hop stands in.
func (h EffectiveHop) Owner() string {
	if h.from.InProject() && !h.r.Profile.InProject() {
		return ProjectPrefix + h.from.Name
	}
	if h.from == h.r.Profile {
		return h.r.Called
	}
	return h.from.Name
}

// Key is the full name of one of its keys, as set and -override take it.
func (h EffectiveHop) Key(key string) string { return fmt.Sprintf("hop.%d.%s", h.Number, key) }

// Get returns the effective value of a key. What an SSH client configuration says
// for it is not known here.
func (h EffectiveHop) Get(key string) (Effective, bool) {
	e, ok := h.Written(key)
	if !ok {
		return h.byDefault(key)
	}
	h.r.finish(&e)
	return e, true
}

// Written is what the hop's file or the command line says for a key; nothing is
// expanded.
func (h EffectiveHop) Written(key string) (Effective, bool) {
	field := hopFieldByName[key]
	for i := len(h.r.overrides) - 1; i >= 0; i-- {
		if o := h.r.overrides[i]; o.Field == field && o.Hop == h.Number {
			return Effective{Field: field, Value: o.Value, Origin: Origin{Kind: FromOverride}}, !o.Unset
		}
	}
	own, ok := h.hop.own(field)
	if !ok {
		return Effective{}, false
	}
	o := Origin{Kind: FromFile, File: h.from.in.Path, Line: own.Line}
	if h.from != h.r.Profile {
		o.Kind, o.Profile = FromLike, h.from.Name
	}
	return Effective{Field: field, Value: own.Value, Origin: o}, true
}

// byDefault is what holds where nothing was said. Where the hop is named by an
// SSH client configuration, the port and the user are its business.
func (h EffectiveHop) byDefault(key string) (Effective, bool) {
	text, reason := "", ""
	_, alias := h.Written("ssh")
	_, proxy := h.Written("proxy")
	switch {
	case alias || proxy:
	case key == "port":
		text, reason = "22", "SSH's usual port"
	case key == "user":
		if h.r.env.Lookup != nil && h.r.notVouched == nil {
			for _, name := range []string{"USER", "LOGNAME", "USERNAME"} {
				if user, ok := h.r.env.Lookup(name); ok && user != "" && text == "" {
					text, reason = user, "your own name here"
				}
			}
		}
	}
	if key == "agent" && !proxy {
		text, reason = "true", "a running SSH agent is asked"
	}
	if text == "" {
		return Effective{}, false
	}
	return Effective{
		Field:  hopFieldByName[key],
		Value:  Value{kind: hopFieldByName[key].Kind, text: text},
		Origin: Origin{Kind: FromEngine, Reason: reason},
	}, true
}

// Text is the effective value of a key as text, "" where there is none.
func (h EffectiveHop) Text(key string) string {
	e, _ := h.Get(key)
	return e.Value.Text()
}

// Values lists the effective values, in the order of HopFields.
func (h EffectiveHop) Values() []Effective {
	var all []Effective
	for i := range hopFields {
		if e, ok := h.Get(hopFields[i].Name); ok {
			all = append(all, e)
		}
	}
	return all
}

// Command is the program and the words of a source command:WORDS of the hop, nil
// for another source.
func (h EffectiveHop) Command(key string) []string {
	e, _ := h.Get(key)
	source, ok := strings.CutPrefix(e.Value.Text(), "command:")
	if !ok {
		return nil
	}
	words := strings.Fields(source)
	if len(words) > 0 && strings.Contains(words[0], "/") {
		words[0] = wholePath(words[0], h.r.base(e.Origin), h.r.env.Home)
	}
	return words
}

// Project reports whether the profile has something from a project's file.
func (h EffectiveHop) Project() bool { return !h.r.Own() }

// Pinned are the files' bytes that the profile was judged by.
func (h EffectiveHop) Pinned() map[string][]byte { return h.r.pinned }

// BoundWord is the word of the hop with all else that a wallet's secret is bound to. A hop of a
// project's file is another one than the user's of the same word where that file says which
// host key is right, allows older algorithms, or gives a proxy its address: those decide who
// sees a secret.
func (h EffectiveHop) BoundWord() string {
	word := h.Word()
	if !h.from.InProject() {
		return word
	}
	for _, f := range hopFields {
		if e, ok := h.Written(f.Name); ok && !f.NotBound && !f.InWord {
			word += fmt.Sprintf(" %s=%s", f.Name, strings.Join(e.Value.Words(), ","))
		}
	}
	if u, err := url.Parse(h.Text("proxy")); err == nil && u.Host != "" {
		if given, ok := h.r.Given(u.Hostname()); ok {
			word += " at " + given.List()
		}
	}
	return word
}

// BoundHops are the BoundWords of all hops, in order from here.
func (r *Resolved) BoundHops() []string {
	var words []string
	for _, h := range r.Hops() {
		words = append(words, h.BoundWord())
	}
	return words
}

// Recheck judges the hop's profile once more; nil where nothing of it is a project's.
func (h EffectiveHop) Recheck() func() *finding.Finding { return h.r.Recheck() }

// Folder is the folder of the file that the hop stands in.
func (h EffectiveHop) Folder() string { return filepath.Dir(h.from.in.Path) }

// Word names the hop as written: ssh:ALIAS, a proxy's URL, or USER@HOST:PORT. It
// is what a wallet's entry is bound to.
func (h EffectiveHop) Word() string {
	if alias := h.Text("ssh"); alias != "" {
		return "ssh:" + alias
	}
	if proxy := h.Text("proxy"); proxy != "" {
		return strings.TrimSuffix(proxy, "/")
	}
	return h.Text("user") + "@" + net.JoinHostPort(strings.ToLower(h.Text("host")), h.Text("port"))
}

// HopWords are the words of all hops, in order from here.
func (r *Resolved) HopWords() []string {
	var words []string
	for _, h := range r.Hops() {
		words = append(words, h.Word())
	}
	return words
}

// hopProblem is the first variable of a hop that is not set or does not fit, and
// a number on the command line that no hop has.
func (r *Resolved) hopProblem() (where string, e Effective, err error) {
	for _, h := range r.Hops() {
		for i := range hopFields {
			e, ok := h.Written(hopFields[i].Name)
			if !ok || !hopFields[i].Expands {
				continue
			}
			if err := r.finish(&e); err != nil {
				return h.Key(hopFields[i].Name), e, err
			}
		}
	}
	return "", Effective{}, nil
}

// MissingHop is the number of a hop that an override names and the profile does
// not have, 0 for none.
func (r *Resolved) MissingHop() int {
	for _, o := range r.overrides {
		if o.Hop > len(r.Hops()) {
			return o.Hop
		}
	}
	return 0
}
