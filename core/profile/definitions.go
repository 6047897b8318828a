package profile

import (
	"fmt"
	"strings"
)

// definition is one table or value of a TOML document and how it came to be.
// TOML lets a table be written once; the rules are those of its section
// "Table" (https://toml.io/en/v1.0.0#table).
type definition struct {
	form form
	line int32
	by   int32 // the number of the header whose dotted keys make it
	in   map[string]*definition
}

type form uint8

const (
	implied form = iota // [a.b] implies a
	headed              // [a]
	listed              // [[a]]
	dotted              // a.b = 1 makes a
	whole               // a = 1, a = { }
)

// repetition is a table or value that a document has twice.
type repetition struct {
	path  []string
	first *definition
}

func (r *repetition) Error() string {
	name := make([]string, len(r.path))
	for i, part := range r.path {
		name[i] = nameKey(part)
	}
	at := strings.Join(name, ".")
	if r.first.form == whole {
		return fmt.Sprintf("%s is defined twice; the one in line %d can't be added to from outside", at, r.first.line)
	}
	return fmt.Sprintf("%s is defined twice, first in line %d; put its keys together", at, r.first.line)
}

// part returns what is called name in d, and makes it where it is missing.
func (d *definition) part(name string, line int32) *definition {
	if next := d.in[name]; next != nil {
		return next
	}
	if d.in == nil {
		d.in = make(map[string]*definition)
	}
	next := &definition{line: line}
	d.in[name] = next
	return next
}

// header enters the table of a header, [path] or [[path]] where it is an array.
func (d *definition) header(path []string, array bool, line int32) (*definition, error) {
	for i, name := range path[:len(path)-1] {
		if d = d.part(name, line); d.form == whole {
			return nil, &repetition{path[:i+1], d}
		}
	}
	_, before := d.in[path[len(path)-1]]
	d = d.part(path[len(path)-1], line)
	switch {
	case array && (!before || d.form == listed):
		*d = definition{form: listed, line: line}
	case !array && d.form == implied:
		d.form, d.line = headed, line
	default:
		return nil, &repetition{path, d}
	}
	return d, nil
}

// key enters what a key of the table d names. path is that of the table and
// the key together, the last keys parts of it the key's; by is the number of
// the header that the key stands under.
func (d *definition) key(path []string, keys int, by, line int32) (*definition, error) {
	for i := len(path) - keys; i < len(path)-1; i++ {
		_, before := d.in[path[i]]
		if d = d.part(path[i], line); !before {
			d.form, d.by = dotted, by
		}
		if d.form != dotted || d.by != by {
			return nil, &repetition{path[:i+1], d}
		}
	}
	name := path[len(path)-1]
	if first := d.in[name]; first != nil {
		return nil, &repetition{path, first}
	}
	d = d.part(name, line)
	d.form = whole
	return d, nil
}
