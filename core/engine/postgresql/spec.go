package postgresql

import (
	"regexp"
	"strconv"
	"sync"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile/key"
)

// usualPort is the one that IANA has for PostgreSQL.
const usualPort = 5432

// Spec is the engine.
var Spec = &engine.Spec{
	Word:       Word,
	Name:       "PostgreSQL",
	OtherWords: []string{"pgsql", "pg", "psycopg2", "postgis"},
	Port:       usualPort,
	Begin:      Begin,
	Front:      front,
	Statements: statements,
	Provision:  provision,
	Keys: engine.Keys{
		Only:         []key.Name{key.TLSStart},
		UserDatabase: true,
		Notes:        map[key.Name]string{key.Database: "on PostgreSQL the user's name where not set"},
	},
	URL: engine.URL{
		Scheme:     Word,
		Schemes:    []string{Word, "postgres"},
		Parameters: parameters,
		Settle:     settle,
		Pairs:      connectionString,
		Write:      writeURL,
	},
	Sockets: engine.Sockets{
		Prefix: ".s.PGSQL.",
		Usual:  []string{"/var/run/postgresql/.s.PGSQL.*", "/tmp/.s.PGSQL.*"},
	},
	Greeting: &greeting.Greeting{
		Engine:    Word,
		Protocol:  "PostgreSQL's",
		Opening:   sslRequest,
		Recognise: recognise,
		Weak:      true,
	},
	Credentials: passwordFile{},
	Imports: []engine.Import{
		{
			Form:    "service",
			Summary: "PostgreSQL's service file (default ~/.pg_service.conf)",
			Path:    servicePath,
			Read:    readServices,
		},
		{
			Form:    "passfile",
			Summary: "PostgreSQL's password file (default ~/.pgpass): lines without wildcards",
			Path:    usualPasswordPath,
			Read:    readPasswords,
		},
	},
	Variables: variables,
	Services: &engine.ServiceFile{
		Name:       "PostgreSQL's service file",
		Paths:      servicePaths,
		ByVariable: servicePathByVariable,
		Find:       findService,
	},
	Client: engine.Client{
		Variables:   clientVariables,
		Cleared:     []string{"PG"},
		Reads:       []string{"PGPASSFILE", "PGSERVICEFILE", "PGSYSCONFDIR"},
		Driver:      []string{"PG"},
		Password:    "PGPASSWORD",
		Files:       writeFiles,
		Placeholder: "passfile",
		File:        "PostgreSQL's password file",
		Hosts:       true,
		Apart:       true,
		Forms: []engine.Form{
			{
				Word:          "passfile-line",
				What:          "a password file is PostgreSQL's",
				Lines:         func(c *engine.Connection) ([]string, error) { return passwordLines(c), nil },
				NeedsPassword: true,
			},
			{
				Word:         "service",
				What:         "a service file is PostgreSQL's",
				Lines:        serviceLines,
				PasswordLine: func(password string) string { return "password=" + password },
			},
		},
		Programs: engine.Programs{
			Histories: []string{".psql_history"},
			Older:     map[string]int{"psql": 1, "pg_dump": 0, "pg_dumpall": 0, "pg_restore": 1},
			Version: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`\(PostgreSQL\) (\d+)(?:\.\d+)*`)
			}),
			Folders: []string{"/usr/lib/postgresql/*/bin", "/usr/pgsql-*/bin", "/usr/local/pgsql*/bin"},
		},
	},
	Local: engine.LocalInstall{
		Programs: []string{"postgres", "postmaster"},
		Stopped:  clusters,
	},
	Image: &engine.Image{
		Name:      "postgres",
		Marks:     []string{"PG_MAJOR", "PG_VERSION", "PGDATA"},
		Settings:  []string{"POSTGRES_INITDB_", "POSTGRES_HOST_AUTH_METHOD"},
		Shared:    []string{"POSTGRES_"},
		Clients:   []string{"POSTGRES_HOST", "PGHOST"},
		Users:     []engine.Credential{{User: "POSTGRES_USER", Password: "POSTGRES_PASSWORD"}},
		Databases: []string{"POSTGRES_DB"},
		Port:      "PGPORT",
		Root:      "postgres",
		RootPass:  []string{"POSTGRES_PASSWORD"},
		Trust:     map[string]string{"POSTGRES_HOST_AUTH_METHOD": "trust"},
		Checks:    []string{"pg_isready"},
		Folders:   []string{"/var/lib/postgresql/data", "/var/lib/postgresql"},
		Moves:     "PGDATA",
		Log: engine.Log{
			Begins: []string{"starting PostgreSQL", "The files belonging to this database system",
				"database system is shut down", "database system is starting up", "database system was interrupted",
				"redo starts"},
			Ready: []string{"database system is ready to accept connections",
				"database system is ready to accept read-only connections"},
			Fails:     []string{"FATAL:", "PANIC:", "initdb: error", "Error: "},
			Before:    []string{"waiting for server to start"},
			Announced: true,
		},
		Recipe: &engine.Recipe{
			User:     "POSTGRES_USER",
			Password: "POSTGRES_PASSWORD",
			Database: "POSTGRES_DB",
			Check: func(user, database string, port int) []string {
				return []string{"CMD", "pg_isready", "-q", "-h", "127.0.0.1", "-p", strconv.Itoa(port), "-U", user, "-d",
					database}
			},
			Tag: func(major, _ string) string { return major },
		},
	},
	Accounts: engine.Accounts{
		Administrators: []string{"postgres"},
		WeakMethods: map[string]engine.WeakMethod{
			"md5":      {Why: "MD5, which is broken"},
			"password": {Why: "the password in clear text", Clear: true},
		},
	},
	Identity: engine.Identity{Name: "the system identifiers", StartExact: true},
}
