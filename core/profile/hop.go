package profile

import (
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/secret"
)

// MaxHops bounds the hops of a profile: a longer way is a mistake.
const MaxHops = 16

// Hop is one jump host or proxy on the way to a server, as its file has it: a
// table [[profile.NAME.hop]].
type Hop struct {
	Line    int // of its table
	Entries []Entry
}

// own returns what the hop sets itself for a key.
func (h *Hop) own(field *Field) (Entry, bool) {
	for _, e := range h.Entries {
		if e.Field == field {
			return e, true
		}
	}
	return Entry{}, false
}

func (h *Hop) has(key string) bool {
	_, ok := h.own(hopFieldByName[key])
	return ok
}

// OlderAlgorithms are those that a hop may ask for by name: none of them is used
// otherwise. Some are broken, and all are out of date (OpenSSH's release notes say
// since when each is off by default).
var OlderAlgorithms = []string{
	"diffie-hellman-group14-sha1", "diffie-hellman-group1-sha1", "diffie-hellman-group-exchange-sha1",
	"ssh-rsa", "ssh-dss", "aes128-cbc", "3des-cbc", "hmac-sha1", "hmac-sha1-96",
}

// hopFields lists every key of a hop in the order in which the tool writes and
// shows them.
var hopFields = []Field{
	{Name: "ssh", InWord: true, Expected: "the name of a host in your SSH client configuration",
		Summary: "take host, port, user, keys and more from that host of ~/.ssh/config", valid: validAlias},
	{Name: "host", InWord: true, Expected: "a host name or an IP address, without port or user",
		Summary: "the jump host", Expands: true, valid: validHost},
	{Name: "proxy", InWord: true, Expected: "socks5://HOST:PORT or http://HOST:PORT, without a user",
		Summary: "a SOCKS5 or HTTP CONNECT proxy in place of a jump host", valid: validProxy},
	{Name: "port", InWord: true, Kind: Number, Expected: "a number from 1 to 65535",
		Summary: "its SSH port; 22 where not set", Expands: true, valid: validPort},
	{Name: "user", InWord: true, Expected: "a name", Summary: "the account there; your own name where not set",
		Expands: true, valid: notEmpty},
	{Name: "key", NotBound: true, Private: true, Expected: "a path",
		Summary: "a private key file; the usual ones in ~/.ssh where not set", Path: true, valid: notEmpty},
	{Name: "key-secret", NotBound: true, Source: true, Expected: "a secret source: " + secret.HopForms,
		Summary: "where the key's passphrase is", valid: secret.ValidForHop},
	{Name: "agent", NotBound: true, Kind: Switch, Expected: "true or false",
		Summary: "offer the keys of the SSH agent too (default true)"},
	{Name: "secret", NotBound: true, Source: true, Expected: "a secret source: " + secret.HopForms,
		Summary: "where the account's password is", valid: secret.ValidForHop},
	{Name: "host-key", Expected: "a fingerprint such as SHA256:…, or a key such as ssh-ed25519 AAAA…",
		Summary: "the hop's own key: a fingerprint or a key line", valid: validHostKey},
	{Name: "algorithms", Kind: List, Expected: "older algorithms by name: " + strings.Join(OlderAlgorithms, ", "),
		Summary: "older algorithms to allow there, by name", valid: oneOf(OlderAlgorithms)},
}

var hopFieldByName = func() map[string]*Field {
	for i := range hopFields {
		hopFields[i].Hop = true
	}
	return indexed(hopFields)
}()

// HopFields returns the description of every key of a hop, in writing order.
func HopFields() []Field { return slices.Clone(hopFields) }

// HopField returns the description of a hop's key, or nil.
func HopField(name string) *Field { return hopFieldByName[name] }

// hopKey matches hop.NUMBER.KEY, as a command line names a hop's key. It and its like
// are made when they are wanted: most runs start without.
var hopKey = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^hop\.([1-9][0-9]?)\.([a-z-]+)$`) })

// ParseHopKey takes hop.NUMBER.KEY apart. ok is false for anything else, and field
// is nil for a key that no hop has.
func ParseHopKey(s string) (number int, field *Field, ok bool) {
	m := hopKey().FindStringSubmatch(s)
	if m == nil {
		return 0, nil, false
	}
	number, _ = strconv.Atoi(m[1])
	return number, hopFieldByName[m[2]], true
}

// UnknownHopKey says what a hop's key that is none was probably meant to be.
func UnknownHopKey(name string) string {
	if slices.Contains(passwordKeys, strings.ToLower(name)) {
		return "a password is never kept here; say where it is instead: secret (of the account) or key-secret (of the key)"
	}
	return unknownOf(name, "a hop", hopFields)
}

// unknownOf names the nearest key that a table has, or all of them.
func unknownOf(name, table string, fields []Field) string {
	names := namesOf(fields)
	text := "unknown key " + clean.Name(name)
	if near := nearest.Name(name, names); near != "" {
		return text + fmt.Sprintf("; did you mean %q?", near)
	}
	return text + "; " + table + " has " + strings.Join(names, ", ")
}

// validAlias accepts what may follow Host in an SSH client configuration and is
// one name: no pattern, and nothing that could be taken for an option.
func validAlias(s string) bool {
	return s != "" && len(s) <= 253 && !strings.HasPrefix(s, "-") && !strings.ContainsAny(s, " \t\"'*?!,;|&<>$`\\")
}

