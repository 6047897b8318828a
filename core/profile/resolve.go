package profile

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// OriginKind says what kind of place an effective value came from.
type OriginKind string

// The origins of this version.
const (
	FromOverride OriginKind = "override" // -override on the command line
	FromFile     OriginKind = "file"     // the profile itself
	FromLike     OriginKind = "like"     // a profile that it is like
	FromAlias    OriginKind = "alias"    // the alias that is its address
	FromEngine   OriginKind = "default"  // the engine's default, or the tool's
)

// Origin is where an effective value came from.
type Origin struct {
	Kind    OriginKind `json:"kind"`
	File    string     `json:"file,omitempty"`
	Line    int        `json:"line,omitempty"`
	Profile string     `json:"profile,omitempty"` // the profile named by like
	Alias   string     `json:"alias,omitempty"`   // the alias that sets it
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
	case FromAlias:
		return fmt.Sprintf("alias %s, %s:%d", o.Alias, filepath.Base(o.File), o.Line)
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
	if e.Template == e.Value.text || !showable(e.Template) {
		return e.Template
	}
	return e.Template + " = " + e.Value.Text()
}

// Override is a key=value of the command line.
type Override struct {
	Field *Field
	Value Value
	Unset bool // `key=`: as if neither the profile nor its likes had it
	Hop   int  // the number of the hop whose key it is, 0 for the profile's; -1: there are none
}

// String is the override as a command line has it.
func (o Override) String() string {
	key := o.Field.Name
	if o.Hop > 0 {
		key = fmt.Sprintf("hop.%d.%s", o.Hop, key)
	}
	return key + "=" + o.Value.Text()
}

// Resolved is a profile with everything that it takes from elsewhere. A value
// is worked out when it is asked for: a list of 10,000 profiles asks for a few.
type Resolved struct {
	Profile   *Profile
	Called    string // the name by which the user means it
	file      *File
	overrides []Override
	env       Environment
	chain     []*Profile // the profile, and those that it is like in turn
	address   string     // the kind of address that counts, "" for none

	service *Chain           // what its alias comes to, nil without one
	astray  *finding.Finding // why its alias comes to nothing

	pinned     map[string][]byte
	notVouched *finding.Finding // why nothing of it may be used; nil where it may
}

// Environment is what resolving takes from the machine.
type Environment struct {
	Lookup func(name string) (string, bool) // environment variables
	Home   string                           // the user's home folder, for "~"

	// Vouch judges a project's profile: nil where the user vouched for what it
	// uses. Without it nobody did.
	Vouch func(*Resolved) *finding.Finding

	// Aliases finds what an alias comes to; nil where there are none.
	Aliases Aliases
}

// Resolve finds what p, which must be a profile of f, comes to.
func (f *File) Resolve(p *Profile, overrides []Override, env Environment) *Resolved {
	r := &Resolved{
		Profile:   p,
		Called:    f.Called(p),
		file:      p.in,
		overrides: overrides,
		env:       env,
		chain:     f.chain(p, overrides),
	}
	r.address = addressKind(overrides, r.chain)
	r.notVouched = r.unvouched()
	r.follow()
	return r
}

// Get returns the effective value of a key. A value whose variable is missing
// or does not fit is the template itself; Problem says so.
func (r *Resolved) Get(key string) (Effective, bool) {
	field := r.Schema().Field(key)
	if field == nil || field.Address && key != r.address && !(key == "socket" && r.service.Text("socket") != "") {
		return Effective{}, false
	}
	e, ok := r.lookUp(field)
	if !ok {
		return r.byDefault(field)
	}
	r.finish(&e)
	return e, true
}

// Schema is the table of keys that the profile's file was read by.
func (r *Resolved) Schema() *Schema { return r.file.schema }

// Engine is the engine that the profile names, nil for none.
func (r *Resolved) Engine() *engine.Spec { return r.Schema().engines.Named(r.Text("engine")) }

// Text is the effective value of a key as text, "" where there is none.
func (r *Resolved) Text(key string) string {
	e, _ := r.Get(key)
	return e.Value.Text()
}

// NamedVariables are the environment variables that the profile and its hops name, in ${NAME} or
// as env:NAME. command is true where one of them runs a program for a secret, which may read any.
func (r *Resolved) NamedVariables() (names []string, command bool) {
	add := func(e Effective) {
		names = append(names, Variables(e.Template)...)
		kind, arg, _ := strings.Cut(e.Value.Text(), ":")
		if e.Field.Source && kind == "env" {
			names = append(names, arg)
		}
		command = command || e.Field.Source && kind == "command"
	}
	for _, e := range r.Values() {
		add(e)
	}
	for _, h := range r.Hops() {
		for _, e := range h.Values() {
			add(e)
		}
	}
	return names, command
}

