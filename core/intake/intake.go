// Package intake reads connections from open forms: connection URLs, environment variables and dotenv files, and the
// password, service and option files of the servers' own clients. It makes values for profiles of them, with the
// passwords apart. It expands no variables: a dollar sign in such a file is a dollar sign.
package intake

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/connurl"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// Connection is a connection.
type Connection struct {
	Name     string // what a profile could be called
	Sets     []schema.Override
	Password secret.Value // not Present where there is none
	Origin   string       // "service file /home/w/.pg_service.conf, [sightings]"
	Other    []string     // settings that a profile has no place for
	Notes    []string     // what became of settings that no key says alone
	Trouble  string       // why a password that is declared is not there, "" where it is or none is
}

// maxFile bounds a file that is taken in.
const maxFile = 4 << 20

// ReadFile reads a file of text, of at most 4 MiB.
func ReadFile(path string) ([]byte, error) { return atomicfile.Read(path, maxFile) }

// Name makes a profile's name of words: small letters and digits, with signs between them.
func Name(words ...string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(strings.Join(words, "-")) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case r == '.' || r == '_' || r == '-':
			b.WriteRune(r)
		default:
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "._-")
	if name == "" {
		return "profile"
	}
	return name[:min(len(name), 64)]
}

// Reader reads connections for the engines of a schema.
type Reader struct {
	Schema *schema.Schema

	// Passed gets each connection that can't be imported, where others can. Where Passed is nil, or no other can,
	// that is an error.
	Passed func(error)
}

// leftOutError is the error for connections that can't be imported, beside those that can.
func (r Reader) leftOutError(found []Connection, failed []error) error {
	if len(failed) == 0 {
		return nil
	}
	if r.Passed == nil || len(found) == 0 {
		return failed[0]
	}
	for _, err := range failed {
		r.Passed(err)
	}
	return nil
}

// URL takes a connection URL, password and all.
func (r Reader) URL(text string) ([]Connection, error) {
	one, err := r.connection(strings.TrimSpace(text))
	if err != nil {
		return nil, err
	}
	one.Origin = "a connection URL"
	return []Connection{one}, nil
}

// connection reads a connection URL, or a connection string of names and values.
func (r Reader) connection(text string) (Connection, error) {
	if word, pairs, ok := connurl.Pairs(r.Schema, text); ok {
		return r.fromPairs(word, pairs)
	}
	c, err := connurl.Lenient(r.Schema, text)
	if err != nil {
		return Connection{}, err
	}
	return newConnection(c, nameOf(c.Sets), ""), nil
}

func newConnection(c *connurl.Connection, name, origin string) Connection {
	return Connection{Name: name, Sets: c.Sets, Password: c.Password, Origin: origin, Other: c.LeftOut, Notes: c.Notes}
}

func nameOf(sets []schema.Override) string {
	for _, key := range []string{"database", "host", "engine"} {
		for _, s := range sets {
			if string(s.Field.Name) == key && !hostname.Local(s.Value.Text()) {
				return Name(s.Value.Text())
			}
		}
	}
	return "profile"
}

// Variable is a name and a value, of an environment or of a dotenv file.
type Variable struct {
	Name, Value string
	Line        int // 0 for the environment
}

// Variables finds the connections in variables: connection URLs and strings, those that applications have in several
// variables (see applications), and those of an engine's clients where they are complete enough. where names the
// variables' place.
func (r Reader) Variables(all []Variable, where string) ([]Connection, error) {
	var found []Connection
	var failed []error
	for _, v := range all {
		_, _, named := connurl.Pairs(r.Schema, v.Value)
		if !named && !strings.Contains(v.Value, "://") {
			continue
		}
		one, err := r.connection(v.Value)
		if err != nil {
			if named || connurl.IsOf(r.Schema, v.Value) {
				failed = append(failed, fmt.Errorf("%s%s: %w", v.at(), v.Name, err))
			}
			continue // a URL of something else
		}
		name := strings.ToLower(v.Name)
		for _, ending := range []string{"_url", "_uri", "_dsn"} {
			name = strings.TrimSuffix(name, ending)
		}
		one.Name, one.Origin = Name(name), where+v.place()
		one.Notes = append(one.Notes, v.noteUnreplaced(false)...)
		found = append(found, one)
	}
	applications, problems := r.applications(all, where)
	found, failed = append(found, applications...), append(failed, problems...)
	for _, spec := range r.Schema.Engines().All() {
		for _, family := range spec.Variables {
			one, ok, err := r.family(spec, family, all)
			if err != nil {
				failed = append(failed, err)
			}
			if ok {
				one.Origin = where
				found = append(found, one)
			}
		}
	}
	if len(found)+len(failed) == 0 {
		if one, ok, err := r.neutral(all, where); ok || err != nil {
			return []Connection{one}, err
		}
	}
	if err := r.leftOutError(found, failed); err != nil {
		return nil, err
	}
	return found, nil
}

