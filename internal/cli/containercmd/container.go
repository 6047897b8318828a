package containercmd

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/container/find"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func Container() *base.Command {
	return &base.Command{
		Name: "container", Args: "VERB", Summary: "find, start, stop and make database servers in containers",
		Long: `A profile with a container as its address finds the container at each use, by its name or
by the labels of a compose service, so the port may change. The engine that DOCKER_HOST
names and the usual sockets of this machine are asked; endpoint in a profile names one.`,
		Verbs: func() []*base.Command {
			return []*base.Command{containerScan(), containerAdopt(), containerStart(), containerStop(),
				containerLogs(), containerMake(),
				containerRemove()}
		},
	}
}

// endpointFlag registers -endpoint, which names one container engine.
func endpointFlag(fs *base.FlagSet, endpoint *string) {
	field := fs.Keys.Field(key.Endpoint)
	fs.Func("endpoint", "ask one container engine only: unix:///PATH or tcp://HOST:PORT",
		func(s string) error {
			value, err := field.ParseValue(s)
			*endpoint = value.Text()
			if err != nil {
				return fmt.Errorf("expected %s", strings.TrimPrefix(err.Error(), "endpoint: expected "))
			}
			return nil
		})
}

// scannedContainer is a container in `container scan -format json`.
type scannedContainer struct {
	find.Sighting
	Profiles []string `json:"profiles"`
	Adopt    string   `json:"adopt,omitempty"` // the line that makes a profile of it
}

// scannedEngine is a container engine in `container scan -format json`.
type scannedEngine struct {
	find.View
	Containers []scannedContainer `json:"containers"`
}

func containerScan() *base.Command {
	var form base.Format
	var endpoint string
	return &base.Command{
		Name: "container scan", Summary: "list the database servers in containers",
		Long: `Lists running and stopped containers that are database servers, by their environment or
their port. If neither tells, a short connection to a published loopback port finds out,
without a login; a server may count it as a failed one.`,
		Examples: []string{"gharbor container scan", "gharbor container scan -format json"},
		Flags: func(fs *base.FlagSet) {
			endpointFlag(fs, &endpoint)
			form.Flag(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			file, err := c.Load()
			if err != nil {
				return err
			}
			done := c.progress("asking the container engines")
			views, found := c.Containers().Scan(ctx, endpoint, true)
			done()
			if ctx.Err() != nil {
				return base.Failure(base.ExitInterrupted, nil)
			}
			engines := c.withProfiles(file, views)
			switch {
			case form.JSON():
				answer := map[string]any{"format": 1, "engines": engines}
				if found != nil {
					answer["finding"] = found
				}
				err = render.JSON(c.Stdout, answer)
			case found != nil:
				return base.RouteFailed(found)
			default:
				err = c.scanTables(engines)
			}
			if err == nil && !slices.ContainsFunc(views, func(v find.View) bool { return v.Finding == nil }) {
				return base.Failure(base.ExitServer, nil)
			}
			return err
		}),
	}
}

// withProfiles notes which profiles lead to each container, and how to adopt the others.
func (c *call) withProfiles(file *profile.File, views []find.View) []scannedEngine {
	env := c.Environment()
	var resolved []*resolve.Profile
	for _, p := range file.All() {
		resolved = append(resolved, resolve.Resolve(file, p, nil, env))
	}
	engines := make([]scannedEngine, len(views))
	for i, v := range views {
		engines[i] = scannedEngine{View: v, Containers: []scannedContainer{}}
		for _, seen := range v.Containers {
			one := scannedContainer{Sighting: seen, Profiles: []string{}}
			for _, r := range resolved {
				if seen.Leads(r, v.Endpoint) {
					one.Profiles = append(one.Profiles, r.Called)
				}
			}
			if len(one.Profiles) == 0 {
				one.Adopt = "gharbor container adopt " + clean.Shell(seen.Container)
				if len(views) > 1 {
					one.Adopt += " -endpoint " + clean.Shell(v.Endpoint)
				}
			}
			engines[i].Containers = append(engines[i].Containers, one)
		}
	}
	return engines
}

// adoptLines bounds the lines to try of a scan: more would hide the table.
const adoptLines = 5

