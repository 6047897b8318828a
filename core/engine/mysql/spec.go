package mysql

import (
	"regexp"
	"strconv"
	"strings"
	"sync"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile/key"
)

// family is the word that both engines share: they speak one protocol.
const family = Word

// Spec is the engine for MySQL.
var Spec = &engine.Spec{
	Word:       Word,
	Name:       "MySQL",
	Family:     family,
	OtherWords: []string{"mysql2", "mysqli", "pymysql"},
	Port:       usualPort,
	Begin:      Begin(Word),
	Front:      front,
	Statements: statements,
	Provision:  provision,
	Keys:       keys,
	URL: engine.URL{
		Scheme:     Word,
		Schemes:    []string{Word},
		Parameters: parameters,
		Write:      writeURL,
	},
	Sockets: engine.Sockets{
		Names:     socketNames,
		Usual:     []string{"/var/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"},
		Localhost: true,
	},
	Greeting: &greeting.Greeting{
		Engine:    Word,
		Recognise: recognise,
	},
	Credentials: optionFiles{groups: []string{"client"}},
	Imports: []engine.Import{{
		Form:    "optionfile",
		Summary: "an option file of MySQL or MariaDB (default ~/.my.cnf): its groups",
		Path:    func(_ engine.Lookup, home string) string { return ownFile(home) },
		Read:    readOptions,
	}},
	Variables: variables,
	Client:    client,
	Local: engine.LocalInstall{
		Programs: []string{"mysqld", "mariadbd"},
		Units:    []string{"mysql", "mysqld"},
	},
	Image: &engine.Image{
		Name:      "mysql",
		Marks:     []string{"MYSQL_VERSION", "MYSQL_MAJOR"},
		Settings:  []string{"MYSQL_ROOT_", "MYSQL_RANDOM_ROOT_", "MYSQL_ALLOW_EMPTY_"},
		Shared:    []string{"MYSQL_"},
		Clients:   []string{"MYSQL_HOST"},
		Users:     []engine.Credential{{User: "MYSQL_USER", Password: "MYSQL_PASSWORD"}},
		Databases: []string{"MYSQL_DATABASE"},
		Port:      "MYSQL_TCP_PORT",
		Root:      "root",
		RootPass:  []string{"MYSQL_ROOT_PASSWORD"},
		Trust:     map[string]string{"MYSQL_ALLOW_EMPTY_PASSWORD": ""},
		Made:      []string{"MYSQL_RANDOM_ROOT_PASSWORD"},
		Checks:    healthChecks,
		Folders:   dataFolders,
		Log:       serverLog,
		Recipe: &engine.Recipe{
			RootPass: "MYSQL_ROOT_PASSWORD",
			User:     "MYSQL_USER",
			Password: "MYSQL_PASSWORD",
			Database: "MYSQL_DATABASE",
			Check:    pingBy("mysqladmin"),
			Tag:      majorAndMinor,
		},
	},
	Accounts: accounts,
	Identity: engine.Identity{Name: "the server_uuid"},
}

// MariaDBSpec is the engine for MariaDB.
var MariaDBSpec = &engine.Spec{
	Word:       MariaDB,
	Name:       "MariaDB",
	Family:     family,
	Port:       usualPort,
	Begin:      Begin(MariaDB),
	Front:      front,
	Statements: statements,
	Provision:  provision,
	Keys:       keys,
	URL: engine.URL{
		Scheme:     Word, // the one that libraries read
		Schemes:    []string{MariaDB},
		Parameters: parameters,
		Write:      writeURL,
	},
	Sockets:     engine.Sockets{Names: socketNames, Localhost: true},
	Credentials: optionFiles{groups: []string{"client", "client-server", "client-mariadb"}},
	Variables:   mariadbVariables,
	Client:      client,
	Local: engine.LocalInstall{
		Programs: []string{"mariadbd", "mysqld"},
		Units:    []string{"mariadb"},
	},
	Image: &engine.Image{
		Name:     "mariadb",
		Marks:    []string{"MARIADB_VERSION"},
		Settings: []string{"MARIADB_ROOT_", "MARIADB_RANDOM_ROOT_", "MARIADB_ALLOW_EMPTY_"},
		Shared:   []string{"MARIADB_"},
		Clients:  []string{"MARIADB_HOST"},
		Users: []engine.Credential{
			{User: "MARIADB_USER", Password: "MARIADB_PASSWORD"},
			{User: "MYSQL_USER", Password: "MYSQL_PASSWORD"},
		},
		Databases: []string{"MARIADB_DATABASE", "MYSQL_DATABASE"},
		Port:      "MYSQL_TCP_PORT",
		Root:      "root",
		RootPass:  []string{"MARIADB_ROOT_PASSWORD", "MYSQL_ROOT_PASSWORD"},
		Trust: map[string]string{
			"MARIADB_ALLOW_EMPTY_ROOT_PASSWORD": "",
			"MYSQL_ALLOW_EMPTY_PASSWORD":        "",
		},
		Made:    []string{"MARIADB_RANDOM_ROOT_PASSWORD", "MYSQL_RANDOM_ROOT_PASSWORD"},
		Instead: engine.ImageSigns{Image: "mariadb", Variables: "MYSQL_"},
		Checks:  healthChecks,
		Folders: dataFolders,
		Log:     mariadbLog(),
		Recipe: &engine.Recipe{
			RootPass: "MARIADB_ROOT_PASSWORD",
			User:     "MARIADB_USER",
			Password: "MARIADB_PASSWORD",
			Database: "MARIADB_DATABASE",
			Check:    pingBy("mariadb-admin"),
			Tag:      majorAndMinor,
		},
	},
	Accounts: accounts,
	Identity: engine.Identity{
		Name:   "the server_uid",
		Shared: "MariaDB computes it from the network card and the port, which containers may share",
	},
}

