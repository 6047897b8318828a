package compose

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
)

// scope is the folder and the variables of a file: included files have their own.
type scope struct {
	*projectLoader
	folder string            // where relative paths start
	env    map[string]string // the variables that stand for values
}

// model reads and merges files, in order. stack has the first file of each include that led here.
func (s scope) model(paths, stack []string) (*node, error) {
	var merged *node
	for _, path := range paths {
		data, err := s.file(path)
		if err != nil {
			return nil, err
		}
		documents, err := s.documents(path, data)
		if err != nil {
			return nil, err
		}
		for _, document := range documents {
			if err := s.include(document, append(slices.Clone(stack), paths[0])); err != nil {
				return nil, err
			}
			if err := s.extend(document, path); err != nil {
				return nil, err
			}
			merged = mergeInto(merged, document, "")
		}
	}
	return merged.plain(), nil
}

// documents reads the documents of a file, with their paths made absolute and their keys checked.
func (s scope) documents(path string, data []byte) ([]*node, error) {
	documents, err := s.parse(path, data)
	if err != nil {
		return nil, err
	}
	for _, document := range documents {
		if err := s.checkKeys(document, "", fileKeys); err != nil {
			return nil, err
		}
		services := document.get("services")
		if services != nil && services.kind != yaml.MappingNode && !services.null {
			return nil, services.wrong("services", "must be a mapping")
		}
		for name, service := range services.entries() {
			if err := s.checkKeys(service, "services."+name, serviceKeys); err != nil {
				return nil, err
			}
			if err := s.labelFiles(service.get("label_file")); err != nil {
				return nil, err
			}
			s.absolute(service.get("env_file"))
		}
		for _, secret := range document.get("secrets").entries() {
			s.absolute(secret.get("file"))
		}
	}
	return documents, nil
}

// absolute makes the paths of a value absolute: a path, a list of them, or of mappings with one.
func (s scope) absolute(n *node) {
	switch {
	case n == nil:
	case n.kind == yaml.ScalarNode && n.text != "":
		n.text = s.absolutePath(n.text)
	case n.kind == yaml.SequenceNode:
		for _, one := range n.list {
			s.absolute(one)
		}
	case n.kind == yaml.MappingNode:
		s.absolute(n.get("path"))
	}
}

