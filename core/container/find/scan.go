package find

import (
	"context"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
)

// Sighting is a container that looks like a database server.
type Sighting struct {
	Container string   `json:"container"`
	Compose   string   `json:"compose,omitempty"` // PROJECT/SERVICE
	Engine    string   `json:"engine"`            // "" where nothing tells which
	Image     string   `json:"image"`
	State     string   `json:"state"`            // "running", "exited"
	Health    string   `json:"health,omitempty"` // "healthy", "unhealthy", "starting"
	Published []string `json:"published"`        // the addresses at which its port is published
	Port      int      `json:"port"`             // the server's in the container
	User      string   `json:"user,omitempty"`
	Database  string   `json:"database,omitempty"`
	Variable  string   `json:"variable,omitempty"` // that has the password
	By        string   `json:"by"`                 // what it was recognised by: "environment", "port", "image", "greeting"

	ID          string           `json:"-"`
	Declaration Declaration      `json:"-"`
	Named       schema.Container `json:"-"` // what a profile calls it best
	places      []place          // at which its port is published
	wanted      []place          // at which it would be, where it does not run
	labels      schema.Container // of its compose file's service
}

// View is what one container engine has.
type View struct {
	Endpoint    string           `json:"endpoint"`
	From        string           `json:"from"` // who named it
	Engine      string           `json:"engine,omitempty"`
	Version     string           `json:"version,omitempty"` // of its interface
	Finding     *finding.Finding `json:"finding,omitempty"` // why it could not be asked
	Containers  []Sighting       `json:"containers"`
	Similar     []string         `json:"-"` // containers that are like a server by variables or image alone
	Others      int              `json:"other_containers"`
	Connections int              `json:"connections"` // made to servers to find out what they are
}

// Bounds of a scan.
const (
	scanParallel = 8                // requests to one engine at a time
	scanBudget   = 30 * time.Second // for everything
	mostGreeted  = 64               // containers that are dialled: their ports answer within a second
	mostPorts    = 3                // of one container
)

// greetings counts the containers that are dialled. Where greet is false, none is.
func greetings(greet bool) *atomic.Int32 {
	count := new(atomic.Int32)
	if !greet {
		count.Store(mostGreeted)
	}
	return count
}

// Scan lists the servers of all engines, or of the one that endpoint names. greet allows to connect to ports and ask
// what they are.
func (e *Engines) Scan(ctx context.Context, endpoint string, greet bool) ([]View, *finding.Finding) {
	endpoints, found := e.endpoints(endpoint)
	if found != nil && len(endpoints) == 0 {
		return nil, found
	}
	ctx, cancel := context.WithTimeout(ctx, scanBudget)
	defer cancel()
	views := e.views(ctx, endpoints, greet)
	if found != nil { // of what DOCKER_HOST says; the usual sockets are there all the same
		named, from := address.EndpointVariable, address.EndpointVariable
		if named, _ = e.Lookup(named); named == "" {
			from = "the context"
		}
		views = append([]View{{Endpoint: clean.Line(clean.WithoutPasswords(named), 200), From: from,
			Finding: found, Containers: []Sighting{}}}, views...)
	}
	return views, nil
}

// views looks through engines.
func (e *Engines) views(ctx context.Context, endpoints []api.Endpoint, greet bool) []View {
	views := make([]View, len(endpoints))
	var group defect.Group
	for i, one := range endpoints {
		group.Go(func() { views[i] = e.viewEngine(ctx, one, greet) })
	}
	group.Wait()
	return views
}

// viewEngine lists the servers of one engine.
func (e *Engines) viewEngine(ctx context.Context, endpoint api.Endpoint, greet bool) View {
	v := View{Endpoint: endpoint.Address, From: endpoint.From, Containers: []Sighting{}}
	client, err := e.connect(ctx, endpoint)
	if err != nil {
		v.Finding = FindingOf(err)
		return v
	}
	v.Engine, v.Version = client.Engine, client.Version
	list, err := client.List(ctx)
	if err != nil {
		v.Finding = FindingOf(err)
		return v
	}
	seen := make([]*Sighting, len(list))
	greeted := greetings(greet)
	var connections atomic.Int32
	slots := make(chan struct{}, scanParallel)
	var group defect.Group
	for i, summary := range list {
		group.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			one, n := e.recognise(ctx, client, summary, greeted)
			seen[i] = one
			connections.Add(int32(n))
		})
	}
	group.Wait()
	for _, one := range seen {
		if one == nil {
			v.Others++
			continue
		}
		if one.By == bySimilar { // it is offered, and not taken for one
			v.Others++
			v.Similar = append(v.Similar, one.Container)
			continue
		}
		v.Containers = append(v.Containers, *one)
	}
	v.Connections = int(connections.Load())
	slices.SortFunc(v.Containers, func(a, b Sighting) int { return strings.Compare(a.Container, b.Container) })
	return v
}

