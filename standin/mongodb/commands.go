package mongodb

import (
	"cmp"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// firstBatch is how many documents an answer has before a cursor gives the rest.
const firstBatch = 101

// answer answers a command. nil ends the connection.
func (c *client) answer(command bson.D) (answer bson.D, goesOn bool) {
	if len(command) == 0 {
		return nil, false
	}
	name, database := command[0].Key, textOf(command, "$db")
	switch name {
	case "hello", "isMaster", "ismaster":
		switch c.Fault {
		case OldHello:
			if name == "hello" {
				return refuse(59, "CommandNotFound", "no such command: 'hello'"), true
			}
		case Starting:
			return refuse(13436, "NotPrimaryOrSecondary", "node is recovering"), true
		case Stopping:
			return refuse(91, "ShutdownInProgress", "the server is in quiesce mode and will shut down"), true
		case Limited:
			return refuse(462, "IngressRequestRateLimitExceeded", "Request rejected"), true
		case Escape:
			return refuse(2, "BadValue", "\x1b[31mred\x1b[0m and \u202eturned"), true
		}
		return c.hello(command), true
	case "saslStart", "saslContinue", "authenticate":
		return c.login(name, command, database)
	case "buildInfo":
		switch c.Fault {
		case LoseSession:
			return nil, false
		case HangSession:
			io.Copy(io.Discard, c.conn)
			return nil, false
		}
		answer := bson.D{
			{Key: "version", Value: c.Version},
			{Key: "gitVersion", Value: "a1b2"},
			{Key: "storageEngines", Value: bson.A{"devnull", "wiredTiger"}},
		}
		if c.Name != "" {
			answer = append(answer, bson.E{Key: c.Name, Value: bson.D{{Key: "version", Value: "v2.1.0"}}})
		}
		return ok(answer...), true
	case "ping":
		return ok(), true
	case "connectionStatus":
		return c.status(), true
	}
	if c.user == nil && !c.Open {
		return refuse(13, "Unauthorized", "Command "+name+" requires authentication"), true
	}
	if c.Fault == NoRights && database != "admin" {
		return refuse(13, "Unauthorized", "not authorized on "+database+" to execute command"), true
	}
	if strings.ContainsAny(database, " $\"") {
		return refuse(73, "InvalidNamespace", "Invalid namespace specified '"+database+"'"), true
	}
	if name == "killOp" {
		select {
		case c.killed <- struct{}{}:
		default:
		}
		return ok(), true
	}
	if hasKey(documentOf(command, "filter"), "$where") { // it waits to be killed
		select {
		case <-c.killed:
		case <-time.After(10 * time.Second):
		}
		return refuse(11601, "Interrupted", "operation was interrupted"), true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.carryOut(name, command, database), true
}

// login answers the commands of a login.
func (c *client) login(name string, command bson.D, database string) (bson.D, bool) {
	switch c.Fault {
	case CloseAtLogin:
		return nil, false
	case HangAtLogin:
		io.Copy(io.Discard, c.conn)
		return nil, false
	}
	switch {
	case name == "saslStart":
		return c.begin(command, database), true
	case name == "saslContinue" && c.talk != nil && !c.talk.Done():
		return c.step(bytesOf(command, "payload")), true
	case name == "saslContinue" && c.talk != nil:
		return ok(bson.E{Key: "done", Value: true}, bson.E{Key: "payload", Value: bson.Binary{}}), true
	}
	for i := range c.Accounts {
		if c.Accounts[i].method() == "MONGODB-X509" {
			c.user = &c.Accounts[i]
			return ok(bson.E{Key: "user", Value: c.user.User}), true
		}
	}
	return refuse(18, "AuthenticationFailed", "Authentication failed."), true
}

// status answers connectionStatus.
func (c *client) status() bson.D {
	users, roles, rights := bson.A{}, bson.A{}, bson.A{}
	if a := c.user; a != nil {
		role, source := a.Role, a.Source
		if role == "" {
			role = "readWrite"
		}
		if source == "" {
			source = "admin"
		}
		on := "fieldnotes"
		if role == "root" {
			on = "admin"
		}
		if c.Fault == NoRights {
			on = "tides"
		}
		users = bson.A{bson.D{{Key: "user", Value: a.User}, {Key: "db", Value: source}}}
		roles = bson.A{bson.D{{Key: "role", Value: role}, {Key: "db", Value: on}}}
		rights = bson.A{bson.D{
			{Key: "resource", Value: bson.D{{Key: "db", Value: on}, {Key: "collection", Value: ""}}},
			{Key: "actions", Value: bson.A{"find", "insert", "update", "remove"}},
		}}
	}
	return ok(bson.E{Key: "authInfo", Value: bson.D{
		{Key: "authenticatedUsers", Value: users}, {Key: "authenticatedUserRoles", Value: roles},
		{Key: "authenticatedUserPrivileges", Value: rights},
	}})
}

// carryOut answers a command on documents, or about the server.
func (c *client) carryOut(name string, command bson.D, database string) bson.D {
	collection := textOf(command, name)
	ns := database + "." + collection
	switch name {
	case "listDatabases":
		all := bson.A{}
		for _, d := range append(sortedKeys(c.databases), "admin", "local") {
			all = append(all, bson.D{{Key: "name", Value: d}, {Key: "sizeOnDisk", Value: 40960 * (1 + len(c.databases[d]))}})
		}
		return ok(bson.E{Key: "databases", Value: all})
	case "listCollections":
		var all []bson.D
		wanted := textOf(documentOf(command, "filter"), "name")
		for _, n := range sortedKeys(c.databases[database]) {
			if wanted == "" || n == wanted {
				all = append(all, bson.D{{Key: "name", Value: n}, {Key: "type", Value: "collection"}})
			}
		}
		return c.open(database+".$cmd.listCollections", all, firstBatch)
	case "listIndexes":
		if c.databases[database][collection] == nil {
			return refuse(26, "NamespaceNotFound", "ns does not exist: "+ns)
		}
		return c.open(ns, []bson.D{
			{
				{Key: "v", Value: 2},
				{Key: "key", Value: bson.D{{Key: "_id", Value: 1}}},
				{Key: "name", Value: "_id_"},
			},
			{
				{Key: "v", Value: 2},
				{Key: "key", Value: bson.D{{Key: "place", Value: 1}, {Key: "at", Value: -1}}},
				{Key: "name", Value: "place_1_at_-1"},
			},
		}, firstBatch)
	case "collStats":
		n := len(c.databases[database][collection])
		return ok(
			bson.E{Key: "count", Value: n},
			bson.E{Key: "size", Value: 120 * n},
			bson.E{Key: "storageSize", Value: 20480},
			bson.E{Key: "totalIndexSize", Value: 40960},
			bson.E{Key: "indexSizes", Value: bson.D{{Key: "_id_", Value: 20480}}},
		)
	case "usersInfo":
		return c.users(documentOf(command, "filter"))
	case "serverStatus":
		return ok(
			bson.E{Key: "host", Value: "notes.saltmarsh.example:27017"},
			bson.E{Key: "uptimeMillis", Value: int64(7_200_000)},
			bson.E{Key: "storageEngine", Value: bson.D{{Key: "name", Value: "wiredTiger"}, {Key: "persistent", Value: true}}},
		)
	case "getDefaultRWConcern":
		return ok(bson.E{Key: "defaultReadConcern", Value: bson.D{{Key: "level", Value: "local"}}})
	case "getParameter":
		return ok(bson.E{Key: "quiet", Value: false}, bson.E{Key: "logLevel", Value: 0})
	case "currentOp":
		return ok(bson.E{Key: "inprog", Value: bson.A{bson.D{
			{Key: "connectionId", Value: c.number},
			{Key: "active", Value: true},
			{Key: "client", Value: "127.0.0.1:50123"},
			{Key: "ns", Value: "fieldnotes.note"},
			{Key: "secs_running", Value: 1},
			{Key: "command", Value: bson.D{{Key: "find", Value: "note"}}},
		}}})
	case "aggregate":
		return c.aggregate(command, database)
	case "killCursors":
		return ok()
	}
	return c.documents(name, command, database, collection)
}

// aggregate answers a test's pipelines: samples, and running operations.
func (c *client) aggregate(command bson.D, database string) bson.D {
	collection := textOf(command, "aggregate")
	stages := listOf(command, "pipeline")
	if len(stages) > 0 {
		if first, is := stages[0].(bson.D); is && hasKey(first, "$currentOp") {
			operation := bson.D{{Key: "opid", Value: 77}, {Key: "connectionId", Value: c.number}}
			return c.open("admin.$cmd.aggregate", []bson.D{operation}, firstBatch)
		}
	}
	all := slices.Clone(c.databases[database][collection])
	for _, one := range stages {
		stage, _ := one.(bson.D)
		if len(stage) != 1 {
			return refuse(40323, "Location40323", "A pipeline stage specification object must contain exactly one field.")
		}
		switch value := stage[0].Value; stage[0].Key {
		case "$match":
			condition, _ := value.(bson.D)
			if unknown := unknownOperator(condition); unknown != "" {
				return refuse(2, "BadValue", "unknown operator: "+unknown)
			}
			all = slices.DeleteFunc(all, func(d bson.D) bool { return !fits(d, condition) })
		case "$sample":
			size, _ := value.(bson.D)
			all = all[:min(len(all), max(0, intOf(size, "size", 0)))]
		case "$limit":
			all = all[:min(len(all), max(0, intOf(stage, "$limit", 0)))]
		default:
			return refuse(40324, "Location40324", "Unrecognized pipeline stage name: '"+stage[0].Key+"'")
		}
	}
	return c.open(database+"."+collection, all, firstBatch)
}

// documents answers commands on documents.
func (c *client) documents(name string, command bson.D, database, collection string) bson.D {
	all := c.databases[database][collection]
	switch name {
	case "find":
		var found []bson.D
		for _, d := range all {
			if fits(d, documentOf(command, "filter")) {
				found = append(found, d)
			}
		}
		if unknown := unknownOperator(documentOf(command, "filter")); unknown != "" {
			return refuse(2, "BadValue", "unknown operator: "+unknown)
		}
		found = found[min(len(found), max(0, intOf(command, "skip", 0))):]
		if most := intOf(command, "limit", 0); most != 0 { // a negative one asks for one batch
			found = found[:min(len(found), max(most, -most))]
		}
		return c.open(database+"."+collection, found, intOf(command, "batchSize", firstBatch))
	case "getMore":
		return c.more(command)
	case "count":
		n := 0
		for _, d := range all {
			if fits(d, documentOf(command, "query")) {
				n++
			}
		}
		return ok(bson.E{Key: "n", Value: n})
	case "distinct":
		values := bson.A{}
		for _, d := range all {
			for _, e := range d {
				known := func(v any) bool { return reflect.DeepEqual(v, e.Value) }
				if e.Key == textOf(command, "key") && !slices.ContainsFunc(values, known) {
					values = append(values, e.Value)
				}
			}
		}
		return ok(bson.E{Key: "values", Value: values})
	case "insert":
		return c.insert(listOf(command, "documents"), database, collection)
	case "delete":
		n := 0
		for _, one := range listOf(command, "deletes") {
			condition := documentOf(one.(bson.D), "q")
			c.databases[database][collection] = slices.DeleteFunc(c.databases[database][collection], func(d bson.D) bool {
				if !fits(d, condition) {
					return false
				}
				n++
				return true
			})
		}
		return ok(bson.E{Key: "n", Value: n})
	case "update":
		return ok(bson.E{Key: "n", Value: 1}, bson.E{Key: "nModified", Value: 1})
	case "drop":
		if all == nil {
			return refuse(26, "NamespaceNotFound", "ns not found")
		}
		delete(c.databases[database], collection)
		return ok(bson.E{Key: "ns", Value: database + "." + collection})
	}
	return refuse(59, "CommandNotFound", "no such command: '"+name+"'")
}

// insert adds documents. It stops at an _id that exists already.
func (c *client) insert(documents bson.A, database, collection string) bson.D {
	n := 0
	for i, one := range documents {
		d := one.(bson.D)
		at := slices.IndexFunc(d, func(e bson.E) bool { return e.Key == "_id" })
		for _, other := range c.databases[database][collection] {
			if at >= 0 && fits(other, bson.D{d[at]}) {
				return ok(bson.E{Key: "n", Value: n}, bson.E{Key: "writeErrors", Value: bson.A{bson.D{
					{Key: "index", Value: i},
					{Key: "code", Value: 11000},
					{Key: "errmsg", Value: "E11000 duplicate key error collection"},
				}}})
			}
		}
		c.add(database, collection, d)
		n++
	}
	return ok(bson.E{Key: "n", Value: n})
}

// intOf is a number in a command, such as its batch size.
func intOf(command bson.D, name string, usual int) int {
	for _, e := range command {
		if n, is := number(e.Value); is && e.Key == name {
			return int(n)
		}
	}
	return usual
}

// open returns the first documents of an answer, and keeps the others.
func (c *client) open(ns string, all []bson.D, most int) bson.D {
	var id int64
	first := all[:min(len(all), most)]
	if rest := all[len(first):]; len(rest) > 0 || c.Fault == EndlessCursor {
		c.lastID++
		id = c.lastID
		c.cursors[id] = &cursor{ns, rest}
	}
	return batch(id, ns, "firstBatch", first)
}

// batch is an answer with documents of a cursor.
func batch(id int64, ns, name string, documents []bson.D) bson.D {
	return ok(bson.E{Key: "cursor", Value: bson.D{
		{Key: "id", Value: id}, {Key: "ns", Value: ns}, {Key: name, Value: listArray(documents)},
	}})
}

func listArray(all []bson.D) bson.A {
	list := bson.A{}
	for _, d := range all {
		list = append(list, d)
	}
	return list
}

// more gives the next documents of a cursor.
func (c *client) more(command bson.D) bson.D {
	var id int64
	for _, e := range command {
		if n, is := e.Value.(int64); is && e.Key == "getMore" {
			id = n
		}
	}
	open := c.cursors[id]
	if open == nil {
		return refuse(43, "CursorNotFound", fmt.Sprintf("cursor id %d not found", id))
	}
	next := open.rest[:min(len(open.rest), intOf(command, "batchSize", firstBatch))]
	open.rest = open.rest[len(next):]
	if len(open.rest) == 0 && c.Fault != EndlessCursor {
		delete(c.cursors, id)
		id = 0
	}
	return batch(id, open.ns, "nextBatch", next)
}

// fits reports whether a document fits a condition.
func fits(d, condition bson.D) bool {
	for _, want := range condition {
		i := slices.IndexFunc(d, func(e bson.E) bool { return e.Key == want.Key })
		operators, is := want.Value.(bson.D)
		switch {
		case i < 0:
			return false
		case !is || !isOperator(operators):
			if compare(d[i].Value, want.Value) != 0 {
				return false
			}
		default:
			for _, o := range operators {
				if test := operatorsKnown[o.Key]; test == nil || !test(compare(d[i].Value, o.Value)) {
					return false
				}
			}
		}
	}
	return true
}

// operatorsKnown are the comparisons that this server knows, by the result of compare.
var operatorsKnown = map[string]func(int) bool{
	"$eq":  func(n int) bool { return n == 0 },
	"$ne":  func(n int) bool { return n != 0 },
	"$gt":  func(n int) bool { return n == 1 },
	"$gte": func(n int) bool { return n == 0 || n == 1 },
	"$lt":  func(n int) bool { return n == -1 },
	"$lte": func(n int) bool { return n == 0 || n == -1 },
}

// isOperator reports whether a document has operators.
func isOperator(d bson.D) bool { return len(d) > 0 && strings.HasPrefix(d[0].Key, "$") }

// unknownOperator is the first operator of a filter that this server does not know.
func unknownOperator(filter bson.D) string {
	for _, e := range filter {
		if strings.HasPrefix(e.Key, "$") {
			return e.Key
		}
		if inner, is := e.Value.(bson.D); is && isOperator(inner) {
			for _, o := range inner {
				if operatorsKnown[o.Key] == nil {
					return o.Key
				}
			}
		}
	}
	return ""
}

// compare orders two numbers or two texts; 2 for values that differ and have no order.
func compare(a, b any) int {
	x, isX := number(a)
	y, isY := number(b)
	s, isS := a.(string)
	t, isT := b.(string)
	switch {
	case isX && isY:
		return cmp.Compare(x, y)
	case isS && isT:
		return cmp.Compare(s, t)
	case reflect.DeepEqual(a, b):
		return 0
	}
	return 2
}

// number is a value as a number.
func number(v any) (float64, bool) {
	switch n := v.(type) {
	case int:
		return float64(n), true
	case int32:
		return float64(n), true
	case int64:
		return float64(n), true
	case float64:
		return n, true
	}
	return 0, false
}

// users answers usersInfo.
func (c *client) users(filter bson.D) bson.D {
	if c.user != nil && c.user.Role != "root" {
		return refuse(13, "Unauthorized", "not authorized on admin to execute command { usersInfo }")
	}
	all := bson.A{}
	for _, a := range c.Accounts {
		if wanted := textOf(filter, "user"); wanted != "" && wanted != a.User {
			continue
		}
		source := a.Source
		if source == "" {
			source = "admin"
		}
		all = append(all, bson.D{
			{Key: "user", Value: a.User}, {Key: "db", Value: source}, {Key: "mechanisms", Value: bson.A{a.method()}},
			{Key: "roles", Value: bson.A{bson.D{{Key: "role", Value: "readWrite"}, {Key: "db", Value: "fieldnotes"}}}},
		})
	}
	return ok(bson.E{Key: "users", Value: all})
}

func sortedKeys[T any](m map[string]T) []string {
	var all []string
	for name := range m {
		all = append(all, name)
	}
	slices.Sort(all)
	return all
}
