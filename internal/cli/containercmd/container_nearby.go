package containercmd

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/find"
	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

// nearbyServer is a server in `nearby -format json`.
type nearbyServer struct {
	nearby.Server
	Container string   `json:"container,omitempty"` // that it is in
	Profiles  []string `json:"profiles"`
	Add       string   `json:"add,omitempty"` // the line that makes a profile of it
}

func Nearby() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "nearby", Summary: "find the database servers of this machine",
		Long: `Looks at the usual sockets, at loopback ports that listen (at most 64), at installed
services that are stopped, and at containers. Each connection ends after the server's
greeting, without a login; a server may count it as a failed one.`,
		Examples: []string{"gharbor nearby", "gharbor nearby -format json"},
		Flags:    func(fs *base.FlagSet) { form.Flag(fs) },
		Verbs:    func() []*base.Command { return []*base.Command{nearbyStart()} },
		Run: run(func(ctx context.Context, c *call) error {
			file, err := c.Load()
			if err != nil {
				return err
			}
			views := make(chan []find.View, 1)
			engines := c.Containers()
			defect.Go(func() {
				all, _ := engines.Scan(ctx, "", false) // the ports are asked below; without an engine there is nothing to show here
				views <- all
			})
			survey := nearby.Machine(c.Engines).Survey(ctx, "")
			inContainers := <-views
			if ctx.Err() != nil {
				return base.Failure(base.ExitInterrupted, nil)
			}
			servers := c.addContainers(file, c.matchProfiles(file, survey), inContainers)
			if form.JSON() {
				return render.JSON(c.Stdout, map[string]any{
					"format":          1,
					"servers":         servers,
					"other_ports":     survey.Others,
					"ports_not_asked": survey.Unasked,
				})
			}
			for _, v := range inContainers {
				if v.Finding != nil && v.Finding.Code != finding.ContainerNoEngine {
					c.Notice("%s (%s)", v.Finding.Cause, v.Finding.Code)
				}
			}
			return c.nearbyTable(servers, survey)
		}),
	}
}

// matchProfiles notes which profiles lead to each server, and how to add one for the others.
func (c *call) matchProfiles(file *profile.File, survey nearby.Survey) []nearbyServer {
	env := c.Environment()
	var resolved []*resolve.Profile
	for _, p := range file.Profiles {
		resolved = append(resolved, resolve.Resolve(file, p, nil, env))
	}
	servers := []nearbyServer{}
	taken := make(map[string]bool)
	for _, s := range survey.Servers {
		one := nearbyServer{Server: s, Profiles: s.Profiles(resolved)}
		if one.Profiles == nil {
			one.Profiles = []string{}
		}
		if len(one.Profiles) == 0 && s.State == "answers" {
			one.Add = c.addLine(file, s, taken)
		}
		servers = append(servers, one)
	}
	return servers
}

// addContainers notes which servers are in containers, and adds those in containers that do not answer on loopback.
func (c *call) addContainers(file *profile.File, servers []nearbyServer, views []find.View) []nearbyServer {
	for _, e := range c.withProfiles(file, views) {
		for _, one := range e.Containers {
			var its []int // the servers that are this one's, at each port where it is published
			for i, s := range servers {
				if s.Address != "" && s.Port != 0 && slices.Contains(one.LocalPorts(), s.Port) {
					its = append(its, i)
				}
			}
			if len(its) == 0 {
				servers = append(servers, nearbyServer{Server: unansweringServer(one)})
				its = []int{len(servers) - 1}
			}
			for n, i := range its {
				s := &servers[i]
				s.Container, s.Add = one.Container, ""
				if n == 0 {
					s.Add = one.Adopt
				}
				if s.Version == "" { // its greeting told less than the container declares
					s.Engine = one.Engine
				}
				s.Profiles = append(append([]string{}, s.Profiles...), one.Profiles...)
				slices.Sort(s.Profiles)
				s.Profiles = slices.Compact(s.Profiles)
			}
		}
	}
	return servers
}

