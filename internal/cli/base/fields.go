package base

import (
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
)

// Assignments collects fields given on a command line, each once.
type Assignments []schema.Override

// Flags registers a flag for every key of a profile that is not an expectation.
func (a *Assignments) Flags(fs *FlagSet) {
	for _, f := range fs.Keys.Fields() {
		if strings.HasPrefix(string(f.Name), "expect.") {
			continue
		}
		field := fs.Keys.Field(f.Name)
		if field.Topic != "" {
			fs.Section(field.Topic)
		}
		if field.Name == "tags" {
			fs.Func("tag", "a word for choosing profiles; several with commas, or repeated",
				func(s string) error { return a.Add(field, s, true) })
			continue
		}
		fs.Func(string(field.Name), field.Summary, func(s string) error { return a.Add(field, s, false) })
	}
}

// Add notes a value. Its errors never repeat the value.
func (a *Assignments) Add(field *schema.Field, s string, more bool) error {
	value, err := field.ParseValue(s)
	if err != nil {
		return errors.New(strings.TrimPrefix(err.Error(), string(field.Name)+": "))
	}
	for i, have := range *a {
		if have.Field != field {
			continue
		}
		if !more {
			return errors.New("given twice")
		}
		(*a)[i].Value = schema.ListValue(append(have.Value.List(), value.List()...)...)
		return nil
	}
	*a = append(*a, schema.Override{Field: field, Value: value})
	return nil
}

func (a Assignments) Get(k key.Name) (schema.Value, bool) {
	for _, have := range a {
		if have.Field.Name == k {
			return have.Value, true
		}
	}
	return schema.Value{}, false
}

// OneAddress refuses two kinds of address, and names both.
func (a Assignments) OneAddress() error {
	if first, second := schema.TwoAddresses(a); second != "" {
		return Usage("-%s and -%s are two kinds of address; give one", first, second)
	}
	return nil
}

// WholePaths makes typed relative paths absolute, as a relative path in the file belongs to the file's folder. It
// leaves a path that starts with "~" or a variable.
func (a Assignments) WholePaths(home string) {
	for i, have := range a {
		text := have.Value.Text()
		_, path, _ := strings.Cut(text, ":")
		if have.Unset || strings.HasPrefix(text, "~") || strings.HasPrefix(path, "~") ||
			have.Field.Expands && strings.Contains(text, "$") {
			continue
		}
		if whole := have.Field.AbsolutePath(text, "", home); whole != text {
			a[i].Value = schema.TextValue(whole)
		}
	}
}

// ReadAssignments reads a profile's name and the words key=value after it, for an edit of the user's file or the
// project's.
func (c *Call) ReadAssignments(to *Target,
	read func(string) (schema.Override, error)) (name string, sets Assignments, err error) {
	if name, err = to.StripProject(c, c.Args[0]); err != nil {
		return "", nil, err
	}
	sets, err = c.Settings(to.Project, read)
	return name, sets, err
}

// Settings reads the words key=value after the first.
func (c *Call) Settings(project bool, read func(string) (schema.Override, error)) (sets Assignments, err error) {
	for i, arg := range c.Args[1:] {
		one, err := read(arg)
		if rest := c.Args[2+i:]; err != nil && len(rest) > 0 && !strings.Contains(arg+rest[0], "=") {
			if _, apart := read(arg + "=" + rest[0]); apart == nil && c.Keys.Field(key.Name(arg)) != nil {
				value := "…"
				if strings.Trim(rest[0], "0123456789") == "" { // what else was typed may be a password
					value = rest[0]
				}
				return nil, Usage("expected key=value: %s=%s, without a blank", arg, value)
			}
		}
		if err != nil {
			return nil, Usage("%w", err)
		}
		sets = append(sets, one)
	}
	if !project { // in a project's file a relative path is the repository's
		sets.WholePaths(c.Environment().Home)
	}
	return sets, nil
}

// keyValue reads key=value; an empty value unsets the key.
func keyValue(keys *schema.Schema, s string) (schema.Override, error) {
	k, text, ok := strings.Cut(s, "=")
	if !ok {
		return schema.Override{}, errors.New("expected key=value, or key= to unset it")
	}
	if k == "tag" {
		k = "tags"
	}
	field, hop := keys.Field(key.Name(k)), 0
	if number, of, ok := schema.ParseHopKey(k); ok {
		if field, hop = of, number; field == nil {
			return schema.Override{}, errors.New(schema.UnknownHopKey(k[strings.LastIndexByte(k, '.')+1:]))
		}
	}
	if field == nil {
		return schema.Override{}, unknownKey(keys, k)
	}
	if text == "" {
		return schema.Override{Field: field, Hop: hop, Unset: true}, nil
	}
	value, err := field.ParseValue(text)
	return schema.Override{Field: field, Hop: hop, Value: value}, err
}

