// Package compose finds the database servers in compose files, and writes a compose file (compose specification). It
// knows variables, several files, profiles, env files and secrets. It is a shelf beside intake: a server that it
// finds becomes a profile that finds the service's container by its labels.
//
// Libraries read the YAML, its variables and the files of variables. Our own code goes through files that extend,
// include and change one another, as the specification's own loader would add 3 ms and more to each start of the
// program. A test compares the two.
package compose

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/sirupsen/logrus"
	"go.yaml.in/yaml/v3"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/schema"
)

// maxFile bounds a compose file or env file that is read.
const maxFile = 4 << 20

// Request says what to read.
type Request struct {
	Schema   *schema.Schema // for whose engines servers are looked for
	Files    []string       // absolute; later ones change what earlier ones say
	EnvFiles []string       // for the variables; none is .env beside the first file
	Active   []string       // the compose profiles that are active; "*" is all
	Project  string         // the project's name, "" for what the files say

	// Machine reads variables of this machine, nil where they may not be used.
	Machine map[string]string

	// Pinned are bytes to use in place of a file's, by absolute path: those that were hashed when the user vouched
	// for the files.
	Pinned map[string][]byte

	// Root is the folder to which all files are bound, "" for no bound.
	Root string

	// templates keeps variables as they are written, and skips env files outside of the root.
	templates bool
}

// defaultNames and overrideNames are the usual names of compose files (compose specification, "Compose file"),
// and of those that change them.
var (
	defaultNames  = []string{"compose.yaml", "compose.yml", "docker-compose.yml", "docker-compose.yaml"}
	overrideNames = []string{
		"compose.override.yml",
		"compose.override.yaml",
		"docker-compose.override.yml",
		"docker-compose.override.yaml",
	}
)

// fileVariable and separatorVariable name the files of a project (Docker documentation, "Set or change pre-defined
// environment variables"). They may stand in the folder's .env.
const (
	fileVariable      = "COMPOSE_FILE"
	separatorVariable = "COMPOSE_PATH_SEPARATOR"
)

// DefaultFiles are the compose files to read in a folder where none is named: those of COMPOSE_FILE, from this
// machine's variables or the folder's .env, else the first file of a usual name, and its override.
func DefaultFiles(folder string, lookup func(string) (string, bool)) []string {
	own, _ := dotenv.Read(filepath.Join(folder, ".env")) // one that can't be read is an error when the files are read
	variable := func(name string) string {
		if value, ok := lookup(name); ok {
			return value
		}
		return own[name]
	}
	var files []string
	if list := variable(fileVariable); list != "" {
		separator := cmp.Or(variable(separatorVariable), string(filepath.ListSeparator))
		for path := range strings.SplitSeq(list, separator) {
			if !filepath.IsAbs(path) {
				path = filepath.Join(folder, path)
			}
			files = append(files, path)
		}
		return files
	}
	for _, names := range [][]string{defaultNames, overrideNames} {
		at := slices.IndexFunc(names, func(name string) bool {
			_, err := os.Stat(filepath.Join(folder, name))
			return err == nil
		})
		if at < 0 {
			break
		}
		files = append(files, filepath.Join(folder, names[at]))
	}
	return files
}

// quiet keeps the library from writing to standard error, where it could show values.
var quiet = sync.OnceFunc(func() { logrus.SetOutput(io.Discard) })

// projectLoader is one read under way.
type projectLoader struct {
	Request
	env     map[string]string // the variables of the first files
	read    map[string][]byte // every file that was read here, by absolute path
	named   []string          // files that the files name
	missed  map[string]bool   // variables that have no value
	unknown string            // a key that was passed over, "" for none
	spared  map[string]bool   // variables for which the files have a value of their own
}

