package containercmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/container/making"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/transfercmd"
	"gentleharbor/internal/render"
)

// makeOptions are the flags of container make.
type makeOptions struct {
	secretcmd.WalletFlags
	endpoint string
	image    string
	name     string
	volume   string
	port     int
	mounts   []api.SpecMount
	dryRun   bool
	within   time.Duration
}

// generatedLength is the length of a new server's password: 190 bits.
const generatedLength = 32

func containerMake() *base.Command {
	var o makeOptions
	return &base.Command{
		Name:    "container make",
		Args:    "PROFILE -image IMAGE",
		Summary: "make a new container with a server for a profile",
		Long: `Shows the plan, then does it: fetches the image if it is missing, publishes the server on
127.0.0.1 only (at its usual port, or a free one), keeps the data in a volume, and adds a
health check. The password comes from the wallet, where a new one is made if there is
none, and goes in as a file that only the container's root can read. The profile then
leads to the container. -dry-run only shows the plan.`,
		Examples: []string{"gharbor container make sightings -image {{image}}:16 -port 15432 -dry-run"},
		MinArgs:  1,
		MaxArgs:  1,
		Flags: func(fs *base.FlagSet) {
			transfercmd.ImageFlag(fs, &o.image, "the image, such as NAME:TAG")
			fs.StringVar(&o.name, "name", "", "the container's name, if the profile does not say it")
			fs.Func("port", "the port on 127.0.0.1", func(s string) (err error) {
				if o.port, err = strconv.Atoi(s); err != nil || o.port < 1 || o.port > 65535 {
					err = errors.New("expected a number from 1 to 65535")
				}
				return err
			})
			fs.StringVar(&o.volume, "volume", "", "the volume for its data (default NAME-data)")
			fs.Func("mount", "a folder or file of this machine to mount, SOURCE:TARGET[:ro]; may be repeated",
				func(s string) error {
					m, err := parseMount(s)
					o.mounts = append(o.mounts, m)
					return err
				})
			endpointFlag(fs, &o.endpoint)
			fs.BoolVar(&o.dryRun, "dry-run", false, "show the plan, and do nothing")
			fs.DurationVar(&o.within, "within", 2*time.Minute, "how long to wait until it is ready")
			o.WalletFlags.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *call) error {
			switch {
			case o.image == "":
				return base.Failure(base.ExitUsage,
					errors.New("-image is missing"),
					"gharbor help container make")
			case o.within <= 0:
				return base.Usage("-within: expected a time above zero, such as 60s")
			}
			return c.makeContainer(ctx, o)
		}),
	}
}

// parseMount reads SOURCE:TARGET[:ro].
func parseMount(s string) (api.SpecMount, error) {
	both, readOnly := strings.CutSuffix(s, ":ro")
	// A source may have a colon behind a drive's letter; the target begins with a slash, and has none.
	if at := strings.LastIndexByte(both, ':'); at > 0 && strings.HasPrefix(both[at+1:], "/") {
		if source, err := filepath.Abs(both[:at]); err == nil {
			return api.SpecMount{Type: "bind", Source: source, Target: both[at+1:], ReadOnly: readOnly}, nil
		}
	}
	return api.SpecMount{}, errors.New("expected SOURCE:TARGET or SOURCE:TARGET:ro, with TARGET an absolute path")
}

// makeRun is a container that is being made.
type makeRun struct {
	makeOptions
	profile *resolve.Profile
	plan    *making.Plan
	sets    base.Assignments // what changes in the profile
	own     *resolve.Profile // whose source has the password; nil where the wallet has or gets it
}

