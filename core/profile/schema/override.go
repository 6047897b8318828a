package schema

import (
	"fmt"
	"gentleharbor/core/profile/syntax"
	"strings"
)

// Override is a key=value of the command line.
type Override struct {
	Field *Field
	Value Value
	Unset bool // `key=`: as if neither the profile nor its likes had it
	Hop   int  // the number of the hop whose key it is, 0 for the profile's; -1: there are none
}

// String is the override as a command line has it.
func (o Override) String() string {
	name := string(o.Field.Name)
	if o.Hop > 0 {
		name = fmt.Sprintf("hop.%d.%s", o.Hop, name)
	}
	return name + "=" + o.Value.Text()
}

// TwoAddresses names the first two different kinds of address among sets, or
// nothing where there is one at the most.
func TwoAddresses(sets []Override) (first, second string) {
	for _, s := range sets {
		switch {
		case !s.Field.Address || s.Unset || string(s.Field.Name) == first:
		case first == "":
			first = string(s.Field.Name)
		default:
			return first, string(s.Field.Name)
		}
	}
	return "", ""
}

// AbsolutePath makes the path in a value of the field absolute, where there is one: a
// field that is a path, or a secret source with a path behind its colon.
func (f *Field) AbsolutePath(text, base, home string) string {
	if f.Path {
		return syntax.WholePath(text, base, home)
	}
	if kind, path, ok := strings.Cut(text, ":"); ok && f.Source &&
		(kind == "file" || kind == "passfile" || kind == "optionfile") {
		group := ""
		if at := strings.IndexByte(path, '#'); at >= 0 && kind == "optionfile" {
			path, group = path[:at], path[at:]
		}
		return kind + ":" + syntax.WholePath(path, base, home) + group
	}
	return text
}
