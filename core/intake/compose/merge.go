package compose

import (
	"cmp"
	"strings"

	"go.yaml.in/yaml/v3"
)

// mergeInto merges a later file's value into an earlier one's (compose specification, "Merge"). at is the path of
// both, with "*" for the names of services and secrets.
func mergeInto(base, over *node, at string) *node {
	switch {
	case base == nil || base.reset || over.override:
		return over.clone()
	case over.null && over.kind == yaml.ScalarNode:
		return base
	}
	if rule, ok := forms[at]; ok {
		base, over = rule(base), rule(over)
	}
	switch {
	case base.kind != over.kind || over.kind == yaml.ScalarNode || replaced[at]:
		return over.clone()
	case over.kind == yaml.SequenceNode:
		return appendList(base, over, at)
	}
	merged := base.clone()
	merged.line, merged.file = over.line, over.file
	for _, key := range over.keys {
		value := over.at[key]
		if !value.reset {
			value = mergeInto(merged.get(key), value, below(at, key))
		}
		merged.set(key, value)
	}
	return merged
}

// plain removes the marks of a merge from a value, and the keys that were reset.
func (n *node) plain() *node {
	if n == nil {
		return nil
	}
	n.override = false
	for key, value := range n.entries() {
		if value.reset {
			n.remove(key)
		} else {
			value.plain()
		}
	}
	return n
}

// below is the path of a key below a path.
func below(at, key string) string {
	switch {
	case at == "":
		return key
	case at == "services" || at == "secrets":
		return at + ".*"
	}
	return at + "." + key
}

// replaced are the lists that a later file replaces.
var replaced = map[string]bool{"services.*.command": true, "services.*.entrypoint": true}

// forms are the keys that can be written in several forms, and how to make each the one for a merge.
var forms = map[string]func(*node) *node{
	"services.*.environment": pairs,
	"services.*.labels":      pairs,
	"services.*.depends_on":  names,
	"services.*.env_file":    sequence,
	"services.*.label_file":  sequence,
}

// pairs makes a mapping of a list of "NAME=value"; a name alone has no value.
func pairs(n *node) *node {
	if n.kind != yaml.SequenceNode {
		return n
	}
	m := &node{kind: yaml.MappingNode, file: n.file, line: n.line}
	for _, one := range n.list {
		name, value, has := strings.Cut(one.text, "=")
		m.set(name, &node{kind: yaml.ScalarNode, text: value, null: !has, file: one.file, line: one.line})
	}
	return m
}

// names makes a mapping of a list of names.
func names(n *node) *node {
	if n.kind != yaml.SequenceNode {
		return n
	}
	m := &node{kind: yaml.MappingNode, file: n.file, line: n.line}
	for _, one := range n.list {
		m.set(one.text, &node{kind: yaml.MappingNode, file: one.file, line: one.line})
	}
	return m
}

// sequence makes a list of one value.
func sequence(n *node) *node {
	if n.kind == yaml.SequenceNode {
		return n
	}
	return &node{kind: yaml.SequenceNode, list: []*node{n}, file: n.file, line: n.line}
}

// orNode is the first of two values that is not nil.
func orNode(n, other *node) *node {
	if n != nil {
		return n
	}
	return other
}

// appendList appends a list to another; of two items with the same identity, the later one counts.
func appendList(base, over *node, at string) *node {
	all := base.clone()
	for _, item := range over.list {
		same := -1
		for i, old := range all.list {
			if id := identity(item, at); id != "" && id == identity(old, at) {
				same = i
			}
		}
		if same >= 0 {
			all.list[same] = item.clone()
		} else {
			all.list = append(all.list, item.clone())
		}
	}
	return all
}

// identity is what makes two items of a list the same, "" where no two are.
func identity(n *node, at string) string {
	switch at {
	case "services.*.ports":
		if port, err := portOf(n, at); err == nil && len(port) == 1 {
			p := port[0]
			return strings.Join([]string{cmp.Or(p.host, "0.0.0.0"), p.Published, p.text(), p.Protocol}, " ")
		}
		return ""
	case "services.*.secrets":
		if target := n.get("target"); target != nil {
			return target.text
		}
		return "/run/secrets/" + orNode(n.get("source"), n).text
	case "services.*.env_file":
		if path := n.get("path"); path != nil {
			return path.text
		}
	}
	if n.kind == yaml.ScalarNode {
		return n.text
	}
	return ""
}
