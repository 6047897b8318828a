// Package compose reads the database servers out of compose files and writes one
// (compose specification, by its own library), with the variables, several files,
// profiles, env files and secrets that those have. It is a shelf beside intake: what it
// finds becomes profiles that lead to the services' containers by their labels.
//
// The library is held at a version that checks files against the specification with a
// light validator: later ones compile a schema package's tables at every start of the
// program, which takes 6 to 9 ms; this one takes 2, of a start that takes 5 without it
// (measured, with GODEBUG=inittrace=1 and whole starts).
package compose

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/compose-spec/compose-go/v2/cli"
	"github.com/compose-spec/compose-go/v2/dotenv"
	"github.com/compose-spec/compose-go/v2/loader"
	"github.com/compose-spec/compose-go/v2/template"
	"github.com/compose-spec/compose-go/v2/types"
	"github.com/sirupsen/logrus"
	"gopkg.in/yaml.v3"

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

	// Machine are the variables of this machine, nil where they may not be used.
	Machine map[string]string

	// Pinned are bytes to take in place of a file's, by absolute path: those that were
	// hashed when the files were vouched for.
	Pinned map[string][]byte

	// Root is the folder out of which no file is read, "" for no such bound.
	Root string

	// templates leaves variables as they are written, and passes over env files that are
	// outside of the root.
	templates bool
	blank     bool // with templates: variables are empty, as a template fits in no number
}

