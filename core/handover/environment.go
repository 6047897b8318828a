package handover

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"gentleharbor/core/secret/optionfile"
)

// Variable is an environment variable that a program is given.
type Variable struct {
	Name, Value string
	Secret      bool // the value has a password in it
}

// libpqSetting is one setting under its two names: the environment variable and
// the key of a service file (PostgreSQL documentation, "Environment Variables"
// and "Parameter Key Words").
type libpqSetting struct{ variable, service, value string }

func (c *Connection) libpq() []libpqSetting {
	hosts, ports := make([]string, len(c.Servers)), make([]string, len(c.Servers))
	for i, s := range c.Servers {
		hosts[i], ports[i] = s.Host, strconv.Itoa(s.Port)
	}
	host, address := strings.Join(hosts, ","), ""
	if c.Socket() != "" {
		host = c.Host()
	}
	if name, at, ok := c.apart(); ok {
		host, address = name, at
	}
	return []libpqSetting{
		{"PGHOST", "host", host}, {"PGHOSTADDR", "hostaddr", address}, {"PGPORT", "port", strings.Join(ports, ",")},
		{"PGDATABASE", "dbname", c.Database}, {"PGUSER", "user", c.User},
		{"PGSSLMODE", "sslmode", c.tlsMode()}, {"PGSSLROOTCERT", "sslrootcert", c.authorities()},
		{"PGSSLCERT", "sslcert", c.Cert}, {"PGSSLKEY", "sslkey", c.Key},
		{"PGTARGETSESSIONATTRS", "target_session_attrs", c.sessionAttributes()},
	}
}

// Variables are what the engine's own clients and libraries read, without a
// password.
func (c *Connection) Variables() []Variable {
	var all []Variable
	add := func(name, value string) {
		if value != "" {
			all = append(all, Variable{Name: name, Value: value})
		}
	}
	switch {
	case c.Engine == "postgresql":
		for _, s := range c.libpq() {
			add(s.variable, s.value)
		}
	case c.mysql():
		add("MYSQL_HOST", c.Host())
		if c.Socket() == "" {
			add("MYSQL_TCP_PORT", c.Port())
		}
		add("MYSQL_UNIX_PORT", c.Socket())
	}
	return all
}

// Neutral are the variables that are the same for every engine.
func (c *Connection) Neutral() []Variable {
	all := []Variable{{Name: "GHARBOR_HOST", Value: c.Host()}, {Name: "GHARBOR_PORT", Value: c.Port()},
		{Name: "GHARBOR_SOCKET", Value: c.Socket()}, {Name: "GHARBOR_USER", Value: c.User},
		{Name: "GHARBOR_DATABASE", Value: c.Database}, {Name: "GHARBOR_ENGINE", Value: c.Engine},
		{Name: "GHARBOR_PROFILE", Value: c.Profile}}
	if c.Engine == "oracle" {
		all = append(all, Variable{Name: "GHARBOR_SERVICE", Value: c.Service},
			Variable{Name: "GHARBOR_INSTANCE", Value: c.Instance})
	}
	return all
}

// PasswordVariable is the variable that the engine's clients take a password
// from, "" where there is none.
func (c *Connection) PasswordVariable() string {
	return map[string]string{
		"postgresql": "PGPASSWORD",
		"mysql":      "MYSQL_PWD",
		"mariadb":    "MYSQL_PWD",
		"redis":      "REDISCLI_AUTH",
	}[c.Engine]
}

