package profile

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Cloud is an account at a provider of databases, as its file has it: a table [cloud.NAME] of profiles.toml or of a
// project's gharbor.toml. Package cloud says what it means.
type Cloud struct {
	table
}

// takeCloudTable takes the header [cloud] or [cloud.NAME].
func (a *assembler) takeCloudTable(h header) error {
	switch {
	case h.array:
		return a.fail(h.line, "a cloud account is a table with single brackets: [cloud.NAME]")
	case len(h.path) == 1:
		return nil
	case len(h.path) > 2:
		return a.fail(h.line, "cloud %q: %s", h.path[1], a.schema.UnknownCloudKey(strings.Join(h.path[2:], ".")))
	}
	_, err := a.cloud(h.path[1], h.line)
	return err
}

func (a *assembler) cloud(name string, line int) (*Cloud, error) {
	if one := a.File.CloudNamed(name); one != nil {
		return one, nil
	}
	if !syntax.ValidName(name) {
		return nil, a.fail(line, "%s is not the name of a cloud account: %s", clean.Quote(name), syntax.NameRule)
	}
	one := &Cloud{table: table{Name: name, Line: line, kind: "cloud", in: a.File}}
	a.Clouds = append(a.Clouds, one)
	return one, nil
}

// takeCloudEntry takes a key of a cloud account; path begins with "cloud" and its name.
func (a *assembler) takeCloudEntry(e *entry, path []string) error {
	line := int(e.line)
	one, err := a.cloud(path[1], line)
	if err != nil {
		return err
	}
	if len(path) == 2 {
		if e.problem == "an empty table" {
			return nil
		}
		return a.fail(line, "cloud %q: expected a table of keys", one.Name)
	}
	name := strings.Join(path[2:], ".")
	f := a.schema.CloudField(name)
	if f == nil {
		return a.fail(line, "cloud %q: %s", one.Name, a.schema.UnknownCloudKey(name))
	}
	return a.assign(&one.table, f, e)
}

// checkClouds refuses an account that says too little or contradicts itself.
func (f *File) checkClouds() error {
	for _, one := range f.Clouds {
		if why := one.problem(); why != "" {
			return &FileError{f.Path, one.Line, fmt.Sprintf("cloud %q: %s", one.Name, why)}
		}
	}
	return nil
}

// problem says what is wrong with an account as a whole, or "".
func (c *Cloud) problem() string {
	has := func(name key.Name) bool {
		_, ok := c.OwnValue(name)
		return ok
	}
	switch service, command := has(key.Service), has(key.Command); {
	case service && command:
		return "service and command both say who knows the instances; keep one"
	case !service && !command:
		return "it needs service (an https URL) or command (a program)"
	case has(key.Issuer) != has(key.Client):
		return "issuer and client belong together; it has one of them"
	case has(key.ClientSecret) && !has(key.Issuer):
		return "client-secret has no effect without issuer"
	case has(key.TokenFile) && has(key.Issuer):
		return "token-file and issuer both say where the token is from; keep one"
	case has(key.Scopes) && !has(key.Issuer):
		return "scopes has no effect without issuer"
	}
	return ""
}

// Path is the path of the file that the account stands in.
func (c *Cloud) Path() string { return c.in.Path }

// FullName is the account's name as the user's own file writes it: with "project:" before it where it stands in a
// project's file.
func (c *Cloud) FullName() string {
	if c.InProject() {
		return syntax.ProjectPrefix + c.Name
	}
	return c.Name
}

// CloudNamed is the file's own account of that name, or nil.
func (f *File) CloudNamed(name string) *Cloud {
	if f == nil {
		return nil
	}
	for _, c := range f.Clouds {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// FindCloud returns the account that a name means, or nil: the user's own, else the attached project's; the project's
// alone with "project:" before the name.
func (f *File) FindCloud(name string) *Cloud {
	if own, ok := strings.CutPrefix(name, syntax.ProjectPrefix); ok {
		if f.Project {
			return f.CloudNamed(own)
		}
		return f.project.CloudNamed(own)
	}
	if c := f.CloudNamed(name); c != nil {
		return c
	}
	return f.project.CloudNamed(name)
}

// AllClouds lists the accounts of both files, the user's first.
func (f *File) AllClouds() []*Cloud {
	all := slices.Clone(f.Clouds)
	if f.project != nil {
		all = append(all, f.project.Clouds...)
	}
	return all
}

// MissingCloud is the error for an account that no file has.
func (f *File) MissingCloud(name string) error {
	var names []string
	for _, c := range f.AllClouds() {
		names = append(names, c.Name)
	}
	if near := nearest.Name(name, names); near != "" {
		return refuse("no cloud account of that name; did you mean %q?", near)
	}
	if len(names) == 0 {
		return refuse("there are no cloud accounts yet; to add one: gharbor cloud add NAME service=URL issuer=URL client=ID")
	}
	return refuse("no cloud account of that name; see gharbor cloud list")
}

// AddCloud appends an account.
func (f *File) AddCloud(name string, sets []schema.Override) (*Edit, error) {
	if !syntax.ValidName(name) {
		return nil, refuse("not the name of a cloud account: %s", syntax.NameRule)
	}
	if c := f.CloudNamed(name); c != nil {
		return nil, refuse("cloud account %q exists already (%s:%d); gharbor cloud set %s changes it", name, f.Path, c.Line,
			name)
	}
	if err := refuseRepeated(sets); err != nil {
		return nil, err
	}
	c := &Cloud{table: table{Name: name, kind: "cloud"}}
	for i := range f.schema.CloudFields() { // in the usual order
		for _, s := range sets {
			if !s.Unset && s.Field == &f.schema.CloudFields()[i] {
				c.Entries = append(c.Entries, Entry{Field: s.Field, Value: s.Value})
			}
		}
	}
	if why := c.problem(); why != "" {
		return nil, refuse("%s", why)
	}
	e := f.edit()
	e.wantClouds = append(e.wantClouds, c)
	e.appendTable(tableText("[cloud."+nameKey(name)+"]", "", c.Entries))
	return e, nil
}

// SetCloud changes keys of an account.
func (f *File) SetCloud(name string, sets []schema.Override) (*Edit, error) {
	c := f.CloudNamed(name)
	if c == nil {
		return nil, f.MissingCloud(name)
	}
	if err := refuseRepeated(sets); err != nil {
		return nil, err
	}
	want := &Cloud{table: c.copy()}
	e := f.edit()
	for _, s := range sets {
		if err := e.setOne(&c.table, &want.table, s); err != nil {
			return nil, err
		}
	}
	if why := want.problem(); why != "" {
		return nil, refuse("%s", why)
	}
	e.wantClouds[slices.Index(e.wantClouds, c)] = want
	return e, nil
}

// RemoveCloud takes an account out of the file, with the comment directly above it.
func (f *File) RemoveCloud(name string) (*Edit, error) {
	c := f.CloudNamed(name)
	if c == nil {
		return nil, f.MissingCloud(name)
	}
	e := f.edit()
	e.wantClouds = slices.DeleteFunc(e.wantClouds, func(o *Cloud) bool { return o == c })
	e.cutOut(&c.table)
	return e, nil
}
