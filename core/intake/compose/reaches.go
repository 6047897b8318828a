package compose

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"gopkg.in/yaml.v3"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/profile"
)

// reaches notes the files that a file names and that the library reads by itself as soon
// as it reads this one: files of labels, and what an include takes its variables from. One
// outside of the root is refused, and so is one whose path hangs on a variable, which would
// only be known then.
func (l *loading) reaches(path string) error {
	data, known := l.read[path]
	if !known {
		var err error
		if data, err = atomicfile.Read(path, maxFile); err != nil {
			return nil // the library says so
		}
	}
	if err := checkAnchors(data); err != nil {
		return &profile.FileError{Path: path, What: err.Error()}
	}
	var document struct {
		Include  yaml.Node
		Services map[string]struct {
			Labels yaml.Node `yaml:"label_file"`
		}
	}
	if yaml.Unmarshal(data, &document) != nil {
		return nil // what is no compose file is not followed
	}
	var named []string
	for _, service := range document.Services {
		named = append(named, scalars(&service.Labels)...)
	}
	for _, one := range document.Include.Content {
		named = append(named, included(filepath.Dir(path), one)...)
	}
	for _, name := range named {
		whole := name
		if !filepath.IsAbs(name) {
			whole = filepath.Join(filepath.Dir(path), name)
		}
		l.name(whole)
		if l.Root != "" && strings.Contains(name, "$") {
			return &Outside{name}
		}
		if err := l.within(whole); err != nil {
			return err
		}
	}
	return nil
}

// scalars are the texts of a node: its own, or those of its list.
func scalars(n *yaml.Node) []string {
	if n.Kind == yaml.ScalarNode {
		return []string{n.Value}
	}
	var all []string
	for _, one := range n.Content {
		all = append(all, scalars(one)...)
	}
	return all
}

// included are the files beside an included compose file that the library reads for it: the
// files of variables that the include names, or .env in its folder (compose specification,
// "Include"). The compose file itself is the fence's business.
func included(folder string, include *yaml.Node) []string {
	var named []string
	paths, directory, variables := scalars(include), "", false
	if include.Kind == yaml.MappingNode {
		paths = nil
		for i := 0; i+1 < len(include.Content); i += 2 {
			switch values := scalars(include.Content[i+1]); include.Content[i].Value {
			case "path":
				paths = values
			case "env_file":
				variables = len(values) > 0
				named = append(named, values...)
			case "project_directory":
				named = append(named, values...)
				directory = strings.Join(values, "")
			}
		}
	}
	if variables || len(paths) == 0 {
		return named
	}
	if directory == "" {
		directory = filepath.Dir(paths[0])
	}
	variablesFile := filepath.Join(directory, ".env")
	whole := variablesFile
	if !filepath.IsAbs(whole) {
		whole = filepath.Join(folder, whole)
	}
	if _, err := os.Lstat(whole); err != nil {
		return named
	}
	return append(named, variablesFile)
}

// maxNodes bounds a compose file with all its anchors written out. Large real ones have some
// 10,000 values.
const maxNodes = 1 << 20

// checkAnchors refuses a file whose anchors contain themselves, or expand to too many values: the
// library would never finish.
func checkAnchors(data []byte) error {
	var document yaml.Node
	if yaml.Unmarshal(data, &document) != nil {
		return nil // which is said when it is read in earnest
	}
	const open = -1
	sizes := make(map[*yaml.Node]int)
	var size func(n *yaml.Node) (int, error)
	size = func(n *yaml.Node) (int, error) {
		switch known := sizes[n]; {
		case known == open:
			return 0, errors.New("an anchor in it contains itself (YAML, &NAME and *NAME)")
		case known > 0:
			return known, nil
		}
		sizes[n] = open
		all := 1
		children := n.Content
		if n.Alias != nil {
			children = append(children, n.Alias)
		}
		for _, child := range children {
			one, err := size(child)
			if err != nil {
				return 0, err
			}
			if all += one; all > maxNodes {
				return 0, errors.New("its anchors expand to too many values (YAML, &NAME and *NAME)")
			}
		}
		sizes[n] = all
		return all, nil
	}
	_, err := size(&document)
	return err
}
