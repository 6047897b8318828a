package profile

import (
	"slices"
	"strings"

	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// MissingAlias is the error for an alias that is not in the file.
func (f *File) MissingAlias(name string) error {
	names := f.AliasNames()
	if near := nearest.Name(name, names); near != "" {
		return refuse("no alias of that name; did you mean %q?", near)
	}
	if len(names) == 0 {
		return refuse("there are no aliases yet; to add one: gharbor alias add NAME addresses=HOST:PORT")
	}
	return refuse("no alias of that name; see gharbor alias list")
}

// AliasNames returns the names of the file's aliases, sorted.
func (f *File) AliasNames() []string {
	names := make([]string, 0, len(f.Aliases))
	for _, a := range f.Aliases {
		names = append(names, a.Name)
	}
	slices.Sort(names)
	return names
}

func (f *File) freeAlias(name string) error {
	if !syntax.ValidName(name) {
		return refuse("not an alias name: %s", syntax.NameRule)
	}
	if a := f.aliases[name]; a != nil {
		return refuse("alias %q exists already (%s:%d); gharbor alias set %s changes it", name, f.Path, a.Line, name)
	}
	return nil
}

// AddAlias appends an alias.
func (f *File) AddAlias(name string, sets []schema.Override) (*Edit, error) {
	if err := f.freeAlias(name); err != nil {
		return nil, err
	}
	if err := refuseRepeated(sets); err != nil {
		return nil, err
	}
	a := &Alias{table: table{Name: name, kind: "alias"}}
	for _, s := range sets {
		if !s.Unset {
			a.Entries = append(a.Entries, Entry{Field: s.Field, Value: s.Value})
		}
	}
	if first, second := schema.TwoAddresses(sets); second != "" {
		return nil, refuse("%s and %s both say where the service is; give one", first, second)
	}
	if why := a.problem(f.schema); why != "" {
		return nil, refuse("%s", why)
	}
	if err := f.checkCircle(a); err != nil {
		return nil, err
	}
	e := f.edit()
	e.wantAliases = append(e.wantAliases, a)
	e.appendTable(tableText("[alias."+nameKey(name)+"]", "", a.sortedEntries(f.schema)))
	return e, nil
}

// sortedEntries are the entries in the usual order.
func (a *Alias) sortedEntries(keys *schema.Schema) []Entry {
	var all []Entry
	for i := range keys.AliasFields() {
		if e, ok := a.OwnValue(keys.AliasFields()[i].Name); ok {
			all = append(all, e)
		}
	}
	return all
}

// SetAlias changes keys of an alias.
func (f *File) SetAlias(name string, sets []schema.Override) (*Edit, error) {
	a := f.aliases[name]
	if a == nil {
		return nil, f.MissingAlias(name)
	}
	if err := refuseRepeated(sets); err != nil {
		return nil, err
	}
	want := &Alias{table: a.copy()}
	e := f.edit()
	for _, s := range sets {
		if err := e.setOne(&a.table, &want.table, s); err != nil {
			return nil, err
		}
	}
	if err := twoAddresses(f, &want.table, "gharbor alias set "+name); err != nil {
		return nil, err
	}
	if why := want.problem(f.schema); why != "" {
		return nil, refuse("%s", why)
	}
	if err := f.checkCircle(want); err != nil {
		return nil, err
	}
	e.wantAliases[slices.Index(e.wantAliases, a)] = want
	return e, nil
}

// checkCircle refuses an alias that would lead back to itself, over others of the file.
func (f *File) checkCircle(a *Alias) error {
	names := []string{a.Name}
	for next := a.Text(key.Alias); next != "" && len(names) <= MaxAliases; {
		names = append(names, next)
		if next == a.Name {
			return refuse("alias: it would lead back to itself: %s", strings.Join(names, " → "))
		}
		other := f.aliases[next]
		if other == nil {
			break
		}
		next = other.Text(key.Alias)
	}
	return nil
}

// RemoveAlias takes an alias out of the file, with the comment directly above it.
func (f *File) RemoveAlias(name string) (*Edit, error) {
	a := f.aliases[name]
	if a == nil {
		return nil, f.MissingAlias(name)
	}
	e := f.edit()
	e.wantAliases = slices.DeleteFunc(e.wantAliases, func(o *Alias) bool { return o == a })
	e.cutOut(&a.table)
	return e, nil
}

// RenameAlias gives an alias another name, also where aliases and profiles of the
// file name it.
func (f *File) RenameAlias(from, to string) (*Edit, error) {
	a := f.aliases[from]
	if a == nil {
		return nil, f.MissingAlias(from)
	}
	if err := f.freeAlias(to); err != nil {
		return nil, err
	}
	e := f.edit()
	renamed := &Alias{table: a.copy()}
	renamed.Name = to
	e.wantAliases[slices.Index(e.wantAliases, a)] = renamed
	e.renameTable(&a.table, to)
	e.rename("alias", "alias", from, to)
	e.rename("profile", "alias", from, to)
	return e, nil
}

// FollowAlias makes the file's profiles and aliases that name one alias name
// another instead. ok is false where none does.
func (f *File) FollowAlias(from, to string) (e *Edit, ok bool) {
	e = f.edit()
	e.rename("alias", "alias", from, to)
	e.rename("profile", "alias", from, to)
	return e, len(e.cuts) > 0
}
