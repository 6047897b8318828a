package postgresql

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/postgresql/passfile"
)

// setting is one setting with its two names: the environment variable and the key of a service file (PostgreSQL
// documentation, "Environment Variables" and "Parameter Key Words").
type setting struct{ variable, service, value string }

func settings(c *engine.Connection) []setting {
	hosts, ports := make([]string, len(c.Servers)), make([]string, len(c.Servers))
	for i, s := range c.Servers {
		hosts[i], ports[i] = s.Host, strconv.Itoa(s.Port)
	}
	host, address := strings.Join(hosts, ","), ""
	if c.Socket() != "" {
		host = c.Host()
	}
	if name, at, ok := c.SeparateAddress(); ok {
		host, address = name, at
	}
	file, folder := revocation(c.CRL)
	start := ""
	if c.TLSStart == "direct" {
		start = "direct"
	}
	return []setting{
		{"PGHOST", "host", host}, {"PGHOSTADDR", "hostaddr", address}, {"PGPORT", "port", strings.Join(ports, ",")},
		{"PGDATABASE", "dbname", c.Database}, {"PGUSER", "user", c.User},
		{"PGSSLMODE", "sslmode", sslMode(c.TLS)}, {"PGSSLROOTCERT", "sslrootcert", c.Authorities()},
		{"PGSSLCERT", "sslcert", c.Cert}, {"PGSSLKEY", "sslkey", c.Key},
		{"PGTARGETSESSIONATTRS", "target_session_attrs", sessionAttributes(c.Target)},
		{"PGSSLCRL", "sslcrl", file}, {"PGSSLCRLDIR", "sslcrldir", folder}, {"PGSSLNEGOTIATION", "sslnegotiation", start},
	}
}

// revocation is a revocation list in libpq's form: a file, or a folder.
func revocation(path string) (file, folder string) {
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return "", path
	}
	return path, ""
}

// sslMode is a TLS rule in libpq's words (PostgreSQL documentation, "SSL Mode Descriptions").
func sslMode(rule string) string {
	return map[string]string{
		"off":      "disable",
		"offered":  "prefer",
		"required": "require",
		"verified": "verify-full",
	}[rule]
}

// sessionAttributes is the target in the words of libpq, "" for any server.
func sessionAttributes(target string) string {
	return map[string]string{"writable": "read-write", "read-only": "read-only"}[target]
}

func clientVariables(c *engine.Connection) []engine.Variable {
	var all []engine.Variable
	for _, s := range settings(c) {
		if s.value != "" {
			all = append(all, engine.Variable{Name: s.variable, Value: s.value})
		}
	}
	return all
}

// writeFiles writes a password file. Without a password it writes an empty one, so that the user's own file is not
// read: its password is not the profile's.
func writeFiles(c *engine.Connection, folder string) (path string, variables []engine.Variable, err error) {
	path = filepath.Join(folder, "passwords")
	if !c.Password.Present() { // an empty file: libpq warns of what is none
		none := []engine.Variable{{Name: "PGPASSFILE", Value: path}}
		return "", none, os.WriteFile(path, nil, 0o600)
	}
	if strings.ContainsAny(c.Password.Disclose(), "\r\n") {
		return "", nil, errors.New("the password has a line end in it, which a password file can't hold")
	}
	err = os.WriteFile(path, []byte(strings.Join(passwordLines(c), "\n")+"\n"), 0o600)
	return path, []engine.Variable{{Name: "PGPASSFILE", Value: path}}, err
}

// passwordLines are the lines of a password file for the connection: one for each form in which a client may look it
// up.
func passwordLines(c *engine.Connection) []string {
	var lines []string
	add := func(host, port string) {
		line := passfile.Line(passfile.Query{Host: host, Port: port, Database: "*", User: c.User}, c.Password.Disclose())
		if !slices.Contains(lines, line) {
			lines = append(lines, line)
		}
	}
	if name, address, ok := c.SeparateAddress(); ok {
		add(name, c.Port())
		add(address, c.Port())
	}
	for _, s := range c.Servers {
		port := strconv.Itoa(s.Port)
		if s.Socket == "" {
			add(s.Host, port)
			continue
		}
		add("localhost", port) // what libpq looks up for its default folder
		if s.Folder != "" {
			add(s.Folder, port)
		}
	}
	return lines
}

