// Package find finds database servers in containers: it asks the container engines of this machine, or the one that a
// profile names, for a container's present address, its state and its environment. It knows a container by its name,
// or by the labels of a compose file's service, never by its id, as it may be replaced at any time. On the way from
// profile to report it is a part of route; package api speaks the engine's interface. Start with New.
package find

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
)

// Engines are the container engines that this machine can ask. It implements address.Containers.
type Engines struct {
	Catalog // recognises the servers in containers

	Lookup func(name string) (string, bool) // environment variables
	Home   string                           // the user's home folder
	UID    int
	Dial   api.Dialer
	Own    func() []netip.Prefix // the addresses of this machine, with their networks

	looked  cachedLook
	mu      sync.Mutex
	clients map[string]*pendingClient // by endpoint: versions are agreed on once
}

// pendingClient is a client that is made once, with its error.
type pendingClient struct {
	once   sync.Once
	client *api.Client
	err    error
	failed time.Time // when err came, under the lock of the engines
}

// remembered is how long the failure of an engine is remembered: otherwise each of many profiles would wait for it.
const remembered = 2 * time.Second

// System asks the engines of this machine.
func System(known engine.Set, lookup func(string) (string, bool), home string) *Engines {
	return &Engines{
		Catalog: Catalog{Known: known},
		Lookup:  lookup,
		Home:    home,
		UID:     os.Getuid(),
		Dial:    (&net.Dialer{}).DialContext,
		Own:     ownAddresses,
	}
}

func ownAddresses() []netip.Prefix {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	var all []netip.Prefix
	for _, one := range list {
		if prefix, err := netip.ParsePrefix(one.String()); err == nil {
			all = append(all, prefix)
		}
	}
	return all
}

// connect connects to an engine, once.
func (e *Engines) connect(ctx context.Context, endpoint api.Endpoint) (*api.Client, error) {
	e.mu.Lock()
	if e.clients == nil {
		e.clients = make(map[string]*pendingClient)
	}
	one := e.clients[endpoint.Address]
	if one == nil || !one.failed.IsZero() && time.Since(one.failed) > remembered {
		one = new(pendingClient)
		e.clients[endpoint.Address] = one
	}
	e.mu.Unlock()
	one.once.Do(func() { one.client, one.err = api.Connect(ctx, endpoint, e.Lookup, e.Home, e.Dial) })
	if one.err != nil {
		e.mu.Lock()
		switch {
		case errors.Is(one.err, context.Canceled) && e.clients[endpoint.Address] == one: // which says nothing of the engine
			delete(e.clients, endpoint.Address)
		case one.failed.IsZero():
			one.failed = time.Now()
		}
		e.mu.Unlock()
		return nil, one.err
	}
	return one.client, nil
}

// endpoints are the engines to ask for a container: the profile's, or all that this machine may have. The finding is
// for a DOCKER_HOST that is no endpoint; there may be other engines beside it.
func (e *Engines) endpoints(written string) ([]api.Endpoint, *finding.Finding) {
	if written != "" {
		return []api.Endpoint{{Address: written, From: "the profile"}}, nil
	}
	all, err := api.Endpoints(e.Lookup, e.Home, e.UID)
	if err != nil {
		return all, FindingOf(err)
	}
	if named := api.NamedSockets(e.Lookup); len(all) == 0 && len(named) > 0 {
		return nil, finding.New(finding.ContainerNoEngine, "no container engine is at a socket that %s names",
			api.SocketsVariable).
			Saw("there is no %s", clean.Line(strings.Join(named, ", "), 300)).
			Suggest("unset %s   # looks at the usual sockets", api.SocketsVariable)
	}
	if len(all) == 0 {
		return nil, finding.New(finding.ContainerNoEngine, "no container engine was found on this machine").
			Saw("none of the usual sockets exists, and %s is not set", address.EndpointVariable).
			Suggest("sudo systemctl start docker   # if it is installed").
			Advise("if its socket is elsewhere: export DOCKER_HOST=unix:///PATH")
	}
	return all, nil
}

// usable are the endpoints to ask for a container. Where the user names sockets, a DOCKER_HOST that can't be used
// does not matter.
func (e *Engines) usable(written string) ([]api.Endpoint, *finding.Finding) {
	all, found := e.endpoints(written)
	if found != nil && len(all) > 0 && len(api.NamedSockets(e.Lookup)) > 0 {
		found = nil
	}
	return all, found
}

// Canonical is an endpoint in the form of a wallet's bindings: a socket by its real path.
func Canonical(endpoint string) string {
	socket := api.Endpoint{Address: endpoint}.Socket()
	if socket == "" {
		return strings.TrimSuffix(strings.ToLower(endpoint), "/")
	}
	if real, err := filepath.EvalSymlinks(socket); err == nil {
		socket = real
	} else if folder, err := filepath.EvalSymlinks(filepath.Dir(socket)); err == nil { // it may come
		socket = filepath.Join(folder, filepath.Base(socket))
	}
	return "unix://" + socket
}

