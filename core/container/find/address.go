package find

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/finding"
	"gentleharbor/core/hostname"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// place is the address of a server in a container, and how it was found.
type place struct {
	host string
	port int
	how  string
}

func (p place) String() string { return net.JoinHostPort(p.host, strconv.Itoa(p.port)) }

// inside is the server's port in its container: the profile's, else the one in the container's settings, else the
// usual one.
func (v *view) inside() int {
	port := v.profile.Port()
	if told := v.portFromEnvironment(v.profile.Text(key.Engine), v.one.Config.Env); told != 0 && !v.profile.OwnPort() {
		return told
	}
	return port
}

// address finds the server's address from here: a published port, a port of the host's own network, or the
// container's address where this machine can reach it.
func (v *view) address(ctx context.Context) (place, *finding.Finding) {
	port := v.inside()
	if all := v.publishedPlaces(port); len(all) > 0 {
		first := all[0]
		first.how = fmt.Sprintf("its port %d is published at %s", port, first)
		for i, other := range all[1:] {
			first.how += map[bool]string{true: ", and at ", false: ", "}[i == 0] + other.String()
		}
		return first, nil
	}
	if v.one.HostConfig.NetworkMode == hostNetwork {
		if found := v.explainContested(ctx, port); found != nil {
			return place{}, found
		}
		host := v.client.Endpoint.Host()
		if host == "" {
			host = "127.0.0.1"
		}
		return place{host, port, fmt.Sprintf("it is on its host's own network, port %d", port)}, nil
	}
	if v.client.Endpoint.Host() == "" {
		if own, ok := v.ownAddress(ctx); ok {
			return place{own, port,
				fmt.Sprintf("its port %d is not published, but this machine reaches it at %s", port, own)}, nil
		}
	}
	return place{}, v.explainUnpublished(port)
}

// hostNetwork is the mode of a container that uses the host's network.
const hostNetwork = "host"

// explainContested says that another container on the host's network may listen at this port, which no setting names:
// a login could go to the wrong server.
func (v *view) explainContested(ctx context.Context, port int) *finding.Finding {
	if v.profile.OwnPort() || v.portFromEnvironment(v.profile.Text(key.Engine), v.one.Config.Env) != 0 {
		return nil
	}
	list, err := v.client.List(ctx)
	if err != nil {
		return FindingOf(err)
	}
	var rivals []string
	for _, s := range list {
		if s.State != "running" || s.ID == v.one.ID {
			continue
		}
		one, err := v.client.Inspect(ctx, s.ID)
		if err != nil || one.HostConfig.NetworkMode != hostNetwork {
			continue
		}
		ports := tcpPorts(one)
		d, by := v.describe(one.Config.Env, one.Config.Image, ports)
		if by == "" {
			d, _ = v.Similar(one.Config.Env, one.Config.Image, ports)
		}
		if d.Engine != "" && v.serverPort(ports, d.Engine, one.Config.Env) == port {
			rivals = append(rivals, one.Name)
		}
	}
	if len(rivals) == 0 {
		return nil
	}
	return finding.New(finding.ContainerAmbiguous, "several containers on the host's network may listen at port %d", port).
		Saw("beside %s there is %s", clean.Quote(v.one.Name), clean.Line(strings.Join(rivals, ", "), 200)).
		Advise("say which port this one has: gharbor set %s port=PORT", v.profile.Name())
}

// publishedPlaces are the addresses of a published port that can be dialled from here, the likeliest first: loopback,
// and IPv4 before IPv6. An engine of this machine publishes only on this machine, so another machine's address from
// it is not used.
func (v *view) publishedPlaces(port int) []place {
	all := publishedOf(v.one.NetworkSettings.Ports[strconv.Itoa(port)+"/tcp"], v.client.Endpoint.Host())
	if v.client.Endpoint.Host() != "" {
		return all
	}
	return slices.DeleteFunc(all, func(p place) bool {
		addr, err := netip.ParseAddr(p.host)
		return err != nil || !addr.IsLoopback() &&
			!slices.ContainsFunc(v.Own(), func(own netip.Prefix) bool { return own.Addr() == addr })
	})
}

// publishedOf are the addresses of bindings, for an engine on a host, "" for this machine.
func publishedOf(bindings []api.Binding, host string) []place {
	type rankedPlace struct {
		place
		rank int
	}
	var all []rankedPlace
	for _, b := range bindings {
		port, err := strconv.Atoi(b.HostPort)
		if err != nil || port < 1 || port > 65535 {
			continue
		}
		ip := b.HostIp
		if ip == "" {
			ip = "0.0.0.0"
		}
		addr, err := netip.ParseAddr(ip)
		if err != nil {
			continue
		}
		addr = addr.Unmap()
		one := rankedPlace{place: place{addr.String(), port, ""}, rank: 2}
		switch {
		case host != "" && addr.IsLoopback():
			continue // of the other machine
		case host != "" && addr.IsUnspecified():
			one.host = host
		case addr.IsUnspecified() && addr.Is4():
			one.host, one.rank = "127.0.0.1", 0
		case addr.IsUnspecified():
			one.host, one.rank = "::1", 1
		case addr.IsLoopback() && addr.Is4():
			one.rank = 0
		case addr.IsLoopback():
			one.rank = 1
		case !addr.Is4():
			one.rank = 3
		}
		if !slices.ContainsFunc(all, func(o rankedPlace) bool { return o.place == one.place }) {
			all = append(all, one)
		}
	}
	slices.SortStableFunc(all, func(a, b rankedPlace) int { return a.rank - b.rank })
	places := make([]place, len(all))
	for i, one := range all {
		places[i] = one.place
	}
	return places
}

