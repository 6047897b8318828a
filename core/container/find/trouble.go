package find

import (
	"context"
	"errors"
	"fmt"
	"net"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/schema"
)

// FindingOf is the finding for an error of a container engine.
func FindingOf(err error) *finding.Finding {
	var failed *api.Error
	if !errors.As(err, &failed) {
		return finding.New(finding.ContainerEngineBroken, "the container engine could not be asked").
			Saw("%s", clean.Line(err.Error(), 200))
	}
	at := clean.Line(failed.Endpoint.Address, 200)
	socket := failed.Endpoint.Socket()
	switch failed.Kind {
	case api.NoEngine:
		found := finding.New(finding.ContainerNoEngine, "no container engine listens at %s", at).
			Saw("named by %s: %s", failed.Endpoint.From, clean.Line(failed.Error(), 200))
		if runtime.GOOS == "linux" && socket != "" {
			found.Suggest("sudo systemctl start docker   # if it is installed")
		}
		return found.Suggest("gharbor container scan   # the engines that are here")
	case api.Denied:
		return finding.New(finding.ContainerNoPermission, "your account may not use the container engine at %s", at).
			Saw("users of it can do anything on its machine: ask the administrator").
			Suggest("ls -l %s", clean.Shell(socket)).
			Suggest("sudo usermod -aG docker \"$USER\"   # then log in again")
	case api.Slow:
		return finding.New(finding.ContainerEngineSlow, "the container engine at %s did not answer in time", at).
			Suggest("time docker -H %s version", clean.Shell(at))
	case api.Old:
		return finding.New(finding.ContainerEngineOld,
			"the container engine at %s and gharbor have no interface version in common", at).
			Saw("%s", failed.Message).
			Suggest("docker -H %s version", clean.Shell(at))
	case api.Insecure:
		return finding.New(finding.ContainerEngineTLS,
			"the container engine at %s was not asked: its TLS can't be trusted", at).
			Saw("%s", clean.Line(failed.Error(), 200)).
			Suggest("export DOCKER_TLS_VERIFY=1 DOCKER_CERT_PATH=\"$HOME/.docker\"   # the folder of ca.pem, " +
				"cert.pem and " +
				"key.pem")
	case api.BadEndpoint:
		found := finding.New(finding.ContainerEndpoint, "%s is no address of a container engine", failed.Endpoint.From).
			Saw("it is %s; expected unix:///PATH or tcp://HOST:PORT", clean.Quote(clean.WithoutPasswords(at)))
		if failed.Endpoint.Context {
			return found.Suggest("docker context use default   # the engine of this machine")
		}
		if strings.HasPrefix(at, "ssh:") {
			found.Advise("a server in a container of another machine is reached through a jump host: host=127.0.0.1, the " +
				"published port, and hop.1.host=THAT-MACHINE")
		}
		return found.Suggest("unset DOCKER_HOST   # looks for the engines of this machine")
	case api.Refused:
		return finding.New(finding.ContainerEngineRefused, "the container engine at %s refused", at).
			Saw("status %d: %s", failed.Status, clean.Quote(failed.Message)).
			Suggest("docker -H %s info", clean.Shell(at))
	}
	return finding.New(finding.ContainerEngineBroken, "the server at %s is no container engine", at).
		Saw("%s", clean.Line(failed.Error(), 200)).
		Suggest("docker -H %s version", clean.Shell(at))
}