// Endpoint is the engine that has a profile's container.
func (e *Engines) Endpoint(ctx context.Context, p address.Profile) (string, *finding.Finding) {
	all, found := e.usable(p.Text(key.Endpoint))
	switch {
	case found != nil:
		return "", found
	case len(all) == 1:
		return Canonical(all[0].Address), nil
	}
	m, found := e.find(ctx, p)
	if found != nil {
		return "", found
	}
	return Canonical(m.client.Endpoint.Address), nil
}

// match is a container that was found, and its engine.
type match struct {
	client *api.Client
	one    *api.Container
}

// Find looks a container up at all engines, or at the one that endpoint names.
func (e *Engines) Find(ctx context.Context, wanted schema.Container,
	endpoint string) (*api.Client, *api.Container, *finding.Finding) {
	m, found := e.look(ctx, wanted, endpoint, "")
	return m.client, m.one, found
}

// find looks up a profile's container.
func (e *Engines) find(ctx context.Context, p address.Profile) (match, *finding.Finding) {
	wanted, _ := address.ContainerOf(p)
	return e.look(ctx, wanted, p.Text(key.Endpoint), p.Name())
}

// look asks all engines at once. Where two engines have the container, or a service has two containers, the result is
// an error: the profile does not say which one it means.
func (e *Engines) look(ctx context.Context, wanted schema.Container,
	endpoint, profileName string) (match, *finding.Finding) {
	endpoints, found := e.usable(endpoint)
	if found != nil {
		return match{}, found
	}
	answers := make([]answer, len(endpoints))
	var group defect.Group
	for i, one := range endpoints {
		group.Go(func() { answers[i] = e.ask(ctx, one, wanted) })
	}
	group.Wait()
	var all []match
	for _, a := range answers {
		all = append(all, a.found...)
	}
	switch {
	case len(all) == 1:
		return all[0], nil
	case len(all) > 1:
		return match{}, ambiguous(wanted, profileName, all)
	}
	return match{}, explainUnknown(wanted, profileName, endpoints, answers)
}

// answer is what one engine said.
type answer struct {
	found []match
	names []string // of all its containers, where it has not the one wanted
	err   error
}

func (e *Engines) ask(ctx context.Context, endpoint api.Endpoint, wanted schema.Container) (a answer) {
	var client *api.Client
	if client, a.err = e.connect(ctx, endpoint); a.err != nil {
		return a
	}
	if wanted.Compose() {
		a.found, a.err = findService(ctx, client, wanted)
	} else {
		a.found, a.err = findNamed(ctx, client, wanted.Name)
	}
	if a.err != nil || len(a.found) > 0 {
		return a
	}
	var list []api.Summary
	if list, a.err = client.List(ctx); a.err == nil {
		for _, one := range list {
			a.names = append(a.names, namesOf(wanted, one)...)
		}
	}
	return a
}

// namesOf are the names by which a profile could mean a container.
func namesOf(wanted schema.Container, one api.Summary) []string {
	if !wanted.Compose() {
		return []string{one.Name()}
	}
	if c := composeService(one.Labels); c.Compose() {
		return []string{c.String()}
	}
	return nil
}

// The labels that compose files leave on containers (compose specification,
// "labels"): the two of a service, and that of a container for one command.
const (
	projectLabel = "com.docker.compose.project"
	serviceLabel = "com.docker.compose.service"
	oneOffLabel  = "com.docker.compose.oneoff"
)

// composeService is the compose file's service that labels name, if they do.
func composeService(labels map[string]string) schema.Container {
	c, ok := schema.ParseContainer(labels[projectLabel] + "/" + labels[serviceLabel])
	if !ok || strings.EqualFold(labels[oneOffLabel], "true") {
		return schema.Container{}
	}
	return c
}

