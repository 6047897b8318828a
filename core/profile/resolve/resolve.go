// Package resolve finds what a profile means: the value of each key and where it is from, through `like`, overrides,
// variables, aliases and defaults. It reads no file and dials nothing. The values of a project's profile are found
// only after the user vouched for it. On the way from profile to report it stands between profile and route. Start
// with Resolve.
package resolve

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
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
	Field    *schema.Field
	Value    schema.Value // after ${NAME} and relative paths
	Template string       // as written, where it has a variable; else ""
	Origin   Origin
}

// Display is the value for a screen: the template, followed by its value
// unless a variable's name looks secret.
func (e Effective) Display() string {
	if e.Template == "" {
		return e.Value.Text()
	}
	if e.Template == e.Value.Raw || !syntax.Showable(e.Template) {
		return e.Template
	}
	return e.Template + " = " + e.Value.Text()
}

// Profile is a profile with all that it takes from elsewhere. A value is found only when it is asked for: a list of
// 10,000 profiles needs a few of each.
type Profile struct {
	Profile   *profile.Profile
	Called    string // the name by which the user means it
	file      *profile.File
	overrides []schema.Override
	env       Environment
	chain     []*profile.Profile // the profile, and those that it is like in turn
	address   *address.Kind      // of the address that counts

	service      *address.Chain   // what its alias leads to, nil without one
	aliasProblem *finding.Finding // why its alias leads nowhere

	pinned     map[string][]byte
	notVouched *finding.Finding // why nothing of it may be used; nil where it may
}

// Environment is what resolving takes from the machine.
type Environment struct {
	Lookup func(name string) (string, bool) // environment variables
	Home   string                           // the user's home folder, for "~"

	// Vouch judges a project's profile: nil where the user vouched for what it uses. Without Vouch, nobody vouched
	// for any.
	Vouch func(*Profile) *finding.Finding

	// Aliases finds what an alias leads to; nil where there are none.
	Aliases Aliases
}

// Resolve resolves p, which must be a profile of f.
func Resolve(f *profile.File, p *profile.Profile, overrides []schema.Override, env Environment) *Profile {
	r := &Profile{
		Profile:   p,
		Called:    f.FullName(p),
		file:      p.File(),
		overrides: overrides,
		env:       env,
		chain:     f.Chain(p, overrides),
	}
	r.address = address.ByKey(addressKey(overrides, r.chain))
	r.notVouched = r.checkVouched()
	r.follow()
	return r
}

