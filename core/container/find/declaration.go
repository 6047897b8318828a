package find

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/container/api"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
)

// Declaration is what a container's environment says about its server, by the variables that the official images
// document. The variables take effect at the first start on an empty data folder; later changes in the server are not
// in them.
type Declaration struct {
	Engine    string
	User      string
	Database  string
	Service   string // that a listener is asked for, where the engine has one
	Variable  string // that has the user's password, or with _FILE names its file
	None      bool   // the environment says that the server wants no password
	Made      bool   // the image made one, and printed it in its log once
	Elsewhere string // variables that name files with the user or the database, which are not known then
}

// clientMarks are variables that only a server's client has.
var clientMarks = []string{"DB_HOST", "DATABASE_URL"}

// Catalog recognises the servers of a set of engines by what their images document.
type Catalog struct{ Known engine.Set }

// readDeclaration reads an environment; ok is false where it is no server's. ports are those that the container
// exposes or publishes.
func (c Catalog) readDeclaration(env api.Environment, image string, ports []int) (d Declaration, ok bool) {
	for _, alsoOther := range []bool{true, false} { // an image that takes another's variables too comes first
		for _, spec := range c.Known.All() {
			if spec.Image == nil || alsoOther != (spec.Image.Instead.Image != "") {
				continue
			}
			if spec.Image.Instead.Has(image) && hasPrefix(env, []string{spec.Image.Instead.Variables}) ||
				c.is(spec, env, image, ports) {
				return read(spec, env), true
			}
		}
	}
	return Declaration{}, false
}

// Describe finds the server by a container's environment, image and ports, and its port in the container; ok is false
// where nothing shows that it is a server.
func (c Catalog) Describe(env api.Environment, image string, ports []int) (d Declaration, port int, ok bool) {
	d, by := c.describe(env, image, ports)
	return d, c.serverPort(ports, d.Engine, env), by != ""
}

// describe finds the server, and what shows it: "environment", "port", "image", or "" for nothing.
func (c Catalog) describe(env api.Environment, image string, ports []int) (d Declaration, by string) {
	d, ok := c.readDeclaration(env, image, ports)
	if ok {
		return d, "environment"
	}
	if d.Engine = c.byPort(ports, image); d.Engine != "" {
		return d, "port"
	}
	if d.Engine = c.byImage(image); d.Engine != "" {
		return d, "image"
	}
	return d, ""
}

// byImage is the engine of an image by its name, by the names of the official images; "" for none.
func (c Catalog) byImage(image string) string {
	name := imageName(image)
	for _, spec := range c.Known.All() {
		if spec.Image != nil && spec.Image.Name == name && name != "" {
			return spec.Word
		}
	}
	return ""
}

// imageName is the last part of an image's name, without its version.
func imageName(image string) string {
	name := image[strings.LastIndexByte(image, '/')+1:]
	if at := strings.IndexAny(name, ":@"); at >= 0 {
		name = name[:at]
	}
	return name
}

// is reports whether an environment is such a server's. One file of variables is often given to the server and to its
// clients, so its variables count only where nothing shows that this is a client.
func (c Catalog) is(spec *engine.Spec, env api.Environment, image string, ports []int) bool {
	for _, mark := range spec.Image.Marks {
		if _, ok := env[mark]; ok {
			return true
		}
	}
	likely := slices.Contains(ports, spec.Port) || slices.Contains(ports, c.serverPort(nil, spec.Word, env)) ||
		c.byImage(image) == spec.Word
	if hasPrefix(env, spec.Image.Settings) {
		return likely || len(ports) == 0
	}
	return likely && hasPrefix(env, spec.Image.Shared) && !c.isClient(env)
}

// Runs reports whether a command starts a server, whose program may be any of its words, or a server's client, whose
// program is the first. Flags without a program are the server's.
func (c Catalog) Runs(command []string) (server, client bool) {
	first := len(command) > 0 && !strings.HasPrefix(command[0], "-")
	for _, word := range command {
		name := path.Base(word)
		starter := slices.Contains(starters, name) || strings.HasPrefix(name, "-") || strings.HasSuffix(name, ".sh")
		for _, spec := range c.Known.All() {
			_, own := spec.Client.Programs.Older[name]
			server, client = server || slices.Contains(spec.Local.Programs, name), client || own && first
		}
		first = first && starter
	}
	return server, client
}

// starters are programs that start another.
var starters = []string{"sh", "bash", "ash", "dash", "exec", "env", "gosu", "su-exec"}