// DefaultFiles are the compose files of a folder that are taken where none is named: the
// first of the usual names, and its override.
func DefaultFiles(folder string) []string {
	var files []string
	for _, names := range [][]string{cli.DefaultFileNames, cli.DefaultOverrideFileNames} {
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

// quiet keeps the library from writing to standard error: what it would say there may
// hold values.
var quiet = sync.OnceFunc(func() { logrus.SetOutput(io.Discard) })

// loading is one read under way.
type loading struct {
	Request
	folder  string
	env     types.Mapping
	read    map[string][]byte // every file that was read here, by absolute path
	named   []string          // files that the files name, which the library reads
	missed  map[string]bool   // variables that have no value
	unknown string            // a key that was passed over, "" for none
	spared  map[string]bool   // variables for which the files have a value of their own
}

// load reads the files into the library's model. It ends with its context: how long the
// library takes is up to the files.
func load(ctx context.Context, r Request) (*types.Project, *loading, error) {
	type model struct {
		project *types.Project
		l       *loading
		err     error
	}
	done := make(chan model, 1)
	defect.Go(func() {
		project, l, err := loadModel(ctx, r)
		if err != nil && r.templates && !errors.As(err, new(*Outside)) {
			r.blank = true
			project, l, err = loadModel(ctx, r)
		}
		done <- model{project, l, err}
	})
	select {
	case m := <-done:
		return m.project, m.l, m.err
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
}

// loadModel is load without the context's end. Where the library gives up on a file in a way of
// its own, that is the file's fault too.
func loadModel(ctx context.Context, r Request) (project *types.Project, l *loading, err error) {
	defer func() {
		if recover() != nil {
			err = &profile.FileError{Path: r.Files[0], What: "is no compose file that can be read"}
		}
	}()
	quiet()
	l = &loading{
		Request: r,
		folder:  filepath.Dir(r.Files[0]),
		env:     types.Mapping{},
		read:    make(map[string][]byte),
		missed:  make(map[string]bool),
		spared:  make(map[string]bool),
	}
	if err := l.variables(); err != nil {
		return nil, nil, err
	}
	details := types.ConfigDetails{WorkingDir: l.folder, Environment: l.env}
	for _, path := range r.Files {
		data, err := l.file(path)
		if err != nil {
			return nil, nil, err
		}
		details.ConfigFiles = append(details.ConfigFiles, types.ConfigFile{Filename: path, Content: data})
	}
	for _, path := range r.Files {
		if err := l.reaches(path); err != nil {
			return nil, nil, err
		}
	}
	l.withDefault()
	project, err = l.project(ctx, details, false)
	if key := newKey(err); key != "" { // of a later version of the specification, mostly
		l.unknown = key
		project, err = l.project(ctx, details, true)
	}
	if err != nil {
		return nil, nil, l.mistake(err)
	}
	if err := l.envFiles(project); err != nil {
		return nil, nil, err
	}
	for _, service := range project.AllServices() {
		for name, value := range service.Environment {
			if value == nil { // taken over from here, without a sign of it
				l.lookup(name)
			}
		}
	}
	if r.templates {
		return project, l, nil
	}
	if project, err = project.WithServicesEnvironmentResolved(true); err != nil {
		return nil, nil, l.mistake(err)
	}
	return project, l, nil
}

// project has the library read the files; unchecked passes over keys that its schema does
// not have.
func (l *loading) project(ctx context.Context, details types.ConfigDetails, unchecked bool) (*types.Project, error) {
	return loader.LoadWithContext(ctx, details, func(o *loader.Options) {
		o.SkipResolveEnvironment, o.SkipValidation, o.SkipConsistencyCheck = true, unchecked, unchecked
		o.Profiles = l.active()
		o.ResourceLoaders = []loader.ResourceLoader{fence{l}}
		o.Interpolate.LookupValue = l.lookup
		name, given := l.projectName()
		o.SetProjectName(name, given)
	})
}

// variables gathers the variables that stand for values in the files: those of this
// machine, where they may be used, before those of the env files, as the specification
// has it.
func (l *loading) variables() error {
	files := l.EnvFiles
	if len(files) == 0 {
		path := filepath.Join(l.folder, ".env")
		if _, err := os.Stat(path); err == nil {
			files = []string{path}
		}
	}
	for name, value := range l.Machine {
		l.env[name] = value
	}
	for _, path := range files {
		data, err := l.file(path)
		if err != nil {
			return err
		}
		if l.templates {
			continue
		}
		values, err := dotenv.UnmarshalBytesWithLookup(data, l.lookup)
		if err != nil {
			return &profile.FileError{Path: path, What: "is no file of NAME=VALUE lines as the compose specification has them"}
		}
		for name, value := range values {
			if _, ok := l.Machine[name]; !ok {
				l.env[name] = value
			}
		}
	}
	return nil
}

// file reads a file whole.
func (l *loading) file(path string) ([]byte, error) {
	if l.templates && strings.Contains(path, "$") { // where it is is not known yet
		l.name(path)
		return nil, nil
	}
	if err := l.within(path); err != nil {
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

func (l *loading) lookup(name string) (string, bool) {
	value, ok := l.env.Resolve(name)
	if !ok {
		l.missed[name] = true
	}
	if l.templates && !l.blank {
		return "${" + name + "}", true
	}
	return value, ok
}

// name notes a file that the files name.
func (l *loading) name(path string) {
	if !slices.Contains(l.named, path) {
		l.named = append(l.named, path)
	}
}

// withDefault notes the variables for which the files have a value where there is none:
// ${NAME:-default}.
func (l *loading) withDefault() {
	for _, path := range l.Files {
		var document map[string]any
		if yaml.Unmarshal(l.read[path], &document) != nil {
			continue // which is said when it is read in earnest
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
func (l *loading) active() []string {
	if len(l.Active) > 0 || l.env["COMPOSE_PROFILES"] == "" {
		return l.Active
	}
	return strings.Split(l.env["COMPOSE_PROFILES"], ",")
}

// projectName is the project's name where it is not the file that says it; given is true where
// it is before what the file says (compose specification, "Version and name top-level
// elements").
func (l *loading) projectName() (name string, given bool) {
	if l.Project != "" {
		return l.Project, true
	}
	if own := l.env["COMPOSE_PROJECT_NAME"]; own != "" {
		return own, true
	}
	return loader.NormalizeProjectName(filepath.Base(l.folder)), false
}

// Outside is the error for a file that a repository's compose file names and that is not
// in the repository.
type Outside struct{ Path string }

func (e *Outside) Error() string {
	return fmt.Sprintf("%s is outside of the repository, and is not read before you have vouched for the compose file",
		clean.Line(e.Path, 200))
}

// within refuses a file outside of the root, by whatever links it is named.
func (l *loading) within(path string) error {
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
		return &Outside{path}
	}
	return nil
}

// envFiles looks at the env files of services before the library reads them.
func (l *loading) envFiles(project *types.Project) error {
	for _, name := range project.ServiceNames() {
		for _, f := range project.Services[name].EnvFiles {
			path := l.whole(f.Path)
			if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) && !f.Required {
				continue
			}
			if _, err := l.file(path); err != nil {
				return err
			}
		}
	}
	return nil
}

// fence stands before the library's own reader of files that compose files name: it
// takes those that may not be read, to refuse them, and nothing that is elsewhere on a
// network is fetched.
type fence struct{ *loading }

// Accept takes what is to be refused, and notes the rest.
func (f fence) Accept(path string) bool {
	if f.refusal(path) != nil {
		return true
	}
	f.name(f.whole(path))
	return false
}

func (l *loading) whole(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(l.folder, path)
}

// Load refuses.
func (f fence) Load(_ context.Context, path string) (string, error) { return "", f.refusal(path) }

// Dir is asked of what Load gave, which is nothing.
func (f fence) Dir(path string) string { return filepath.Dir(path) }

func (f fence) refusal(path string) error {
	if scheme, _, ok := strings.Cut(path, "://"); ok || strings.HasPrefix(path, "git@") {
		return fmt.Errorf("a compose file from elsewhere (%s) is not fetched; get it first", clean.Line(scheme, 40))
	}
	if err := f.within(f.whole(path)); err != nil {
		return err
	}
	return f.reaches(f.whole(path))
}
