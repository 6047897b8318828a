package compose

import (
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"

	"github.com/compose-spec/compose-go/v2/template"
	"go.yaml.in/yaml/v3"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
)

// node is a value of a compose file, with anchors followed, merge keys applied and variables replaced. It has its
// place for errors.
type node struct {
	kind yaml.Kind // ScalarNode, SequenceNode or MappingNode
	text string    // of a scalar
	null bool      // a scalar that is nothing, as behind "KEY:"
	list []*node   // of a sequence
	keys []string  // of a mapping, in the order of the file
	at   map[string]*node

	filled   bool // a scalar with a variable in it
	reset    bool // !reset: removes what an earlier file has
	override bool // !override: replaces what an earlier file has

	file    string
	line    int
	keyLine int // of the key that it stands behind
}

// maxDepth bounds how deep values nest; a compose file has about eight levels.
const maxDepth = 100

// wrong is the error for a value that its key does not take. It has the key's path, and never the value.
func (n *node) wrong(key, what string) error {
	return &profile.FileError{Path: n.file, Line: n.line, What: key + " " + what}
}

// get returns the value of a key, nil for none.
func (n *node) get(key string) *node {
	if n == nil || n.kind != yaml.MappingNode {
		return nil
	}
	return n.at[key]
}

// set gives a mapping a value.
func (n *node) set(key string, value *node) {
	if n.at == nil {
		n.at = make(map[string]*node)
	}
	if _, known := n.at[key]; !known {
		n.keys = append(n.keys, key)
	}
	n.at[key] = value
}

// remove takes a key out of a mapping.
func (n *node) remove(key string) {
	delete(n.at, key)
	n.keys = slices.DeleteFunc(n.keys, func(k string) bool { return k == key })
}

// clone is a deep copy.
func (n *node) clone() *node {
	if n == nil {
		return nil
	}
	c := *n
	c.keys, c.list, c.at = slices.Clone(n.keys), make([]*node, len(n.list)), make(map[string]*node, len(n.at))
	for i, one := range n.list {
		c.list[i] = one.clone()
	}
	for key, one := range n.at {
		c.at[key] = one.clone()
	}
	return &c
}

// entries are the keys of a mapping with their values, in the order of the file; none of another kind of value.
func (n *node) entries() iter.Seq2[string, *node] {
	return func(yield func(string, *node) bool) {
		if n == nil || n.kind != yaml.MappingNode {
			return
		}
		for _, key := range slices.Clone(n.keys) {
			if value := n.at[key]; !yield(key, value) {
				return
			}
		}
	}
}

// parser makes nodes of a file's YAML.
type parser struct {
	scope
	file string
}

// parse reads the documents of a file; several are as files that follow one another.
func (s scope) parse(path string, data []byte) ([]*node, error) {
	if err := checkAnchors(data); err != nil {
		return nil, &profile.FileError{Path: path, What: err.Error()}
	}
	p := parser{s, path}
	decoder := yaml.NewDecoder(strings.NewReader(string(data)))
	var all []*node
	for {
		var document yaml.Node
		err := decoder.Decode(&document)
		if err != nil && errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, notYAML(path, err)
		}
		if len(document.Content) == 0 {
			continue
		}
		one, err := p.node(document.Content[0], nil)
		if err != nil {
			return nil, err
		}
		if one.null {
			continue
		}
		if one.kind != yaml.MappingNode {
			return nil, &profile.FileError{Path: path, Line: one.line, What: "a compose file is a mapping, with " +
				"services in it"}
		}
		all = append(all, one)
	}
	if len(all) == 0 {
		return nil, &profile.FileError{Path: path, What: "the file is empty"}
	}
	return all, nil
}

// node makes a node of a value at a path.
func (p parser) node(y *yaml.Node, at []string) (*node, error) {
	for y.Kind == yaml.AliasNode {
		y = y.Alias
	}
	n := &node{
		kind:     y.Kind,
		file:     p.file,
		line:     y.Line,
		reset:    y.Tag == "!reset",
		override: y.Tag == "!override",
	}
	if len(at) > maxDepth {
		return nil, n.wrong(strings.Join(at[:3], "."), "is too deep")
	}
	switch y.Kind {
	case yaml.ScalarNode:
		return n, p.fillIn(n, y, at)
	case yaml.SequenceNode:
		for i, one := range y.Content {
			item, err := p.node(one, append(slices.Clone(at), fmt.Sprint(i)))
			if err != nil {
				return nil, err
			}
			n.list = append(n.list, item)
		}
		return n, nil
	}
	return n, p.mapping(n, y, at)
}

// fillIn replaces the variables in a scalar. A number or a boolean is written in the form in which containers get it.
func (p parser) fillIn(n *node, y *yaml.Node, at []string) error {
	n.text = y.Value
	switch y.ShortTag() {
	case "!!null":
		n.null, n.text = true, ""
		return nil
	case "!!int", "!!float", "!!bool":
		var value any
		if err := y.Decode(&value); err != nil {
			return n.wrong(strings.Join(at, "."), "is no "+strings.TrimPrefix(y.ShortTag(), "!!"))
		}
		n.text = fmt.Sprint(value)
		return nil
	}
	text, err := template.SubstituteWithOptions(y.Value, func(name string) (string, bool) {
		n.filled = true
		return p.lookup(name)
	}, template.WithoutLogging)
	var missing *template.MissingRequiredError
	switch {
	case errors.As(err, &missing):
		return n.wrong(strings.Join(at, "."), "needs the variable "+clean.Word(missing.Variable)+", which has no value")
	case err != nil:
		return &profile.FileError{
			Path: p.file,
			Line: y.Line,
			What: "invalid interpolation format for " + strings.Join(at, ".") + "; write $$ for a $ that starts no " +
				"variable",
		}
	}
	n.text = text
	return nil
}

// mapping reads a mapping; the keys of merge keys ("<<") come after its own.
func (p parser) mapping(n *node, y *yaml.Node, at []string) error {
	var merged []*yaml.Node
	for i := 0; i+1 < len(y.Content); i += 2 {
		key, value := y.Content[i], y.Content[i+1]
		for key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key.Tag == "!!merge" {
			merged = append(merged, value)
			continue
		}
		if key.Kind != yaml.ScalarNode {
			return n.wrong(strings.Join(at, "."), "has a key that is no text")
		}
		if n.get(key.Value) != nil {
			return &profile.FileError{
				Path: p.file,
				Line: key.Line,
				What: strings.Join(append(slices.Clone(at), key.Value), ".") + " is here twice",
			}
		}
		one, err := p.node(value, append(slices.Clone(at), key.Value))
		if err != nil {
			return err
		}
		one.keyLine = key.Line
		n.set(key.Value, one)
	}
	for _, from := range merged {
		if err := p.merge(n, from, at); err != nil {
			return err
		}
	}
	return nil
}

// merge adds the keys of a merge key's mappings that the mapping itself does not have.
func (p parser) merge(n *node, from *yaml.Node, at []string) error {
	for from.Kind == yaml.AliasNode {
		from = from.Alias
	}
	sources := []*yaml.Node{from}
	if from.Kind == yaml.SequenceNode {
		sources = from.Content
	}
	for _, source := range sources {
		one, err := p.node(source, at)
		if err != nil {
			return err
		}
		if one.kind != yaml.MappingNode {
			return one.wrong(strings.Join(at, "."), "merges something that is no mapping")
		}
		for _, key := range one.keys {
			if n.get(key) == nil {
				n.set(key, one.at[key])
			}
		}
	}
	return nil
}
