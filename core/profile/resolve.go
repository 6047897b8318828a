package profile

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/finding"
)

// OriginKind says what kind of place an effective value came from.
type OriginKind string

// The origins of this version.
const (
	FromOverride OriginKind = "override" // -override on the command line
	FromFile     OriginKind = "file"     // the profile itself
	FromLike     OriginKind = "like"     // a profile that it is like
	FromEngine   OriginKind = "default"  // the engine's default, or the tool's
)

// Origin is where an effective value came from.
type Origin struct {
	Kind    OriginKind `json:"kind"`
	File    string     `json:"file,omitempty"`
	Line    int        `json:"line,omitempty"`
	Profile string     `json:"profile,omitempty"` // the profile named by like
	Reason  string     `json:"reason,omitempty"`  // why a default is what it is
}

// String is the origin as `show` prints it; home shortens the file's path.
func (o Origin) String() string {
	switch o.Kind {
	case FromOverride:
		return "-override"
	case FromFile:
		return fmt.Sprintf("%s:%d", filepath.Base(o.File), o.Line)
	case FromLike:
		return fmt.Sprintf("like %s, %s:%d", o.Profile, filepath.Base(o.File), o.Line)
	}
	return "default: " + o.Reason
}

// Effective is one value that a test would use.
type Effective struct {
	Field    *Field
	Value    Value  // after ${NAME} and relative paths
	Template string // as written, where it has a variable; else ""
	Origin   Origin
}

// Shown is the value for a screen: the template, followed by what it comes to
// unless a variable's name looks secret.
func (e Effective) Shown() string {
	if e.Template == "" {
		return e.Value.Text()
	}
	if !showable(e.Template) {
		return e.Template
	}
	return e.Template + " = " + e.Value.Text()
}

// Override is a key=value of the command line.
type Override struct {
	Field *Field
	Value Value
	Unset bool // `key=`: as if neither the profile nor its likes had it
}

// Resolved is a profile with everything that it takes from elsewhere.
type Resolved struct {
	Profile *Profile
	Values  []Effective // in the order of Fields
	Problem *finding.Finding
}

// Environment is what resolving takes from the machine.
type Environment struct {
	Lookup func(name string) (string, bool) // environment variables
	Home   string                           // the user's home folder, for "~"
}

// Resolve finds the effective values of p, which must be a profile of f. A
// variable that is not set, or whose value does not fit, ends in Problem: the
// other values are there all the same, so that `show` can show them.
func (f *File) Resolve(p *Profile, overrides []Override, env Environment) *Resolved {
	r := &Resolved{Profile: p}
	chain := f.chain(p, overrides)
	address := addressKind(p, overrides, chain)
	for i := range fields {
		field := &fields[i]
		if isAddress(field.Name) && field.Name != address {
			continue
		}
		e, ok := f.lookUp(field, p, overrides, chain)
		if !ok {
			continue
		}
		r.finish(&e, f, env)
		r.Values = append(r.Values, e)
	}
	r.defaults()
	return r
}

// chain is p followed by the profiles that it is like. An overridden `like`
// is another chain.
func (f *File) chain(p *Profile, overrides []Override) []*Profile {
	chain := []*Profile{p}
	like := p.Text("like")
	for _, o := range overrides {
		if o.Field.Name == "like" {
			like = o.Value.Text()
		}
	}
	for next := f.byName[like]; next != nil && len(chain) <= len(f.Profiles); next = f.byName[next.Text("like")] {
		chain = append(chain, next)
	}
	return chain
}

// addressKind is the address key of the first place that has one: a profile
// that says socket is not at the host of the profile that it is like.
func addressKind(_ *Profile, overrides []Override, chain []*Profile) string {
	for _, o := range overrides {
		if isAddress(o.Field.Name) && !o.Unset {
			return o.Field.Name
		}
	}
	for _, p := range chain {
		for _, e := range p.Entries {
			if isAddress(e.Field.Name) && !unset(e.Field, overrides) {
				return e.Field.Name
			}
		}
	}
	return ""
}

func unset(field *Field, overrides []Override) bool {
	for _, o := range overrides {
		if o.Field == field && o.Unset {
			return true
		}
	}
	return false
}

func (f *File) lookUp(field *Field, p *Profile, overrides []Override, chain []*Profile) (Effective, bool) {
	if unset(field, overrides) {
		return Effective{}, false
	}
	for i := len(overrides) - 1; i >= 0; i-- {
		if o := overrides[i]; o.Field == field {
			return Effective{Field: field, Value: o.Value, Origin: Origin{Kind: FromOverride}}, true
		}
	}
	if field.Name == "like" {
		chain = chain[:1]
	}
	for _, from := range chain {
		if own, ok := from.Own(field.Name); ok {
			o := Origin{Kind: FromFile, File: f.Path, Line: own.Line}
			if from != p {
				o.Kind, o.Profile = FromLike, from.Name
			}
			return Effective{Field: field, Value: own.Value, Origin: o}, true
		}
	}
	return Effective{}, false
}

