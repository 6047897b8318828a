package intake

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// Document reads what `export -as json` writes: {"format": 1, "profile": NAME, "connection": {…}}. Each value of the
// connection is a profile's key with "_" for "-", and text; "servers" is a list of host:port or paths of sockets.
func (r Reader) Document(data []byte, path string) ([]Connection, error) {
	var document struct {
		Format     int                        `json:"format"`
		Profile    string                     `json:"profile"`
		Connection map[string]json.RawMessage `json:"connection"`
	}
	if err := json.Unmarshal(data, &document); err != nil {
		return nil, fmt.Errorf("not the JSON that export writes: %w", err)
	}
	if document.Format != 1 || document.Connection == nil {
		return nil, errors.New(`not the JSON that export writes: expected "format": 1, and a table "connection"`)
	}
	one := Connection{Name: Name(document.Profile), Origin: "JSON file " + path}
	for _, name := range slices.Sorted(maps.Keys(document.Connection)) {
		value := document.Connection[name]
		if name == "servers" {
			sets, err := r.servers(value)
			if err != nil {
				return nil, err
			}
			one.Sets = append(one.Sets, sets...)
			continue
		}
		var text string
		field := r.Schema.Field(key.Name(strings.ReplaceAll(name, "_", "-")))
		if json.Unmarshal(value, &text) != nil || field == nil || field.Address || field.Kind != schema.Text {
			return nil, fmt.Errorf("connection: unknown key %q%s", name, r.near(name))
		}
		set, err := field.Literal(text)
		if err != nil {
			return nil, fmt.Errorf("connection: %w", err)
		}
		one.Sets = append(one.Sets, schema.Override{Field: field, Value: set})
	}
	return []Connection{one}, nil
}

func (r Reader) near(name string) string {
	var all []string
	for _, f := range r.Schema.Fields() {
		all = append(all, strings.ReplaceAll(string(f.Name), "-", "_"))
	}
	if near := nearest.Name(name, all); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// servers are the keys that say where the servers are.
func (r Reader) servers(value json.RawMessage) ([]schema.Override, error) {
	var all []string
	if err := json.Unmarshal(value, &all); err != nil || len(all) == 0 {
		return nil, errors.New(`connection: servers: expected a list such as ["db.example:5432"]`)
	}
	texts := map[key.Name]string{key.Hosts: strings.Join(all, ",")}
	host, port, err := net.SplitHostPort(all[0])
	switch {
	case len(all) == 1 && strings.HasPrefix(all[0], "/"):
		texts = map[key.Name]string{key.Socket: all[0]}
	case len(all) == 1 && err == nil:
		texts = map[key.Name]string{key.Host: host, key.Port: port}
	}
	var sets []schema.Override
	for _, k := range slices.Sorted(maps.Keys(texts)) {
		field := r.Schema.Field(k)
		v, err := field.Literal(texts[k])
		if err != nil {
			return nil, fmt.Errorf("connection: servers: %w", err)
		}
		sets = append(sets, schema.Override{Field: field, Value: v})
	}
	return sets, nil
}

// neutral is the connection in the variables that are the same for each engine; ok is false where they have none.
func (r Reader) neutral(all []Variable, where string) (one Connection, ok bool, err error) {
	values := make(map[string]string)
	for _, v := range all {
		values[v.Name] = v.Value
	}
	if values[key.Engine.Variable()] == "" {
		return Connection{}, false, nil
	}
	socket := values[key.Socket.Variable()] != ""
	for _, k := range key.ForPrograms() {
		text := values[k.Variable()]
		if text == "" || socket && (k == key.Host || k == key.Port) {
			continue
		}
		field := r.Schema.Field(k)
		v, err := field.Literal(text)
		if err != nil {
			return Connection{}, false, fmt.Errorf("%s: %w", k.Variable(), err)
		}
		one.Sets = append(one.Sets, schema.Override{Field: field, Value: v})
	}
	one.Name, one.Origin = Name(values["GHARBOR_PROFILE"]), where
	return one, true, nil
}

// Lines reads the lines of a section, name=value, as a service file has them.
func (r Reader) Lines(spec *engine.Spec, lines []string) ([]Connection, error) {
	var pairs [][2]string
	for _, line := range lines {
		if name, value, ok := strings.Cut(line, "="); ok {
			pairs = append(pairs, [2]string{name, value})
		}
	}
	one, err := r.fromPairs(spec.Word, pairs)
	return []Connection{one}, err
}
