// Package mongodb is what is known of MongoDB's servers: they are recognised, and can't be tested yet.
package mongodb

import (
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
)

// Word is the engine's word in a profile.
const Word = "mongodb"

// Spec is the engine.
var Spec = &engine.Spec{
	Word: Word,
	Name: "MongoDB",
	Port: 27017,
	URL:  engine.URL{Scheme: Word, Schemes: []string{Word}},
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
	Local: engine.Local{
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
