package secret

import (
	"strings"

	"gentleharbor/core/nearest"
)

// Forms lists the ways to write a secret source, for help and errors.
const Forms = "ask, env:NAME, file:PATH, passfile[:PATH], optionfile[:PATH][#GROUP], wallet[:ENTRY], " +
	"keyring[:ENTRY], command:WORDS, container:VARIABLE, cloud, none"

// Words are the forms without their arguments, for a line of help.
const Words = "ask, env:NAME, file:PATH, passfile, optionfile, wallet, keyring, command:…, container:…, cloud, none"

// HopForms lists the ways to write a secret source of a hop: credential files are
// the database servers'.
const HopForms = "ask, env:NAME, file:PATH, wallet[:ENTRY], keyring[:ENTRY], command:WORDS, none"

// ValidForHop reports whether a hop may have s as the source of a password or of
// a key's passphrase.
func ValidForHop(s string) bool {
	source, ok := ParseSource(s)
	return ok && source.Kind != "default" && source.Kind != "passfile" && source.Kind != "optionfile" &&
		source.Kind != "container" && source.Kind != "cloud" && s != "command"
}

// Source is a parsed secret source.
type Source struct {
	Kind string // a word of kinds, or "default" for the default order
	Arg  string // the NAME, PATH, PATH#GROUP, ENTRY or WORDS behind the colon
}

// String is the source as a profile writes it.
func (s Source) String() string {
	if s.Arg == "" {
		return s.Kind
	}
	return s.Kind + ":" + s.Arg
}

// kinds says of each source's word whether an argument may or must follow.
var kinds = map[string]struct{ may, must bool }{
	"ask":        {},
	"cloud":      {},
	"none":       {},
	"default":    {},
	"env":        {true, true},
	"file":       {true, true},
	"passfile":   {true, false},
	"optionfile": {true, false},
	"command":    {true, false},
	"wallet":     {true, false},
	"keyring":    {true, false},
	"container":  {true, true},
}

// ParseSource reads a source; ok is false where it is none.
func ParseSource(s string) (source Source, ok bool) {
	if group, ok := strings.CutPrefix(s, "optionfile#"); ok {
		s = "optionfile:#" + group // a group of the usual files
	}
	kind, arg, colon := strings.Cut(s, ":")
	rule, known := kinds[kind]
	if !known || colon && !rule.may || rule.must && arg == "" || colon && arg == "" {
		return Source{}, false
	}
	if (kind == "env" || kind == "container") && strings.ContainsAny(arg, "= \t$/") {
		return Source{}, false
	}
	return Source{kind, arg}, true
}

// Valid reports whether a profile may have s as its secret source.
func Valid(s string) bool {
	source, ok := ParseSource(s)
	return ok && source.Kind != "default"
}

// Advice says what is wrong with a source without repeating it: it may be a password in the wrong place.
func Advice(s string) string {
	kind, _, colon := strings.Cut(s, ":")
	switch {
	case kind == "env":
		return "expected env:NAME, the name of an environment variable"
	case kind == "container":
		return "expected container:VARIABLE, a variable of the container's environment"
	case kind == "file":
		return "expected file:PATH, the file with the password in its first line"
	case !colon:
		if near := nearest.Name(kind,
			[]string{"ask", "passfile", "optionfile", "wallet", "keyring", "command", "cloud",
				"none"}); near != "" && near != kind {
			return "expected a source (" + Forms + "); did you mean \"" + near + "\"?"
		}
	}
	return "expected where the password is, not the password: " + Forms
}
