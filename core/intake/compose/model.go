package compose

import (
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// project is the merged compose files, as far as they are about servers.
type project struct {
	Name     string
	Services map[string]*service // those of the active compose profiles
	Disabled map[string]*service
	Secrets  map[string]declaredSecret
}

// service is one service.
type service struct {
	Name        string
	Image       string
	Environment map[string]*string // nil for a name without a value
	Ports       []serverPort
	Expose      []string
	Secrets     []secretUse
	DependsOn   map[string]bool
	Profiles    []string
	EnvFiles    []envFile
	Volumes     []mount
	Container   string   // container_name, "" for the usual one
	Command     []string // entrypoint and command, in words
	Check       []string // of its health check, in words
	Copies      int      // of its container: scale, or the replicas of deploy; 0 where neither is a number
	Keys        []string // all that it has
}

// mount is a volume of a service; Source is "" for one without a name.
type mount struct {
	Type, Source, Target string
	readOnly             bool
}

// serverPort is a port of a service; Published is as written, "" for one that the engine chooses.
type serverPort struct {
	Target    int
	Published string
	Protocol  string // "tcp" where nothing is set
	host      string
}

func (p serverPort) text() string { return strconv.Itoa(p.Target) }

// secretUse is a secret that a service uses.
type secretUse struct{ Source, Target string }

// declaredSecret is a secret of the files.
type declaredSecret struct{ File, Environment string }

// envFile is a file of variables for a service.
type envFile struct {
	Path     string // absolute
	Required bool
	Format   string // "raw": values as they stand; "" for the usual one
}

// all are the services, the active ones and the others.
func (p *project) all() iter.Seq2[string, *service] {
	return func(yield func(string, *service) bool) {
		for _, some := range []map[string]*service{p.Services, p.Disabled} {
			for name, one := range some {
				if !yield(name, one) {
					return
				}
			}
		}
	}
}

// serviceNames are the names of the active services, sorted.
func (p *project) serviceNames() []string { return slices.Sorted(maps.Keys(p.Services)) }

// disabledNames are those of the others.
func (p *project) disabledNames() []string { return slices.Sorted(maps.Keys(p.Disabled)) }

// texts are the texts of a list, or the one text.
func (n *node) texts(key string) ([]string, error) {
	switch {
	case n == nil || n.null:
		return nil, nil
	case n.kind == yaml.ScalarNode:
		return []string{n.text}, nil
	case n.kind != yaml.SequenceNode:
		return nil, n.wrong(key, "must be a list of texts")
	}
	var all []string
	for _, one := range n.list {
		if one.kind != yaml.ScalarNode {
			return nil, one.wrong(key, "must be a list of texts")
		}
		all = append(all, one.text)
	}
	return all, nil
}

// scalar is the text of a value, "" for none.
func (n *node) scalar(key string) (string, error) {
	if n == nil || n.null {
		return "", nil
	}
	if n.kind != yaml.ScalarNode {
		return "", n.wrong(key, "must be a text")
	}
	return n.text, nil
}

// service reads the keys of a service that are about a server.
func (l *projectLoader) service(name string, n *node) (*service, error) {
	at := "services." + name
	if n.null {
		n = &node{kind: yaml.MappingNode, file: n.file, line: n.line}
	}
	if n.kind != yaml.MappingNode {
		return nil, n.wrong(at, "must be a mapping")
	}
	s := &service{Name: name, Environment: make(map[string]*string), DependsOn: make(map[string]bool)}
	for _, step := range []func() error{
		func() (err error) { s.Image, err = n.get("image").scalar(at + ".image"); return err },
		func() (err error) { s.Expose, err = n.get("expose").texts(at + ".expose"); return err },
		func() (err error) { s.Profiles, err = n.get("profiles").texts(at + ".profiles"); return err },
		func() error { return s.readEnvironment(n.get("environment"), at+".environment") },
		func() error { return s.readPorts(n.get("ports"), at+".ports", l.templates) },
		func() error { return s.readSecrets(n.get("secrets"), at+".secrets") },
		func() error { return s.readDepends(n.get("depends_on"), at+".depends_on") },
		func() error { return s.readEnvFiles(n.get("env_file"), at+".env_file") },
		func() (err error) {
			s.Container, err = n.get("container_name").scalar(at + ".container_name")
			return err
		},
	} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	s.Command = append(n.get("entrypoint").words(), n.get("command").words()...)
	s.Check = n.get("healthcheck").get("test").words()
	for _, number := range []*node{n.get("deploy").get("replicas"), n.get("scale")} {
		if number != nil {
			s.Copies, _ = strconv.Atoi(number.text)
		}
	}
	s.Keys = slices.Clone(n.keys)
	s.readVolumes(n.get("volumes"))
	return s, nil
}

// words are those of a command, written as a text or as a list.
func (n *node) words() (all []string) {
	if n == nil || n.null {
		return nil
	}
	for _, one := range append([]*node{n}, n.list...) {
		all = append(all, strings.FieldsFunc(one.text, func(r rune) bool { return strings.ContainsRune(" \t\n;&|()", r) })...)
	}
	return all
}

// readVolumes reads the volumes that we understand. A command that makes the service's container checks for others.
func (s *service) readVolumes(n *node) {
	if n == nil {
		return
	}
	for _, one := range n.list {
		m := mount{Type: "volume"}
		switch one.kind {
		case yaml.ScalarNode:
			parts := strings.SplitN(one.text, ":", 3)
			m.Target = parts[0]
			if len(parts) > 1 {
				m.Source, m.Target = parts[0], parts[1]
			}
			m.readOnly = len(parts) == 3 && slices.Contains(strings.Split(parts[2], ","), "ro")
			if strings.HasPrefix(m.Source, ".") || strings.ContainsAny(m.Source, "/~\\") {
				m.Type = "bind"
			}
		case yaml.MappingNode:
			m.Type, _ = one.get("type").scalar("type")
			m.Source, _ = one.get("source").scalar("source")
			m.Target, _ = one.get("target").scalar("target")
			text, _ := one.get("read_only").scalar("read_only")
			m.readOnly = text == "true"
		}
		s.Volumes = append(s.Volumes, m)
	}
}

func (s *service) readEnvironment(n *node, at string) error {
	if n == nil || n.null {
		return nil
	}
	if n.kind == yaml.ScalarNode {
		return n.wrong(at, "must be a mapping or a list")
	}
	n = pairs(n)
	for _, name := range n.keys {
		value := n.at[name]
		switch {
		case value.kind != yaml.ScalarNode:
			return value.wrong(at+"."+name, "must be a text")
		case value.null:
			s.Environment[name] = nil
		default:
			s.Environment[name] = &value.text
		}
	}
	return nil
}

// readPorts reads the ports; with templates it skips a port that is a variable.
func (s *service) readPorts(n *node, at string, templates bool) error {
	if n == nil || n.null {
		return nil
	}
	if n.kind != yaml.SequenceNode {
		return n.wrong(at, "must be a list")
	}
	for _, one := range n.list {
		ports, err := portOf(one, at)
		if err != nil && templates && one.hasVariable() {
			continue
		}
		if err != nil {
			return err
		}
		s.Ports = append(s.Ports, ports...)
	}
	return nil
}

// portOf reads one item of ports (compose specification, "ports"): several ports for a range.
func portOf(n *node, at string) ([]serverPort, error) {
	p := serverPort{Protocol: "tcp"}
	var container, published string
	if n.kind == yaml.MappingNode {
		var words [4]string
		for i, key := range []string{"target", "published", "protocol", "host_ip"} {
			var err error
			if words[i], err = n.get(key).scalar(at + "." + key); err != nil {
				return nil, err
			}
		}
		container, published, p.host = words[0], words[1], words[3]
		if words[2] != "" {
			p.Protocol = words[2]
		}
	} else if n.kind != yaml.ScalarNode {
		return nil, n.wrong(at, "must be a list of ports")
	} else {
		rest, protocol, has := strings.Cut(n.text, "/")
		if has {
			p.Protocol = strings.ToLower(protocol)
		}
		container = rest
		if i := strings.LastIndexByte(rest, ':'); i >= 0 {
			published, container = rest[:i], rest[i+1:]
			if i := strings.LastIndexByte(published, ':'); i >= 0 {
				p.host, published = strings.Trim(published[:i], "[]"), published[i+1:]
			}
		}
	}
	first, last, err := portRange(container)
	from, to, publishedErr := 0, 0, error(nil)
	if published != "" {
		from, to, publishedErr = portRange(published)
	}
	if err != nil || publishedErr != nil {
		return nil, n.wrong(at, "has a port that is no number from 1 to 65535")
	}
	if published != "" && first != last && to-from != last-first {
		return nil, n.wrong(at, "publishes another number of ports than the service has")
	}
	var all []serverPort
	for i := first; i <= last; i++ {
		one := p
		one.Target, one.Published = i, published
		if published != "" && first != last {
			one.Published = strconv.Itoa(from + i - first)
		}
		all = append(all, one)
	}
	return all, nil
}

// hasVariable reports whether a value has a variable anywhere in it.
func (n *node) hasVariable() bool {
	if n.filled || slices.ContainsFunc(n.list, (*node).hasVariable) {
		return true
	}
	for _, one := range n.entries() {
		if one.hasVariable() {
			return true
		}
	}
	return false
}

// portRange is "80" or "80-85".
func portRange(s string) (first, last int, err error) {
	a, b, ranged := strings.Cut(s, "-")
	if !ranged {
		b = a
	}
	if first, err = strconv.Atoi(a); err != nil {
		return 0, 0, err
	}
	if last, err = strconv.Atoi(b); err != nil {
		return 0, 0, err
	}
	if first < 1 || last > 65535 || last < first {
		return 0, 0, strconv.ErrRange
	}
	return first, last, nil
}

func (s *service) readSecrets(n *node, at string) error {
	if n == nil || n.null {
		return nil
	}
	if n.kind != yaml.SequenceNode {
		return n.wrong(at, "must be a list")
	}
	for _, one := range n.list {
		u := secretUse{Source: one.text}
		if one.kind == yaml.MappingNode {
			var err error
			if u.Source, err = one.get("source").scalar(at + ".source"); err != nil {
				return err
			}
			if u.Target, err = one.get("target").scalar(at + ".target"); err != nil {
				return err
			}
		} else if one.kind != yaml.ScalarNode {
			return one.wrong(at, "must be a list of names")
		}
		s.Secrets = append(s.Secrets, u)
	}
	return nil
}

func (s *service) readDepends(n *node, at string) error {
	if n == nil || n.null {
		return nil
	}
	if n.kind == yaml.ScalarNode {
		return n.wrong(at, "must be a list or a mapping")
	}
	for _, name := range names(n).keys {
		s.DependsOn[name] = true
	}
	return nil
}

func (s *service) readEnvFiles(n *node, at string) error {
	if n == nil || n.null {
		return nil
	}
	for _, one := range sequence(n).list {
		f := envFile{Path: one.text, Required: true}
		if one.kind == yaml.MappingNode {
			var err error
			if f.Path, err = one.get("path").scalar(at + ".path"); err != nil {
				return err
			}
			required, err := one.get("required").scalar(at + ".required")
			if err != nil {
				return err
			}
			f.Required = required != "false"
			if f.Format, err = one.get("format").scalar(at + ".format"); err != nil {
				return err
			}
		} else if one.kind != yaml.ScalarNode {
			return one.wrong(at, "must be a path or a list of them")
		}
		s.EnvFiles = append(s.EnvFiles, f)
	}
	return nil
}

// secrets reads the secrets of the files.
func secrets(n *node) (map[string]declaredSecret, error) {
	all := make(map[string]declaredSecret)
	if n == nil || n.null {
		return all, nil
	}
	if n.kind != yaml.MappingNode {
		return nil, n.wrong("secrets", "must be a mapping")
	}
	for _, name := range n.keys {
		one, at := n.at[name], "secrets."+name
		if one.kind != yaml.MappingNode {
			return nil, one.wrong(at, "must be a mapping")
		}
		var d declaredSecret
		var err error
		if d.File, err = one.get("file").scalar(at + ".file"); err != nil {
			return nil, err
		}
		if d.Environment, err = one.get("environment").scalar(at + ".environment"); err != nil {
			return nil, err
		}
		all[name] = d
	}
	return all, nil
}
