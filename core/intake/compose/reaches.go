package compose

import (
	"path/filepath"
	"slices"
	"strings"

	"gopkg.in/yaml.v3"

	"gentleharbor/core/atomicfile"
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
		if one.Kind != yaml.MappingNode {
			continue // a path by itself, at which the fence stands
		}
		for i := 0; i+1 < len(one.Content); i += 2 {
			if key := one.Content[i].Value; key == "env_file" || key == "project_directory" {
				named = append(named, scalars(one.Content[i+1])...)
			}
		}
	}
	for _, name := range named {
		whole := name
		if !filepath.IsAbs(name) {
			whole = filepath.Join(filepath.Dir(path), name)
		}
		if !slices.Contains(l.named, whole) {
			l.named = append(l.named, whole)
		}
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