// absolutePath is a path made absolute; "~" is the home folder.
func (s scope) absolutePath(path string) string {
	if rest, ok := strings.CutPrefix(path, "~"); ok && (rest == "" || rest[0] == '/') {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(s.folder, path)
}

// labelFiles notes files of labels, which are not read. In a repository they must be inside and without variables, as
// a person vouches for the files that are named.
func (s scope) labelFiles(n *node) error {
	if n == nil || n.null {
		return nil
	}
	for _, one := range sequence(n).list {
		if _, err := s.namedFile(one); err != nil {
			return err
		}
	}
	return nil
}

// namedFile is the absolute path of a file that a compose file names, or an error where it may not be used.
func (s scope) namedFile(n *node) (string, error) {
	if s.Root != "" && n.filled {
		return "", &OutsideError{n.text}
	}
	return s.local(n)
}

// local is named for a path that may hold variables.
func (s scope) local(n *node) (string, error) {
	if n.kind != yaml.ScalarNode || n.text == "" {
		return "", n.wrong("a path", "must be a text")
	}
	if scheme, _, ok := strings.Cut(n.text, "://"); ok || strings.HasPrefix(n.text, "git@") {
		return "", &profile.FileError{
			Path: n.file,
			Line: n.line,
			What: "a compose file from elsewhere (" + clean.Line(scheme, 40) + ") is not fetched; get it first",
		}
	}
	if s.templates && strings.Contains(n.text, "$") {
		return "", &OutsideError{n.text}
	}
	path := s.absolutePath(n.text)
	s.name(path)
	return path, s.checkInside(path)
}

// checkKeys looks for keys that the specification does not have. One that is nearly a known key is an error; any
// other is probably of a later specification, and is noted.
func (s scope) checkKeys(n *node, at string, known []string) error {
	if n == nil || n.kind != yaml.MappingNode {
		return nil
	}
	for _, key := range n.keys {
		if strings.HasPrefix(key, "x-") || slices.Contains(known, key) {
			continue
		}
		whole := strings.TrimPrefix(at+"."+key, ".")
		if err := unknownKey(n.at[key], whole, key, known); err != nil {
			return err
		}
		if s.unknown == "" {
			s.unknown = clean.Line(whole, 100)
		}
	}
	return nil
}

// extend merges each service into the one that it extends (compose specification, "extends").
func (s scope) extend(document *node, path string) error {
	services := document.get("services")
	for name := range services.entries() {
		if err := s.extendService(services, name, path, nil); err != nil {
			return err
		}
	}
	return nil
}

// extendService merges one service of a file into the one that it extends. chain has those that led here.
func (s scope) extendService(services *node, name, path string, chain []string) error {
	service := services.get(name)
	extends := service.get("extends")
	if extends == nil {
		return nil
	}
	at := "services." + name + ".extends"
	id := path + "\x00" + name
	if slices.Contains(chain, id) || len(chain) > maxDepth {
		return extends.wrong(at, "leads back to itself")
	}
	from, file := extends, (*node)(nil)
	if extends.kind == yaml.MappingNode {
		from, file = extends.get("service"), extends.get("file")
	}
	if from == nil || from.kind != yaml.ScalarNode || from.text == "" {
		return extends.wrong(at, "must be a service's name, or {file, service}")
	}
	base, origin := services, s
	if file != nil && !file.null {
		var err error
		if path, err = s.local(file); err != nil {
			return err
		}
		origin.folder = filepath.Dir(path)
		if base, err = origin.services(path); err != nil {
			return err
		}
	}
	if base.get(from.text) == nil {
		return extends.wrong(at, "names the service "+clean.Word(from.text)+", which does not exist")
	}
	if err := origin.extendService(base, from.text, path, append(slices.Clone(chain), id)); err != nil {
		return err
	}
	service.remove("extends")
	services.set(name, mergeInto(base.get(from.text).clone().plain(), service, "services.*"))
	return nil
}

// services are those of a file that another one extends, without what it includes.
func (s scope) services(path string) (*node, error) {
	data, err := s.file(path)
	if err != nil {
		return nil, err
	}
	documents, err := s.documents(path, data)
	if err != nil {
		return nil, err
	}
	var merged *node
	for _, document := range documents {
		merged = mergeInto(merged, document, "")
	}
	if services := merged.plain().get("services"); services != nil {
		return services, nil
	}
	return &node{kind: yaml.MappingNode, file: path}, nil
}

// include merges a document into the files that it includes (compose specification, "include").
func (s scope) include(document *node, stack []string) error {
	list := document.get("include")
	document.remove("include")
	if list == nil || list.null {
		return nil
	}
	if list.kind != yaml.SequenceNode {
		return list.wrong("include", "must be a list")
	}
	for _, one := range list.list {
		included, err := s.readInclude(one, stack)
		if err != nil {
			return err
		}
		for _, key := range []string{"services", "secrets"} {
			if from := included.get(key); from != nil {
				document.set(key, mergeInto(from, orNode(document.get(key), &node{kind: yaml.MappingNode}), key))
			}
		}
	}
	return nil
}

// readInclude reads one item of include.
func (s scope) readInclude(n *node, stack []string) (*node, error) {
	files := n
	if n.kind == yaml.MappingNode {
		files = n.get("path")
	}
	if files == nil || files.null {
		return nil, n.wrong("include", "must have a path")
	}
	var paths []string
	for _, one := range sequence(files).list {
		path, err := s.local(one)
		if err != nil {
			return nil, err
		}
		paths = append(paths, path)
	}
	if len(paths) == 0 {
		return nil, n.wrong("include", "must have a path")
	}
	if slices.Contains(stack, paths[0]) || len(stack) > maxDepth {
		return nil, n.wrong("include", "leads back to "+clean.Word(paths[0]))
	}
	inner := s
	inner.folder = filepath.Dir(paths[0])
	if folder := n.get("project_directory"); folder != nil && !folder.null {
		var err error
		if inner.folder, err = s.namedFile(folder); err != nil {
			return nil, err
		}
	}
	var err error
	if inner.env, err = s.variablesOf(n.get("env_file"), inner.folder); err != nil {
		return nil, err
	}
	model, err := inner.model(paths, stack)
	if err != nil {
		return nil, err
	}
	for _, service := range model.get("services").entries() {
		inner.complete(service)
	}
	return model, nil
}

// variablesOf are the variables of an included file: the present ones win over those of the files that the include
// names, or of .env in its folder.
func (s scope) variablesOf(n *node, folder string) (map[string]string, error) {
	var files []string
	if n == nil || n.null {
		path := filepath.Join(folder, ".env")
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			if err := s.checkInside(path); err != nil {
				return nil, err
			}
			files = []string{path}
		}
	} else {
		for _, one := range sequence(n).list {
			path, err := s.namedFile(one)
			if err != nil {
				return nil, err
			}
			files = append(files, path)
		}
	}
	return s.withVariables(files)
}

// complete sets a service's variables that have no value from its own file's variables.
func (s scope) complete(service *node) {
	variables := service.get("environment")
	if variables == nil || variables.null || variables.kind == yaml.ScalarNode || s.templates {
		return
	}
	variables = pairs(variables)
	for _, name := range variables.keys {
		if value, ok := s.env[name]; ok && variables.at[name].null {
			variables.set(name, &node{kind: yaml.ScalarNode, text: value, file: variables.file, line: variables.line})
		}
	}
	service.set("environment", variables)
}
