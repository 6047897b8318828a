package schema

import (
	"fmt"
	"gentleharbor/core/profile/syntax"
	"slices"
	"strconv"
	"strings"
)

// Value is what a profile says for a key. The zero value is an empty Text.
type Value struct {
	Kind  Kind
	Raw   string   // the text as written, of every kind but List
	Items []string // of a List, and the two names of a compose file's container
}

// TextValue, and the others, make a value of a kind without checking it.
func TextValue(s string) Value { return Value{Kind: Text, Raw: s} }

// ListValue is a List of words.
func ListValue(words ...string) Value { return Value{Kind: List, Items: words} }

// Text is the value as one word or line; a list's items stand between commas.
func (v Value) Text() string {
	switch {
	case v.Kind == List:
		return strings.Join(v.Items, ",")
	case v.Kind == NameOrLabels && len(v.Items) > 0:
		return strings.Join(v.Items, "/")
	}
	return v.Raw
}

// Words are the value's parts as written: the items of a list, the two names of a compose
// file's container, or the one text.
func (v Value) Words() []string {
	if len(v.Items) > 0 {
		return v.Items
	}
	return []string{v.Raw}
}

// List is the items of a list, or the one text.
func (v Value) List() []string {
	if v.Kind == List {
		return v.Items
	}
	return []string{v.Raw}
}

// Any is the value as encoding/json shows it.
func (v Value) Any() any {
	switch v.Kind {
	case List:
		return append([]string{}, v.Items...)
	case Number:
		if n, err := strconv.Atoi(v.Raw); err == nil {
			return n
		}
	case Switch:
		return v.Raw == "true"
	case NameOrLabels:
		if c := v.Container(); c.Compose() {
			return map[string]string{"project": c.Project, "service": c.Service}
		}
	}
	return v.Raw
}

func (v Value) Equal(o Value) bool {
	return v.Kind == o.Kind && v.Raw == o.Raw && slices.Equal(v.Items, o.Items)
}

// TOML is the value as written in the file.
func (v Value) TOML() string {
	switch v.Kind {
	case List:
		items := make([]string, len(v.Items))
		for i, item := range v.Items {
			items[i] = syntax.Quote(item)
		}
		return "[" + strings.Join(items, ", ") + "]"
	case Number:
		if _, err := strconv.Atoi(v.Raw); err == nil {
			return v.Raw
		}
	case Switch:
		return v.Raw
	case NameOrLabels:
		if c := v.Container(); c.Compose() {
			return fmt.Sprintf("{ project = %s, service = %s }", syntax.Quote(c.Project), syntax.Quote(c.Service))
		}
	}
	return syntax.Quote(v.Raw)
}
