package containercmd

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/container/making"
	"gentleharbor/core/finding"
	"gentleharbor/core/intake/compose"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/transfercmd"
	"gentleharbor/internal/render"
)

// wantedService is the compose service of a word: the one of a profile of that name, or the service itself.
func (c *call) wantedService(word string) (wanted schema.Container, profile string) {
	wanted, _ = schema.ParseContainer(word)
	if file, err := c.Load(); err == nil && file.Lookup(word) != nil {
		if p, err := c.Resolve(word, nil); err == nil {
			if in, ok := address.ContainerOf(p); ok {
				return in, word
			}
		}
	}
	return wanted, ""
}

// makeService makes the container of a service of the working folder's compose file. unknown is the error for the
// missing container, which it returns where the file does not say how to make one.
func (c *call) makeService(ctx context.Context, o startOptions, unknown error) (*namedContainer, error) {
	var failure *secret.Failure
	wanted, profile := c.wantedService(c.Args[0])
	if !errors.As(unknown, &failure) || !failure.Found.Is(finding.ContainerUnknown) || !wanted.Compose() {
		return nil, unknown
	}
	of := transfercmd.NewCall(c.Call)
	server, path, err := of.ComposeService(ctx, wanted.Project, wanted.Service)
	switch {
	case err != nil:
		return nil, err
	case server == nil:
		return nil, unknown
	case server.Making.Image == "" || len(server.Making.Refused) > 0:
		keys := strings.Join(append(server.Making.Refused,
			map[bool]string{true: "no image"}[server.Making.Image == ""]), ", ")
		return nil, base.Failure(base.ExitUsage,
			fmt.Errorf("no container of %s/%s was made yet, and gharbor makes none of this "+
				"service: %s", wanted.Project, wanted.Service, strings.Trim(keys, ", ")),
			fmt.Sprintf("docker compose -f %s up -d %s",
				clean.Shell(path), clean.Shell(wanted.Service)))
	}
	client, found := c.Containers().Client(ctx, o.endpoint)
	if found != nil {
		return nil, base.RouteFailed(found)
	}
	m := server.Making
	if _, here, err := client.Image(ctx, m.Image); err != nil {
		return nil, engineFailed(err)
	} else if !here {
		return nil, base.Failure(base.ExitServer, fmt.Errorf("the image %s is not on the engine's machine", m.Image),
			client.CLIName()+" pull "+clean.Shell(m.Image))
	}
	c.showService(server, path)
	if err := c.confirmMake(ctx, o); err != nil {
		return nil, err
	}
	id, found := making.MakeService(ctx, client, serviceOf(server))
	if found != nil {
		return nil, base.RouteFailed(found)
	}
	c.Say("made and started: container %s", m.Name)
	one := &namedContainer{client: client}
	if one.Container, err = client.Inspect(ctx, id); err != nil {
		return nil, engineFailed(err)
	}
	if profile != "" {
		one.profile, err = c.Resolve(profile, nil)
	}
	return one, err
}

// serviceOf is the plan for a compose service.
func serviceOf(s *compose.Server) making.Service {
	one := making.Service{
		Project:     s.Container.Project,
		Name:        s.Service,
		Container:   s.Making.Name,
		Image:       s.Making.Image,
		Environment: s.Making.Environment,
		Volumes:     s.Making.Volumes,
		Ports:       make(map[int]api.Binding),
	}
	for _, m := range s.Making.Mounts {
		one.Mounts = append(one.Mounts, api.SpecMount{
			Type:     "bind",
			Source:   m.Source,
			Target:   m.Target,
			ReadOnly: m.ReadOnly,
		})
	}
	for _, p := range s.Making.Ports {
		one.Ports[p.Target] = api.Binding{HostIp: p.Host, HostPort: p.Published}
	}
	return one
}

// showService prints what will be made, without values of the environment, as any may be a password.
func (c *call) showService(s *compose.Server, path string) {
	m := s.Making
	render.NewReport(c.Stdout, c.NoColour).Head(s.Container.Project+"/"+s.Service, "a container "+m.Name+" by "+
		clean.Line(path, 200))
	line := func(what, format string, args ...any) {
		fmt.Fprintf(c.Stdout, "  %-9s  %s\n", what, clean.Visible(fmt.Sprintf(format, args...)))
	}
	line("image", "%s, is here", m.Image)
	for _, p := range m.Ports {
		host, port := p.Host, p.Published
		if host == "" {
			host = "every address of this machine"
		}
		if port == "" {
			port = "a free port"
		}
		line("published", "port %d at %s, %s", p.Target, host, port)
	}
	for _, folder := range slices.Sorted(maps.Keys(m.Volumes)) {
		line("data", "volume %s at %s", m.Volumes[folder], folder)
	}
	for _, one := range m.Mounts {
		line("mount", "%s at %s%s", one.Source, one.Target, map[bool]string{true: ", read-only"}[one.ReadOnly])
	}
	line("variables", "%s", strings.Join(slices.Sorted(maps.Keys(m.Environment)), ", "))
	if len(m.Passed) > 0 {
		line("left out", "%s", strings.Join(m.Passed, ", "))
	}
}

// confirmMake asks whether to make the container.
func (c *call) confirmMake(ctx context.Context, o startOptions) error {
	if o.yes {
		return nil
	}
	if !c.Interactive() {
		return base.Failure(base.ExitUsage,
			errors.New("there is no terminal to ask on; -yes makes the container without asking"),
			c.CommandWith("yes", "true"))
	}
	yes, err := c.Confirm(ctx, "make it?", true)
	if err == nil && !yes {
		err = base.Failure(base.ExitFailed, errors.New("nothing was made"))
	}
	return err
}