func (c *call) makeContainer(ctx context.Context, o makeOptions) error {
	p, err := c.makeable(o)
	if err != nil {
		return err
	}
	m := &makeRun{makeOptions: o, profile: p}
	if m.endpoint == "" {
		m.endpoint = p.Text(key.Endpoint)
	}
	client, found := c.Containers().Client(ctx, m.endpoint)
	if found != nil {
		return base.RouteFailed(found)
	}
	wish, err := making.Request{Image: o.image, Name: o.name, Port: o.port, Volume: o.volume, Mounts: o.mounts,
		Again: c.CommandWith}.For(p)
	if err != nil {
		return notMakeable(err)
	}
	if m.plan, found = making.New(ctx, client, wish); found != nil {
		return base.RouteFailed(found)
	}
	if err := c.planProfile(m, client); err != nil {
		return err
	}
	c.showPlan(m, client)
	if o.dryRun {
		c.tellWallet(m)
		c.Say("nothing was made: -dry-run")
		return nil
	}
	return c.carryOut(ctx, m, client)
}

// tellWallet notes that there is no wallet yet, where the plan needs one.
func (c *call) tellWallet(m *makeRun) {
	s, _, err := secretcmd.NewCall(c.Call).Store("")
	if err != nil || !slices.ContainsFunc(m.plan.Secrets, func(s making.ServerSecret) bool {
		return m.own == nil || s.Entry != m.plan.Entry
	}) {
		return
	}
	if _, err := os.Stat(s.Path); errors.Is(err, fs.ErrNotExist) {
		c.Notice("the plan needs a wallet, and there is none yet: gharbor wallet create")
	}
}

// makeable returns the profile, if a container can be made for it.
func (c *call) makeable(o makeOptions) (*resolve.Profile, error) {
	file, err := c.Load()
	if err != nil {
		return nil, err
	}
	name := c.Args[0]
	if syntax.ValidName(name) && file.Lookup(name) == nil {
		failure := base.Usage("there is no profile %s yet", name)
		engine, user := making.ImageEngine(c.Engines, o.image), c.SystemAccount()
		line := fmt.Sprintf("gharbor add %s -engine %s -container %s -user %s -secret wallet", name,
			cmp.Or(engine, "ENGINE"), name, clean.Shell(cmp.Or(user, "NAME")))
		if engine == "" || user == "" {
			return nil, base.Advise(failure, "add it: "+line)
		}
		return nil, base.Failure(base.ExitUsage, failure, line)
	}
	p, err := c.Resolve(name, nil)
	if err != nil {
		return nil, err
	}
	if found := p.Problem(); found != nil {
		return nil, base.RouteFailed(found)
	}
	return p, notMakeable(making.Fits(p))
}

// notMakeable is the command's error for a refusal to make a container, nil for none.
func notMakeable(err error) error {
	var refused *making.Refusal
	if errors.As(err, &refused) {
		return base.Failure(base.ExitUsage, refused, refused.Try...)
	}
	return err
}

// planProfile finds the changes of the profile, and the source of the password.
func (c *call) planProfile(m *makeRun, client *api.Client) error {
	endpoint := client.Endpoint.Address
	if m.endpoint == "" && c.Containers().IsOnlyEngine(endpoint) {
		endpoint = ""
	}
	changes, own, err := m.plan.Changes(m.profile, endpoint)
	if own {
		m.own = c.localCopy(m.profile)
	}
	m.sets = changes
	if err == nil && len(m.sets) > 0 && !m.profile.Own() {
		err = base.Usage("the profile is the project's; change it by hand: %s", m.sets.Words())
	}
	return err
}

// localCopy is the profile with 127.0.0.1 as its address, to find its secret before the server has an address.
func (c *call) localCopy(p *resolve.Profile) *resolve.Profile {
	here := []schema.Override{{Field: c.Keys.Field(key.Host), Value: schema.TextValue("127.0.0.1")}}
	for _, k := range []key.Name{"engine", "user", "database", "secret", "command"} {
		if e, ok := p.Get(k); ok {
			here = append(here, schema.Override{Field: e.Field, Value: e.Value})
		}
	}
	return resolve.Values(c.Keys, p.Profile.Name, here, c.Environment())
}