// bySimilar is a container that may be a server, by its variables alone.
const bySimilar = "variables"

// Look describes one container as a scan does; ok is false where nothing shows that it is a database server. greet
// allows to connect to its ports.
func (e *Engines) Look(ctx context.Context, client *api.Client, one *api.Container, greet bool) (Sighting, bool) {
	seen, _ := e.judge(ctx, client, one, greetings(greet))
	if seen == nil {
		return newSeen(one), false
	}
	return *seen, true
}

// recognise describes one container of a list, nil for one that is no database server. n is the number of connections
// to its ports.
func (e *Engines) recognise(ctx context.Context, client *api.Client, s api.Summary,
	greeted *atomic.Int32) (seen *Sighting, n int) {
	one, err := client.Inspect(ctx, s.ID)
	if err != nil { // removed since, or too much for the engine: what the list says is known
		one = &api.Container{ID: s.ID, Name: s.Name()}
		one.Config.Image, one.Config.Labels, one.State.Status, one.State.Running = s.Image, s.Labels, s.State, s.State ==
			"running"
		one.NetworkSettings.Ports = make(map[string][]api.Binding)
		for _, p := range s.Ports {
			key := strconv.Itoa(p.PrivatePort) + "/" + p.Type
			if p.PublicPort != 0 {
				one.NetworkSettings.Ports[key] = append(one.NetworkSettings.Ports[key],
					api.Binding{HostIp: p.IP, HostPort: strconv.Itoa(p.PublicPort)})
			}
		}
	}
	return e.judge(ctx, client, one, greeted)
}

func newSeen(one *api.Container) Sighting {
	s := Sighting{
		Container: clean.Line(one.Name, 128),
		Image:     clean.Line(one.Config.Image, 200),
		State:     clean.Line(one.State.Status, 20),
		Health:    health(one),
		Published: []string{},
		ID:        one.ID,
		labels:    composeService(one.Config.Labels),
	}
	s.Named = schema.Container{Name: one.Name}
	if s.labels.Compose() {
		s.Compose, s.Named = s.labels.String(), s.labels
	}
	return s
}

// judge reports whether a container is a database server: by what its environment
// declares, by its ports, or by the greeting on a port that is published on loopback.
func (e *Engines) judge(ctx context.Context, client *api.Client, one *api.Container,
	greeted *atomic.Int32) (*Sighting, int) {
	s := newSeen(one)
	m := match{client, one}
	if m.join(ctx) != nil {
		return nil, 0
	}
	ports := tcpPorts(one)
	n := 0
	s.Declaration, s.By = e.describe(one.Config.Env, one.Config.Image, ports)
	s.Engine = s.Declaration.Engine
	s.Port = e.serverPort(ports, s.Engine, one.Config.Env)
	if s.By != "environment" && one.State.Running && client.Endpoint.Host() == "" && greeted.Add(1) <= mostGreeted {
		if engine, port, asked := e.greeting(ctx, one, ports, s.Engine); engine != "" {
			s.Engine, s.Port, s.By, n = engine, port, "greeting", asked
		} else {
			n = asked
		}
	}
	if s.By == "" {
		similar, ok := e.Similar(one.Config.Env, one.Config.Image, ports)
		if !ok {
			return nil, n
		}
		s.By, s.Engine, s.Declaration = bySimilar, similar.Engine, similar
		if e.runs(ctx, client, one, similar.Engine) {
			s.By = "environment"
		}
		s.Port = e.serverPort(ports, s.Engine, one.Config.Env)
	}
	s.Declaration.Engine = s.Engine
	s.User, s.Database, s.Variable = s.Declaration.User, s.Declaration.Database, s.Declaration.Variable
	s.places = publishedOf(one.NetworkSettings.Ports[strconv.Itoa(s.Port)+"/tcp"], client.Endpoint.Host())
	for _, p := range s.places {
		s.Published = append(s.Published, p.String())
	}
	if !one.State.Running {
		s.wanted = publishedOf(one.HostConfig.PortBindings[strconv.Itoa(s.Port)+"/tcp"], client.Endpoint.Host())
	}
	if one.HostConfig.NetworkMode == hostNetwork && one.State.Running {
		s.places = append(s.places, place{"127.0.0.1", s.Port, ""})
		s.Published = append(s.Published, net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port)))
	}
	return &s, n
}

