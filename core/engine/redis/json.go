package redis

import (
	"encoding/json"

	"gentleharbor/core/engine/redis/resp"
)

// appendJSON adds a reply as JSON: lists as arrays, names and values as an object, numbers as they are.
func appendJSON(to []byte, r *resp.Reply) []byte {
	switch {
	case r.Kind == '_':
		return append(to, "null"...)
	case r.Kind == '%':
		to = append(to, '{')
		for i := 0; i+1 < len(r.Items); i += 2 {
			if i > 0 {
				to = append(to, ',')
			}
			to = append(appendText(to, valueOf(&r.Items[i])), ':')
			to = appendJSON(to, &r.Items[i+1])
		}
		return append(to, '}')
	case r.IsList():
		to = append(to, '[')
		for i := range r.Items {
			if i > 0 {
				to = append(to, ',')
			}
			to = appendJSON(to, &r.Items[i])
		}
		return append(to, ']')
	case r.Kind == ':', r.Kind == '#', r.Kind == ',' && json.Valid(r.Text):
		return append(to, valueOf(r)...)
	}
	return appendText(to, printable(r.Text))
}

// appendText adds a text as a JSON string.
func appendText(to, text []byte) []byte {
	quoted, _ := json.Marshal(string(text))
	return append(to, quoted...)
}
