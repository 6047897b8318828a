package redis

import (
	"regexp"
	"sync"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile/key"
)

// Word is the engine's word in a profile.
const Word = "redis"

// Spec is the engine.
var Spec = &engine.Spec{
	Word:       Word,
	Name:       "Redis",
	OtherWords: []string{"valkey"},
	Port:       6379,
	Begin:      Begin,
	Statements: statements,
	Provision:  provision,
	Monitor:    primaryOf,
	Keys: engine.Keys{
		Only: []key.Name{key.ExpectKeys, key.ExpectPersistent},
		Idle: map[key.Name]string{
			key.ExpectTables:     "there are keys, and no tables (expect.keys)",
			key.ExpectExtensions: "it has none",
			key.ExpectEncoding:   "texts are bytes there",
			key.ExpectCollation:  "texts are bytes there",
			key.ExpectTimeZone:   "it has none",
		},
		Notes:      map[key.Name]string{key.Database: "a number on redis, 0 where not set"},
		OwnAccount: true,
	},
	URL: engine.URL{
		Scheme:     Word,
		Schemes:    []string{Word, "rediss"},
		Means:      map[string]map[key.Name]string{"rediss": {key.TLS: "verified"}},
		Parameters: parameters,
		Write:      writeURL,
	},
	Variables: variables,
	Sockets: engine.Sockets{
		Names: []string{"redis.sock", "redis-server.sock"},
		Usual: []string{"/var/run/redis/redis*.sock"},
	},
	Greeting: &greeting.Greeting{
		Engine:    Word,
		Protocol:  "Redis', HTTP's",
		Opening:   opening,
		Recognise: recognise,
	},
	Client: engine.Client{
		Variables: clientVariables,
		Cleared:   []string{"REDISCLI_", "REDIS_"},
		Password:  "REDISCLI_AUTH",
		Programs: engine.Programs{
			Histories: []string{".rediscli_history"},
			Spelled: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`\bredis-cli\b[^|;]*\s(?:-a|--pass)\s+\S`)
			}),
			Older: map[string]int{"redis-cli": 1},
			Version: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`redis-cli (\d+)(?:\.\d+)*`)
			}),
		},
	},
	Local: engine.LocalInstall{
		Programs: []string{"redis-server"},
		Units:    []string{"redis-server", "redis"},
	},
	Image: &engine.Image{
		Name:     "redis",
		Marks:    []string{"REDIS_VERSION", "REDIS_DOWNLOAD_URL"},
		Clients:  []string{"REDIS_HOST", "REDIS_URL"},
		Shared:   []string{userVariable, passwordVariable},
		Users:    []engine.Credential{{User: userVariable, Password: passwordVariable}},
		Root:     defaultUser,
		RootPass: []string{passwordVariable},
		Folders:  []string{"/data"},
		Recipe:   recipe,
		Log: engine.Log{
			Begins: []string{"Redis is starting", "oO0OoO0OoO0Oo"},
			Ready:  []string{"Ready to accept connections"},
			Fails:  []string{"FATAL", "Fatal error", "Bad file format"},
		},
	},
	Accounts: engine.Accounts{
		Administrators: []string{defaultUser},
		WeakMethods:    map[string]engine.WeakMethod{},
	},
	Identity: engine.Identity{Name: "the run ids"},
}