// runs reports whether an engine's server is among the programs of a container.
func (e *Engines) runs(ctx context.Context, client *api.Client, one *api.Container, word string) bool {
	spec := e.Known.ByWord(word)
	if spec == nil || !one.State.Running {
		return false
	}
	commands, _ := client.Commands(ctx, one.ID) // an engine that can't say leaves it open
	return slices.ContainsFunc(commands, func(command string) bool {
		return slices.Contains(spec.Local.Programs, path.Base(command))
	})
}

// tcpPorts are the ports that a container exposes or publishes, or would.
func tcpPorts(one *api.Container) []int {
	var ports []int
	add := func(key string) {
		number, kind, _ := strings.Cut(key, "/")
		if port, err := strconv.Atoi(number); err == nil && (kind == "tcp" || kind == "") && !slices.Contains(ports, port) {
			ports = append(ports, port)
		}
	}
	for key := range one.NetworkSettings.Ports {
		add(key)
	}
	for key := range one.HostConfig.PortBindings {
		add(key)
	}
	for key := range one.Config.ExposedPorts {
		add(key)
	}
	slices.Sort(ports)
	return ports
}

// byPort is the engine whose usual port is among a container's, "" for none. Where engines share a port, the image's
// name decides.
func (c Catalog) byPort(ports []int, image string) string {
	word := ""
	for _, spec := range c.Known.All() {
		if !slices.Contains(ports, spec.Port) {
			continue
		}
		if spec.Image != nil && spec.Image.Instead.Has(image) {
			return spec.Word
		}
		if word == "" {
			word = spec.Word
		}
	}
	return word
}

// serverPort is the port of an engine's server among a container's: the one in its own variable, the usual one, or
// the only one.
func (c Catalog) serverPort(ports []int, word string, env api.Environment) int {
	if told := c.portFromEnvironment(word, env); told != 0 {
		return told
	}
	usual := c.Known.Port(word)
	if len(ports) == 1 && ports[0] != usual {
		return ports[0]
	}
	return usual
}

// portFromEnvironment is the port that an environment sets for an engine's server, 0 for none.
func (c Catalog) portFromEnvironment(word string, env api.Environment) int {
	spec := c.Known.ByWord(word)
	if spec == nil || spec.Image == nil || spec.Image.Port == "" {
		return 0
	}
	n, err := strconv.Atoi(env[spec.Image.Port].Disclose())
	if err != nil || n < 1 || n > 65535 {
		return 0
	}
	return n
}

// greeting connects to the ports that are published on loopback and asks what they are, the likely one first. It does
// not log in; a server may count each as a failed connection.
func (e *Engines) greeting(ctx context.Context, one *api.Container, ports []int,
	likely string) (engine string, port, connections int) {
	usual := e.Known.Port(likely)
	slices.SortStableFunc(ports, func(a, b int) int {
		switch {
		case a == usual:
			return -1
		case b == usual:
			return 1
		}
		return 0
	})
	for _, port := range ports[:min(len(ports), mostPorts)] {
		for _, at := range publishedOf(one.NetworkSettings.Ports[strconv.Itoa(port)+"/tcp"], "") {
			if !hostname.Local(at.host) {
				continue
			}
			greetings := e.Known.Greetings()
			dial := func(ctx context.Context) (net.Conn, error) { return e.Dial(ctx, "tcp", at.String()) }
			service, n, ok := greetings.Identify(ctx, dial, greetings.Probes(likely, false)...)
			connections += n
			if ok && service.Engine != "" {
				return service.Engine, port, connections
			}
			break // its other addresses are the same server
		}
	}
	return "", 0, connections
}

// LocalPort is the port of loopback at which the server's port is published, 0 for none.
func (s Sighting) LocalPort() int {
	if all := s.LocalPorts(); len(all) > 0 {
		return all[0]
	}
	return 0
}

// LocalPorts are the ports of loopback at which the server's port is published, the likeliest first.
func (s Sighting) LocalPorts() (all []int) {
	for _, p := range s.places {
		if hostname.Local(p.host) && !slices.Contains(all, p.port) {
			all = append(all, p.port)
		}
	}
	return all
}

// Leads reports whether a profile leads to the container, at the engine that has it.
func (s Sighting) Leads(r *resolve.Profile, endpoint string) bool {
	wanted, ok := address.ContainerOf(r)
	if !ok {
		return s.publishes(r)
	}
	if written := r.Text(key.Endpoint); written != "" && Canonical(written) != Canonical(endpoint) {
		return false
	}
	if wanted.Compose() {
		return wanted == s.labels
	}
	return wanted.Name == s.Container
}
