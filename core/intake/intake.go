// Package intake reads connections out of open forms: connection URLs, the
// environment variables and dotenv files that programs take them from, and the
// password, service and option files of the servers' own clients. It makes values
// for profiles of them, and keeps the passwords apart. Nothing is expanded: a
// dollar sign in such a file is a dollar sign.
package intake

import (
	"bytes"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/profile"
	"gentleharbor/core/secret"
	"gentleharbor/core/secret/optionfile"
	"gentleharbor/core/secret/passfile"
)

// Found is a connection.
type Found struct {
	Name     string // what a profile could be called
	Sets     []profile.Override
	Password secret.Value // not Present where there is none
	Origin   string       // "service file /home/w/.pg_service.conf, [sightings]"
	Other    []string     // settings that a profile has no place for
	Trouble  string       // why a password that is declared is not there, "" where it is or none is
}

// maxFile bounds a file that is taken in.
const maxFile = 4 << 20

// ReadFile reads a file of text, of at most 4 MiB.
func ReadFile(path string) ([]byte, error) { return atomicfile.Read(path, maxFile) }

// Name makes a profile's name of words: small letters, digits, and signs between.
func Name(words ...string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(strings.Join(words, "-")) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case r == '.' || r == '_' || r == '-':
			b.WriteRune(r)
		default:
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "._-")
	if name == "" {
		return "profile"
	}
	return name[:min(len(name), 64)]
}

// URL takes a connection URL, password and all.
func URL(text string) ([]Found, error) {
	sets, password, err := profile.SplitURL(strings.TrimSpace(text))
	if err != nil {
		return nil, err
	}
	return []Found{{Name: nameOf(sets), Sets: sets, Password: password, Origin: "a connection URL"}}, nil
}

func nameOf(sets []profile.Override) string {
	for _, key := range []string{"database", "host", "engine"} {
		for _, s := range sets {
			if s.Field.Name == key && !profile.LocalHost(s.Value.Text()) {
				return Name(s.Value.Text())
			}
		}
	}
	return "profile"
}

// Variable is a name and a value, of an environment or of a dotenv file.
type Variable struct {
	Name, Value string
	Line        int // 0 for the environment
}

// family is a set of variables that make one connection. Each name stands for a
// parameter of profile.FromParameters.
type family struct {
	engine string
	names  map[string]string
	least  []string // one of them has to be there
}

// families are those of libpq (PostgreSQL documentation, "Environment
// Variables"), of MySQL's clients (MySQL documentation, "Environment Variables"),
// and those that the servers' official images declare.
var families = []family{
	{"postgresql", map[string]string{
		"PGHOST":               "host",
		"PGHOSTADDR":           "hostaddr",
		"PGPORT":               "port",
		"PGDATABASE":           "dbname",
		"PGUSER":               "user",
		"PGPASSWORD":           "password",
		"PGPASSFILE":           "passfile",
		"PGSSLMODE":            "sslmode",
		"PGSSLROOTCERT":        "sslrootcert",
		"PGSSLCERT":            "sslcert",
		"PGSSLKEY":             "sslkey",
		"PGTARGETSESSIONATTRS": "target_session_attrs",
	}, []string{"PGHOST", "PGHOSTADDR", "PGDATABASE", "PGUSER"}},
	{"postgresql", map[string]string{
		"POSTGRES_HOST":     "host",
		"POSTGRES_PORT":     "port",
		"POSTGRES_DB":       "dbname",
		"POSTGRES_USER":     "user",
		"POSTGRES_PASSWORD": "password",
	}, []string{"POSTGRES_HOST", "POSTGRES_DB", "POSTGRES_USER"}},
	{"mysql", map[string]string{
		"MYSQL_HOST":      "host",
		"MYSQL_TCP_PORT":  "port",
		"MYSQL_PORT":      "port",
		"MYSQL_UNIX_PORT": "socket",
		"MYSQL_DATABASE":  "dbname",
		"MYSQL_USER":      "user",
		"MYSQL_PASSWORD":  "password",
		"MYSQL_PWD":       "password",
	}, []string{"MYSQL_HOST", "MYSQL_UNIX_PORT", "MYSQL_DATABASE", "MYSQL_USER"}},
	{"mariadb", map[string]string{
		"MARIADB_HOST":     "host",
		"MARIADB_PORT":     "port",
		"MARIADB_DATABASE": "dbname",
		"MARIADB_USER":     "user",
		"MARIADB_PASSWORD": "password",
	},
		[]string{"MARIADB_HOST", "MARIADB_DATABASE", "MARIADB_USER"}},
}

