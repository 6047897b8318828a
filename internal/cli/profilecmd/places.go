package profilecmd

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

// offeredServer is a server that add offers: its place, and the keys of a profile for it.
type offeredServer struct {
	text string // in a line
	sets base.Assignments
}

// maxNamed bounds the aliases, and the addresses of other profiles, in the list: nobody reads more than a screen.
const maxNamed = 6

// places are the servers to offer for a new profile: those that answer on this machine, its containers, the aliases,
// and the addresses behind a hop of other profiles. It does not dial the last two. connections is how many greetings
// it read.
func (c *Call) places(ctx context.Context) (all []offeredServer, connections int, err error) {
	file, err := c.Load()
	if err != nil {
		return nil, 0, err
	}
	containers := make(chan []offeredServer, 1)
	published := make(chan map[int]bool, 1)
	defect.Go(func() {
		found, ports := c.containerPlaces(ctx)
		containers <- found
		published <- ports
	})
	survey := nearby.Machine(c.Engines).Survey(ctx, "")
	inContainers, ports := <-containers, <-published
	for _, s := range survey.Servers {
		connections += s.Connections
		if s.State == "answers" && (s.Socket != "" || !ports[s.Port]) {
			all = append(all, c.serverPlace(s))
		}
	}
	all = append(all, inContainers...)
	all = append(all, c.aliasPlaces()...)
	env := c.Environment()
	for _, p := range file.All() {
		if r := resolve.Resolve(file, p, nil, env); len(r.Hops()) > 0 && r.WhyNotVouched() == nil {
			like := schema.Override{Field: c.Keys.Field(key.Like), Value: schema.TextValue(r.Called)}
			all = append(all, offeredServer{
				text: fmt.Sprintf("%s at %s, like the profile %s", r.Text(key.Engine), wording.Address(r), r.Called),
				sets: base.Assignments{like},
			})
		}
		if len(all) > len(survey.Servers)+len(inContainers)+2*maxNamed {
			break
		}
	}
	return all, connections, ctx.Err()
}

// serverPlace is a server that answers on this machine.
func (c *Call) serverPlace(s nearby.Server) offeredServer {
	var p offeredServer
	p.set(c.Keys, key.Engine, s.Engine)
	at := s.Address
	if s.Socket != "" {
		at = s.Socket
		p.set(c.Keys, key.Socket, s.Socket)
	} else if host, port, err := net.SplitHostPort(s.Address); err == nil {
		p.set(c.Keys, key.Host, host)
		p.set(c.Keys, key.Port, port)
	}
	p.text = fmt.Sprintf("%s at %s", strings.TrimSpace(s.Engine+" "+s.Version), at)
	return p
}

// set notes a value that fits its key.
func (p *offeredServer) set(keys *schema.Schema, k key.Name, text string) {
	field := keys.Field(k)
	if value, err := field.ParseValue(text); err == nil {
		p.sets = append(p.sets, schema.Override{Field: field, Value: value})
	}
}

// containerPlaces are the servers in running containers, and their published ports on this machine.
func (c *Call) containerPlaces(ctx context.Context) (all []offeredServer, ports map[int]bool) {
	ports = make(map[int]bool)
	views, _ := c.Containers().Scan(ctx, "", false) // the ports are asked by the survey
	for _, v := range views {
		for _, seen := range v.Containers {
			if seen.Engine == "" || seen.State != "running" {
				continue
			}
			ports[seen.LocalPort()] = true
			all = append(all, offeredServer{
				text: fmt.Sprintf("%s in container %s", seen.Engine, clean.Line(seen.Container, 80)),
				sets: seen.Declaration.Sets(c.Keys, seen.Named, seen.Port),
			})
		}
	}
	return all, ports
}

// aliasPlaces are the aliases, by name.
func (c *Call) aliasPlaces() (all []offeredServer) {
	if c.Book == nil {
		return nil
	}
	for _, a := range slices.Clone(c.Book.All())[:min(len(c.Book.All()), maxNamed)] {
		p := offeredServer{text: "alias " + c.Book.ShortName(a)}
		p.set(c.Keys, key.Alias, c.Book.ShortName(a))
		all = append(all, p)
	}
	return all
}
