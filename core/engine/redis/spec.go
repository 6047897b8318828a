// Package redis is what is known of Redis' servers: they are recognised, and can't be tested yet.
package redis

import (
	"regexp"
	"sync"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
)

// Word is the engine's word in a profile.
const Word = "redis"

// Spec is the engine.
var Spec = &engine.Spec{
	Word: Word,
	Name: "Redis",
	Port: 6379,
	URL:  engine.URL{Scheme: Word, Schemes: []string{Word}},
	Keys: engine.Keys{OwnAccount: true},
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
		Cleared:  []string{"REDISCLI_"},
		Password: "REDISCLI_AUTH",
		Programs: engine.Programs{
			Older: map[string]int{"redis-cli": 1},
			Version: sync.OnceValue(func() *regexp.Regexp {
				return regexp.MustCompile(`redis-cli (\d+)(?:\.\d+)*`)
			}),
		},
	},
	Local: engine.Local{
		Programs: []string{"redis-server"},
		Units:    []string{"redis-server", "redis"},
	},
	Image: &engine.Image{
		Name:    "redis",
		Marks:   []string{"REDIS_VERSION", "REDIS_DOWNLOAD_URL"},
		Clients: []string{"REDIS_HOST", "REDIS_URL"},
		Folders: []string{"/data"},
		Log: engine.Log{
			Begins: []string{"Redis is starting", "oO0OoO0OoO0Oo"},
			Ready:  []string{"Ready to accept connections"},
			Fails:  []string{"FATAL", "Fatal error", "Bad file format"},
		},
	},
	Accounts: engine.Accounts{Administrators: []string{"default"}},
}
