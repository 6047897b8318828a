package mysql

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mysql/optionfile"
)

// sslMode is a TLS rule in the words of MySQL's clients (MySQL documentation, "Command Options for Encrypted
// Connections").
func sslMode(rule string) string {
	return map[string]string{
		"off":      "DISABLED",
		"offered":  "PREFERRED",
		"required": "REQUIRED",
		"verified": "VERIFY_IDENTITY",
	}[rule]
}

func clientVariables(c *engine.Connection) []engine.Variable {
	all := []engine.Variable{{Name: "MYSQL_HOST", Value: c.Host()}}
	if c.Socket() == "" {
		all = append(all, engine.Variable{Name: "MYSQL_TCP_PORT", Value: c.Port()})
	}
	return withValues(append(all, engine.Variable{Name: "MYSQL_UNIX_PORT", Value: c.Socket()}))
}

// extraVariables are for applications: the clients read no variable for these two.
func extraVariables(c *engine.Connection) []engine.Variable {
	return withValues([]engine.Variable{{Name: "MYSQL_USER", Value: c.User}, {Name: "MYSQL_DATABASE", Value: c.Database}})
}

func withValues(all []engine.Variable) []engine.Variable {
	return slices.DeleteFunc(all, func(v engine.Variable) bool { return v.Value == "" })
}

// writeFiles writes an option file.
func writeFiles(c *engine.Connection, folder string) (path string, variables []engine.Variable, err error) {
	path = filepath.Join(folder, "my.cnf")
	err = os.WriteFile(path, []byte(optionText(c)), 0o600)
	return path, []engine.Variable{{Name: "MYSQL_HOME", Value: folder}, {Name: "MARIADB_HOME", Value: folder}}, err
}

