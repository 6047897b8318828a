package container

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile"
	"gentleharbor/core/route/container/api"
	"gentleharbor/core/secret"
)

// Declaration is what a container's environment says of the server in it, by the
// variables that the servers' official images document. They hold for the first start
// on an empty data folder; what was changed in the server later they do not know.
type Declaration struct {
	Engine   string
	User     string
	Database string
	Service  string // of oracle
	Variable string // that has the user's password, or with _FILE names its file
	None     bool   // the server was told to want no password
	Made     bool   // the image made one, and printed it in its log once
}

// official says what an engine's images document.
type official struct {
	engine    string
	marks     []string // set by the image itself: it is such a server
	settings  []string // prefixes of variables that only a server is given
	shared    []string // prefixes of those that clients are given too
	users     []string // each with the password behind it
	databases []string
	root      string // who there is without such a variable
	rootPass  []string
	trust     map[string]string // variables that say that no password is wanted
	made      []string          // variables that say that one is made
}

// officials are in the order in which they are recognised: MariaDB's images take
// MySQL's variables too.
var officials = []official{
	{engine: "postgresql", marks: []string{"PG_MAJOR", "PG_VERSION", "PGDATA"},
		settings: []string{"POSTGRES_INITDB_", "POSTGRES_HOST_AUTH_METHOD"}, shared: []string{"POSTGRES_"},
		users: []string{"POSTGRES_USER", "POSTGRES_PASSWORD"}, databases: []string{"POSTGRES_DB"}, root: "postgres",
		rootPass: []string{"POSTGRES_PASSWORD"},
		trust:    map[string]string{"POSTGRES_HOST_AUTH_METHOD": "trust"}},
	{engine: "mariadb", marks: []string{"MARIADB_VERSION"},
		settings: []string{"MARIADB_ROOT_", "MARIADB_RANDOM_ROOT_", "MARIADB_ALLOW_EMPTY_"}, shared: []string{"MARIADB_"},
		users:     []string{"MARIADB_USER", "MARIADB_PASSWORD", "MYSQL_USER", "MYSQL_PASSWORD"},
		databases: []string{"MARIADB_DATABASE", "MYSQL_DATABASE"}, root: "root",
		rootPass: []string{"MARIADB_ROOT_PASSWORD", "MYSQL_ROOT_PASSWORD"},
		trust: map[string]string{
			"MARIADB_ALLOW_EMPTY_ROOT_PASSWORD": "",
			"MYSQL_ALLOW_EMPTY_PASSWORD":        "",
		}, made: []string{"MARIADB_RANDOM_ROOT_PASSWORD", "MYSQL_RANDOM_ROOT_PASSWORD"}},
	{engine: "mysql", marks: []string{"MYSQL_VERSION", "MYSQL_MAJOR"},
		settings: []string{"MYSQL_ROOT_", "MYSQL_RANDOM_ROOT_", "MYSQL_ALLOW_EMPTY_"}, shared: []string{"MYSQL_"},
		users: []string{"MYSQL_USER", "MYSQL_PASSWORD"}, databases: []string{"MYSQL_DATABASE"}, root: "root",
		rootPass: []string{"MYSQL_ROOT_PASSWORD"},
		trust:    map[string]string{"MYSQL_ALLOW_EMPTY_PASSWORD": ""}, made: []string{"MYSQL_RANDOM_ROOT_PASSWORD"}},
	{engine: "mongodb", marks: []string{"MONGO_VERSION", "MONGO_MAJOR"}, settings: []string{"MONGO_INITDB_"},
		users:     []string{"MONGO_INITDB_ROOT_USERNAME", "MONGO_INITDB_ROOT_PASSWORD"},
		databases: []string{"MONGO_INITDB_DATABASE"}},
	{engine: "redis", marks: []string{"REDIS_VERSION", "REDIS_DOWNLOAD_URL"}},
	{engine: "oracle", marks: []string{"ORACLE_SID", "ORACLE_BASE"}, settings: []string{"ORACLE_PWD", "ORACLE_PDB"},
		root: "SYSTEM", rootPass: []string{"ORACLE_PWD", "ORACLE_PASSWORD"}},
}