// Values lists all effective values, in the order of Fields.
func (r *Resolved) Values() []Effective {
	var all []Effective
	for i := range r.Schema().fields {
		if e, ok := r.Get(r.Schema().fields[i].Name); ok {
			all = append(all, e)
		}
	}
	return all
}

// Problem is the first variable that is not set or whose value does not fit.
func (r *Resolved) Problem() *finding.Finding {
	if r.notVouched != nil {
		return r.notVouched
	}
	if last := r.chain[len(r.chain)-1]; strings.HasPrefix(last.Text("like"), ProjectPrefix) {
		return finding.New(finding.ProfileIncomplete,
			"the profile is like %s, and there is no such profile in a project's file here", last.Text("like")).
			Suggest("gharbor show %s   # from a folder of that project", r.Profile.Name)
	}
	for i := range r.Schema().fields {
		if !r.Schema().fields[i].Expands || r.Schema().fields[i].Address && r.Schema().fields[i].Name != r.address {
			continue
		}
		e, ok := r.lookUp(&r.Schema().fields[i])
		if !ok {
			continue
		}
		if err := r.finish(&e); err != nil {
			return finding.New(finding.ProfileVariable, "%s: %v", e.Field.Name, err).
				Saw("%s is %q, from %s", e.Field.Name, e.Template, e.Origin).
				Suggest("gharbor show %s", r.Profile.Name)
		}
	}
	if key, e, err := r.hopProblem(); err != nil {
		return finding.New(finding.ProfileVariable, "%s: %v", key, err).
			Saw("%s is %q, from %s", key, e.Template, e.Origin).
			Suggest("gharbor show %s", r.Profile.Name)
	}
	return nil
}

// TwoAddresses names the first two different kinds of address among sets, or
// nothing where there is one at the most.
func TwoAddresses(sets []Override) (first, second string) {
	for _, s := range sets {
		switch {
		case !s.Field.Address || s.Unset || s.Field.Name == first:
		case first == "":
			first = s.Field.Name
		default:
			return first, s.Field.Name
		}
	}
	return "", ""
}

// chain is p followed by the profiles that it is like. An overridden `like`
// is another chain.
func (f *File) chain(p *Profile, overrides []Override) []*Profile {
	chain := append(make([]*Profile, 0, 2), p)
	like := p.Text("like")
	for _, o := range overrides {
		if o.Field.Name == "like" {
			like = o.Value.Text()
		}
	}
	for next := f.like(p, like); next != nil && len(chain) <= 2*(MaxLikes+1); next = f.like(next, next.Text("like")) {
		chain = append(chain, next)
	}
	return chain
}

// like is the profile that p's like names: one of the same file, or with
// "project:" before it one of the attached project's.
func (f *File) like(p *Profile, name string) *Profile {
	if own, ok := strings.CutPrefix(name, ProjectPrefix); ok {
		if p.in.Project || f.project == nil {
			return nil
		}
		return f.project.byName[own]
	}
	return p.in.byName[name]
}

