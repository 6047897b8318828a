package mongodb

import (
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/profile/key"
)

// Word is the engine's word in a profile.
const Word = "mongodb"

// Spec is the engine.
var Spec = &engine.Spec{
	Word:       Word,
	Name:       "MongoDB",
	Port:       27017,
	Begin:      Begin,
	Statements: statements,
	Keys: engine.Keys{
		Only: []key.Name{key.AuthDatabase, key.ExpectCollections, key.ExpectIndexes, key.ExpectReplicaSet},
		Idle: map[key.Name]string{
			key.ExpectTables:     "there are collections, and no tables (expect.collections)",
			key.ExpectExtensions: "it has none",
			key.ExpectEncoding:   "all texts are UTF-8 there",
			key.ExpectTimeZone:   "it has none",
		},
		Notes: map[key.Name]string{
			key.AuthDatabase: "admin where not set, $external for a login by certificate",
		},
		OwnAccount: true,
	},
	URL: engine.URL{
		Scheme:     Word,
		Schemes:    []string{Word, Word + "+srv"},
		Means:      map[string]map[key.Name]string{Word + "+srv": {key.TLS: "verified"}},
		SRV:        map[string]string{Word + "+srv": "_mongodb._tcp."},
		Fold:       true,
		Parameters: parameters,
		Settle:     settleURL,
		Write:      writeURL,
	},
	Client: engine.Client{Hosts: true},
	Accounts: engine.Accounts{WeakMethods: map[string]engine.WeakMethod{
		methodSHA1:  {Why: "SCRAM-SHA-1, which keeps an MD5 hash of it"},
		methodPlain: {Why: "the password in clear text", Clear: true},
	}},
	Identity: engine.Identity{Name: "the ids of the servers' processes"},
	Sockets: engine.Sockets{
		Prefix: "mongodb-",
		Suffix: ".sock",
		Usual:  []string{"/tmp/mongodb-*.sock"},
	},
	Greeting: &greeting.Greeting{
		Engine:    Word,
		Protocol:  "MongoDB's",
		Opening:   opening,
		Recognise: recognise,
	},
	Local: engine.LocalInstall{
		Programs: []string{"mongod"},
		Units:    []string{"mongod"},
	},
	Image: &engine.Image{
		Name:      "mongo",
		Marks:     []string{"MONGO_VERSION", "MONGO_MAJOR"},
		Settings:  []string{"MONGO_INITDB_"},
		Clients:   []string{"MONGO_URL", "MONGODB_URI"},
		Users:     []engine.Credential{{User: "MONGO_INITDB_ROOT_USERNAME", Password: "MONGO_INITDB_ROOT_PASSWORD"}},
		Databases: []string{"MONGO_INITDB_DATABASE"},
		Folders:   []string{"/data/db"},
		Log: engine.Log{
			Begins: []string{"MongoDB starting"},
			Ready:  []string{"Waiting for connections"},
			Fails:  []string{`"s":"F"`, `"s":"E"`},
		},
	},
}
