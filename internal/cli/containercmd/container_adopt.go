package containercmd

import (
	"context"
	"fmt"
	"strings"

	"gentleharbor/core/container/find"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/profilecmd"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/transfercmd"
)

// adoptOptions are the flags of container adopt.
type adoptOptions struct {
	secretcmd.WalletFlags
	endpoint string
	engine   string
	into     string
	test     bool
}

func containerAdopt() *base.Command {
	var o adoptOptions
	return &base.Command{
		Name:    "container adopt",
		Args:    "NAME [PROFILE]",
		Summary: "add a profile for a container",
		Long: `NAME is a container's name, or PROJECT/SERVICE of a compose file. Engine, user and
database come from the container's environment, and so does the password, at each use
(container:VARIABLE); with -into wallet a copy is saved in the wallet. Without PROFILE
the profile has the name of the container or of the compose service.`,
		Examples: []string{"gharbor container adopt saltmarsh-ringing rings",
			"gharbor container adopt saltmarsh-ringing rings -into wallet",
			"gharbor container adopt saltmarsh-ringing rings -test"},
		MinArgs: 1,
		MaxArgs: 2,
		Flags: func(fs *base.FlagSet) {
			endpointFlag(fs, &o.endpoint)
			field, words := fs.Keys.Field(key.Engine), strings.Join(fs.Keys.Engines().Testable(), ", ")
			fs.Func("engine", "the kind of server, if the container does not tell: "+words,
				func(s string) error {
					o.engine = s
					_, err := field.ParseValue(s)
					if err != nil {
						return fmt.Errorf("expected one of %s", words)
					}
					return nil
				})
			transfercmd.IntoFlag(fs, &o.into)
			fs.BoolVar(&o.test, "test", false, "test the profile after saving it")
			o.WalletFlags.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *call) error { return c.adopt(ctx, o) }),
	}
}

func (c *call) adopt(ctx context.Context, o adoptOptions) error {
	wanted, ok := schema.ParseContainer(c.Args[0])
	if !ok {
		return base.Usage("expected a container's name, or PROJECT/SERVICE of a compose file")
	}
	client, one, found := c.Containers().Find(ctx, wanted, o.endpoint)
	if found != nil {
		return base.RouteFailed(found)
	}
	seen, known := c.Containers().Look(ctx, client, one, true)
	if o.engine != "" {
		seen.Engine, seen.Declaration.Engine = o.engine, o.engine
	} else if !known {
		return base.Failure(base.ExitUsage,
			fmt.Errorf("it is not known which database server the container %s is", seen.Container),
			fmt.Sprintf("gharbor container adopt %s -engine %s   # or which it is", c.Args[0],
				c.Engines.Example().Word))
	}
	named := seen.Named
	if named.Compose() && !wanted.Compose() {
		if _, _, found := c.Containers().Find(ctx, named, o.endpoint); found != nil {
			named = wanted // its service has several containers
		}
	}
	name := intake.Name(named.Name)
	if named.Compose() {
		name = transfercmd.NewCall(c.Call).ComposeName(intake.Name(named.Service), named)
	}
	if len(c.Args) == 2 {
		name = c.Args[1]
	}
	if !syntax.ValidName(name) {
		return base.Usage("not a profile name: %s", syntax.NameRule)
	}
	if err := profilecmd.NewCall(c.Call).Free(base.Target{}, name); err != nil {
		return err
	}
	adopted := &transfercmd.PlannedImport{Connection: intake.Connection{
		Name: name,
		Sets: c.adoptedSets(seen, named, client.Endpoint.Address, o),
	}}
	adopted.Settings = adopted.Sets
	if o.into != "" {
		if seen.Declaration.Variable == "" {
			return base.Usage("-into wallet: the container %s declares no password", seen.Container)
		}
		var err error
		if adopted.Password, err = c.Containers().Password(ctx, client, one, seen.Declaration.Variable, name); err != nil {
			return err
		}
		if err := c.adoptPassword(ctx, adopted, o); err != nil {
			return err
		}
	}
	if err := profilecmd.NewCall(c.Call).Keep(ctx, base.Target{}, name, adopted.Settings); err != nil {
		return err
	}
	c.adoptNotices(seen, o)
	return profilecmd.NewCall(c.Call).FirstTest(ctx, name, o.test)
}

// adoptedSets are the keys of the new profile.
func (c *call) adoptedSets(
	seen find.Sighting, named schema.Container, endpoint string, o adoptOptions,
) base.Assignments {
	sets := base.Assignments(seen.Declaration.Sets(c.Keys, named, seen.Port))
	if !c.Containers().IsOnlyEngine(endpoint) || o.endpoint != "" {
		sets = append(sets, schema.Override{Field: c.Keys.Field(key.Endpoint), Value: schema.TextValue(endpoint)})
	}
	return sets
}

// adoptPassword writes the declared password into the wallet.
func (c *call) adoptPassword(ctx context.Context, adopted *transfercmd.PlannedImport, o adoptOptions) error {
	if err := adopted.PlacePassword(c.Keys, o.into); err != nil {
		return err
	}
	plan := []*transfercmd.PlannedImport{adopted}
	if err := transfercmd.NewCall(c.Call).KeepPasswords(ctx, o.WalletFlags, plan); err != nil {
		return err
	}
	c.Say("saved: the password, as the wallet's entry %s, bound to the container", adopted.Name)
	return nil
}

// adoptNotices notes what the declared password is for, or that there is none.
func (c *call) adoptNotices(seen find.Sighting, o adoptOptions) {
	d := seen.Declaration
	if d.Elsewhere != "" {
		c.Notice("not known: what the container's files have that %s names", d.Elsewhere)
	}
	switch {
	case o.into != "":
		c.Notice("the password is still in the container's environment: everybody who may use the container engine " +
			"can read it")
	case strings.HasSuffix(d.Variable, "_FILE"):
		c.Notice("the password is read at each use, from the file that the container's %s names", d.Variable)
	case d.Variable != "":
		c.Notice("the password is read at each use, from the container's %s. Everybody who may use the container "+
			"engine can read it; -into wallet saves your own copy", d.Variable)
	case d.Made:
		c.Notice("the server made its own password at its first start and printed it in its log; gharbor does not " +
			"read it there")
	case d.User == "":
		c.Notice("the container declares no user: gharbor set NAME user=…")
	}
}