// ownAddress is the container's own address, where this machine is in its network: where the network's gateway is an
// address of this machine, and the container's address is in the same network. It dials nothing, as the server would
// count the connection.
func (v *view) ownAddress(ctx context.Context) (string, bool) {
	var mine []netip.Prefix
	for _, n := range v.networks() {
		addr, err := netip.ParseAddr(n.IPAddress)
		if err != nil {
			continue
		}
		if mine == nil {
			mine = v.Own()
		}
		for _, text := range v.gatewaysOf(ctx, n) {
			gateway, err := netip.ParseAddr(text)
			within := func(own netip.Prefix) bool { return own.Addr() == gateway.Unmap() && own.Contains(addr.Unmap()) }
			if err == nil && slices.ContainsFunc(mine, within) {
				return addr.Unmap().String(), true
			}
		}
	}
	return "", false
}

// explainUnpublished says that the port can't be reached, and how to publish it.
func (v *view) explainUnpublished(port int) *finding.Finding {
	found := finding.New(finding.ContainerUnpublished,
		"the port %d of the container %s is not published, and this machine is not in its network", port, v.one.Name)
	if bindings := v.one.NetworkSettings.Ports[strconv.Itoa(port)+"/tcp"]; len(bindings) > 0 {
		found.Cause = fmt.Sprintf("the port %d of the container %s is published only on the loopback of its host, "+
			"which is %s", port, v.one.Name, clean.Quote(v.client.Endpoint.Host()))
	}
	others := v.otherPorts(port)
	if len(others) > 0 {
		found.Saw("published are: %s", strings.Join(others, ", "))
	} else {
		found.Saw("it publishes no port at all")
	}
	if mode := v.one.HostConfig.NetworkMode; mode == "none" {
		found.Saw("it has no network")
	}
	publish := fmt.Sprintf("127.0.0.1:%d:%d", port, port)
	service := v.called
	if !service.Compose() {
		service = composeService(v.one.Config.Labels)
	}
	if service.Compose() {
		if files := v.one.Config.Labels["com.docker.compose.project.config_files"]; files != "" {
			found.Saw("its compose file: %s", clean.Quote(files))
		}
		found.Advise("add to the service: ports: [\"%s\"], then run: %s compose -p %s up -d %s", publish,
			v.client.CLIName(), service.Project, service.Service)
	} else {
		if v.one.HostConfig.NetworkMode == "none" && v.client.Endpoint.Host() == "" {
			found.Suggest("%s network disconnect none %s && %s network connect bridge %s   # a network that this "+
				"machine "+
				"is in", v.client.CLIName(), name(v.one), v.client.CLIName(), name(v.one))
		}
		found.Advise("make the container again with -p %s added to the options of %s run",
			publish, v.client.CLIName())
	}
	if inner := v.innerPorts(port); len(inner) == 1 {
		found.Suggest("gharbor set %s port=%d   # if that is the server's port in the container", v.profile.Name(),
			inner[0])
	}
	return found.Suggest("gharbor container scan")
}

// otherPorts are the ports that are published, for people: "8080 at 127.0.0.1:80".
func (v *view) otherPorts(but int) []string {
	var words []string
	for _, port := range v.innerPorts(but) {
		for _, one := range publishedOf(v.one.NetworkSettings.Ports[strconv.Itoa(port)+"/tcp"], v.client.Endpoint.Host()) {
			words = append(words, fmt.Sprintf("%d at %s", port, one))
		}
	}
	return words
}

// innerPorts are the published ports of the container, without one.
func (v *view) innerPorts(but int) []int {
	var ports []int
	for key, bindings := range v.one.NetworkSettings.Ports {
		number, _, _ := strings.Cut(key, "/")
		if port, err := strconv.Atoi(number); err == nil && len(bindings) > 0 && strings.HasSuffix(key, "/tcp") &&
			port != but {
			ports = append(ports, port)
		}
	}
	slices.Sort(ports)
	return ports
}

// publishes reports whether a container's port is published at the address that a profile writes.
func (s Sighting) publishes(r *resolve.Profile) bool {
	if r.BehindHops() {
		return false
	}
	for _, h := range r.Hosts() {
		for _, one := range s.places {
			if h.Port == one.port && (h.Host == one.host || hostname.Local(h.Host) && hostname.Local(one.host)) {
				return true
			}
		}
	}
	return false
}