// clientMarks are variables that say that a program is a server's client.
var clientMarks = []string{"POSTGRES_HOST", "MYSQL_HOST", "MARIADB_HOST", "DB_HOST", "DATABASE_URL", "PGHOST",
	"REDIS_HOST", "REDIS_URL", "MONGO_URL", "MONGODB_URI"}

// declared reads what an environment says; ok is false where it names no server. ports
// are those that the container exposes or publishes.
func declared(env api.Environment, image string, ports []int) (d Declaration, ok bool) {
	for _, o := range officials {
		if o.engine == "mysql" && strings.Contains(strings.ToLower(image), "mariadb") {
			continue
		}
		if o.engine == "mariadb" && strings.Contains(strings.ToLower(image), "mariadb") &&
			hasPrefix(env, []string{"MYSQL_"}) || o.is(env, image, ports) {
			return o.read(env), true
		}
	}
	return Declaration{}, false
}

// Describe says which server an environment, an image and the ports of a container are
// of, and at which port it is in there; ok is false where nothing says that it is one.
func Describe(env api.Environment, image string, ports []int) (d Declaration, port int, ok bool) {
	d, by := describe(env, image, ports)
	return d, serverPort(ports, d.Engine), by != ""
}

// describe says which server it is, and by what: "environment", "port", "image", or "" for
// nothing.
func describe(env api.Environment, image string, ports []int) (d Declaration, by string) {
	d, ok := declared(env, image, ports)
	if ok {
		return d, "environment"
	}
	if d.Engine = byPort(ports, image); d.Engine != "" {
		return d, "port"
	}
	if d.Engine = byImage(image); d.Engine != "" {
		return d, "image"
	}
	return d, ""
}

// byImage is the engine that an image's name says it is of, by the names of the
// official ones; "" for none.
func byImage(image string) string {
	name := image[strings.LastIndexByte(image, '/')+1:]
	if at := strings.IndexAny(name, ":@"); at >= 0 {
		name = name[:at]
	}
	return map[string]string{
		"postgres": "postgresql",
		"mariadb":  "mariadb",
		"mysql":    "mysql",
		"mongo":    "mongodb",
		"redis":    "redis",
	}[name]
}

