package making

import (
	"context"
	"fmt"
	"net"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/container/find"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// The labels on containers that gharbor made, and on their volumes.
const (
	profileLabel = "gentle-harbor.profile" // the profile that it was made for
	DataLabel    = "gentle-harbor.data"    // on the container: the volume with its data
	secretsLabel = "gentle-harbor.secrets" // on the container: the volume with its secrets
)

// Request is a container that is to be made.
type Request struct {
	Profile  string
	Entry    string       // of the wallet, for the user's password
	Engine   *engine.Spec // of which a container can be made
	User     string
	Database string
	Inside   int // the server's port in the container
	Image    string
	Name     string // the container's
	Fixed    bool   // the profile says the name
	// on 127.0.0.1 of the engine's host; 0 for the server's usual one, or another where that is taken
	Port   int
	Volume string          // for the data; "" for NAME-data
	Mounts []api.SpecMount // folders and files of the host that it is to see
	// Again is the same command with another value for a flag, for lines to try.
	Again func(flag, value string) string
}

// Plan is how a container will be made.
type Plan struct {
	Request
	Pull      bool     // the image has to be fetched first
	Moved     string   // why it is not at the usual port, "" where it is
	Folder    string   // of the data, in the container
	OldVolume bool     // the volume is there already, with what is in it
	Variables []string // of its environment: "SERVER_USER=warden"
	Secrets   []ServerSecret
	Check     []string // the command of its health check
	Secretly  string   // the volume with the secrets, "" where a variable has them

	client *api.Client
	uid    int // whose the secrets are, in the container
}

// ServerSecret is a secret for the server, by a variable of the image.
type ServerSecret struct {
	Variable string // "SERVER_PASSWORD"
	Entry    string // of the wallet
	User     string // whose it is
	File     string // in the container, "" where the variable has the secret itself
}

// OfficialImage is the name of an engine's official image, with the tag for a server's
// version where that is known: "NAME:10.11".
func OfficialImage(spec *engine.Spec, version string) string {
	parts := append(strings.SplitN(version, ".", 3), "")
	if _, err := strconv.Atoi(parts[0]); err != nil {
		return spec.Image.Name
	}
	return spec.Image.Name + ":" + spec.Image.Recipe.Tag(parts[0], parts[1])
}

// Makeable reports whether a container of an engine can be made.
func Makeable(spec *engine.Spec) bool {
	return spec != nil && spec.Image != nil && spec.Image.Recipe != nil
}

// MakeableWords are the engines of which a container can be made.
func MakeableWords(engines engine.Set) []string {
	var words []string
	for _, spec := range engines.All() {
		if Makeable(spec) {
			words = append(words, spec.Word)
		}
	}
	slices.Sort(words)
	return words
}

var imageName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[a-z0-9][a-zA-Z0-9._-]*(:[0-9]+/)?([/:@][a-zA-Z0-9][a-zA-Z0-9._-]*)*(:[a-zA-Z0-9._-]+)?$`)
})

// ValidImage reports whether s can name an image: "saltmarsh/counts:11",
// "registry.saltmarsh.example:5000/birds/counts:16".
func ValidImage(s string) bool {
	const most = 255
	return len(s) <= most && imageName().MatchString(s) && !strings.Contains(s, "..")
}

// Draft is the plan for a request, without asking an engine.
func Draft(w Request) *Plan {
	if w.Volume == "" {
		w.Volume = w.Name + "-data"
	}
	if w.Database == "" && w.Engine.Keys.UserDatabase {
		w.Database = w.User
	}
	p := &Plan{
		Request:  w,
		Check:    w.Engine.Image.Recipe.Check(w.User, w.Database, w.Inside),
		Folder:   w.Engine.Image.Folders[0],
		Secretly: w.Name + "-secrets",
	}
	p.account()
	return p
}

// New makes the plan for a request. It changes nothing.
func New(ctx context.Context, client *api.Client, w Request) (*Plan, *finding.Finding) {
	p := Draft(w)
	p.client = client
	if found := nameTaken(ctx, client, w); found != nil {
		return nil, found
	}
	image, here, err := client.Image(ctx, w.Image)
	if err != nil {
		return nil, find.FindingOf(err)
	}
	p.Pull = !here
	if here {
		p.takeImage(image)
	}
	if found := p.foreignSecrets(ctx); found != nil {
		return nil, found
	}
	if _, p.OldVolume, err = client.HasVolume(ctx, p.Volume); err != nil {
		return nil, find.FindingOf(err)
	}
	return p, p.choosePort(ctx)
}

// foreignSecrets is the finding for a volume with the secrets' name that gharbor did not make, and does not write to.
func (p *Plan) foreignSecrets(ctx context.Context) *finding.Finding {
	if p.Secretly == "" {
		return nil
	}
	labels, ok, err := p.client.HasVolume(ctx, p.Secretly)
	switch {
	case err != nil:
		return find.FindingOf(err)
	case !ok || labels[profileLabel] != "":
		return nil
	}
	return finding.New(finding.ContainerNameTaken,
		"the volume %s exists, and gharbor did not make it", p.Secretly).
		Suggest("%s", p.underAnotherName())
}

// underAnotherName is the command that makes the container by another name.
func (w Request) underAnotherName() string {
	if w.Fixed {
		return fmt.Sprintf("gharbor set %s container=%s-2 && gharbor container make %s -image %s", w.Profile, w.Name,
			w.Profile, w.Image)
	}
	return w.again("name", w.Name+"-2")
}

// again is the command that makes the container with another value for a flag.
func (w Request) again(flag, value string) string {
	if w.Again != nil {
		return w.Again(flag, value)
	}
	return fmt.Sprintf("gharbor container make %s -image %s -%s %s", w.Profile, w.Image, flag, clean.Shell(value))
}

// takeImage reads from an image the account that starts its server, and the folder of its data.
func (p *Plan) takeImage(image api.Image) {
	if len(image.Config.Volumes) == 1 {
		for folder := range image.Config.Volumes {
			p.Folder = path.Clean("/" + folder)
		}
	}
	user, _, _ := strings.Cut(image.Config.User, ":")
	uid, err := strconv.Atoi(user)
	switch {
	case user == "" || user == "root":
	case err == nil:
		p.uid = uid
	default: // by name: whose the file would have to be is not known here
		p.Secretly = ""
		p.account()
	}
}

// account sets the image's variables for the account.
func (p *Plan) account() {
	r := p.Engine.Image.Recipe
	root := ""
	if r.RootPass != "" { // else the first account may have any name
		root = p.Engine.Image.Root
	}
	p.Variables, p.Secrets = nil, nil
	set := func(variable, value string) {
		if value != "" && variable != "" {
			p.Variables = append(p.Variables, variable+"="+value)
		}
	}
	hand := func(variable, user, entry string) {
		h := ServerSecret{Variable: variable, Entry: entry, User: user}
		if p.Secretly != "" {
			h.File = path.Join(find.SecretsFolder, entry)
			set(variable+"_FILE", h.File)
		}
		p.Secrets = append(p.Secrets, h)
	}
	if p.User != root {
		set(r.User, p.User)
		hand(r.Password, p.User, p.Entry)
		if root != "" {
			hand(r.RootPass, root, p.Entry+"-"+root)
		}
	} else {
		hand(r.RootPass, root, p.Entry)
	}
	set(r.Database, p.Database)
}

// choosePort finds the loopback port at which to publish the server: the requested one, else its usual one, else any
// free one.
func (p *Plan) choosePort(ctx context.Context) *finding.Finding {
	wanted := p.Port
	if wanted == 0 {
		wanted = p.Inside
	}
	by := find.Holder(ctx, p.client, []int{wanted}, "")
	remote := p.client.Endpoint.Host()
	if by != "" {
		by = "the container " + clean.Line(by, 128)
	}
	if by == "" && remote == "" && find.Listening(wanted) {
		by = "a program of this machine"
	}
	switch {
	case by == "":
		p.Port = wanted
		return nil
	case p.Port != 0:
		found := finding.New(finding.ContainerPortTaken,
			"the port 127.0.0.1:%d is taken, so the container %s can't be published there", wanted, p.Name)
		return found.Saw("it is taken by %s", by).
			Suggest("%s   # at a port that is free", p.again("port", strconv.Itoa(freePort()))).
			Suggest("gharbor nearby   # what listens on this machine")
	case remote != "":
		return finding.New(finding.ContainerPortTaken,
			"the port %d of the container engine's machine is taken", wanted).
			Saw("it is taken by %s", by).
			Advise("choose a free port: gharbor container make %s -image %s -port PORT", p.Profile, p.Image)
	}
	p.Port, p.Moved = freePort(), fmt.Sprintf("%d is taken by %s", wanted, by)
	return nil
}

// freePort is a port of loopback that nobody listens at, 0 where the system has none.
func freePort() int {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port
}

// nameTaken is the finding for a name that a container has already.
func nameTaken(ctx context.Context, client *api.Client, w Request) *finding.Finding {
	old, err := client.Inspect(ctx, w.Name)
	switch {
	case api.Gone(err):
		return nil
	case err != nil:
		return find.FindingOf(err)
	case old.Name != w.Name: // the beginning of an id
		return nil
	}
	found := finding.New(finding.ContainerNameTaken, "the container %s exists already", w.Name)
	made := "not made by gharbor"
	if ProfileOf(old) != "" {
		made = "made by gharbor for the profile " + clean.Quote(clean.Line(ProfileOf(old), 64))
	}
	found.Saw("it is of the image %s, %s, and %s", clean.Quote(clean.Line(old.Config.Image, 200)), find.State(old),
		made)
	if ProfileOf(old) != "" {
		return found.Suggest("gharbor container start %s   # to use it", clean.Shell(old.Name)).
			Suggest("gharbor container remove %s   # to make it again; its volume stays", clean.Shell(old.Name))
	}
	return found.Suggest("%s", w.underAnotherName()).
		Suggest("gharbor container adopt %s   # a profile that leads to it", clean.Shell(old.Name))
}

// ProfileOf is the profile for which gharbor made a container, "" for one that it did not make.
func ProfileOf(one *api.Container) string { return one.Config.Labels[profileLabel] }

// spec is the container in the engine's form.
func (p *Plan) spec(secrets map[string]string) api.Spec {
	port := strconv.Itoa(p.Inside) + "/tcp"
	labels := map[string]string{profileLabel: p.Profile, DataLabel: p.Volume}
	mounts := []api.SpecMount{{Type: "volume", Source: p.Volume, Target: p.Folder}}
	variables := slices.Clone(p.Variables)
	if p.Secretly != "" {
		labels[secretsLabel] = p.Secretly
		mounts = append(mounts, api.SpecMount{Type: "volume", Source: p.Secretly, Target: find.SecretsFolder})
	}
	for variable, value := range secrets {
		variables = append(variables, variable+"="+value)
	}
	mounts = append(mounts, p.Mounts...)
	const (
		interval = 3 * time.Second // while it runs; a check is a small program
		begin    = 2 * time.Minute // a first start, in which a failed check does not count
		retries  = 5
	)
	return api.Spec{
		Image:        p.Image,
		Env:          variables,
		Cmd:          p.Engine.Image.Recipe.Command,
		Labels:       labels,
		ExposedPorts: map[string]struct{}{port: {}},
		Healthcheck: &api.Healthcheck{
			Test:        p.Check,
			Interval:    int64(interval),
			Timeout:     int64(interval),
			StartPeriod: int64(begin),
			Retries:     retries,
		},
		HostConfig: api.HostConfig{
			PortBindings: map[string][]api.Binding{port: {{HostIp: "127.0.0.1", HostPort: strconv.Itoa(p.Port)}}},
			Mounts:       mounts,
		},
	}
}