// addressKind is the address key of the first place that has one: a profile
// that says socket is not at the host of the profile that it is like.
func addressKind(overrides []Override, chain []*Profile) string {
	for _, o := range overrides {
		if o.Field.Address && !o.Unset {
			return o.Field.Name
		}
	}
	for _, p := range chain {
		for _, e := range p.Entries {
			if e.Field.Address && !unset(e.Field, overrides) {
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

// lookUp finds where a key is set: on the command line, in the profile, in one that
// it is like, or in its alias.
func (r *Resolved) lookUp(field *Field) (Effective, bool) {
	if !unset(field, r.overrides) {
		if e, ok := r.ownLookUp(field); ok {
			return e, true
		}
	}
	if e, link, ok := r.service.Own(field.Name); ok && field.Name != "alias" && field.Name != "note" {
		return Effective{
			Field:  field,
			Value:  e.Value,
			Origin: Origin{Kind: FromAlias, Alias: link.Called(), File: link.Path(), Line: e.Line},
		}, true
	}
	return Effective{}, false
}

// ownLookUp is lookUp without the alias.
func (r *Resolved) ownLookUp(field *Field) (Effective, bool) {
	for i := len(r.overrides) - 1; i >= 0; i-- {
		if o := r.overrides[i]; o.Field == field {
			return Effective{Field: field, Value: o.Value, Origin: Origin{Kind: FromOverride}}, true
		}
	}
	chain := r.chain
	if field.Name == "like" {
		chain = chain[:1]
	}
	for _, from := range chain {
		for i := range from.Entries {
			own := &from.Entries[i]
			if own.Field != field {
				continue
			}
			o := Origin{Kind: FromFile, File: from.in.Path, Line: own.Line}
			if from != r.Profile {
				o.Kind, o.Profile = FromLike, from.Name
			}
			return Effective{Field: field, Value: own.Value, Origin: o}, true
		}
	}
	return Effective{}, false
}

// finish expands variables and makes paths whole. An error never has a
// variable's value in it.
func (r *Resolved) finish(e *Effective) error {
	field := e.Field
	if r.notVouched != nil { // nothing is expanded, not even into what is shown
		if field.Expands && strings.Contains(e.Value.text, "$") {
			e.Template = e.Value.text
		}
		return nil
	}
	if field.Expands && strings.Contains(e.Value.text, "$") {
		e.Template = e.Value.text
		text, err := expand(e.Value.text, r.env.Lookup)
		if err == nil && (!field.valid(text) || hasControl(text)) {
			err = fmt.Errorf("expected %s once its variables have values", field.Expected)
		}
		if err != nil {
			return err
		}
		e.Value.text = text
	}
	e.Value.text = field.Whole(e.Value.text, r.base(e.Origin), r.env.Home)
	return nil
}

// Whole makes the path in a value of the field absolute, where there is one: a
// field that is a path, or a secret source with a path behind its colon.
func (f *Field) Whole(text, base, home string) string {
	if f.Path {
		return wholePath(text, base, home)
	}
	if kind, path, ok := strings.Cut(text, ":"); ok && (f.Name == "secret" || f.Name == "key-secret") &&
		(kind == "file" || kind == "passfile" || kind == "optionfile") {
		group := ""
		if at := strings.IndexByte(path, '#'); at >= 0 && kind == "optionfile" {
			path, group = path[:at], path[at:]
		}
		return kind + ":" + wholePath(path, base, home) + group
	}
	return text
}

// base is the folder that a relative path belongs to: that of the file that
// holds it, or for a command line the working folder ("").
func (r *Resolved) base(o Origin) string {
	if o.Kind == FromOverride {
		return ""
	}
	return filepath.Dir(o.File)
}

// WholeSetting makes the path of a setting absolute.
func (f *File) WholeSetting(path, home string) string {
	return wholePath(path, filepath.Dir(f.Path), home)
}

// wholePath makes path absolute: "~/" is home, a relative one belongs to base
// ("" is the working folder).
func wholePath(path, base, home string) string {
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

// Path is the file that the profile stands in.
func (r *Resolved) Path() string { return r.file.Path }

// Own reports whether the profile has all that it has from the user's own files,
// and nothing from a project's.
func (r *Resolved) Own() bool {
	for _, p := range r.chain {
		if p.InProject() {
			return false
		}
	}
	return r.service == nil || !slices.ContainsFunc(r.service.Links, func(a *Alias) bool { return a.InProject() })
}

// AddressKind is "host", "hosts", "socket", "alias", "container", or "" for a profile without
// address.
func (r *Resolved) AddressKind() string { return r.address }

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
	if r.address == "alias" {
		return r.service.Addresses(common)
	}
	e, ok := r.Get("hosts")
	if !ok {
		return nil
	}
	return hostPorts(e.Value.List(), common)
}

// Local reports whether everything that the profile may dial is written as an
// address of the machine that dials it: this one, or the last hop. DNS has no say
// in it.
func (r *Resolved) Local() bool {
	if r.AddressKind() == "socket" || r.service.Text("socket") != "" {
		return true
	}
	if r.address == "container" {
		return r.localEngine()
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

// ResolveValues resolves values that stand in no file, such as those of a connection URL, like
// those of a profile of that name.
func (s *Schema) ResolveValues(name string, sets []Override, env Environment) *Resolved {
	p := &Profile{table: table{Name: name, kind: "profile"}}
	for _, set := range sets {
		p.Entries = append(p.Entries, Entry{Field: set.Field, Value: set.Value})
	}
	f := &File{byName: map[string]*Profile{name: p}, Profiles: []*Profile{p}, schema: s}
	p.in = f
	return f.Resolve(p, nil, env)
}