// load reads the files, and ends with its context: hostile files could take long to read.
func load(ctx context.Context, r Request) (*project, *projectLoader, error) {
	type model struct {
		project *project
		l       *projectLoader
		err     error
	}
	done := make(chan model, 1)
	defect.Go(func() {
		project, l, err := loadModel(r)
		done <- model{project, l, err}
	})
	select {
	case m := <-done:
		return m.project, m.l, m.err
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
}

// loadModel is load without the context.
func loadModel(r Request) (*project, *projectLoader, error) {
	quiet()
	l := &projectLoader{
		Request: r,
		env:     make(map[string]string),
		read:    make(map[string][]byte),
		missed:  make(map[string]bool),
		spared:  make(map[string]bool),
	}
	first := scope{l, filepath.Dir(r.Files[0]), l.env}
	if err := first.variables(); err != nil {
		return nil, nil, err
	}
	for _, path := range r.Files {
		if _, err := l.file(path); err != nil {
			return nil, nil, err
		}
	}
	name, err := first.projectName()
	if err != nil {
		return nil, nil, err
	}
	l.env["COMPOSE_PROJECT_NAME"] = name
	model, err := first.model(r.Files, nil)
	if err != nil {
		return nil, nil, err
	}
	l.withDefault()
	p, err := first.project(model, name)
	if err != nil {
		return nil, nil, err
	}
	return p, l, first.environments(p)
}

// project makes the project of its model.
func (s scope) project(model *node, name string) (*project, error) {
	p := &project{Name: name, Services: make(map[string]*service), Disabled: make(map[string]*service)}
	var err error
	if p.Secrets, err = secrets(model.get("secrets")); err != nil {
		return nil, err
	}
	active := s.active()
	for name, n := range model.get("services").entries() {
		one, err := s.service(name, n)
		if err != nil {
			return nil, err
		}
		if len(one.Profiles) == 0 || slices.Contains(active, "*") ||
			slices.ContainsFunc(one.Profiles, func(p string) bool { return slices.Contains(active, p) }) {
			p.Services[name] = one
		} else {
			p.Disabled[name] = one
		}
	}
	services := model.get("services")
	for name, one := range p.all() {
		for other := range one.DependsOn {
			if services.get(other) == nil {
				at := services.get(name).get("depends_on")
				return nil, at.wrong("services."+name+".depends_on", "names an unknown service")
			}
		}
	}
	return p, nil
}

// variables are the variables for values in the files: those of this machine, where they may be used, win over those
// of the env files (compose specification).
func (s scope) variables() error {
	files := s.EnvFiles
	if len(files) == 0 {
		path := filepath.Join(s.folder, ".env")
		if _, err := os.Stat(path); err == nil {
			files = []string{path}
		}
	}
	maps.Copy(s.env, s.Machine)
	all, err := s.withVariables(files)
	maps.Copy(s.env, all)
	return err
}

// withVariables adds to a scope the variables of files. The scope's own win, then those of later files.
func (s scope) withVariables(files []string) (map[string]string, error) {
	beneath := make(map[string]string)
	for _, path := range files {
		if path == os.DevNull {
			continue
		}
		data, err := s.file(path)
		if err != nil {
			return nil, err
		}
		if s.templates {
			continue
		}
		err = readVariables(path, "", data, beneath, func(name string) (string, bool) {
			if value, ok := s.env[name]; ok {
				return value, true
			}
			if value, ok := beneath[name]; ok {
				return value, true
			}
			return s.lookup(name)
		})
		if err != nil {
			return nil, err
		}
	}
	maps.Copy(beneath, s.env)
	return beneath, nil
}

// readVariables adds the variables of a file. Values of the format "raw" are taken as they stand.
func readVariables(path, format string, data []byte, to map[string]string, lookup dotenv.LookupFn) error {
	var err error
	switch format {
	case "":
		err = dotenv.ParseWithFormat(bytes.NewReader(data), path, to, lookup, "")
	case "raw":
		for line := range strings.Lines(string(data)) {
			name, value, ok := strings.Cut(strings.TrimRight(line, "\r\n"), "=")
			if name = strings.TrimSpace(name); ok && name != "" && name[0] != '#' {
				to[name] = value
			}
		}
	default:
		return &profile.FileError{
			Path: path,
			What: "has the format " + clean.Word(format) + ", which is not known",
		}
	}
	if err != nil {
		return &profile.FileError{Path: path, What: "is no file of NAME=VALUE lines as the compose specification " +
			"has them"}
	}
	return nil
}

// file reads a file whole.
func (l *projectLoader) file(path string) ([]byte, error) {
	if l.templates && strings.Contains(path, "$") { // where it is is not known yet
		l.name(path)
		return nil, nil
	}
	if err := l.checkInside(path); err != nil {
		if l.templates && !slices.Contains(l.Files, path) {
			l.name(path)
			return nil, nil
		}
		return nil, err
	}
	data, pinned := l.Pinned[path]
	if pinned {
		l.read[path] = data
		return data, nil
	}
	data, err := atomicfile.Read(path, maxFile)
	if err != nil {
		return nil, &profile.FileError{Path: path, What: "cannot be read: " + atomicfile.Plain(err).Error()}
	}
	l.read[path] = data
	return data, nil
}

// lookup is the value of a variable. It notes one without a value.
func (s scope) lookup(name string) (string, bool) {
	value, ok := s.env[name]
	if !ok {
		s.missed[name] = true
	}
	if s.templates {
		return "${" + name + "}", true
	}
	return value, ok
}

// name notes a file that the files name.
func (l *projectLoader) name(path string) {
	if !slices.Contains(l.named, path) {
		l.named = append(l.named, path)
	}
}

// withDefault notes the variables for which the files have a default: ${NAME:-default}.
func (l *projectLoader) withDefault() {
	for _, path := range l.Files {
		var document map[string]any
		if yaml.Unmarshal(l.read[path], &document) != nil {
			continue // which is reported when it is read in earnest
		}
		for name, variable := range template.ExtractVariables(document, template.DefaultPattern) {
			if variable.DefaultValue != "" {
				l.spared[name] = true
			}
		}
	}
}

// active are the compose profiles that count: those of the request, else those of the
// variable that compose takes them from.
func (l *projectLoader) active() []string {
	if len(l.Active) > 0 || l.env["COMPOSE_PROFILES"] == "" {
		return l.Active
	}
	return strings.Split(l.env["COMPOSE_PROFILES"], ",")
}

// projectName is the project's name: the given one, else that of the variable, of the last file that says one,
// or of the folder (compose specification, "Version and name top-level elements").
func (s scope) projectName() (string, error) {
	if given := cmp.Or(s.Project, s.env["COMPOSE_PROJECT_NAME"]); given != "" {
		if projectWord(given) != given {
			return "", &profile.FileError{
				Path: s.Files[0],
				What: "invalid project name: it has only lower-case letters, digits, - and _, and starts with a " +
					"letter or digit",
			}
		}
		return given, nil
	}
	name := ""
	for _, path := range s.Files {
		decoder := yaml.NewDecoder(bytes.NewReader(s.read[path]))
		for {
			var document struct{ Name yaml.Node }
			if decoder.Decode(&document) != nil {
				break // a mistake is reported when the file is read whole
			}
			if document.Name.Value != "" {
				p, n := parser{s, path}, &node{file: path, line: document.Name.Line}
				if err := p.fillIn(n, &document.Name, []string{"name"}); err != nil {
					return "", err
				}
				name = n.text
			}
		}
	}
	return cmp.Or(projectWord(name), projectWord(filepath.Base(s.folder))), nil
}

// projectWord is a name as that of a project: in lower case, without what a project's name can't have.
func projectWord(name string) string {
	kept := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '_' || r == '-' {
			return r
		}
		return -1
	}, strings.ToLower(name))
	return strings.TrimLeft(kept, "_-")
}