// Variables finds the connections in variables: each that is a connection URL,
// and each family of which enough is there. where says where they stand.
func Variables(all []Variable, where string) ([]Found, error) {
	var found []Found
	for _, v := range all {
		if !strings.Contains(v.Value, "://") {
			continue
		}
		sets, password, err := profile.SplitURL(v.Value)
		if err != nil {
			if scheme, _, _ := strings.Cut(v.Value, "://"); profile.IsScheme(scheme) {
				return nil, fmt.Errorf("%s%s: %w", v.at(), v.Name, err)
			}
			continue // a URL of something else
		}
		name := strings.TrimSuffix(strings.TrimSuffix(strings.ToLower(v.Name), "_url"), "_uri")
		found = append(found, Found{Name: Name(name), Sets: sets, Password: password, Origin: where + v.place()})
	}
	for _, f := range families {
		var pairs [][2]string
		enough := false
		for _, v := range all {
			if key, ok := f.names[v.Name]; ok && v.Value != "" {
				pairs = append(pairs, [2]string{key, v.Value})
				enough = enough || slices.Contains(f.least, v.Name)
			}
		}
		if !enough {
			continue
		}
		one, err := fromPairs(f.engine, pairs)
		if err != nil {
			return nil, err
		}
		one.Origin = where
		found = append(found, one)
	}
	return found, nil
}

func (v Variable) at() string {
	if v.Line == 0 {
		return ""
	}
	return fmt.Sprintf("line %d, ", v.Line)
}

func (v Variable) place() string {
	if v.Line == 0 {
		return ", " + v.Name
	}
	return fmt.Sprintf(", line %d (%s)", v.Line, v.Name)
}

// fromPairs makes a connection of parameters. Without an address it is the one
// that the clients take: this machine.
func fromPairs(engine string, pairs [][2]string) (Found, error) {
	sets, password, other, err := profile.FromParameters(engine, pairs)
	if err != nil {
		return Found{}, err
	}
	if !slices.ContainsFunc(sets, func(s profile.Override) bool { return s.Field.Address }) {
		sets = append(sets, profile.Override{Field: profile.FieldNamed("host"), Value: profile.TextValue("127.0.0.1")})
	}
	return Found{Name: nameOf(sets), Sets: sets, Password: password, Other: other}, nil
}

// section is a part of a service file.
type section struct {
	name  string
	line  int
	pairs [][2]string
}

// found is the connection that a section describes.
func (s section) found(path string) (Found, error) {
	one, err := fromPairs("postgresql", s.pairs)
	if err != nil {
		return one, fmt.Errorf("%s:%d: [%s]: %w", path, s.line, s.name, err)
	}
	one.Name, one.Origin = Name(s.name), fmt.Sprintf("service file %s, [%s]", path, s.name)
	return one, nil
}

// Service reads a PostgreSQL service file (PostgreSQL documentation, "The
// Connection Service File"): sections of key=value lines.
func Service(data []byte, path string) ([]Found, error) {
	all, err := sections(data, path)
	if err != nil {
		return nil, err
	}
	var found []Found
	for _, s := range all {
		one, err := s.found(path)
		if err != nil {
			return nil, err
		}
		found = append(found, one)
	}
	return found, nil
}

// ServiceSection is the section of that name in a service file: the first, as
// libpq has it. names lists all sections; line is 0 where there is none of that
// name.
func ServiceSection(data []byte, path, name string) (found Found, line int, names []string, err error) {
	all, err := sections(data, path)
	for _, s := range all {
		names = append(names, s.name)
		if s.name == name && line == 0 && err == nil {
			line = s.line
			found, err = s.found(path)
		}
	}
	return found, line, names, err
}

func sections(data []byte, path string) ([]section, error) {
	var all []section
	number := 0
	for line := range strings.SplitSeq(string(data), "\n") {
		number++
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
		case line[0] == '[':
			name, ok := strings.CutSuffix(line[1:], "]")
			if !ok || name == "" {
				return nil, fmt.Errorf("%s:%d: a section is a name in brackets", path, number)
			}
			all = append(all, section{name: name, line: number})
		case strings.HasPrefix(line, "ldap"):
			return nil, fmt.Errorf("%s:%d: a look-up by LDAP is not followed; write the values themselves", path, number)
		default:
			key, value, ok := strings.Cut(line, "=")
			if !ok || len(all) == 0 {
				return nil, fmt.Errorf("%s:%d: expected key=value below a [section]", path, number)
			}
			last := &all[len(all)-1]
			if slices.ContainsFunc(last.pairs, func(p [2]string) bool { return p[0] == key }) {
				continue // the first counts
			}
			last.pairs = append(last.pairs, [2]string{key, value})
		}
	}
	return all, nil
}

