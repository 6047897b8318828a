package compose

import (
	"errors"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/types"
	"gopkg.in/yaml.v3"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
)

// The forms of the library's errors that say where a mistake is.
var (
	yamlLine   = once(`^yaml: line ([0-9]+): `)
	additional = once(`(?:^|: )(?:\(root\)|([a-zA-Z0-9_.-]*)) ?` +
		`[Aa]dditional propert(?:y|ies) '?([^' ]+)'? (?:is|are) not allowed`)
	keyPath = once(`(?:^|: | )((?:services|secrets|volumes|networks|configs)\.[a-zA-Z0-9_.-]+)`)
	quoted  = once(`"[^"]*"|'[^']*'`) // values that an error repeats
)

// once compiles an expression when it is first used: no start of the program waits for it.
func once(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}

// mistake is a library's error as a person is told of it: file, line and key where they
// are known, and never a value, which may be a password.
func (l *loading) mistake(err error) error {
	var outside *Outside
	if errors.As(err, &outside) {
		return err
	}
	var file *profile.FileError
	if errors.As(err, &file) {
		return err
	}
	path := l.Files[len(l.Files)-1]
	for _, one := range l.Files {
		if strings.Contains(err.Error(), one) {
			path = one
		}
	}
	text := strings.ReplaceAll(err.Error(), path+": ", "")
	text = strings.TrimPrefix(strings.TrimPrefix(text, "validating "), path+": ")
	if m := yamlLine().FindStringSubmatch(text); m != nil {
		line, _ := strconv.Atoi(m[1])
		return &profile.FileError{Path: path, Line: line, What: "is not YAML: " + harmless(text[len(m[0]):])}
	}
	if m := additional().FindStringSubmatch(text); m != nil {
		key := strings.Trim(m[1]+"."+m[2], ".")
		what := "unknown key " + strconv.Quote(clean.Line(key, 100))
		if near := nearest.Name(m[2], keysAt(m[1])); near != "" {
			what += "; did you mean " + strconv.Quote(near) + "?"
		}
		return &profile.FileError{Path: path, Line: l.lineOf(path, key), What: what}
	}
	line := 0
	if m := keyPath().FindStringSubmatch(text); m != nil {
		line = l.lineOf(path, strings.TrimRight(m[1], "."))
	}
	return &profile.FileError{Path: path, Line: line, What: harmless(text)}
}

// newKey is a key that the library does not know and that is like none that it does, ""
// where the error is another.
func newKey(err error) string {
	if err == nil {
		return ""
	}
	if m := additional().FindStringSubmatch(err.Error()); m != nil && nearest.Name(m[2], keysAt(m[1])) == "" {
		return clean.Line(strings.Trim(m[1]+"."+m[2], "."), 100)
	}
	return ""
}

// harmless is an error's text without the values that it quotes.
func harmless(text string) string {
	text, _, _ = strings.Cut(strings.TrimSpace(text), "\n")           // what follows is the value itself
	if before, _, ok := strings.Cut(text, "is missing a value"); ok { // what the file says of it follows
		text = before + "is missing a value"
	}
	text = quoted().ReplaceAllString(text, "…")
	return clean.Line(clean.CutSecrets([]string{text})[0], 300)
}

// keysAt are the keys that the specification has at a place: of a service, else of the
// file.
func keysAt(at string) []string {
	kind := reflect.TypeFor[types.Project]()
	if parts := strings.Split(at, "."); len(parts) == 2 && parts[0] == "services" {
		kind = reflect.TypeFor[types.ServiceConfig]()
	}
	var keys []string
	for i := range kind.NumField() {
		if name, _, _ := strings.Cut(kind.Field(i).Tag.Get("yaml"), ","); name != "" && name != "-" {
			keys = append(keys, name)
		}
	}
	return keys
}

// lineOf is the line on which a key stands, by its path; that of the nearest key above
// it where it is not found, 0 for none.
func (l *loading) lineOf(path, key string) int {
	var document yaml.Node
	if yaml.Unmarshal(l.read[path], &document) != nil || len(document.Content) == 0 {
		return 0
	}
	node, line := document.Content[0], 0
	for word := range strings.SplitSeq(key, ".") {
		found := false
		for i := 0; node.Kind == yaml.MappingNode && i+1 < len(node.Content); i += 2 {
			if node.Content[i].Value == word {
				line, node, found = node.Content[i].Line, node.Content[i+1], true
				break
			}
		}
		if !found {
			break
		}
	}
	return line
}
