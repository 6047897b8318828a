//go:build linux

package main

import (
	"fmt"
	"strconv"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/engineapi"
)

// inContainer writes the profile x for the simulated server in the container
// saltmarsh-ringing, which change may change.
func inContainer(change func(w *tryWorld, h *harbour, c *engineapi.Config), pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		h := harbourFor(w.t, w.Program, func(h *harbour, c *engineapi.Config) {
			one := c.Containers[0]
			w.remake = func([]*engineapi.Container) {
				one.Ports, one.Mode, one.State, one.Error = h.at(), "bridge", "running", ""
				one.Mounts = h.ringing("x").Mounts
			}
			if change != nil {
				change(w, h, c)
			}
		})
		w.engine = h.engine
		w.Setenv("RINGER", ringerPassword)
		w.Profiles("[profile.x]\nengine = \"mariadb\"\ncontainer = \"saltmarsh-ringing\"\nuser = \"ringer\"\ndatabase = \"ringing\"\nsecret = \"env:RINGER\"\n")
		w.set(pairs)
	}
}

// oneIs is inContainer with the container changed.
func oneIs(change func(h *harbour, one *engineapi.Container), pairs ...string) func(*tryWorld) {
	return inContainer(func(_ *tryWorld, h *harbour, c *engineapi.Config) { change(h, c.Containers[0]) }, pairs...)
}

// engineIs is inContainer with a fault of the engine's.
func engineIs(fault engineapi.Fault) func(*tryWorld) {
	return inContainer(func(_ *tryWorld, _ *harbour, c *engineapi.Config) { c.Fault = fault })
}

var stationLabels = map[string]string{"com.docker.compose.project": "station", "com.docker.compose.service": "rings"}

