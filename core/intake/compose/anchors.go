package compose

import (
	"errors"

	"go.yaml.in/yaml/v3"
)

// maxNodes bounds a compose file with all its anchors written out. Large real ones have some
// 10,000 values.
const maxNodes = 1 << 20

// checkAnchors refuses a file whose anchors contain themselves, or expand to too many values: reading
// it would never end.
func checkAnchors(data []byte) error {
	var document yaml.Node
	if yaml.Unmarshal(data, &document) != nil {
		return nil // which is reported when it is read in earnest
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