// showPlan prints the steps in their order.
func (c *call) showPlan(m *makeRun, client *api.Client) {
	p := m.plan
	report := render.NewReport(c.Stdout, c.NoColour)
	report.Head(m.profile.Called, fmt.Sprintf("a container %s at %s", p.Name, client.Endpoint.Address))
	line := func(what, format string, args ...any) {
		fmt.Fprintf(c.Stdout, "  %-9s  %s\n", what, fmt.Sprintf(format, args...))
	}
	if p.Pull {
		line("image", "%s, will be fetched first", p.Image)
	} else {
		line("image", "%s, is here", p.Image)
	}
	line("published", "127.0.0.1:%d for its port %d, and no other address", p.Port, p.Inside)
	if p.Moved != "" {
		line("", "%s", p.Moved)
	}
	if p.OldVolume {
		line("data", "volume %s at %s, which exists with data", p.Volume, p.Folder)
	} else {
		line("data", "volume %s at %s, new", p.Volume, p.Folder)
	}
	for _, mount := range p.Mounts {
		line("mount", "%s at %s%s", clean.Line(mount.Source, 200), clean.Line(mount.Target, 200),
			map[bool]string{true: ", read-only"}[mount.ReadOnly])
	}
	for _, v := range p.Variables {
		line("variable", "%s", clean.Line(v, 200))
	}
	for _, s := range p.Secrets {
		from := fmt.Sprintf("the wallet's entry %s, made if it is not there", s.Entry)
		if m.own != nil && s.Entry == m.plan.Entry {
			from = "the profile's own source, " + clean.Line(m.profile.Text(key.Secret), 100)
		}
		how := "in the variable " + s.Variable
		if s.File != "" {
			how = "as the 0600 file " + s.File
		}
		line("password", "of %s: %s; handed over %s", s.User, from, how)
	}
	if p.Secretly != "" {
		line("secrets", "volume %s at /run/secrets, only for these files", p.Secretly)
	} else {
		line("", "the image runs as another user, which could not read a file made from here")
	}
	line("check", "%s", strings.Join(p.Check[1:], " "))
	if len(m.sets) > 0 {
		line("profile", "%s", m.sets.Words())
	}
}

// carryOut does what was shown.
func (c *call) carryOut(ctx context.Context, m *makeRun, client *api.Client) error {
	values, err := c.makeSecrets(ctx, m) // before minutes of fetching: there may be no wallet
	if err != nil {
		return err
	}
	if m.plan.Pull {
		if err := c.pull(ctx, m.plan); err != nil {
			return err
		}
	}
	undo, found := m.plan.Make(ctx, c.Containers(), values)
	switch {
	case ctx.Err() != nil:
		if undo != nil {
			undo()
		}
		return base.Failure(base.ExitInterrupted, nil)
	case found != nil:
		return base.RouteFailed(found)
	}
	if len(m.sets) > 0 {
		name := m.profile.Profile.Name
		if err := c.Update(ctx, base.Target{}, "changed", name,
			func(f *profile.File) (*profile.Edit, error) { return f.Set(name, m.sets) }); err != nil {
			undo()
			return err
		}
	}
	c.Say("started: container %s at 127.0.0.1:%d, its data in volume %s", m.plan.Name, m.plan.Port, m.plan.Volume)
	c.Loaded = nil // the profile is another now
	p, err := c.Resolve(m.profile.Profile.Name, nil)
	if err != nil {
		return err
	}
	one := &namedContainer{client: client, profile: p}
	if one.Container, err = client.Inspect(ctx, m.plan.Name); err != nil {
		return engineFailed(err)
	}
	if m.own == nil && !c.unlocked(ctx) { // nobody is asked for the passphrase again
		one.profile = nil
	}
	return c.waitContainer(ctx, one, m.within, "gharbor test "+p.Called)
}

// pull fetches the image, with progress on a terminal.
func (c *call) pull(ctx context.Context, p *making.Plan) error {
	c.Say("fetching the image %s", p.Image)
	progress := render.NewProgress(c.Stderr, 100)
	progress.Begin(p.Image)
	found := p.PullImage(ctx, func(have, want int64) {
		progress.Set(int(100*have/max(want, 1)), render.Bytes(have)+" of "+render.Bytes(want))
	})
	progress.Clear()
	switch {
	case ctx.Err() != nil:
		return base.Failure(base.ExitInterrupted, nil)
	case found != nil:
		return base.RouteFailed(found)
	}
	return nil
}