// Checks reports whether a health check asks an engine's server.
func (c Catalog) Checks(word string, check []string) bool {
	spec := c.Known.ByWord(word)
	return spec != nil && spec.Image != nil && slices.ContainsFunc(check, func(one string) bool {
		return slices.Contains(spec.Image.Checks, path.Base(one))
	})
}

// Similar describes a container that may be a server or a client: its environment has a server's variables, or its
// image's name has an engine's word, and nothing else decides. ok is false for any other.
func (c Catalog) Similar(env api.Environment, image string, ports []int) (d Declaration, ok bool) {
	if c.isClient(env) || len(ports) > 0 {
		return d, false
	}
	for _, spec := range c.Known.All() {
		if spec.Image != nil && (hasPrefix(env, spec.Image.Settings) || hasPrefix(env, spec.Image.Shared)) {
			return read(spec, env), true
		}
	}
	words := strings.FieldsFunc(imageName(image), func(r rune) bool { return r == '-' || r == '_' || r == '.' })
	for _, spec := range c.Known.All() {
		for _, word := range words {
			if word == spec.Word || spec.Image != nil && word == spec.Image.Name || slices.Contains(spec.OtherWords, word) {
				return Declaration{Engine: spec.Word}, true
			}
		}
	}
	return d, false
}

// isClient reports whether an environment has a variable of a server's client.
func (c Catalog) isClient(env api.Environment) bool {
	marks := clientMarks
	for _, spec := range c.Known.All() {
		if spec.Image != nil {
			marks = slices.Concat(marks, spec.Image.Clients)
		}
	}
	return slices.ContainsFunc(marks, func(mark string) bool { _, ok := env[mark]; return ok })
}

func hasPrefix(env api.Environment, prefixes []string) bool {
	for variable := range env {
		for _, prefix := range prefixes {
			if strings.HasPrefix(variable, prefix) {
				return true
			}
		}
	}
	return false
}

// read takes the account from an environment.
func read(spec *engine.Spec, env api.Environment) Declaration {
	o := spec.Image
	d := Declaration{Engine: spec.Word, User: o.Root}
	text := func(variable string) string { return plainText(env[variable].Disclose()) }
	first := func(variables []string) string {
		for _, variable := range variables {
			if value := text(variable); value != "" {
				return value
			}
		}
		return ""
	}
	passwords := o.RootPass
	named := func(variable string) bool { // by a file, as the images document
		value, ok := env[variable+"_FILE"]
		if ok = ok && !value.Empty(); ok {
			d.Elsewhere = strings.TrimPrefix(d.Elsewhere+", "+variable+"_FILE", ", ")
		}
		return ok
	}
	for i, pair := range o.Users {
		if user := text(pair.User); user != "" || named(pair.User) {
			d.User, passwords = user, nil
			for _, later := range o.Users[i:] { // older names of the same come later
				passwords = append(passwords, later.Password)
			}
			break
		}
	}
	for _, variable := range passwords {
		for _, suffix := range []string{"", "_FILE"} {
			if value, ok := env[variable+suffix]; ok && !value.Empty() && d.Variable == "" {
				d.Variable = variable + suffix
			}
		}
	}
	d.Database, d.Service = first(o.Databases), first(o.Service)
	if d.Database == "" && !slices.ContainsFunc(o.Databases, named) && spec.Keys.UserDatabase {
		d.Database = d.User
	}
	for variable, value := range o.Trust {
		own, ok := env[variable]
		if ok && d.Variable == "" &&
			(value == "" && !own.Empty() && d.User == o.Root || value != "" && own.Disclose() == value) {
			d.None = true
		}
	}
	d.Made = d.Variable == "" &&
		slices.ContainsFunc(o.Made, func(v string) bool { value, ok := env[v]; return ok && !value.Empty() })
	return d
}

// plainText is a declared name that is safe to show, "" for one with signs that no name has.
func plainText(s string) string {
	if s != clean.Line(s, 128) {
		return ""
	}
	return s
}

