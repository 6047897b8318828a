package compose

import (
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// Result is what compose files have.
type Result struct {
	Project string
	Servers []Server
	Similar []Server // services that have a server's variables, or an image like one, and nothing else of one
	LeftOut []string // services that look like servers and whose compose profile is not active: "db (test)"
	Unknown string   // a key of the files that is not known here and was passed over, "" for none
	Missed  []string // variables that have no value where they may come from
	Spared  []string // those of them for which the files have a value of their own
	Read    map[string][]byte
}

// Server is a service that looks like a database server.
type Server struct {
	Service     string
	Declaration find.Declaration
	Container   schema.Container
	Port        int // the server's in the container
	Published   []string
	Copies      int          // of the container, where the service asks for several
	Password    secret.Value // as declared, for who wants a copy
	Trouble     string       // why the declared password can't be had
	Making      ContainerSpec
}

// ContainerSpec is what gharbor needs to make a container of the service.
type ContainerSpec struct {
	Name        string // the container's
	Image       string
	Environment api.Environment
	Ports       []Port
	Volumes     map[string]string // by the folder in the container; the engine's names, with the project's before them
	Mounts      []Mount
	Passed      []string // keys that make no difference to how the server is reached, and are passed over
	Refused     []string // keys without which the service would be another one
}

// Mount is a file or folder of this machine that the container sees.
type Mount struct {
	Source, Target string
	ReadOnly       bool
}

// Port is a port of a service. Published is "" for one that the engine chooses, Host "" for all addresses.
type Port struct {
	Target          int
	Host, Published string
}

// madeOf are the keys of a service that gharbor uses to make a container, and those that only concern other services.
var madeOf = []string{"image", "environment", "env_file", "ports", "expose", "volumes", "container_name", "profiles",
	"depends_on"}

// passed are keys that do not change the server.
var passed = []string{"restart", "healthcheck", "labels", "networks", "logging", "pull_policy", "deploy", "develop",
	"stop_grace_period", "annotations", "attach", "hostname"}

// making is the ContainerSpec of a service.
func (s *service) making(project, folder string, env api.Environment) ContainerSpec {
	m := ContainerSpec{Name: s.Container, Image: s.Image, Environment: env, Volumes: make(map[string]string)}
	if m.Name == "" {
		m.Name = project + "-" + s.Name + "-1"
	}
	for _, p := range s.Ports {
		if p.Protocol == "tcp" {
			m.Ports = append(m.Ports, Port{Target: p.Target, Host: p.host, Published: p.Published})
		}
	}
	for _, v := range s.Volumes {
		switch {
		case !strings.HasPrefix(v.Target, "/"), v.Type != "volume" && v.Type != "bind", strings.HasPrefix(v.Source, "~"):
			m.Refused = append(m.Refused, "volumes ("+clean.Line(v.Source, 100)+")")
			continue
		case v.Type == "bind":
			path := v.Source
			if !filepath.IsAbs(path) {
				path = filepath.Join(folder, path)
			}
			m.Mounts = append(m.Mounts, Mount{Source: path, Target: v.Target, ReadOnly: v.readOnly})
			continue
		}
		source := v.Source
		if source == "" {
			source = s.Name + "-data"
		}
		m.Volumes[v.Target] = project + "_" + source
	}
	for _, k := range s.Keys {
		switch {
		case slices.Contains(madeOf, k) || strings.HasPrefix(k, "x-"):
		case slices.Contains(passed, k):
			m.Passed = append(m.Passed, k)
		default:
			m.Refused = append(m.Refused, k)
		}
	}
	return m
}

// Read reads compose files.
func Read(ctx context.Context, r Request) (*Result, error) {
	project, l, err := load(ctx, r)
	if err != nil {
		return nil, err
	}
	result := &Result{Project: project.Name, Read: l.read, Unknown: l.unknown}
	for _, name := range project.serviceNames() {
		s, ok := l.server(project, project.Services[name])
		if ok {
			result.Servers = append(result.Servers, s)
		} else if s.Declaration.Engine != "" {
			result.Similar = append(result.Similar, s)
		}
	}
	all := slices.Clone(result.Servers)
	result.Servers = slices.DeleteFunc(result.Servers,
		func(s Server) bool { return uses(l.catalog(), project.Services[s.Service], all) })
	for _, name := range project.disabledNames() {
		one := project.Disabled[name]
		if _, ok := l.server(project, one); ok {
			result.LeftOut = append(result.LeftOut, fmt.Sprintf("%s (%s)", name, strings.Join(one.Profiles, ", ")))
		}
	}
	result.Missed, result.Spared = slices.Sorted(maps.Keys(l.missed)), slices.Sorted(maps.Keys(l.spared))
	return result, nil
}

// uses reports whether a service depends on another one that is such a server: then it has the server's variables
// because it logs in there.
func uses(catalog find.Catalog, service *service, servers []Server) bool {
	if _, _, known := catalog.Describe(nil, service.Image, nil); known || len(service.Ports)+len(service.Expose) > 0 {
		return false // by its image, or its ports, it is one itself
	}
	for _, s := range servers {
		if service.DependsOn[s.Service] {
			return true
		}
	}
	return false
}

// catalog recognises the servers.
func (l *projectLoader) catalog() find.Catalog { return find.Catalog{Known: l.Schema.Engines()} }

// server reads one service; ok is false for one that is no database server, or is only similar to one.
func (l *projectLoader) server(project *project, service *service) (s Server, ok bool) {
	env := make(api.Environment)
	for name, value := range service.Environment {
		if value != nil {
			env[name] = secret.NewValue(*value)
		} else {
			env[name] = secret.NewValue("")
		}
	}
	var ports []int
	for _, p := range service.Ports {
		if p.Protocol == "tcp" {
			ports = append(ports, p.Target)
			s.Published = append(s.Published, p.Published)
		}
	}
	for _, text := range service.Expose {
		if port, err := strconv.Atoi(strings.TrimSuffix(text, "/tcp")); err == nil {
			ports = append(ports, port)
		}
	}
	s.Making = service.making(project.Name, filepath.Dir(l.Files[0]), env)
	s.Copies = service.Copies
	s.Service, s.Container = service.Name, schema.Container{Project: project.Name, Service: service.Name}
	s.Declaration, s.Port, ok = l.catalog().Describe(env, service.Image, ports)
	serves, asks := l.catalog().Runs(service.Command)
	switch {
	case ok && asks && !serves: // a client in a server's image
		return Server{Service: service.Name}, false
	case !ok:
		similar, _ := l.catalog().Similar(env, service.Image, ports)
		s.Declaration, ok = similar, similar.Engine != "" && (serves || l.catalog().Checks(similar.Engine, service.Check))
		s.Port = l.catalog().Known.Port(similar.Engine)
	}
	s.Password, s.Trouble = l.password(project, service, env, s.Declaration.Variable)
	return s, ok
}

// password is the password that a service declares: in a variable, or in a file of the project's secrets that a
// variable names.
func (l *projectLoader) password(project *project, service *service, env api.Environment,
	variable string) (secret.Value, string) {
	if variable == "" {
		return secret.Value{}, ""
	}
	value := env[variable]
	if !strings.HasSuffix(variable, "_FILE") {
		return value, ""
	}
	for _, use := range service.Secrets {
		target := use.Target
		if target == "" {
			target = use.Source
		}
		if !path.IsAbs(target) {
			target = path.Join("/run/secrets", target)
		}
		if target != value.Disclose() {
			continue
		}
		declared := project.Secrets[use.Source]
		switch {
		case declared.File != "":
			data, err := l.file(declared.File)
			if err != nil {
				return secret.Value{}, "the secret " + use.Source + ": " + err.Error()
			}
			line, _, _ := strings.Cut(string(data), "\n")
			return secret.NewValue(strings.TrimRight(line, "\r")), ""
		case declared.Environment != "":
			if text, ok := (scope{projectLoader: l, env: l.env}).lookup(declared.Environment); ok {
				return secret.NewValue(text), ""
			}
			return secret.Value{},
				"the secret " + use.Source + " is the variable " + declared.Environment + ", which has no value here"
		}
		return secret.Value{}, "the secret " + use.Source + " is kept outside of the compose file"
	}
	return secret.Value{}, "no secret of the service is the file that " + variable + " names"
}

// Connection is the server as a connection; origin names the files.
func (s Server) Connection(keys *schema.Schema, origin string) intake.Connection {
	var notes []string
	if s.Declaration.Elsewhere != "" {
		notes = append(notes, "not known: what is in the files of "+s.Declaration.Elsewhere)
	}
	if s.Copies > 1 {
		notes = append(notes, fmt.Sprintf("the service runs %d containers, and a test asks which one: name one with "+
			"container=NAME", s.Copies))
	}
	return intake.Connection{
		Notes:    notes,
		Name:     intake.Name(s.Service),
		Sets:     s.Declaration.Sets(keys, s.Container, s.Port),
		Password: s.Password,
		Origin:   origin,
		Trouble:  s.Trouble,
	}
}