// unansweringServer is the server of a container that no port of this machine reaches.
func unansweringServer(one scannedContainer) nearby.Server {
	s := nearby.Server{Engine: one.Engine, What: "a container: " + one.State, State: "unpublished"}
	switch {
	case strings.HasPrefix(one.State, "restarting"): // by its engine, again and again
		s.State = "restarting"
	case !strings.HasPrefix(one.State, "running"):
		s.State, s.Start = "stopped", "gharbor container start "+clean.Shell(one.Container)
	case len(one.Published) > 0:
		s.State = "silent"
	}
	return s
}

// addLine returns the command that makes a profile of a server, with a free name and the system account's name as the
// user.
func (c *call) addLine(file *profile.File, s nearby.Server, taken map[string]bool) string {
	base := fmt.Sprintf("%s-%d", s.Engine, s.Port)
	address := ""
	if s.Socket != "" {
		base = s.Engine + "-socket"
		if s.Port != 0 && s.Port != c.Keys.Engines().Port(s.Engine) {
			base += fmt.Sprintf("-%d", s.Port)
		}
		address = " -socket " + clean.Shell(s.Socket)
	} else if host, port, err := net.SplitHostPort(s.Address); err == nil {
		address = " -host " + host + " -port " + port
	}
	name := base
	for n := 2; file.Lookup(name) != nil || taken[name]; n++ {
		name = fmt.Sprintf("%s-%d", base, n)
	}
	taken[name] = true
	line := "gharbor add " + name + " -engine " + s.Engine + address
	spec := c.Engines.ByWord(s.Engine)
	for _, key := range spec.Keys.Needs.Keys[:min(1, len(spec.Keys.Needs.Keys))] {
		line += " -" + string(key+" NAME")
	}
	if user := c.LikelyUser(spec); user != "" {
		line += " -user " + clean.Shell(user)
	}
	return line
}

func (c *call) nearbyTable(servers []nearbyServer, survey nearby.Survey) error {
	var rows [][]string
	var add, start []string
	connections := 0
	for _, s := range servers {
		at := s.Address
		switch {
		case at != "" && s.Container != "":
			at += " (container " + s.Container + ")"
		case s.Container != "":
			at = "container " + s.Container
		case s.Socket != "":
			at = s.Socket
		case at == "":
			at = "service " + s.Name
		}
		profiles := strings.Join(s.Profiles, " ")
		if profiles == "" {
			profiles = "-"
		}
		rows = append(rows, []string{strings.TrimSpace(s.Engine + " " + s.Version), at, s.State, profiles})
		if s.Add != "" {
			add = append(add, s.Add)
		}
		switch {
		case len(s.Words) > 0:
			start = append(start, "gharbor nearby start "+clean.Shell(s.Name)+"   # runs "+s.Start)
		case s.Start != "":
			start = append(start, s.Start)
		}
		connections += s.Connections
	}
	if len(rows) == 0 {
		fmt.Fprintln(c.Stdout, "no database server was found on this machine")
	} else if err := render.Table(c.Stdout, c.NoColour, []string{"engine", "at", "state", "profiles"}, rows); err != nil {
		return err
	}
	for _, group := range []struct {
		title string
		lines []string
	}{{"to add a profile:", add}, {"to start what is stopped:", start}} {
		if len(group.lines) == 0 {
			continue
		}
		fmt.Fprintf(c.Stdout, "\n%s\n", group.title)
		for _, line := range group.lines {
			fmt.Fprintf(c.Stdout, "  try  %s\n", line)
		}
	}
	rest := fmt.Sprintf("\n%d other ports listen on loopback and are no known database server", survey.Others)
	if survey.Unasked > 0 {
		rest += fmt.Sprintf("; %d more were not asked", survey.Unasked)
	}
	fmt.Fprintln(c.Stdout, rest)
	if connections > 0 {
		fmt.Fprintf(c.Stdout,
			"%d short connections were made; a server may count them as failed logins\n", connections)
	}
	return nil
}
