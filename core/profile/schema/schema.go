// Package schema is the table of the keys of profiles, hops and aliases: what a key is called, what it takes,
// how it is explained, and what it is for. It reads and checks single values, and knows no file. It is where the
// way profile → resolve → route → check → report begins. Start with New.
package schema

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/syntax"
)

// Schema is the table of the keys of profiles and aliases, for the engines that a program knows. It is
// where reading begins: files, URLs and values of a command line are read by its methods. It is not changed
// once it is made, and may be used by several goroutines.
type Schema struct {
	engines     engine.Set
	fields      []Field // every key of a profile, in the order in which the tool writes and shows them
	byName      map[key.Name]*Field
	aliasFields []Field // the same of an alias
	aliasByName map[key.Name]*Field
	cloudFields []Field // the same of a cloud account
}

// New makes the tables for a set of engines.
func New(engines engine.Set) *Schema {
	engineField := Field{
		Name:    "engine",
		Summary: "the kind of server: " + strings.Join(engines.Testable(), ", "),
		words:   engines.Words(),
	}
	s := &Schema{engines: engines, fields: profileFields(engineField), aliasFields: aliasFields(engineField),
		cloudFields: cloudFields()}
	for _, table := range [][]Field{s.fields, s.aliasFields} {
		for i := range table {
			table[i].adapt(engines)
		}
	}
	s.byName, s.aliasByName = indexFields(s.fields), indexFields(s.aliasFields)
	return s
}

// adapt completes a field with what the engines say about it.
func (f *Field) adapt(engines engine.Set) {
	rights := ""
	if f.Name == "as" {
		for _, e := range engines.All() {
			f.words = append(f.words, e.Keys.Rights...)
		}
		rights = ": " + strings.Join(f.words, ", ")
	}
	if only := engines.WithKey(f.Name); len(only) > 0 {
		f.Summary += " (" + strings.Join(only, ", ") + ")"
	}
	f.Summary += rights
	var notes []string
	for _, e := range engines.All() {
		if note := e.Keys.Notes[f.Name]; note != "" && !slices.Contains(notes, note) {
			notes = append(notes, note)
			f.Summary += "; " + note
		}
	}
	if f.words != nil {
		f.valid = oneOf(f.words)
		if f.Expected == "" {
			f.Expected = "one of " + strings.Join(f.words, ", ")
		}
	}
	if f.Name == "engine" {
		f.Expected = "one of " + strings.Join(engines.Testable(), ", ")
	}
}

// Engines are the engines that the schema is for.
func (s *Schema) Engines() engine.Set { return s.engines }

// Fields returns the description of every key of a profile, in writing order. It is the
// table itself, not to be changed: a key is known by its place there.
func (s *Schema) Fields() []Field { return s.fields }

// Field returns a key's description, or nil.
func (s *Schema) Field(name key.Name) *Field { return s.byName[name] }

// AliasFields returns the description of every key of an alias, in writing order.
func (s *Schema) AliasFields() []Field { return s.aliasFields }

// AliasField returns the description of an alias' key, or nil.
func (s *Schema) AliasField(name key.Name) *Field { return s.aliasByName[name] }

// expectations are the keys of the expect table.
func (s *Schema) expectations() []string {
	var names []string
	for i := range s.fields {
		if name, ok := strings.CutPrefix(string(s.fields[i].Name), "expect."); ok {
			names = append(names, name)
		}
	}
	return names
}

// OtherWords are other programs' names for keys, by our name. They help to find the nearest key; no file is read by
// them.
var OtherWords = map[string]key.Name{
	"sid": "instance", "service_name": "service", "servicename": "service",
	"hostname": "host", "server": "host", "address": "host", "db": "database", "dbname": "database", "schema": "database",
	"username": "user", "login": "user", "account": "user",
	"ssl": "tls", "sslmode": "tls", "ssl-mode": "tls", "sslrootcert": "tls-ca", "ssl-ca": "tls-ca", "sslcert": "tls-cert",
	"ssl-cert": "tls-cert", "sslkey": "tls-key", "ssl-key": "tls-key",
}

// UnknownKey is the message for a key that is no field, with the nearest one.
func (s *Schema) UnknownKey(name string) string {
	last := name[strings.LastIndexByte(name, '.')+1:]
	if slices.Contains(syntax.PasswordKeys, strings.ToLower(last)) {
		return syntax.NoPasswordHere
	}
	text := fmt.Sprintf("unknown key %s", clean.Name(name))
	if here := OtherWords[strings.ToLower(name)]; here != "" {
		return text + fmt.Sprintf("; here it is %q", here)
	}
	if near := nearest.Name(name, namesOf(s.fields)); near != "" {
		return text + fmt.Sprintf("; did you mean %q?", near)
	}
	if strings.HasPrefix(name, "expect.") {
		return text + "; an expectation is one of " + strings.Join(s.expectations(), ", ")
	}
	return text + "; gharbor help set lists the keys"
}