// family is the connection in an engine's family of variables; ok is false where too few are set.
func (r Reader) family(spec *engine.Spec, family engine.Family, all []Variable) (one Connection, ok bool, err error) {
	var pairs [][2]string
	var notes []string
	for _, v := range all {
		if key, known := family.Names[v.Name]; known && v.Value != "" {
			pairs = append(pairs, [2]string{key, v.Value})
			notes = append(notes, v.noteUnreplaced(key == "password")...)
			ok = ok || slices.Contains(family.Least, v.Name)
		}
	}
	if !ok {
		return Connection{}, false, nil
	}
	one, err = r.fromPairs(spec.Word, pairs)
	one.Notes = append(one.Notes, notes...)
	for _, v := range all {
		if _, known := family.Names[v.Name]; !known && family.Prefix != "" && strings.HasPrefix(v.Name, family.Prefix) {
			one.Other = append(one.Other, v.Name)
		}
	}
	return one, err == nil, err
}

func (v Variable) at() string {
	if v.Line == 0 {
		return ""
	}
	return fmt.Sprintf("line %d, ", v.Line)
}

func (v Variable) place() string {
	if v.Line == 0 {
		return ", " + v.Name
	}
	return fmt.Sprintf(", line %d (%s)", v.Line, v.Name)
}

// noteUnreplaced returns a note about a value that seems to have a variable in it, which was not replaced. A password
// is left out: it has a dollar sign more often than a variable.
func (v Variable) noteUnreplaced(password bool) []string {
	_, after, dollar := strings.Cut(v.Value, "$")
	if v.Line == 0 || password || !dollar || after == "" || after[0] != '{' && after[0] != '_' && !isLetter(after[0]) {
		return nil
	}
	return []string{fmt.Sprintf("%s has a $ in it, which stays: variables are not replaced in such a file", v.Name)}
}

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// fromPairs makes a connection of parameters. Without an address it is on this machine, as for the clients.
func (r Reader) fromPairs(word string, pairs [][2]string) (Connection, error) {
	c, err := connurl.FromParameters(r.Schema, word, pairs)
	if err != nil {
		return Connection{}, err
	}
	sets := c.Sets
	if !slices.ContainsFunc(sets, func(s schema.Override) bool { return s.Field.Address }) {
		sets = append(sets, schema.Override{Field: r.Schema.Field(key.Host), Value: schema.TextValue("127.0.0.1")})
	}
	one := newConnection(c, nameOf(sets), "")
	one.Sets = sets
	return one, nil
}

// Forms are the forms of files that an engine's own clients keep, in the order of the engines.
func (r Reader) Forms() []engine.Import {
	var all []engine.Import
	for _, spec := range r.Schema.Engines().All() {
		all = append(all, spec.Imports...)
	}
	return all
}

// File reads a file in one of Forms; ok is false for an unknown form. A password stays in the file where the profile
// can name the file as its source.
func (r Reader) File(form, path string) (found []Connection, ok bool, err error) {
	for _, spec := range r.Schema.Engines().All() {
		for _, i := range spec.Imports {
			if i.Form != form {
				continue
			}
			sections, err := i.Read(path)
			if err != nil {
				return nil, true, err
			}
			var failed []error
			for _, s := range sections {
				one, err := r.Section(spec, s, path)
				if err != nil {
					failed = append(failed, err)
					continue
				}
				found = append(found, one)
			}
			if err := r.leftOutError(found, failed); err != nil {
				return nil, true, err
			}
			return found, true, nil
		}
	}
	return nil, false, nil
}

// Section is the connection that a section of an engine's file describes.
func (r Reader) Section(spec *engine.Spec, s engine.Section, path string) (Connection, error) {
	word := s.Engine
	if word == "" {
		word = spec.Word
	}
	one, err := r.fromPairs(word, s.Pairs)
	if taken := len(s.Pairs) - len(one.Other); err == nil && taken == 0 {
		err = errors.New("it says nothing of a connection")
		if len(one.Other) > 0 {
			err = fmt.Errorf("it says nothing of a connection that is known: %s", clean.Quote(strings.Join(one.Other, ", ")))
		}
	}
	if err != nil {
		return one, fmt.Errorf("%s: %w", s.Place(path), err)
	}
	one.Origin = s.Origin
	if len(s.Names) > 0 {
		one.Name = Name(s.Names...)
	}
	if s.Source != "" {
		one.Sets = append(one.Sets, schema.Override{
			Field: r.Schema.Field(key.Secret),
			Value: schema.TextValue(s.Source),
		})
	}
	return one, nil
}