// OutsideError is the error for a compose file of a repository that names a file outside of it.
type OutsideError struct{ Path string }

func (e *OutsideError) Error() string {
	return fmt.Sprintf("%s is outside of the repository and is not read before you approve the compose file",
		clean.Line(e.Path, 200))
}

// checkInside refuses a file that is outside of the root once links are followed.
func (l *projectLoader) checkInside(path string) error {
	if l.Root == "" {
		return nil
	}
	root, err := filepath.EvalSymlinks(l.Root)
	if err != nil {
		return err
	}
	real, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		real, err = filepath.Clean(path), nil
		root = filepath.Clean(l.Root)
	}
	if err != nil {
		return err
	}
	if _, ok := atomicfile.Inside(root, real); !ok {
		return &OutsideError{path}
	}
	return nil
}

// environments completes the services' environments: a variable without a value gets this machine's, and variables of
// the env files are added where the service has none of the name.
func (s scope) environments(p *project) error {
	for _, one := range p.all() {
		for name, value := range one.Environment {
			if value != nil {
				continue
			}
			if value, ok := s.lookup(name); ok && !s.templates {
				one.Environment[name] = &value
			}
		}
	}
	for _, name := range p.serviceNames() {
		if err := s.envFiles(p.Services[name]); err != nil {
			return err
		}
	}
	return nil
}

// envFiles adds the variables of a service's env files that the service does not set.
func (s scope) envFiles(one *service) error {
	beneath := make(map[string]string)
	for _, f := range one.EnvFiles {
		if _, err := os.Stat(f.Path); errors.Is(err, fs.ErrNotExist) && !f.Required {
			continue
		}
		data, err := s.file(f.Path)
		if err != nil {
			return err
		}
		if s.templates {
			continue
		}
		err = readVariables(f.Path, f.Format, data, beneath, func(name string) (string, bool) {
			if value, ok := s.env[name]; ok {
				return value, true
			}
			if value := one.Environment[name]; value != nil {
				return *value, true
			}
			value, ok := beneath[name]
			return value, ok
		})
		if err != nil {
			return err
		}
	}
	for name, value := range beneath {
		if _, has := one.Environment[name]; !has {
			one.Environment[name] = &value
		}
	}
	return nil
}