// KeyValue reads key=value by the keys of this run.
func (c *Call) KeyValue(s string) (schema.Override, error) { return keyValue(c.Keys, s) }

// HopKeyValue reads a hop's key=value.
func HopKeyValue(s string) (schema.Override, error) {
	k, text, ok := strings.Cut(s, "=")
	field := schema.HopField(key.Name(k))
	switch {
	case !ok || text == "":
		return schema.Override{}, errors.New("expected key=value, such as host=gate.saltmarsh.example")
	case field == nil:
		return schema.Override{}, errors.New(schema.UnknownHopKey(k))
	}
	value, err := field.ParseValue(text)
	return schema.Override{Field: field, Value: value}, err
}

func unknownKey(keys *schema.Schema, k string) error {
	var all []string
	for _, f := range keys.Fields() {
		all = append(all, string(f.Name))
	}
	if nearest.Name(k, []string{"password", "passwd", "passphrase"}) != "" && nearest.Name(k, all) == "" {
		return errors.New(syntax.NoPasswordHere)
	}
	if here := schema.OtherWords[strings.ToLower(k)]; here != "" {
		return fmt.Errorf("no key of that name; here it is %s", here)
	}
	if near := nearest.Name(k, all); near != "" {
		return fmt.Errorf("no key of that name; did you mean %s?", near)
	}
	return errors.New("no key of that name; gharbor help set lists them")
}

// Overrides is the flag -override key=value of test, show and certificate.
type Overrides []schema.Override

func (o *Overrides) Flag(fs *FlagSet) {
	fs.Func("override", "key=value for this run only; repeat it for more", func(s string) error {
		one, err := keyValue(fs.Keys, s)
		if err == nil {
			*o = append(*o, one)
		}
		return err
	})
}

func (o Overrides) check(file *profile.File) error {
	for _, one := range o {
		if one.Field.Name == "like" && !one.Unset && file.Lookup(one.Value.Text()) == nil {
			return Usage("-override like: no profile of that name")
		}
	}
	if first, second := schema.TwoAddresses(o); second != "" {
		return Usage("-override %s and -override %s are two kinds of address; give one", first, second)
	}
	return nil
}

// fits refuses an override of a hop that the profile does not have.
func (o Overrides) fits(r *resolve.Profile) error {
	if n := r.MissingHop(); n > 0 {
		return Usage("-override hop.%d: the profile %s has no hop %d", n, r.Called, n)
	}
	return nil
}

// KeyTable lists the keys for help.
func KeyTable(keys *schema.Schema) string {
	return fieldTable(keys.Fields(), 17) +
		"  hop.N.KEY          a key of hop number N; gharbor help hop add lists them\n"
}

// HopKeyTable lists a hop's keys for help.
func HopKeyTable(*schema.Schema) string { return fieldTable(schema.HopFields(), 10) }

// AliasKeyTable lists an alias' keys for help.
func AliasKeyTable(keys *schema.Schema) string { return fieldTable(keys.AliasFields(), 15) }

// CloudKeyTable lists a cloud account's keys for help.
func CloudKeyTable(keys *schema.Schema) string { return fieldTable(keys.CloudFields(), 13) }

// fieldTable lists keys for help, their names in so many columns.
func fieldTable(fields []schema.Field, width int) string {
	var b strings.Builder
	for _, f := range fields {
		fmt.Fprintf(&b, "  %-*s  %s\n", width, f.Name, f.Summary)
	}
	return b.String()
}

// Words are assignments as set takes them.
func (a Assignments) Words() string {
	var words []string
	for _, s := range a {
		if s.Unset {
			words = append(words, string(s.Field.Name)+"=")
		} else {
			words = append(words, string(s.Field.Name)+"="+clean.Line(s.Value.Text(), 200))
		}
	}
	return strings.Join(words, " ")
}

// NoteLeftOut notes which parts of a URL a profile has no key for, and what the profile has in place of others.
func (c *Call) NoteLeftOut(read *connurl.Connection) {
	if len(read.LeftOut) > 0 {
		c.Notice("left out (a profile has no key for it): %s", clean.Line(strings.Join(read.LeftOut, ", "), 200))
	}
	for _, note := range read.Notes {
		c.Notice("%s", note)
	}
}