func findService(ctx context.Context, client *api.Client, wanted schema.Container) ([]match, error) {
	list, err := client.List(ctx, projectLabel+"="+wanted.Project, serviceLabel+"="+wanted.Service)
	if err != nil {
		return nil, err
	}
	var all []match
	for _, s := range list {
		if composeService(s.Labels) != wanted {
			continue
		}
		one, err := client.Inspect(ctx, s.ID)
		if api.Gone(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		all = append(all, match{client, one})
	}
	return all, nil
}

// findNamed finds a container by its name. The engine also finds one by the beginning of its id, which does not count
// here.
func findNamed(ctx context.Context, client *api.Client, name string) ([]match, error) {
	one, err := client.Inspect(ctx, name)
	switch {
	case api.Gone(err):
		return nil, nil
	case err != nil:
		return nil, err
	case one.Name != name:
		return nil, nil
	}
	return []match{{client, one}}, nil
}

// Place asks the container engine where a profile's container is now.
func (e *Engines) Place(ctx context.Context, p address.Profile) (*address.ContainerAddress, *finding.Finding) {
	m, found := e.find(ctx, p)
	if found != nil {
		return nil, found
	}
	if err := m.join(ctx); err != nil {
		return nil, FindingOf(err)
	}
	v := &view{Engines: e, match: m, profile: p}
	v.called, _ = address.ContainerOf(p)
	if found := v.idle(ctx); found != nil {
		return nil, found
	}
	place, found := v.address(ctx)
	if found != nil {
		return nil, found
	}
	placed := &address.ContainerAddress{
		Ref:      v.called,
		Name:     m.one.Name,
		Endpoint: Canonical(m.client.Endpoint.Address),
		Host:     place.host,
		Port:     place.port,
		Detail:   fmt.Sprintf("container %s on %s: %s; %s", m.one.Name, m.client.Engine, v.state(), place.how),
		Gateways: v.gateways(ctx),
		Explain:  v.explain,
		Declared: v.declaredSecret,
	}
	if placed.Warning = v.unhealthy(); placed.Warning == nil {
		placed.Warning = v.noVolume()
	}
	return placed, nil
}

// join gives a container in another one's network the published ports and addresses of that other.
func (m *match) join(ctx context.Context) error {
	id, ok := strings.CutPrefix(m.one.HostConfig.NetworkMode, "container:")
	if !ok {
		return nil
	}
	other, err := m.client.Inspect(ctx, id)
	if api.Gone(err) {
		return nil
	}
	if err != nil {
		return err
	}
	m.one.NetworkSettings, m.one.HostConfig.NetworkMode = other.NetworkSettings, other.HostConfig.NetworkMode
	return nil
}

// view is a container as a profile sees it.
type view struct {
	*Engines
	match
	profile address.Profile
	called  schema.Container
}

// gateways are the host's addresses in the container's networks: from them the server sees connections through a
// published port.
func (v *view) gateways(ctx context.Context) (all []netip.Addr) {
	for _, n := range v.networks() {
		for _, text := range v.gatewaysOf(ctx, n) {
			if addr, err := netip.ParseAddr(text); err == nil && !slices.Contains(all, addr.Unmap()) {
				all = append(all, addr.Unmap())
			}
		}
	}
	return all
}

// networks are those of the container, in the order of their names.
func (v *view) networks() []api.Network {
	settings := v.one.NetworkSettings.Networks
	names := make([]string, 0, len(settings))
	for name := range settings {
		names = append(names, name)
	}
	slices.Sort(names)
	all := make([]api.Network, len(names))
	for i, name := range names {
		all[i] = settings[name]
	}
	return all
}

// gatewaysOf are the host's addresses in a network. An internal network has one too, which the container's
// description leaves out.
func (v *view) gatewaysOf(ctx context.Context, n api.Network) []string {
	var all []string
	for _, text := range []string{n.Gateway, n.IPv6Gateway} {
		if text != "" {
			all = append(all, text)
		}
	}
	if len(all) == 0 && n.NetworkID != "" && n.IPAddress != "" {
		all, _ = v.client.Gateways(ctx, n.NetworkID)
	}
	return all
}

// name is a container's own name, as a command line has it.
func name(one *api.Container) string { return clean.Shell(one.Name) }

// IsOnlyEngine reports whether an endpoint is the only engine of this machine, at a usual
// socket: a profile need not name it then.
func (e *Engines) IsOnlyEngine(endpoint string) bool {
	all, err := api.Endpoints(e.Lookup, e.Home, e.UID)
	return err == nil && len(all) == 1 && all[0].From != address.EndpointVariable &&
		Canonical(all[0].Address) == Canonical(endpoint)
}

// Client is a client of the engine for a new container: the named one, also by DOCKER_HOST, else the only one that
// answers.
func (e *Engines) Client(ctx context.Context, endpoint string) (*api.Client, *finding.Finding) {
	endpoints, found := e.usable(endpoint)
	if found != nil {
		return nil, found
	}
	if endpoints[0].From == address.EndpointVariable {
		endpoints = endpoints[:1]
	}
	var clients []*api.Client
	for _, at := range endpoints {
		client, err := e.connect(ctx, at)
		if err == nil {
			clients = append(clients, client)
		} else if found == nil {
			found = FindingOf(err)
		}
	}
	if len(clients) == 1 {
		return clients[0], nil
	}
	if len(clients) == 0 {
		return nil, found
	}
	found = finding.New(finding.ContainerAmbiguous,
		"%d container engines answer; which one has the container is not known", len(clients))
	for _, c := range clients {
		found.Saw("%s at %s", c.Engine, c.Endpoint.Address)
	}
	return nil, found.Advise("give the command one of them: -endpoint %s", clients[0].Endpoint.Address)
}