// optionText is the text of an option file for MySQL's and MariaDB's clients. Options that only some clients know are
// in those clients' own group, or have the prefix loose-.
func optionText(c *engine.Connection) string {
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
		add("ssl-ca", c.Authorities())
		add("ssl-cert", c.Cert)
		add("ssl-key", c.Key)
		if c.Spec.Word == Word {
			add("loose-ssl-mode", sslMode(c.TLS))
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

// ownOptionFile says which option of the user's own file would override ours: the clients read that file after the
// one that they are given.
func ownOptionFile(home string) string {
	result, err := optionfile.Read(ownFile(home))
	if err != nil {
		return ""
	}
	for _, option := range result.Options {
		switch option.Name {
		case "user", "host", "port", "socket", "password":
			if strings.HasPrefix(option.Group, "client") {
				return fmt.Sprintf("%s, line %d, sets %s, and clients read it last; give the program "+
					"--defaults-file={optionfile} to have this connection's", option.File, option.Line, option.Name)
			}
		}
	}
	return ""
}

// writeURL fills in a connection URL.
func writeURL(c *engine.Connection, u *engine.URLParts) {
	if c.Socket() != "" {
		u.Host = "localhost"
		u.Query["socket"] = c.Socket()
	} else {
		u.Query["ssl-mode"] = sslMode(c.TLS)
	}
	u.Query["ssl-ca"] = c.CA
	u.Query["ssl-cert"] = c.Cert
	u.Query["ssl-key"] = c.Key
}

// parameters are the clients' options (MySQL documentation, "Connecting to the Server Using URI-Like
// Strings or Key-Value Pairs").
var parameters = map[string]engine.Parameter{
	"host":                   {Form: engine.Hosts},
	"port":                   {Key: "port"},
	"user":                   {Key: "user"},
	"dbname":                 {Key: "database"},
	"socket":                 {Key: "socket"},
	"ssl-ca":                 {Key: "tls-ca"},
	"ssl-cert":               {Key: "tls-cert"},
	"ssl-key":                {Key: "tls-key"},
	"server-public-key-path": {Key: "server-key"},
	"ssl-mode": {
		Key: "tls",
		Values: map[string]string{
			"disabled":        "off",
			"preferred":       "offered",
			"required":        "required",
			"verify_ca":       "verified",
			"verify_identity": "verified",
		},
		Fold:     true,
		Expected: "one of DISABLED, PREFERRED, REQUIRED, VERIFY_CA, VERIFY_IDENTITY",
	},
}

// variables are those of the clients (MySQL documentation, "Environment Variables") and those that the
// official image declares.
var variables = []engine.Family{{
	Names: map[string]string{
		"MYSQL_HOST":      "host",
		"MYSQL_TCP_PORT":  "port",
		"MYSQL_PORT":      "port",
		"MYSQL_UNIX_PORT": "socket",
		"MYSQL_DATABASE":  "dbname",
		"MYSQL_USER":      "user",
		"MYSQL_PASSWORD":  "password",
		"MYSQL_PWD":       "password",
	},
	Least: []string{"MYSQL_HOST", "MYSQL_UNIX_PORT", "MYSQL_DATABASE", "MYSQL_USER"},
}}

// mariadbVariables are those that MariaDB's official image declares.
var mariadbVariables = []engine.Family{{
	Names: map[string]string{
		"MARIADB_HOST":     "host",
		"MARIADB_PORT":     "port",
		"MARIADB_DATABASE": "dbname",
		"MARIADB_USER":     "user",
		"MARIADB_PASSWORD": "password",
	},
	Least: []string{"MARIADB_HOST", "MARIADB_DATABASE", "MARIADB_USER"},
}}

// optionPairs are the options that describe a connection, each with its parameter.
var optionPairs = map[string]string{
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

// readOptions reads the groups of an option file that name a user or an address. It does not take the password.
func readOptions(path string) ([]engine.Section, error) {
	result, err := optionfile.Read(path)
	if err != nil {
		return nil, err
	}
	var groups []string
	pairs, modes := make(map[string][][2]string), make(map[string]string)
	for _, o := range result.Options {
		switch o.Group {
		case "mysqld", "server", "mariadbd", "mariadb":
			continue // a server's own
		}
		if !slices.Contains(groups, o.Group) {
			groups = append(groups, o.Group)
		}
		if key := optionPairs[o.Name]; key != "" && o.Value != "" {
			pairs[o.Group] = append(pairs[o.Group], [2]string{key, o.Value})
		}
		if mode := sslSwitch(o, modes[o.Group]); mode != "" {
			modes[o.Group] = mode
		}
	}
	for group, mode := range modes {
		pairs[group] = append(pairs[group], [2]string{"ssl-mode", mode})
	}
	var all []engine.Section
	for _, group := range groups {
		has := func(name string) bool {
			return slices.ContainsFunc(pairs[group], func(p [2]string) bool { return p[0] == name })
		}
		if !has("host") && !has("user") && !has("socket") {
			continue
		}
		one := engine.Section{
			Name:   group,
			Engine: Word,
			Pairs:  pairs[group],
			Origin: fmt.Sprintf("option file %s, [%s]", path, clean.Line(group, 60)),
		}
		if strings.Contains(group, MariaDB) {
			one.Engine = MariaDB
		}
		if group != "client" || len(groups) > 1 {
			one.Names = []string{group}
		}
		if has("password") {
			one.Source = "optionfile:" + path + "#" + group
		}
		all = append(all, one)
	}
	return all, nil
}

// sslSwitch is the TLS mode that a switch of the clients asks for, after those before it; "" where an option is none of
// them (MariaDB documentation, "TLS Client Options": ssl, ssl-verify-server-cert, and skip- or disable- before them).
func sslSwitch(o optionfile.Option, before string) string {
	name, off := o.Name, slices.Contains([]string{"0", "off", "false", "no"}, strings.ToLower(o.Value))
	name = strings.TrimPrefix(name, "loose-")
	for _, prefix := range []string{"skip-", "disable-"} {
		if plain, ok := strings.CutPrefix(name, prefix); ok {
			name, off = plain, true
		}
	}
	switch {
	case name == "ssl-mode" && name != o.Name && o.Value != "":
		return o.Value
	case name == "ssl" && off:
		return sslMode("off")
	case name == "ssl" && before != sslMode("verified"):
		return sslMode("required")
	case name == "ssl-verify-server-cert" && !off && before != sslMode("off"):
		return sslMode("verified")
	case name == "ssl-verify-server-cert" && before == sslMode("verified"):
		return sslMode("required")
	}
	return ""
}