// Get returns the effective value of a key. Where a variable in it is not set, or its value does not fit, it is the
// text as written, and Problem says why.
func (r *Profile) Get(name key.Name) (Effective, bool) {
	field := r.Schema().Field(name)
	if field == nil || field.Address && name != r.address.Key && r.service.Text(name) == "" {
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
func (r *Profile) Schema() *schema.Schema { return r.file.Schema() }

// Engine is the engine that the profile names, nil for none.
func (r *Profile) Engine() *engine.Spec { return r.Schema().Engines().ByWord(r.Text(key.Engine)) }

// Port is the port that the profile or its engine says, 0 where neither does.
func (r *Profile) Port() int {
	port, _ := strconv.Atoi(r.Text(key.Port)) // the schema has seen that it is a number
	return port
}

// Text is the effective value of a key as text, "" where there is none.
func (r *Profile) Text(name key.Name) string {
	e, _ := r.Get(name)
	return e.Value.Text()
}

// NamedVariables are the environment variables that the profile and its hops name, in ${NAME} or
// as env:NAME. command is true where one of them runs a program for a secret, which may read any.
func (r *Profile) NamedVariables() (names []string, command bool) {
	add := func(e Effective) {
		names = append(names, syntax.Variables(e.Template)...)
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
func (r *Profile) Values() []Effective {
	var all []Effective
	for i := range r.Schema().Fields() {
		if e, ok := r.Get(r.Schema().Fields()[i].Name); ok {
			all = append(all, e)
		}
	}
	return all
}

// Problem is the first variable that is not set or whose value does not fit.
func (r *Profile) Problem() *finding.Finding {
	if r.notVouched != nil {
		return r.notVouched
	}
	if last := r.chain[len(r.chain)-1]; strings.HasPrefix(last.Text(key.Like), syntax.ProjectPrefix) {
		return finding.New(finding.ProfileIncomplete,
			"the profile is like %s, which no project's file here has", last.Text(key.Like)).
			Suggest("gharbor show %s   # from a folder of that project", r.Profile.Name)
	}
	fields := r.Schema().Fields()
	for i := range fields {
		if field := &fields[i]; !field.Expands || field.Address && field.Name != r.address.Key {
			continue
		}
		e, ok := r.lookUp(&fields[i])
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

// addressKey is the address key of the first place that sets one, "" where none does: a profile with a socket of its
// own does not use the host of the profile that it is like.
func addressKey(overrides []schema.Override, chain []*profile.Profile) key.Name {
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

func unset(field *schema.Field, overrides []schema.Override) bool {
	for _, o := range overrides {
		if o.Field == field && o.Unset {
			return true
		}
	}
	return false
}

// lookUp finds where a key is set: on the command line, in the profile, in one that
// it is like, or in its alias.
func (r *Profile) lookUp(field *schema.Field) (Effective, bool) {
	if !unset(field, r.overrides) {
		if e, ok := r.ownLookUp(field); ok {
			return e, true
		}
	}
	if e, link, ok := r.service.OwnValue(field.Name); ok && field.Name != "alias" && field.Name != "note" {
		return Effective{
			Field:  field,
			Value:  e.Value,
			Origin: Origin{Kind: FromAlias, Alias: link.FullName(), File: link.Path(), Line: e.Line},
		}, true
	}
	return Effective{}, false
}

// ownLookUp is lookUp without the alias.
func (r *Profile) ownLookUp(field *schema.Field) (Effective, bool) {
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
			o := Origin{Kind: FromFile, File: from.File().Path, Line: own.Line}
			if from != r.Profile {
				o.Kind, o.Profile = FromLike, from.Name
			}
			return Effective{Field: field, Value: own.Value, Origin: o}, true
		}
	}
	return Effective{}, false
}

// finish expands variables and makes paths absolute. An error never has a variable's value in it.
func (r *Profile) finish(e *Effective) error {
	field := e.Field
	if r.notVouched != nil { // nothing is expanded, not even into what is shown
		if field.Expands && strings.Contains(e.Value.Raw, "$") {
			e.Template = e.Value.Raw
		}
		return nil
	}
	if field.Expands && strings.Contains(e.Value.Raw, "$") {
		e.Template = e.Value.Raw
		text, err := syntax.Expand(e.Value.Raw, r.env.Lookup)
		if err == nil && (!field.Fits(text) || syntax.HasControl(text)) {
			err = fmt.Errorf("expected %s, after its variables are replaced", field.Expected)
		}
		if err != nil {
			return err
		}
		e.Value.Raw = text
	}
	e.Value.Raw = field.AbsolutePath(e.Value.Raw, r.base(e.Origin), r.env.Home)
	return nil
}

// base is the folder that a relative path belongs to: that of the file that
// holds it, or for a command line the working folder ("").
func (r *Profile) base(o Origin) string {
	if o.Kind == FromOverride {
		return ""
	}
	return filepath.Dir(o.File)
}

// Path is the file that the profile stands in.
func (r *Profile) Path() string { return r.file.Path }

// Own reports whether all of the profile is from the user's own files, and nothing from a project's.
func (r *Profile) Own() bool {
	for _, p := range r.chain {
		if p.InProject() {
			return false
		}
	}
	return r.service == nil || !slices.ContainsFunc(r.service.Links, func(a *profile.Alias) bool { return a.InProject() })
}

// Address is the kind of the profile's address, address.None for a profile without one.
func (r *Profile) Address() *address.Kind { return r.address }

// Hosts are the servers that the address lists, in order.
func (r *Profile) Hosts() []address.HostPort { return r.address.Hosts(r) }

// Local reports whether each address that the profile may dial is written as one of the machine that dials it: this
// one, or the last hop. A name that DNS resolves does not count, whatever it resolves to.
func (r *Profile) Local() bool { return r.address.Local(r) }

// Name is the profile's name as the user wrote it.
func (r *Profile) Name() string { return r.Called }

// Value is the effective value of a key.
func (r *Profile) Value(name key.Name) (schema.Value, bool) {
	e, ok := r.Get(name)
	return e.Value, ok
}

// OwnPort reports whether the profile itself says the port.
func (r *Profile) OwnPort() bool {
	e, ok := r.Get(key.Port)
	return ok && e.Origin.Kind != FromAlias && e.Origin.Kind != FromEngine
}

// BehindHops reports whether hops stand before the address.
func (r *Profile) BehindHops() bool { return len(r.Hops()) > 0 }

// Variable is a variable of the machine, "" where it has none, or where nothing of the profile may be used.
func (r *Profile) Variable(name string) string {
	if !r.Vouched() || r.env.Lookup == nil {
		return ""
	}
	value, _ := r.env.Lookup(name)
	return value
}

// Values resolves values that are in no file, such as those of a connection URL, as a profile of that name.
func Values(keys *schema.Schema, name string, sets []schema.Override, env Environment) *Profile {
	p := profile.NewUnfiled(keys, name, sets)
	return Resolve(p.File(), p, nil, env)
}