// scanTables shows each engine with its containers.
func (c *call) scanTables(engines []scannedEngine) error {
	report := render.NewReport(c.Stdout, c.NoColour)
	var adopt []string
	connections := 0
	for i, e := range engines {
		if i > 0 {
			fmt.Fprintln(c.Stdout)
		}
		if e.Finding != nil {
			report.Head(e.Endpoint, string(e.Finding.Code))
			report.Finding(2, e.Finding)
			continue
		}
		report.Head(e.Endpoint, fmt.Sprintf("%s, interface %s (%s)", e.Engine, e.Version, e.From))
		if len(e.Containers) > 0 {
			if err := render.Table(c.Stdout, c.NoColour,
				[]string{"container", "engine", "image", "state", "published", "user, database", "profiles"},
				scanRows(e.Containers)); err != nil {
				return err
			}
		}
		fmt.Fprintln(c.Stdout, countOthers(len(e.Containers), e.Others))
		if len(e.Similar) > 0 {
			fmt.Fprintf(c.Stdout, "  of them, like a server by variables or image: %s\n  if one is a server: gharbor container "+
				"adopt NAME\n", clean.Line(strings.Join(e.Similar, ", "), 300))
		}
		for _, one := range e.Containers {
			if one.Adopt != "" {
				adopt = append(adopt, one.Adopt)
			}
		}
		connections += e.Connections
	}
	if len(adopt) > 0 {
		fmt.Fprintln(c.Stdout, "\nto add a profile:")
		for _, line := range adopt[:min(len(adopt), adoptLines)] {
			fmt.Fprintf(c.Stdout, "  try  %s\n", line)
		}
		if more := len(adopt) - adoptLines; more > 0 {
			fmt.Fprintf(c.Stdout, "  and %d more\n", more)
		}
	}
	if connections > 0 {
		fmt.Fprintf(c.Stdout,
			"\n%d short connections were made; a server may count them as failed logins\n", connections)
	}
	return nil
}

func scanRows(containers []scannedContainer) [][]string {
	var rows [][]string
	for _, one := range containers {
		account := strings.Trim(one.User+", "+one.Database, ", ")
		rows = append(rows, []string{one.Container, one.Engine, shorten(one.Image, 32),
			strings.TrimSuffix(one.State+", "+one.Health, ", "), cmp.Or(strings.Join(one.Published, " "), "-"),
			cmp.Or(account, "-"), cmp.Or(strings.Join(one.Profiles, " "), "-")})
	}
	return rows
}

// shorten keeps the end of a name, in which images differ.
func shorten(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return "…" + string(r[len(r)-most+1:])
	}
	return s
}

func countOthers(servers, others int) string {
	switch {
	case servers == 0 && others == 0:
		return "it has no containers"
	case servers == 0 && others == 1:
		return "its 1 container is no known database server"
	case servers == 0:
		return fmt.Sprintf("none of its %d containers is a known database server", others)
	case others == 0:
		return "it has no other containers"
	case others == 1:
		return "1 other container is no known database server"
	}
	return fmt.Sprintf("%d other containers are no known database servers", others)
}

// containerOf finds the container of a word: that of the profile of this name, else the one of this name, with a
// profile that leads to it, if there is one.
func (c *call) containerOf(ctx context.Context, word, endpoint string) (*namedContainer, error) {
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	one := &namedContainer{}
	wanted, ok := schema.ParseContainer(word)
	if p := file.Lookup(word); p != nil {
		r := resolve.Resolve(file, p, nil, c.Environment())
		if in, its := address.ContainerOf(r); its {
			if found := r.Problem(); found != nil {
				return nil, base.RouteFailed(found)
			}
			one.profile, wanted, ok = r, in, true
			endpoint = cmp.Or(endpoint, r.Text(key.Endpoint))
		}
	}
	if !ok {
		return nil, base.Usage("expected a profile, a container's name, or PROJECT/SERVICE of a compose file")
	}
	var found *finding.Finding
	if one.client, one.Container, found = c.Containers().Find(ctx, wanted, endpoint); found != nil {
		return nil, base.RouteFailed(found)
	}
	if one.profile != nil {
		return one, nil
	}
	seen, _ := c.Containers().Look(ctx, one.client, one.Container, false)
	for _, p := range file.All() {
		r := resolve.Resolve(file, p, nil, c.Environment())
		if _, in := address.ContainerOf(r); in && r.Problem() == nil && seen.Leads(r, one.client.Endpoint.Address) {
			one.profile = r
			break
		}
	}
	return one, nil
}