// Inherited reports whether a variable of the environment is the engine's, and so
// must not reach the program: it would change where the connection leads.
func (c *Connection) Inherited(name string) bool {
	for _, v := range c.Neutral() {
		if name == v.Name {
			return true
		}
	}
	prefixes := map[string][]string{
		"postgresql": {"PG"},
		"mysql":      {"MYSQL_", "MARIADB_"},
		"mariadb":    {"MYSQL_", "MARIADB_"},
		"redis":      {"REDISCLI_"},
	}[c.Engine]
	for _, prefix := range prefixes {
		if strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}

// Files writes the engine's credential file into folder, which must be private,
// and returns its path and the variables that lead to it. Where the engine has no
// such file, or there is no password, the path is "".
func (c *Connection) Files(folder string) (path string, variables []Variable, err error) {
	switch {
	case c.Engine == "postgresql":
		if !c.Password.Present() {
			// a file of the user's own is not what the profile says
			return "", []Variable{{Name: "PGPASSFILE", Value: os.DevNull}}, nil
		}
		path = filepath.Join(folder, "passwords")
		if strings.ContainsAny(c.Password.Disclose(), "\r\n") {
			return "", nil, fmt.Errorf("the password has a line end in it, which a password file can't hold")
		}
		err = os.WriteFile(path, []byte(strings.Join(c.PassfileLines(), "\n")+"\n"), 0o600)
		return path, []Variable{{Name: "PGPASSFILE", Value: path}}, err
	case c.mysql():
		path = filepath.Join(folder, "my.cnf")
		err = os.WriteFile(path, []byte(c.optionFile()), 0o600)
		return path, []Variable{{Name: "MYSQL_HOME", Value: folder}, {Name: "MARIADB_HOME", Value: folder}}, err
	}
	if c.Password.Present() && c.PasswordVariable() != "" {
		variables = []Variable{{Name: c.PasswordVariable(), Value: c.Password.Disclose(), Secret: true}}
	}
	return "", variables, nil
}

// optionFile is the text of an option file for MySQL's and MariaDB's clients. What
// only the interactive client knows stands in its own group; what only one family
// of clients knows is marked as such.
func (c *Connection) optionFile() string {
	var b strings.Builder
	add := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s = %s\n", name, optionfile.Quote(value))
		}
	}
	b.WriteString("[client]\n")
	add("user", c.User)
	if c.Password.Present() {
		fmt.Fprintf(&b, "password = %s\n", optionfile.Quote(c.Password.Disclose()))
	}
	if c.Socket() != "" {
		add("socket", c.Socket())
		b.WriteString("protocol = SOCKET\n")
	} else {
		add("host", c.Host())
		add("port", c.Port())
		b.WriteString("protocol = TCP\n")
		add("ssl-ca", c.authorities())
		add("ssl-cert", c.Cert)
		add("ssl-key", c.Key)
		if c.Engine == "mysql" {
			add("loose-ssl-mode", c.tlsMode())
		}
	}
	if c.Socket() == "" {
		b.WriteString("\n[client-mariadb]\n")
		switch c.TLS {
		case "off":
			b.WriteString("skip-ssl\n")
		case "required":
			b.WriteString("ssl\n")
		case "verified":
			b.WriteString("ssl\nssl-verify-server-cert\n")
		}
	}
	if c.Database != "" {
		b.WriteString("\n[mysql]\n")
		add("database", c.Database)
	}
	return b.String()
}

// Placeholder is what a word in braces stands for in a program's arguments. err
// says why one that has a meaning has none here.
func (c *Connection) Placeholder(name, file string) (value string, known bool, err error) {
	switch name {
	case "host":
		return c.Host(), true, nil
	case "port":
		return c.Port(), true, nil
	case "user":
		return c.User, true, nil
	case "database":
		return c.Database, true, nil
	case "socket":
		if c.Socket() == "" {
			return "", true, fmt.Errorf("{socket}: the profile %s is at a host, not at a socket", c.Profile)
		}
		return c.Socket(), true, nil
	case "passfile":
		if c.Engine != "postgresql" {
			return "", true, fmt.Errorf("{passfile} is PostgreSQL's password file, and the profile %s is for %s", c.Profile,
				c.Engine)
		}
		if file == "" {
			return "", true, fmt.Errorf("{passfile}: the profile %s has no password to put into one", c.Profile)
		}
		return file, true, nil
	case "optionfile":
		if !c.mysql() {
			return "", true, fmt.Errorf("{optionfile} is MySQL's option file, and the profile %s is for %s", c.Profile, c.Engine)
		}
		return file, true, nil
	case "password", "passwd", "pass", "secret":
		return "", true, fmt.Errorf("there is no placeholder for the password: arguments can be read by everybody on this " +
			"machine (ps); the program finds it in its environment")
	}
	return "", false, nil
}

// Words puts values in place of the placeholders of a program's words. A word in
// braces that is none of them stays as it is.
func (c *Connection) Words(words []string, file string) ([]string, error) {
	out := make([]string, len(words))
	for i, word := range words {
		var b strings.Builder
		for {
			open := strings.IndexByte(word, '{')
			shut := strings.IndexByte(word[max(open, 0):], '}')
			if open < 0 || shut < 0 {
				break
			}
			shut += open
			value, known, err := c.Placeholder(word[open+1:shut], file)
			if err != nil {
				return nil, err
			}
			b.WriteString(word[:open])
			if known {
				b.WriteString(value)
				word = word[shut+1:]
			} else {
				b.WriteByte('{')
				word = word[open+1:]
			}
		}
		b.WriteString(word)
		out[i] = b.String()
	}
	return out, nil
}
