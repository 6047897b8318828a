package schema

import (
	"regexp"
	"slices"
	"strings"
	"sync"
)

const containerForms = `a container's name, or a compose file's { project = "PROJECT", service = "SERVICE" } ` +
	`(on the command line PROJECT/SERVICE)`

// Container is what names a container: the name that it was given, or the labels
// that a compose file's service leaves on it. Never its id: that changes whenever
// the container is made again.
type Container struct {
	Name    string
	Project string // of the compose file, with Service
	Service string
}

// ParseContainer reads a name or PROJECT/SERVICE, as a command line has them; ok is
// false where it is neither.
func ParseContainer(s string) (c Container, ok bool) {
	c = placeValue(s).Container()
	return c, validContainer(s)
}

// Compose reports whether it is a compose file's service.
func (c Container) Compose() bool { return c.Project != "" || c.Service != "" }

// String is the container as a command line has it.
func (c Container) String() string {
	if c.Compose() {
		return c.Project + "/" + c.Service
	}
	return c.Name
}

// placeValue is what names a container, as a command line has it.
func placeValue(s string) Value {
	if project, service, ok := strings.Cut(s, "/"); ok {
		return Value{Kind: NameOrLabels, Items: []string{project, service}}
	}
	return Value{Kind: NameOrLabels, Raw: s}
}

// ContainerValue is the value of the key container.
func ContainerValue(c Container) Value { return placeValue(c.String()) }

// Container is the container that a value of the key container names.
func (v Value) Container() Container {
	if len(v.Items) == 2 {
		return Container{Project: v.Items[0], Service: v.Items[1]}
	}
	return Container{Name: v.Raw}
}

// The names that container engines and compose files take.
var (
	containerName = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9_.-]{0,127}$`)
	})
	composeName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9][a-z0-9_-]{0,127}$`) })
	serviceName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-zA-Z0-9._-]{1,128}$`) })
)

func validContainer(s string) bool {
	project, service, ok := strings.Cut(s, "/")
	if ok {
		return composeName().MatchString(project) && serviceName().MatchString(service)
	}
	return containerName().MatchString(s)
}

// checkPlace says what is wrong with what names a container, or "".
func (f *Field) checkPlace(v Value) string {
	if len(v.Items) > 0 && slices.Contains(v.Items, "") {
		return "it needs both, project and service"
	}
	if !f.valid(v.Text()) {
		return "expected " + f.Expected
	}
	return ""
}

func endpointAdvice(s string) string {
	const expected = "expected unix:///PATH or tcp://HOST:PORT"
	scheme, _, ok := strings.Cut(s, "://")
	switch {
	case strings.HasPrefix(s, "/"):
		return expected + "; a path is written unix://, followed by it"
	case ok && (scheme == "http" || scheme == "https"):
		return expected + "; it is tcp:// also with TLS"
	case ok && (scheme == "ssh" || scheme == "npipe"):
		return expected + "; gharbor can't reach an engine behind " + scheme + "://"
	}
	return expected
}
