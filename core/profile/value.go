package profile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Value is what a profile says for a key.
type Value struct {
	kind Kind
	text string
	list []string
}

// TextValue, and the others, make a value of a kind without checking it.
func TextValue(s string) Value { return Value{kind: Text, text: s} }

// ListValue is a List of words.
func ListValue(words ...string) Value { return Value{kind: List, list: words} }

// Text is the value as one word or line; a list's items stand between commas.
func (v Value) Text() string {
	switch {
	case v.kind == List:
		return strings.Join(v.list, ",")
	case v.kind == NameOrLabels && len(v.list) > 0:
		return strings.Join(v.list, "/")
	}
	return v.text
}

// Words are the value's parts as written: the items of a list, the two names of a compose
// file's container, or the one text.
func (v Value) Words() []string {
	if len(v.list) > 0 {
		return v.list
	}
	return []string{v.text}
}

// List is the items of a list, or the one text.
func (v Value) List() []string {
	if v.kind == List {
		return v.list
	}
	return []string{v.text}
}

// Any is the value as encoding/json shows it.
func (v Value) Any() any {
	switch v.kind {
	case List:
		return v.list
	case Number:
		if n, err := strconv.Atoi(v.text); err == nil {
			return n
		}
	case Switch:
		return v.text == "true"
	case NameOrLabels:
		if c := v.Container(); c.Compose() {
			return map[string]string{"project": c.Project, "service": c.Service}
		}
	}
	return v.text
}

func (v Value) equal(o Value) bool {
	return v.kind == o.kind && v.text == o.text && slices.Equal(v.list, o.list)
}

// toml is the value as written in the file.
func (v Value) toml() string {
	switch v.kind {
	case List:
		items := make([]string, len(v.list))
		for i, item := range v.list {
			items[i] = quote(item)
		}
		return "[" + strings.Join(items, ", ") + "]"
	case Number:
		if _, err := strconv.Atoi(v.text); err == nil {
			return v.text
		}
	case Switch:
		return v.text
	case NameOrLabels:
		if c := v.Container(); c.Compose() {
			return fmt.Sprintf("{ project = %s, service = %s }", quote(c.Project), quote(c.Service))
		}
	}
	return quote(v.text)
}

// quote writes a TOML 1.0 basic string.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