// Passfile reads the lines of a PostgreSQL password file that name one
// connection: without wildcards but for the database. The password stays in the
// file, which the profile names.
func Passfile(data []byte, path string) ([]Found, error) {
	var found []Found
	entries, err := passfile.Entries(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for _, e := range entries {
		if e.Host == "*" || e.User == "*" || e.Port == "*" {
			continue
		}
		pairs := [][2]string{{"host", e.Host}, {"port", e.Port}, {"user", e.User}}
		if e.Database != "*" {
			pairs = append(pairs, [2]string{"dbname", e.Database})
		}
		one, err := fromPairs("postgresql", pairs)
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", path, e.Line, err)
		}
		database := e.Database
		if database == "*" {
			database = e.Host
		}
		one.Name = Name(database, e.User)
		one.Sets = append(one.Sets, profile.Override{
			Field: profile.FieldNamed("secret"),
			Value: profile.TextValue("passfile:" + path),
		})
		one.Password, one.Origin = secret.NewValue(e.Password), fmt.Sprintf("password file %s, line %d", path, e.Line)
		found = append(found, one)
	}
	return found, nil
}

// Options reads the groups of a MySQL or MariaDB option file that name a user or
// an address. The password stays in the file, which the profile names.
func Options(path string) ([]Found, error) {
	result, err := optionfile.Read(path)
	if err != nil {
		return nil, err
	}
	keys := map[string]string{
		"host":     "host",
		"port":     "port",
		"socket":   "socket",
		"user":     "user",
		"password": "password",
		"database": "dbname",
		"ssl-ca":   "ssl-ca",
		"ssl-cert": "ssl-cert",
		"ssl-key":  "ssl-key",
		"ssl-mode": "ssl-mode",
	}
	var groups []string
	pairs := make(map[string][][2]string)
	for _, o := range result.Options {
		if o.Group == "mysqld" || o.Group == "server" || o.Group == "mariadbd" || o.Group == "mariadb" {
			continue // a server's own
		}
		if !slices.Contains(groups, o.Group) {
			groups = append(groups, o.Group)
		}
		if key := keys[o.Name]; key != "" && o.Value != "" {
			pairs[o.Group] = append(pairs[o.Group], [2]string{key, o.Value})
		}
	}
	var found []Found
	for _, group := range groups {
		if !slices.ContainsFunc(pairs[group],
			func(p [2]string) bool { return p[0] == "host" || p[0] == "user" || p[0] == "socket" }) {
			continue
		}
		engine := "mysql"
		if strings.Contains(group, "mariadb") {
			engine = "mariadb"
		}
		one, err := fromPairs(engine, pairs[group])
		if err != nil {
			return nil, fmt.Errorf("%s: [%s]: %w", path, group, err)
		}
		if group != "client" || len(groups) > 1 {
			one.Name = Name(group)
		}
		one.Origin = fmt.Sprintf("option file %s, [%s]", path, group)
		if one.Password.Present() {
			one.Sets = append(one.Sets, profile.Override{
				Field: profile.FieldNamed("secret"),
				Value: profile.TextValue("optionfile:" + path + "#" + group),
			})
		}
		found = append(found, one)
	}
	return found, nil
}

// ServicePath is where libpq looks for the user's service file.
func ServicePath(lookup func(string) (string, bool), home string) string {
	return ServicePaths(lookup, home)[0]
}

// ServicePaths are where libpq looks for a service, in order: in the one file that
// PGSERVICEFILE names, else in the user's and then in the system's.
func ServicePaths(lookup func(string) (string, bool), home string) []string {
	if path, ok := lookup("PGSERVICEFILE"); ok && path != "" {
		return []string{path}
	}
	paths := []string{filepath.Join(home, ".pg_service.conf")}
	if folder, ok := lookup("PGSYSCONFDIR"); ok && folder != "" {
		return append(paths, filepath.Join(folder, "pg_service.conf"))
	}
	for _, folder := range systemFolders {
		paths = append(paths, filepath.Join(folder, "pg_service.conf"))
	}
	return paths
}

// NamedByVariable reports whether a path of ServicePaths is there because a variable of the
// environment says so.
func NamedByVariable(path string, lookup func(string) (string, bool)) bool {
	file, _ := lookup("PGSERVICEFILE")
	folder, _ := lookup("PGSYSCONFDIR")
	return path == file || folder != "" && path == filepath.Join(folder, "pg_service.conf")
}

// systemFolders are what builds of PostgreSQL have as their folder of system-wide
// settings: Debian's packages, and PostgreSQL's own.
var systemFolders = []string{"/etc/postgresql-common", "/etc/sysconfig/pgsql", "/usr/local/pgsql/etc"}