func containerCases() []tryCase {
	same := fills{"docker ": "same", "gharbor container scan": "same", "gharbor nearby": "same", "time docker": "same", "export ": "same", "unset ": "same", "sudo ": "same"}
	with := func(more fills) fills {
		all := fills{}
		for _, one := range []fills{same, more} {
			for k, v := range one {
				all[k] = v
			}
		}
		return all
	}
	far := func(_ *harbour, one *engineapi.Container) { // an engine in a virtual machine
		one.Ports = nil
		one.Networks = map[string]engineapi.Network{"bridge": {IPAddress: "10.250.7.2", Gateway: "10.250.7.1"}}
	}
	return []tryCase{
		{name: "no such container", code: "container.unknown", setUp: inContainer(nil, "container=saltmarsh-ring"), after: same},
		{name: "no such service", code: "container.unknown", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.Labels = stationLabels }, "container=station/ring"), after: same},
		{name: "two containers of a service", code: "container.ambiguous", setUp: inContainer(func(_ *tryWorld, h *harbour, c *engineapi.Config) {
			c.Containers = append(c.Containers, h.ringing("saltmarsh-second"))
			c.Containers[0].Labels, c.Containers[1].Labels = stationLabels, stationLabels
		}, "container=station/rings"), after: same},
		{name: "two engines", code: "container.ambiguous", setUp: func(w *tryWorld) {
			inContainer(nil)(w)
			other, err := engineapi.Start(engineapi.Config{Socket: socketPath(w.t), Containers: []*engineapi.Container{w.engine.Find("saltmarsh-ringing")}})
			if err != nil {
				w.t.Fatal(err)
			}
			w.t.Cleanup(other.Close)
			w.Setenv("GHARBOR_ENGINES", w.engine.Socket+":"+other.Socket)
		}, after: same},
		{name: "a stopped container", code: "container.stopped", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.State = "exited" }), after: same},
		{name: "a paused container", code: "container.stopped", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.State = "paused" }), after: same},
		{name: "a container that loops", code: "container.restarting", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.State, one.Restarts = "restarting", 3 }), after: with(fills{"gharbor container stop": "container.stopped"})},
		{name: "an unhealthy container", code: "container.unhealthy", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.Health = "unhealthy" }), after: same},
		{name: "a container without a volume", code: "container.no-volume", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.Mounts = nil })},
		{name: "an unpublished container", code: "container.unpublished", setUp: oneIs(far), after: same},
		{name: "an unpublished service", code: "container.unpublished", setUp: oneIs(func(h *harbour, one *engineapi.Container) { far(h, one); one.Labels = stationLabels }), after: same},
		{name: "another port published", code: "container.unpublished", setUp: oneIs(func(h *harbour, one *engineapi.Container) {
			far(h, one)
			one.Ports = map[string][]engineapi.Binding{"3307/tcp": h.at()["3306/tcp"]}
		}), after: same},
		{name: "a container without a network", code: "container.unpublished", setUp: oneIs(func(_ *harbour, one *engineapi.Container) {
			one.Ports, one.Mode, one.Networks = nil, "none", map[string]engineapi.Network{}
		}), after: same},
		{name: "a container that starts", code: "container.starting", setUp: oneIs(func(_ *harbour, one *engineapi.Container) {
			one.Health = "starting"
			one.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: "1"}}}
		}), after: with(fills{"gharbor wait": "same"})},
		{name: "a container that says nothing", code: "reach.refused", setUp: oneIs(func(_ *harbour, one *engineapi.Container) {
			one.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: "1"}}}
		}), after: with(fills{"gharbor show": "same"})},
		{name: "a container's port that another container has", code: "container.port-taken", setUp: inContainer(func(_ *tryWorld, h *harbour, c *engineapi.Config) {
			port := strconv.Itoa(testkit.FreePort(h.t))
			one := c.Containers[0]
			one.State, one.Error = "created", "Bind for 127.0.0.1:"+port+" failed: port is already allocated"
			one.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: port}}}
			c.Containers = append(c.Containers, &engineapi.Container{Name: "web", Image: "saltmarsh/web", Ports: map[string][]engineapi.Binding{"80/tcp": {{HostIp: "127.0.0.1", HostPort: port}}}})
		}), after: with(fills{"gharbor container stop": "container.stopped"})},
		{name: "no container engine", code: "container.no-engine", setUp: func(w *tryWorld) { inContainer(nil)(w); w.Setenv("GHARBOR_ENGINES", "") }, after: same},
		{name: "no engine there", code: "container.no-engine", setUp: inContainer(nil, "endpoint=unix:///no/such.sock"), after: same},
		{name: "a slow engine", code: "container.engine-slow", flags: []string{"-timeout", "8s"}, setUp: engineIs(engineapi.Slow), after: same},
		{name: "an old engine", code: "container.engine-old", setUp: engineIs(engineapi.Old), after: same},
		{name: "no engine at all", code: "container.engine-broken", setUp: engineIs(engineapi.NotHTTP), after: same},
		{name: "an engine that refuses", code: "container.engine-refused", setUp: engineIs(engineapi.Forbidden), after: same},
		{name: "an engine without TLS", code: "container.engine-tls", setUp: inContainer(nil, "endpoint=tcp://192.0.2.9:2375"), after: same},
		{name: "no endpoint", code: "container.endpoint", setUp: func(w *tryWorld) {
			inContainer(nil)(w)
			w.Setenv("GHARBOR_ENGINES", "")
			w.Setenv("DOCKER_HOST", "ssh://gate.saltmarsh.example")
		}, after: same},
		{name: "a container behind hops", code: "profile.conflict", setUp: func(w *tryWorld) {
			inContainer(nil)(w)
			w.OK("hop", "add", "x", "host=gate.saltmarsh.example", "user=keeper")
		}, fill: fills{"host=HOST": "host=127.0.0.1"}, after: fills{"gharbor set": "hop.name-unknown"}},
		{name: "an engine for no container", code: "profile.conflict", setUp: inContainer(nil, "container=", "host=127.0.0.1", "endpoint=unix:///var/run/docker.sock"), after: fills{"gharbor set": "reach.refused"}},
		{name: "a variable that is not declared", code: "secret.missing", setUp: inContainer(nil, "secret=container:MARIADB_PASSWORT"), typed: ringerPassword},
		{name: "a file that is not named", code: "secret.missing", setUp: oneIs(func(_ *harbour, one *engineapi.Container) { one.Env = []string{"MARIADB_PASSWORD_FILE=ringer"} }, "secret=container:MARIADB_PASSWORD_FILE"), typed: ringerPassword},
		{name: "a file that is not there", code: "secret.unreadable", setUp: oneIs(func(_ *harbour, one *engineapi.Container) {
			one.Env = []string{"MARIADB_PASSWORD_FILE=/run/secrets/ringer"}
		}, "secret=container:MARIADB_PASSWORD_FILE"), typed: ringerPassword},
		{name: "a secret of no container", code: "secret.missing", setUp: func(w *tryWorld) {
			inContainer(nil, "container=", "host=127.0.0.1", "secret=container:X")(w)
			w.OK("set", "x", fmt.Sprintf("port=%s", w.engine.Find("saltmarsh-ringing").Ports["3306/tcp"][0].HostPort))
		}, typed: ringerPassword},
		{name: "a container nearby", code: "reach.refused", setUp: func(w *tryWorld) {
			inContainer(nil)(w)
			w.OK("set", "x", "container=", "host=127.0.0.1", fmt.Sprintf("port=%d", testkit.ClosedPort(w.t)))
		}, after: with(fills{"gharbor show": "same", "gharbor set x socket": "login.password", "gharbor set x port": "login.password"})},
		{name: "a container nearby that is stopped", code: "reach.refused", setUp: func(w *tryWorld) {
			inContainer(func(_ *tryWorld, h *harbour, c *engineapi.Config) {
				c.OnStart = func(c *engineapi.Container) error { c.Health = "healthy"; return nil }
				one := c.Containers[0]
				one.State = "exited"
				one.Ports = map[string][]engineapi.Binding{"3306/tcp": {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(testkit.FreePort(h.t))}}}
			})(w)
			w.OK("set", "x", "container=", "host=127.0.0.1", "port="+w.engine.PublishedPort("saltmarsh-ringing"))
		}, after: with(fills{"gharbor show": "same", "gharbor container start": "same"})},
	}
}