// usualPort is that of both engines.
const usualPort = 3306

var (
	keys = engine.Keys{
		Only:  []key.Name{key.ServerKey, key.ExpectSQLMode},
		Notes: map[key.Name]string{key.ExpectExtensions: "plugins on MySQL and MariaDB"},
	}
	socketNames = []string{"mysqld.sock", "mysql.sock", "mariadb.sock"}
	dataFolders = []string{"/var/lib/mysql"}

	client = engine.Client{
		Variables:   clientVariables,
		Extra:       extraVariables,
		Cleared:     []string{"MYSQL_", "MARIADB_"},
		Reads:       []string{"MYSQL_HOME"},
		Password:    "MYSQL_PWD",
		Files:       writeFiles,
		Placeholder: "optionfile",
		File:        "MySQL's option file",
		Overruled:   ownOptionFile,
		Programs: engine.Programs{
			Histories: []string{".mysql_history", ".mariadb_history"},
			Spelled: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`\b(?:mysql|mariadb)[\w-]*\b[^|;]*\s(?:-p[^\s-]|--password=\S)`)
			}),
			Older: map[string]int{"mysql": 1, "mysqldump": 1, "mariadb": 1, "mariadb-dump": 1},
			Version: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`(?:from |Distrib |^mysql\S*  Ver )(\d+)(?:\.\d+)*`)
			}),
			SameServer: func(said, server string) bool {
				return strings.Contains(said, "MariaDB") == strings.Contains(server, "MariaDB")
			},
			Folders: []string{"/usr/local/mysql*/bin", "/usr/local/mariadb*/bin"},
		},
	}

	accounts = engine.Accounts{
		Administrators: []string{"root", "mysql"},
		WeakMethods: map[string]engine.WeakMethod{
			"mysql_clear_password": {Why: "the password in clear text", Clear: true},
			"mysql_native_password": {
				Why:     "a SHA-1 hash: a person who reads it on the server can log in with it",
				Default: true,
			},
			"mysql_old_password": {Why: "a broken method"},
		},
	}

	serverLog = engine.Log{
		Begins: []string{"Entrypoint script for", "Starting temporary server", "Initializing database",
			"starting as process", "Stopping temporary server", "Shutdown complete"},
		Ready:  []string{"ready for connections"},
		Fails:  []string{"[ERROR]", "mysqld got signal", "mariadbd got signal"},
		Before: []string{"port: 0"},
		Skip:   "X Plugin", // it says of itself that it is ready
	}
)

// mariadbLog is serverLog for a server that says its port in the line behind the one of being ready.
func mariadbLog() engine.Log {
	log := serverLog
	log.PortBehind = true
	return log
}

// pingBy is a command that asks a server whether it answers, which needs no account. It uses TCP: while an image
// prepares its data, its server has only a socket.
func pingBy(program string) func(user, database string, port int) []string {
	return func(_, _ string, port int) []string {
		return []string{"CMD", program, "ping", "--silent", "-h", "127.0.0.1", "-P", strconv.Itoa(port)}
	}
}

// majorAndMinor is the tag of an image for a server's version.
func majorAndMinor(major, minor string) string {
	if minor == "" {
		return major
	}
	return major + "." + minor
}

// healthChecks are the programs by which the images' documentation has a health check ask the server.
var healthChecks = []string{"mysqladmin", "mariadb-admin", "healthcheck.sh"}
