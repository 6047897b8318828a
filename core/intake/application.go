package intake

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/nearest"
)

// splitVariable splits the name of an application's variable into a prefix that ends with DB or DATABASE, and the
// part of a connection that follows, in capital letters.
func splitVariable(name string) (prefix, part string, ok bool) {
	name = strings.ToUpper(name)
	at := strings.LastIndexByte(name, '_')
	if at < 0 {
		return "", "", false
	}
	prefix, part = name[:at], name[at+1:]
	last := prefix[strings.LastIndexByte(prefix, '_')+1:]
	return prefix, part, last == "DB" || last == "DATABASE"
}

// applicationParts are the parts as applications name them, each with its parameter.
var applicationParts = map[string]string{
	"HOST":     "host",
	"HOSTNAME": "host",
	"SERVER":   "host",
	"PORT":     "port",
	"NAME":     "dbname",
	"DATABASE": "dbname",
	"DBNAME":   "dbname",
	"USER":     "user",
	"USERNAME": "user",
	"PASSWORD": "password",
	"PASS":     "password",
	"PWD":      "password",
	"SOCKET":   "socket",

	"CONNECTION": engineParameter,
	"ENGINE":     engineParameter,
	"TYPE":       engineParameter,
	"DRIVER":     engineParameter,
	"DIALECT":    engineParameter,
	"ADAPTER":    engineParameter,
	"CLIENT":     engineParameter,
}

// engineParameter is for a part that names the server's engine.
const engineParameter = "\x00engine"

// applicationVariables are those of one application and one connection.
type applicationVariables struct {
	prefix string
	pairs  [][2]string
	notes  []string
	places map[string]Variable // by parameter
	other  []string
}

// applications finds the connections that applications have in several variables, such as DB_HOST, DB_PORT and
// DB_DATABASE, with any prefix. A connection needs a host or a socket, and a user or a database.
func (r Reader) applications(all []Variable, where string) (found []Connection, failed []error) {
	var groups []*applicationVariables
	for _, v := range all {
		prefix, part, ok := splitVariable(v.Name)
		if !ok || v.Value == "" {
			continue
		}
		i := slices.IndexFunc(groups, func(g *applicationVariables) bool { return g.prefix == prefix })
		if i < 0 {
			i = len(groups)
			groups = append(groups, &applicationVariables{prefix: prefix, places: make(map[string]Variable)})
		}
		g := groups[i]
		parameter, known := applicationParts[part]
		_, twice := g.places[parameter]
		switch {
		case !known || twice:
			g.other = append(g.other, v.Name)
			continue
		case parameter != engineParameter:
			g.pairs = append(g.pairs, [2]string{parameter, v.Value})
			g.notes = append(g.notes, v.noteUnreplaced(parameter == "password")...)
		}
		g.places[parameter] = v
	}
	for _, g := range groups {
		if !g.has("host", "socket") || !g.has("user", "dbname") {
			continue
		}
		one, err := r.assemble(g)
		if err != nil {
			failed = append(failed, err)
			continue
		}
		one.Origin = where
		found = append(found, one)
	}
	return found, failed
}

func (g *applicationVariables) has(parameters ...string) bool {
	return slices.ContainsFunc(parameters, func(p string) bool { _, ok := g.places[p]; return ok })
}

// assemble is the connection of an application's variables. The engine is the one that they name, else that of the
// port.
func (r Reader) assemble(g *applicationVariables) (Connection, error) {
	named, said := g.places[engineParameter]
	var spec *engine.Spec
	if said {
		if spec = r.engineNamed(named.Value); spec == nil {
			text := fmt.Sprintf("%s%s: %s is no engine that gharbor knows", named.at(), named.Name, clean.Quote(named.Value))
			if near := nearest.Name(named.Value, r.Schema.Engines().Words()); near != "" {
				text += fmt.Sprintf("; did you mean %q?", near)
			}
			return Connection{}, fmt.Errorf("%s", text)
		}
	} else if port, err := strconv.Atoi(g.places["port"].Value); err == nil {
		spec = r.Schema.Engines().AtPort(port)
	}
	if spec == nil {
		at := g.places["host"]
		if at.Name == "" {
			at = g.places["socket"]
		}
		return Connection{}, fmt.Errorf("%s%s: no variable says which engine the server is; add one such as %s_CONNECTION=%s",
			at.at(), at.Name, g.prefix, r.Schema.Engines().Example().Word)
	}
	one, err := r.fromPairs(spec.Word, g.pairs)
	one.Name = Name(g.prefix)
	one.Other, one.Notes = append(one.Other, g.other...), append(one.Notes, g.notes...)
	if err != nil {
		err = fmt.Errorf("%s_…: %w", g.prefix, err)
	}
	return one, err
}

// engineNamed is the engine of a word in an application's settings: one of the engine's names, also with a library's
// name after "+", or at the end of a module's name; nil for none.
func (r Reader) engineNamed(word string) *engine.Spec {
	word, _, _ = strings.Cut(strings.ToLower(word), "+")
	word = strings.TrimPrefix(word[strings.LastIndexByte(word, '.')+1:], "pdo_")
	for _, spec := range r.Schema.Engines().All() {
		if spec.Word == word || slices.Contains(spec.URL.Schemes, word) || slices.Contains(spec.OtherWords, word) {
			return spec
		}
	}
	return nil
}