// finish expands variables and makes paths whole.
func (r *Resolved) finish(e *Effective, f *File, env Environment) {
	field := e.Field
	if field.Expands && strings.Contains(e.Value.text, "$") {
		e.Template = e.Value.text
		text, err := expand(e.Value.text, env.Lookup)
		if err == nil && (!field.valid(text) || hasControl(text)) {
			err = fmt.Errorf("expected %s once its variables have values", field.Expected)
		}
		if err != nil {
			if r.Problem == nil {
				r.Problem = finding.New("profile.variable", "%s: %v", field.Name, err).
					Saw("%s is %q, from %s", field.Name, e.Template, e.Origin).
					Suggest("gharbor show %s", r.Profile.Name)
			}
			return
		}
		e.Value.text = text
	}
	base := filepath.Dir(f.Path)
	if e.Origin.Kind == FromOverride {
		base = ""
	}
	if field.Path {
		e.Value.text = WholePath(e.Value.text, base, env.Home)
	}
	if field.Name == "secret" {
		if kind, path, ok := strings.Cut(e.Value.text, ":"); ok && (kind == "file" || kind == "passfile") {
			e.Value.text = kind + ":" + WholePath(path, base, env.Home)
		}
	}
}

// WholePath makes path absolute: "~/" is home, a relative one belongs to base
// ("" is the working folder).
func WholePath(path, base, home string) string {
	if path == "~" {
		return home
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(home, rest)
	}
	if filepath.IsAbs(path) || path == "" {
		return path
	}
	if base == "" {
		if wd, err := os.Getwd(); err == nil {
			base = wd
		}
	}
	return filepath.Join(base, path)
}

// Get returns the effective value of a key.
func (r *Resolved) Get(key string) (Effective, bool) {
	for _, e := range r.Values {
		if e.Field.Name == key {
			return e, true
		}
	}
	return Effective{}, false
}

// Text is the effective value of a key as text, "" where there is none.
func (r *Resolved) Text(key string) string {
	e, _ := r.Get(key)
	return e.Value.Text()
}

func (r *Resolved) defaults() {
	engine := r.Text("engine")
	add := func(key, text, reason string) {
		if _, ok := r.Get(key); ok || text == "" {
			return
		}
		field := fieldByName[key]
		e := Effective{Field: field, Value: Value{kind: field.Kind, text: text}, Origin: Origin{Kind: FromEngine, Reason: reason}}
		at := 0
		for at < len(r.Values) && fieldIndex(r.Values[at].Field) < fieldIndex(field) {
			at++
		}
		r.Values = append(r.Values[:at], append([]Effective{e}, r.Values[at:]...)...)
	}
	if port := DefaultPort(engine); port != 0 {
		add("port", strconv.Itoa(port), engine+"'s usual port")
	}
	if engine == "postgresql" {
		add("database", r.Text("user"), "the user's name, as the server would")
	}
	add("secret", "default", "passfile, then ask if there is a terminal")
	if r.AddressKind() != "" {
		if r.Local() {
			add("tls", "offered", "the address is on this machine")
		} else {
			add("tls", "verified", "the address is not on this machine")
		}
	}
	if _, ok := r.Get("hosts"); ok {
		add("target", "any", "the first that serves")
	}
}

func fieldIndex(f *Field) int {
	for i := range fields {
		if &fields[i] == f {
			return i
		}
	}
	return len(fields)
}

// AddressKind is "host", "hosts", "socket", or "" for a profile without address.
func (r *Resolved) AddressKind() string {
	for _, e := range r.Values {
		if isAddress(e.Field.Name) {
			return e.Field.Name
		}
	}
	return ""
}

// HostPort is one server to try.
type HostPort struct {
	Host string
	Port int
}

// Hosts returns the servers of a host or hosts address, in order.
func (r *Resolved) Hosts() []HostPort {
	common, _ := strconv.Atoi(r.Text("port"))
	if e, ok := r.Get("host"); ok {
		return []HostPort{{e.Value.Text(), common}}
	}
	e, ok := r.Get("hosts")
	if !ok {
		return nil
	}
	var hosts []HostPort
	for _, item := range e.Value.List() {
		host, port := SplitHostPort(item)
		n, err := strconv.Atoi(port)
		if err != nil {
			n = common
		}
		hosts = append(hosts, HostPort{host, n})
	}
	return hosts
}

// Local reports whether everything that the profile may dial is written as an
// address of this machine. DNS has no say in it.
func (r *Resolved) Local() bool {
	if r.AddressKind() == "socket" {
		return true
	}
	hosts := r.Hosts()
	for _, h := range hosts {
		if !LocalHost(h.Host) {
			return false
		}
	}
	return len(hosts) > 0
}

// LocalHost reports whether host is written as this machine's own: localhost
// (RFC 6761) or a loopback address.
func LocalHost(host string) bool {
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	addr, err := netip.ParseAddr(host)
	return err == nil && addr.IsLoopback()
}