func validProxy(s string) bool {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "socks5" && u.Scheme != "http" || u.User != nil || u.RawQuery != "" ||
		u.Fragment != "" || u.Path != "" && u.Path != "/" {
		return false
	}
	host, port, err := net.SplitHostPort(u.Host)
	return err == nil && validHost(host) && validPort(port)
}

var (
	fingerprint = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^SHA256:[A-Za-z0-9+/]{43}=?$`) })
	keyLine     = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^(ssh|ecdsa|sk-ssh|sk-ecdsa)-[a-z0-9@.-]+ [A-Za-z0-9+/]{60,}={0,2}( .*)?$`)
	})
)

func validHostKey(s string) bool { return fingerprint().MatchString(s) || keyLine().MatchString(s) }

// newHop begins a hop at its table's line.
func (a *assembler) newHop(p *Profile, line int) error {
	if p.direct > 0 {
		return a.fail(line, "profile %q: hop = [] at line %d says that there are none", p.Name, p.direct)
	}
	if len(p.Hops) == MaxHops {
		return a.fail(line, "profile %q has more than %d hops", p.Name, MaxHops)
	}
	p.Hops = append(p.Hops, &Hop{Line: line})
	return nil
}

// setHop takes a key of the hop that is being read.
func (a *assembler) setHop(p *Profile, e *entry, key []string) error {
	h, number := p.Hops[len(p.Hops)-1], len(p.Hops)
	line, name := int(e.line), strings.Join(key, ".")
	f := hopFieldByName[name]
	switch {
	case f == nil:
		return a.fail(line, "profile %q: hop %d: %s", p.Name, number, UnknownHopKey(name))
	case h.has(name):
		return a.fail(line, "profile %q: hop %d: %s is set twice", p.Name, number, name)
	}
	if why := typeProblem(f, e); why != "" {
		return a.fail(line, "profile %q: hop %d: %s: expected %s, found %s", p.Name, number, name, f.Expected, why)
	}
	if f.Kind == Number && e.value.kind == Text {
		e.value.kind = f.Kind
	}
	if why := f.check(e.value); why != "" {
		return a.fail(line, "profile %q: hop %d: %s: %s", p.Name, number, name, why)
	}
	h.Entries = append(h.Entries, Entry{Field: f, Value: e.value, Line: line})
	return nil
}

// noHops takes `hop = []`, which says that there are none although the profile
// that this one is like has some.
func (a *assembler) noHops(p *Profile, e *entry) error {
	switch {
	case e.problem != "" || e.value.kind != List || len(e.value.list) > 0:
		return a.fail(int(e.line),
			"profile %q: hop: a hop is a table of its own, [[profile.%s.hop]]; hop = [] says that there is none", p.Name,
			nameKey(p.Name))
	case len(p.Hops) > 0:
		return a.fail(int(e.line), "profile %q: hop = [] says that there are none, and there is one at line %d", p.Name,
			p.Hops[0].Line)
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
	for _, key := range []string{"ssh", "host", "proxy"} {
		if h.has(key) {
			kinds = append(kinds, key)
		}
	}
	switch {
	case len(kinds) == 0:
		return "it needs host, ssh or proxy: where is it?"
	case len(kinds) > 1:
		return fmt.Sprintf("%s and %s both say where it is; keep one", kinds[0], kinds[1])
	case kinds[0] != "proxy":
		return ""
	}
	for _, e := range h.Entries {
		if !slices.Contains([]string{"proxy", "user", "secret"}, e.Field.Name) {
			return fmt.Sprintf("%s has no meaning for a proxy, which takes proxy, user and secret", e.Field.Name)
		}
	}
	return ""
}

func (h *Hop) equal(o *Hop) bool {
	return slices.EqualFunc(h.sorted(), o.sorted(),
		func(a, b Entry) bool { return a.Field == b.Field && a.Value.equal(b.Value) })
}

// sorted are the entries in the usual order.
func (h *Hop) sorted() []Entry {
	var all []Entry
	for i := range hopFields {
		if e, ok := h.own(&hopFields[i]); ok {
			all = append(all, e)
		}
	}
	return all
}

// hopsOf makes hops of what a command line or a copy says, numbered from 1.
func hopsOf(sets []Override) (hops []*Hop, direct int) {
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
