package demo

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/standin/mongodb"
	"gentleharbor/standin/redis"
)

// The passwords of the document database and the key-value store.
const (
	scribePassword = "godwit-in-the-margin"
	cachePassword  = "turnstone-under-weed"
)

// startStores starts the simulated document database with the station's notes, and the simulated key-value store.
func (s *stage) startStores() (err error) {
	s.notes, err = mongodb.Start(mongodb.Config{Accounts: []mongodb.Account{
		{User: "scribe", Password: scribePassword, Source: "fieldnotes"},
		{User: "registrar", Password: scribePassword, Role: "root"},
	}})
	if err != nil {
		return err
	}
	s.notes.Add("fieldnotes", "note",
		note(1, "North Creek", "dunlin", bson.E{Key: "head_count", Value: 340}),
		note(2, "Shingle Spit", "turnstone", bson.E{Key: "weather", Value: bson.D{{Key: "wind", Value: "NE 4"}}}),
		note(3, "North Creek", "knot", bson.E{Key: "head_count", Value: 1200}))
	s.notes.Add("fieldnotes", "observer", bson.D{{Key: "_id", Value: 1}, {Key: "name", Value: "Observer One"}})
	s.cache, err = redis.Start(redis.Config{
		Saves: true,
		Users: map[string]string{"warden": cachePassword, "registrar": cachePassword},
		Keys: map[string]string{
			"station": "Saltmarsh Bird Observatory", "station:hide": "open", "tide:north-creek": "214", "tide:old-sluice": "187",
		},
	})
	return errors.Join(err, os.WriteFile(filepath.Join(s.home, "scribe"), []byte(scribePassword+"\n"), 0o600),
		os.WriteFile(filepath.Join(s.home, "cache"), []byte(cachePassword+"\n"), 0o600))
}

// storeProfiles are the profiles on both.
func (s *stage) storeProfiles() string {
	return fmt.Sprintf(`
[profile.fieldnotes]
engine        = "mongodb"
host          = "127.0.0.1"
port          = %[1]d
database      = "fieldnotes"
user          = "scribe"
auth-database = "fieldnotes"
secret        = "file:scribe"
tags          = ["local", "field"]

[profile.fieldnotes.expect]
collections = ["note"]

[profile.fieldnotes-admin]
engine   = "mongodb"
host     = "127.0.0.1"
port     = %[1]d
database = "fieldnotes"
user     = "registrar"
secret   = "file:scribe"
tags     = ["local", "admin"]

[profile.cache]
engine   = "redis"
host     = "127.0.0.1"
port     = %[2]d
user     = "warden"
secret   = "file:cache"
tags     = ["local", "field"]

[profile.cache.expect]
keys       = ["station*"]
persistent = true

[profile.cache-admin]
engine   = "redis"
host     = "127.0.0.1"
port     = %[2]d
user     = "registrar"
secret   = "file:cache"
tags     = ["local", "admin"]
`, s.notes.Port(), s.cache.Port())
}

// note is a document.
func note(id int, place, species string, more ...bson.E) bson.D {
	d := bson.D{{Key: "_id", Value: id}, {Key: "place", Value: place}, {Key: "species", Value: species}}
	return append(d, more...)
}

// fieldnotes shows a document database.
func fieldnotes(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	file := filepath.Join(s.home, "autumn.jsonl")
	text := `{"place":"The Lagoon","species":"avocet","head_count":88,"at":{"$date":"2026-11-01T07:10:00Z"}}` + "\n" +
		`{"place":"Old Sluice","species":"redshank","head_count":41,"at":{"$date":"2026-11-01T07:55:00Z"}}` + "\n"
	if s.failed = os.WriteFile(file, []byte(text), 0o600); s.failed != nil {
		return
	}
	s.step("An account belongs to the database that it was made in. The server does not say that this is "+
		"what is wrong.", 1,
		"test", "fieldnotes", "-override", "auth-database=")
	s.step("An administrator's profile looks it up.", 1, "test", "fieldnotes", "-override", "auth-database=", "-as",
		"fieldnotes-admin")
	s.step("The profile has it right.", 0, "test", "fieldnotes")
	s.step("A database that does not exist yet: the first write would make it.", 0, "test", "fieldnotes", "-override",
		"database=fieldnote", "-override", "expect.collections=")
	s.step("A command is a document.", 0, "query", "fieldnotes", `{"find":"note","filter":{"place":"North Creek"}}`)
	s.step("A value is sent as a text, and never becomes a part of the command.", 0, "query", "fieldnotes", "-let",
		"place=Shingle Spit", `{"find":"note","filter":{"place":"{place}"}}`)
	s.step("Load documents, one on a line.", 0, "load", "fieldnotes", file, "-collection", "note")
	s.step("Look around.", 0, "browse", "fieldnotes")
	s.step("Which fields do the notes have?", 0, "browse", "fieldnotes", "fields", "note", "-format", "table")
}

// showCache shows a key-value store.
func showCache(s *stage) {
	if s.failed = s.profiles(); s.failed != nil {
		return
	}
	s.step("Without a password: the server gives one answer for several causes.", 1, "test", "cache", "-override",
		"secret=none")
	s.step("With the profile's.", 0, "test", "cache")
	s.step("A database has a number, and the server says how many there are.", 1, "test", "cache", "-override",
		"database=99")
	s.step("One command on a line.", 0, "query", "cache", "GET station")
	s.step("A value is an argument of its own.", 0, "query", "cache", "-let", "key=tide:north-creek", "GET {key}")
	s.step("Which keys are there?", 0, "browse", "cache", "keys", "-format", "table")
	s.step("A guard asks before whole keys are removed.", 2, "query", "cache", "-override", "guard=ask", "DEL station")
}