// is reports whether an environment is such a server's. One file of variables often is
// given to the server and to its clients: those count where nothing says that this is one
// of the latter.
func (o official) is(env api.Environment, image string, ports []int) bool {
	for _, mark := range o.marks {
		if _, ok := env[mark]; ok {
			return true
		}
	}
	if hasPrefix(env, o.settings) {
		return true
	}
	client := slices.ContainsFunc(clientMarks, func(mark string) bool { _, ok := env[mark]; return ok })
	likely := len(ports) == 0 || slices.Contains(ports, profile.DefaultPort(o.engine)) || byImage(image) == o.engine
	return !client && likely && hasPrefix(env, o.shared)
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
func (o official) read(env api.Environment) Declaration {
	d := Declaration{Engine: o.engine, User: o.root}
	text := func(variable string) string { return plainText(env[variable].Disclose()) }
	passwords := o.rootPass
	for i := 0; i+1 < len(o.users); i += 2 {
		if user := text(o.users[i]); user != "" {
			d.User, passwords = user, nil
			for j := i; j+1 < len(o.users); j += 2 { // older names of the same come later
				passwords = append(passwords, o.users[j+1])
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
	for _, variable := range o.databases {
		if d.Database = text(variable); d.Database != "" {
			break
		}
	}
	if d.Engine == "postgresql" && d.Database == "" {
		d.Database = d.User
	}
	if d.Engine == "oracle" {
		if d.Service = text("ORACLE_PDB"); d.Service == "" {
			d.Service = text("ORACLE_SID")
		}
	}
	for variable, value := range o.trust {
		own, ok := env[variable]
		if ok && d.Variable == "" &&
			(value == "" && !own.Empty() && d.User == o.root || value != "" && own.Disclose() == value) {
			d.None = true
		}
	}
	d.Made = d.Variable == "" &&
		slices.ContainsFunc(o.made, func(v string) bool { value, ok := env[v]; return ok && !value.Empty() })
	return d
}

// plainText is a declared name that can be shown, "" for one with signs that no name
// has.
func plainText(s string) string {
	if s != clean.Line(s, 128) {
		return ""
	}
	return s
}

// declared finds the password that the profile's source names in the environment.
func (v *view) declared(q secret.Query) (*secret.Located, *finding.Finding) {
	variable := q.Source.Arg
	value, ok := v.one.Config.Env[variable]
	if !ok {
		found := finding.New(finding.SecretMissing, "the container %s declares no environment variable %s", v.one.Name,
			variable)
		var names []string
		for has := range v.one.Config.Env {
			if secretLooking(has) {
				names = append(names, has)
			}
		}
		slices.Sort(names)
		if len(names) > 0 {
			found.Saw("it declares %s", clean.Line(strings.Join(names, ", "), 300))
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
		return &secret.Located{Place: place, Read: func(context.Context) (secret.Value, error) { return value, nil }}, nil
	}
	file := value.Disclose()
	if !path.IsAbs(file) {
		return nil, finding.New(finding.SecretMissing, "the variable %s of the container %s names no file", variable,
			v.one.Name).
			Suggest("gharbor set %s secret=ask", q.Profile)
	}
	return &secret.Located{
		Place: fmt.Sprintf("file %s of the container %s, which %s names", clean.Line(file, 200), v.one.Name, variable),
		Read:  func(ctx context.Context) (secret.Value, error) { return v.fileSecret(ctx, q, file) },
	}, nil
}

// Password takes the password that a variable of a container's environment declares,
// whether the container runs or not. profileName is whose it is to be.
func (e *Engines) Password(ctx context.Context, client *api.Client, one *api.Container,
	variable, profileName string) (secret.Value, error) {
	v := &view{Engines: e, match: match{client, one}}
	located, found := v.declared(secret.Query{
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
	found := finding.New(finding.SecretUnreadable, "the file %s of the container %s cannot be read",
		clean.Line(file, 200), v.one.Name)
	var failed *api.Error
	if errors.As(err, &failed) {
		found.Saw("the container engine: %s", clean.Quoted(failed.Error()))
	}
	return secret.Value{}, &secret.Failure{Found: found.Suggest("gharbor set %s secret=ask", q.Profile)}
}

// Sets are the keys of a profile that leads to a container, in which the server is at a
// port; 0 where that is not known.
func (d Declaration) Sets(c profile.Container, port int) []profile.Override {
	var sets []profile.Override
	add := func(key, value string) {
		if f := profile.FieldNamed(key); value != "" {
			if f.Expands { // where a dollar sign is one of a variable's
				value = strings.ReplaceAll(value, "$", "$$")
			}
			if v, err := f.ParseValue(value); err == nil {
				sets = append(sets, profile.Override{Field: f, Value: v})
			}
		}
	}
	add("engine", d.Engine)
	sets = append(sets, profile.Override{Field: profile.FieldNamed("container"), Value: profile.ContainerValue(c)})
	add("service", d.Service)
	if d.Engine != "oracle" {
		add("database", d.Database)
	}
	add("user", d.User)
	switch {
	case d.Variable != "":
		add("secret", "container:"+d.Variable)
	case d.None:
		add("secret", "none")
	}
	if port != 0 && port != profile.DefaultPort(d.Engine) {
		add("port", strconv.Itoa(port))
	}
	return sets
}