// serviceLines are a section of a service file (PostgreSQL documentation, "The Connection Service File"),
// without a password.
func serviceLines(c *engine.Connection) ([]string, error) {
	lines := []string{"[" + c.Profile + "]"}
	for _, pair := range settings(c) {
		if pair.value != "" {
			lines = append(lines, pair.service+"="+pair.value)
		}
	}
	return lines, nil
}

// writeURL fills in a connection URL (PostgreSQL documentation, "Connection URIs").
func writeURL(c *engine.Connection, u *engine.URLParts) {
	if c.Socket() != "" {
		u.Query["host"] = c.Host()
		u.Query["port"] = c.Port()
	}
	if name, address, ok := c.SeparateAddress(); ok && (c.Elsewhere || address == c.First().Host) {
		u.Host = net.JoinHostPort(name, c.Port())
		u.Query["hostaddr"] = address
	}
	u.Query["sslmode"] = sslMode(c.TLS)
	u.Query["sslrootcert"] = c.Authorities()
	u.Query["sslcert"] = c.Cert
	u.Query["sslkey"] = c.Key
	u.Query["sslcrl"], u.Query["sslcrldir"] = revocation(c.CRL)
	if c.TLSStart == "direct" {
		u.Query["sslnegotiation"] = "direct"
	}
	u.Query["target_session_attrs"] = sessionAttributes(c.Target)
}

// parameters are those of libpq (PostgreSQL documentation, "Parameter Key Words").
var parameters = map[string]engine.Parameter{
	"host":        {Form: engine.Hosts},
	"hostaddr":    {Form: engine.DialAddress},
	"port":        {Key: "port"},
	"user":        {Key: "user"},
	"dbname":      {Key: "database"},
	"sslrootcert": {Key: "tls-ca"},
	"sslcert":     {Key: "tls-cert"},
	"sslkey":      {Key: "tls-key"},
	"sslpassword": {Form: engine.Passphrase},
	"passfile":    {Key: "secret", Prefix: "passfile:"},
	// a rule that asks for at least as much
	"sslmode": {
		Key: "tls",
		Values: map[string]string{
			"disable":     "off",
			"allow":       "offered",
			"prefer":      "offered",
			"require":     "required",
			"verify-ca":   "verified",
			"verify-full": "verified",
		},
		Expected: "one of disable, allow, prefer, require, verify-ca, verify-full",
	},
	"ssl":    {Key: "tls", Values: map[string]string{"true": "required"}, Expected: "true"},
	"sslcrl": {Key: "tls-crl"}, "sslcrldir": {Key: "tls-crl"},
	"sslnegotiation": {
		Key:      "tls-start",
		Values:   map[string]string{"postgres": "", "direct": "direct"},
		Expected: "one of postgres, direct",
	},
	"ssl_min_protocol_version": {
		Values:   map[string]string{"TLSv1": "", "TLSv1.1": "", "TLSv1.2": ""},
		Expected: "TLSv1.2 or lower: gharbor takes no TLS before 1.2, and a profile can't ask for more",
	},
	"ssl_max_protocol_version": {
		Values:   map[string]string{"TLSv1.2": "", "TLSv1.3": ""}, // see settle
		Expected: "TLSv1.2 or TLSv1.3: gharbor takes no TLS before 1.2",
	},
	"gssencmode": {
		Values:   map[string]string{"disable": "", "prefer": ""},
		Expected: "disable or prefer: gharbor does no GSS encryption",
	},
	"channel_binding": {
		Values:   map[string]string{"disable": "", "prefer": "", "require": ""}, // see settle
		Expected: "one of disable, prefer, require",
	},
	"requirepeer":  {Form: engine.Unkept, Expected: "a profile can't name the owner of a socket's process"},
	"require_auth": {Form: engine.Unkept, Expected: "a profile can't ask for a login method"},
	"service":      {Form: engine.Unkept, Expected: "the values are in a service file: gharbor import service"},
	"replication":  {Form: engine.Unkept, Expected: "gharbor makes no replication connections"},
	"target_session_attrs": {
		Key: "target",
		Values: map[string]string{
			"any":        "",
			"read-write": "writable",
			"primary":    "writable",
			"read-only":  "read-only",
			"standby":    "read-only",
		},
		Expected: "one of any, read-write, primary, read-only, standby",
	},
	"application_name": {Form: engine.Idle}, "fallback_application_name": {Form: engine.Idle},
	"client_encoding": {Form: engine.Idle}, "connect_timeout": {Form: engine.Idle}, "options": {Form: engine.Idle},
	"keepalives": {Form: engine.Idle}, "keepalives_idle": {Form: engine.Idle}, "keepalives_interval": {Form: engine.Idle},
	"keepalives_count": {Form: engine.Idle}, "tcp_user_timeout": {Form: engine.Idle},
	"load_balance_hosts": {Form: engine.Idle}, "sslcompression": {Form: engine.Idle}, "sslsni": {Form: engine.Idle},
	"sslcertmode": {Form: engine.Idle}, "sslkeylogfile": {Form: engine.Idle}, "krbsrvname": {Form: engine.Idle},
	"gsslib": {Form: engine.Idle}, "gssdelegation": {Form: engine.Idle}, "min_protocol_version": {Form: engine.Idle},
	"max_protocol_version": {Form: engine.Idle}, "servicefile": {Form: engine.Idle},
}