// declaredSecret finds the password that the profile's source names in the environment.
func (v *view) declaredSecret(q secret.Query) (*secret.Location, *finding.Finding) {
	variable := q.Source.Arg
	value, ok := v.one.Config.Env[variable]
	if !ok {
		found := finding.New(finding.SecretMissing, "the container %s has no environment variable %s", v.one.Name,
			variable)
		var names []string
		for has := range v.one.Config.Env {
			if secretLooking(has) {
				names = append(names, has)
			}
		}
		slices.Sort(names)
		if len(names) > 0 {
			found.Saw("it has %s", clean.Line(strings.Join(names, ", "), 300))
		}
		if v.profile != nil {
			d, by := v.describe(v.one.Config.Env, v.one.Config.Image, tcpPorts(v.one))
			if have := v.profile.Text(key.Engine); by != "" && d.Engine != "" && !v.Known.SameFamily(d.Engine, have) {
				return nil, found.Saw("it has a %s server now, and the profile's engine is %s", d.Engine, have).
					Suggest("gharbor container adopt %s   # a profile of its own", name(v.one))
			}
		}
		if near := nearest.Name(variable, names); near != "" && secret.Valid("container:"+near) {
			found.Suggest("gharbor set %s secret=container:%s", q.Profile, near)
		}
		return nil, found.Suggest("gharbor set %s secret=ask", q.Profile)
	}
	place := fmt.Sprintf("variable %s of the container %s", variable, v.one.Name)
	if !strings.HasSuffix(variable, "_FILE") {
		if value.Empty() {
			place += ", empty: an empty password"
		}
		return &secret.Location{Place: place, Read: func(context.Context) (secret.Value, error) { return value, nil }}, nil
	}
	file := value.Disclose()
	if !path.IsAbs(file) {
		return nil, finding.New(finding.SecretMissing, "the variable %s of the container %s names no file", variable,
			v.one.Name).
			Suggest("gharbor set %s secret=ask", q.Profile)
	}
	return &secret.Location{
		Place: fmt.Sprintf("file %s of the container %s, which %s names", clean.Line(file, 200), v.one.Name, variable),
		Read:  func(ctx context.Context) (secret.Value, error) { return v.fileSecret(ctx, q, file) },
	}, nil
}

// Password takes the password that a variable of a container's environment declares, also of a stopped container.
// profileName is the profile that it is for.
func (e *Engines) Password(ctx context.Context, client *api.Client, one *api.Container,
	variable, profileName string) (secret.Value, error) {
	v := &view{Engines: e, match: match{client, one}}
	located, found := v.declaredSecret(secret.Query{
		Profile: profileName,
		Source:  secret.Source{Kind: "container", Arg: variable},
	})
	if found != nil {
		return secret.Value{}, &secret.Failure{Found: found}
	}
	return located.Take(ctx)
}

// fileSecret reads a password from a file of the container.
func (v *view) fileSecret(ctx context.Context, q secret.Query, file string) (secret.Value, error) {
	value, err := v.client.ReadFile(ctx, v.one.ID, file)
	if err == nil {
		return value, nil
	}
	var failed *api.Error
	known := errors.As(err, &failed)
	if known && (failed.Kind == api.Slow || failed.Kind == api.NoEngine) { // the file may be as it was
		return secret.Value{}, &secret.Failure{Found: FindingOf(err)}
	}
	found := finding.New(finding.SecretUnreadable, "the file %s of the container %s cannot be read",
		clean.Line(file, 200), v.one.Name)
	if known {
		found.Saw("the container engine: %s", clean.Quote(failed.Error()))
	}
	return secret.Value{}, &secret.Failure{Found: found.Suggest("gharbor set %s secret=ask", q.Profile)}
}

// Sets are the keys of a profile for a container. port is the server's in there, 0 where it is not known.
func (d Declaration) Sets(keys *schema.Schema, c schema.Container, port int) []schema.Override {
	var sets []schema.Override
	add := func(k, value string) {
		if f := keys.Field(key.Name(k)); value != "" {
			if f.Expands { // where a dollar sign is one of a variable's
				value = strings.ReplaceAll(value, "$", "$$")
			}
			if v, err := f.ParseValue(value); err == nil {
				sets = append(sets, schema.Override{Field: f, Value: v})
			}
		}
	}
	spec := keys.Engines().ByWord(d.Engine)
	add("engine", d.Engine)
	sets = append(sets, schema.Override{Field: keys.Field(key.Container), Value: schema.ContainerValue(c)})
	if spec != nil && spec.Listener != nil {
		add("service", d.Service)
	} else {
		add("database", d.Database)
	}
	add("user", d.User)
	switch {
	case d.Variable != "":
		add("secret", "container:"+d.Variable)
	case d.None:
		add("secret", "none")
	}
	if port != 0 && (spec == nil || port != spec.Port) {
		add("port", strconv.Itoa(port))
	}
	return sets
}