// explainUnknown returns the finding for a container that no engine has, with the nearest names
// and the engines that could not be asked. Where none could, that is what is wrong.
func explainUnknown(wanted schema.Container, profileName string, endpoints []api.Endpoint,
	answers []answer) *finding.Finding {
	var names []string
	var trouble []*finding.Finding
	asked := 0
	for _, a := range answers {
		if a.err != nil {
			trouble = append(trouble, FindingOf(a.err))
			continue
		}
		asked++
		names = append(names, a.names...)
	}
	if asked == 0 {
		first := trouble[0]
		for _, other := range trouble[1:] {
			if first.Code == finding.ContainerNoEngine { // of several, what is there says more
				first, other = other, first
			}
			first.Saw("%s", other.Cause)
		}
		return first
	}
	what := fmt.Sprintf("there is no container %s", clean.Quote(wanted.Name))
	if wanted.Compose() {
		what = fmt.Sprintf("there is no container of the service %s in the compose project %s",
			clean.Quote(wanted.Service), clean.Quote(wanted.Project))
	}
	found := finding.New(finding.ContainerUnknown, "%s", what)
	for i, a := range answers {
		if a.err == nil {
			found.Saw("asked: %s, which has %d other %s",
				endpoints[i].Address, len(a.names), plural(len(a.names), "container"))
		}
	}
	for _, one := range trouble {
		found.Saw("%s (%s)", one.Cause, one.Code)
	}
	slices.Sort(names)
	near := nearest.Name(wanted.String(), names)
	if near != "" {
		found.Saw("the nearest name is %s", clean.Quote(near))
	}
	if _, ok := schema.ParseContainer(near); ok && profileName != "" {
		found.Suggest("gharbor set %s container=%s", profileName, near)
	}
	if wanted.Compose() && asked > 0 {
		found.Suggest("docker compose -p %s up -d %s", wanted.Project, wanted.Service)
	}
	if !wanted.Compose() && near == "" && profileName != "" {
		found.Advise("make it: gharbor container make %s -image IMAGE", profileName)
	}
	return found.Suggest("gharbor container scan")
}

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// ambiguous refuses to choose between containers: a password could go to the wrong
// one.
func ambiguous(wanted schema.Container, profileName string, all []match) *finding.Finding {
	found := finding.New(finding.ContainerAmbiguous, "%d containers match %s",
		len(all), clean.Quote(wanted.String()))
	engines := make(map[string]bool)
	for _, m := range all {
		engines[m.client.Endpoint.Address] = true
		found.Saw("%s at %s: %s", clean.Quote(m.one.Name), m.client.Endpoint.Address, State(m.one))
	}
	if profileName == "" {
		return found.Suggest("gharbor container scan")
	}
	if len(engines) > 1 {
		return found.Suggest("gharbor set %s endpoint=%s   # or another of them", profileName,
			clean.Shell(all[0].client.Endpoint.Address))
	}
	for _, m := range all {
		found.Suggest("gharbor set %s container=%s", profileName, name(m.one))
	}
	return found
}

// IsAddressInUse reports whether an engine's message says that the address to publish is in use.
func IsAddressInUse(said string) bool {
	said = strings.ToLower(said)
	return strings.Contains(said, "port is already allocated") || strings.Contains(said, "address already in use") ||
		strings.Contains(said, "ports are not available")
}

// isStillInUse reports whether another process now has the address at which a container's port is published; the
// engine's message is from the last start. Where we can't check, the engine's message counts.
func (e *Engines) isStillInUse(ctx context.Context, client *api.Client, one *api.Container) bool {
	if client.Endpoint.Host() != "" || len(one.HostConfig.PortBindings) == 0 {
		return true
	}
	var ports []int
	for _, bindings := range one.HostConfig.PortBindings {
		for _, p := range publishedOf(bindings, "") {
			if ports = append(ports, p.port); Listening(p.port) {
				return true
			}
		}
	}
	return Holder(ctx, client, ports, one.ID) != ""
}

// PortTaken is the finding for a container that can't start because the address at
// which its port is published is another's.
func (e *Engines) PortTaken(ctx context.Context, client *api.Client, one *api.Container, said string) *finding.Finding {
	var ports []int
	var words []string
	for key, bindings := range one.HostConfig.PortBindings {
		for _, p := range publishedOf(bindings, client.Endpoint.Host()) {
			ports, words = append(ports, p.port), append(words,
				fmt.Sprintf("%s for its port %s", p, strings.TrimSuffix(key, "/tcp")))
		}
	}
	slices.Sort(words)
	found := finding.New(finding.ContainerPortTaken,
		"the container %s can't start: its published address is taken", one.Name)
	if len(words) > 0 {
		found.Saw("it publishes at %s", strings.Join(words, ", "))
	}
	found.Saw("the container engine: %s", quoteOf(one, said))
	if other := Holder(ctx, client, ports, one.ID); other != "" {
		found.Saw("the container %s publishes there", clean.Quote(other))
		found.Suggest("gharbor container stop %s", clean.Shell(other))
	} else {
		found.Saw("no other container uses it, so it is a program of this machine")
	}
	return found.Suggest("gharbor nearby   # what listens on this machine").
		Advise("make the container again with -p 127.0.0.1::PORT added to the options of %s run (the engine "+
			"chooses the port)", client.CLIName())
}

// Holder is the running container that publishes one of some ports, "" for none.
func Holder(ctx context.Context, client *api.Client, ports []int, but string) string {
	list, err := client.List(ctx)
	if err != nil {
		return ""
	}
	for _, s := range list {
		for _, p := range s.Ports {
			if s.ID != but && p.PublicPort != 0 && slices.Contains(ports, p.PublicPort) {
				return s.Name()
			}
		}
	}
	return ""
}

// Listening reports whether a port of loopback on this machine is somebody's.
func Listening(port int) bool {
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return true
	}
	listener.Close()
	return false
}