// settle finds the TLS rule that several parameters of libpq ask for together (PostgreSQL documentation, "Parameter
// Key Words": sslmode, sslrootcert and channel_binding). Where no rule asks for just the same, it takes a stricter
// one.
func settle(given map[string]string) (keys map[string]string, notes []string) {
	keys = make(map[string]string)
	verify := func(why string) {
		keys["tls"] = "verified"
		notes = append(notes, why+": tls = verified, which checks the chain and the name")
	}
	if given["ssl_max_protocol_version"] == "TLSv1.2" {
		notes = append(notes, "ssl_max_protocol_version is left out: TLS 1.3 is taken too, where the server has it")
	}
	if given["sslpassword"] != "" {
		notes = append(notes, "sslpassword is not saved: say where the passphrase is with tls-key-secret")
	}
	mode := given["sslmode"]
	switch {
	case given["sslrootcert"] == "system":
		keys["tls-ca"] = ""
		verify("sslrootcert=system is the system's authorities")
	case mode == "verify-ca":
		verify("sslmode=verify-ca checks only the chain, which no rule does")
	case given["channel_binding"] == "require" && mode != "verify-full":
		verify("channel_binding=require asks for the right server")
	case mode == "require" && given["sslrootcert"] != "":
		verify("sslmode=require with sslrootcert checks the chain")
	}
	return keys, notes
}

// variables are those of libpq (PostgreSQL documentation, "Environment Variables") and those that the
// official image declares.
var variables = []engine.Family{
	{
		Names: map[string]string{
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

			"PGCHANNELBINDING": "channel_binding", "PGREQUIREPEER": "requirepeer", "PGREQUIREAUTH": "require_auth",
			"PGSSLCRL": "sslcrl", "PGSSLCRLDIR": "sslcrldir", "PGSSLNEGOTIATION": "sslnegotiation",
			"PGSSLMINPROTOCOLVERSION": "ssl_min_protocol_version",
			"PGSSLMAXPROTOCOLVERSION": "ssl_max_protocol_version",
			"PGGSSENCMODE":            "gssencmode",
		},
		Prefix: "PG",
		Least:  []string{"PGHOST", "PGHOSTADDR", "PGDATABASE", "PGUSER"},
	},
	{
		Names: map[string]string{
			"POSTGRES_HOST":     "host",
			"POSTGRES_PORT":     "port",
			"POSTGRES_DB":       "dbname",
			"POSTGRES_USER":     "user",
			"POSTGRES_PASSWORD": "password",
		},
		Least: []string{"POSTGRES_HOST", "POSTGRES_DB", "POSTGRES_USER"},
	},
}

// usualPasswordPath is the password file that libpq reads.
func usualPasswordPath(lookup engine.Lookup, home string) string {
	return filepath.Join(home, ".pgpass")
}

// readPasswords reads the lines of a password file that name one connection: those without wildcards, except for the
// database.
func readPasswords(path string) ([]engine.Section, error) {
	file, err := atomicfile.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	entries, err := passfile.Entries(file)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	var all []engine.Section
	for _, e := range entries {
		if e.Host == "*" || e.User == "*" || e.Port == "*" {
			continue
		}
		pairs := [][2]string{{"host", e.Host}, {"port", e.Port}, {"user", e.User}, {"password", e.Password}}
		database := e.Database
		if database == "*" {
			database = e.Host
		} else {
			pairs = append(pairs, [2]string{"dbname", e.Database})
		}
		all = append(all, engine.Section{
			Line:   e.Line,
			Pairs:  pairs,
			Origin: fmt.Sprintf("password file %s, line %d", path, e.Line),
			Names:  []string{database, e.User},
			Source: "passfile:" + path,
		})
	}
	return all, nil
}
