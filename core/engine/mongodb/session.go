package mongodb

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/probe"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/key"
)

// usualDatabase is the one of a connection that names none.
const usualDatabase = "test"

// maxDatabases bounds the databases that are read from a server.
const maxDatabases = 10_000

// Database reports whether the database exists, and whether this login may use it.
func (c *conversation) Database(ctx context.Context) finding.Result {
	c.facts.Database = c.to.Database
	if c.facts.Database == "" {
		c.facts.Database = usualDatabase
	}
	name := c.facts.Database
	_, err := c.ask(ctx, name, bson.D{{Key: "listCollections", Value: 1}, {Key: "nameOnly", Value: true}})
	var refused *refusal
	switch {
	case errors.As(err, &refused) && refused.number == 73: // InvalidNamespace
		return finding.FailWith(finding.New(finding.DatabaseMissing, "no database can have the name %s", clean.Quote(name)).
			Saw("%s", refused.text()).SuggestValues(c.to.Profile, "database", nil))
	case errors.As(err, &refused) && refused.means() == meansNoRight:
		may, err := c.mayUse(ctx, name)
		if err != nil {
			return finding.FailWith(c.explainLoss(err))
		}
		if !may {
			return finding.FailWith(c.noAccess(refused))
		}
	case err != nil:
		return finding.FailWith(c.explainLoss(err))
	}
	all, known, err := c.listDatabases(ctx)
	switch {
	case err != nil:
		return finding.FailWith(c.explainLoss(err))
	case !known:
		return finding.Good("%s", clean.Line(name, 60))
	}
	c.facts.Settings = append(c.facts.Settings, fmt.Sprintf("%d databases are visible", len(all)))
	if slices.Contains(all, name) {
		return finding.Good("%s", clean.Line(name, 60))
	}
	if c.to.Database == "" {
		return finding.Good("none named, so %s", usualDatabase)
	}
	found := finding.New(finding.DatabaseNotYet, "there is no database %s yet: the first write makes it",
		clean.Quote(name))
	near := nearest.Names(name, all, 3)
	if len(near) > 0 {
		found.Saw("similar names that exist: %s", clean.Quote(strings.Join(near, ", "))).SuggestValues(c.to.Profile,
			"database", near)
	} else {
		found.Saw("this login sees %d databases, and none has a similar name", len(all))
		found.Suggest("gharbor browse %s databases   # those that are there", c.to.Profile)
	}
	return finding.WarnWith(found, "%s, which is not there yet", clean.Line(name, 60))
}

// listDatabases returns the names of the databases that this login sees. known is false where it may not list them.
func (c *conversation) listDatabases(ctx context.Context) (names []string, known bool, err error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "listDatabases", Value: 1}, {Key: "nameOnly", Value: true}})
	var refused *refusal
	if errors.As(err, &refused) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	for _, database := range items(answer, "databases") {
		if len(names) < maxDatabases {
			names = append(names, text(database, "name"))
		}
	}
	return names, true, nil
}

// mayUse reports whether this login has any right in a database.
func (c *conversation) mayUse(ctx context.Context, name string) (bool, error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "connectionStatus", Value: 1}, {Key: "showPrivileges", Value: true}})
	var refused *refusal
	if errors.As(err, &refused) {
		return true, nil // it is not known
	}
	if err != nil {
		return false, err
	}
	for _, privilege := range items(answer, "authInfo", "authenticatedUserPrivileges") {
		resource, ok := privilege.Lookup("resource").DocumentOK()
		if !ok {
			continue
		}
		database, err := resource.LookupErr("db")
		if any, _ := truth(resource, "anyResource"); any {
			return true, nil
		}
		if s, _ := database.StringValueOK(); err == nil && (s == name || s == "") {
			return true, nil
		}
	}
	return false, nil
}

// noAccess is for a login without rights in the database.
func (c *conversation) noAccess(refused *refusal) *finding.Finding {
	return finding.New(finding.DatabaseNoAccess, "the account %s has no rights in the database %s",
		clean.Quote(c.to.User),
		clean.Quote(c.facts.Database)).
		Saw("%s", refused.text()).
		AsAdmin(c.to.Helping(), `{"grantRolesToUser":%s,"roles":[{"role":"readWrite","db":%s}],"$db":%s}`,
			quoteJSON(c.to.User),
			quoteJSON(c.facts.Database), quoteJSON(c.authDatabase()))
}

// Session reads as whom and on which server the session is.
func (c *conversation) Session(ctx context.Context) finding.Result {
	if err := c.readBuild(ctx); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	c.readRole()
	c.readClock()
	if err := c.readAccount(ctx); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	if err := c.readStatus(ctx); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	if err := c.facts.MeasureTrips(nil, func() error {
		_, err := c.ask(ctx, "admin", bson.D{{Key: "ping",
			Value: 1}})
		return err
	}); err != nil {
		return finding.FailWith(c.explainLoss(err))
	}
	return c.judge()
}

// optional sends a command that the server may refuse; the answer is nil then.
func (c *conversation) optional(ctx context.Context, database string, command bson.D) (bson.Raw, error) {
	answer, err := c.ask(ctx, database, command)
	var refused *refusal
	if errors.As(err, &refused) {
		if found := c.notReady(refused); found == nil {
			return nil, nil
		}
	}
	return answer, err
}

// readBuild reads which server it is, by its own name.
func (c *conversation) readBuild(ctx context.Context) error {
	answer, err := c.optional(ctx, "admin", bson.D{{Key: "buildInfo", Value: 1}})
	if answer == nil {
		return err
	}
	f := &c.facts
	f.Product, f.Version = "MongoDB", clean.Line(text(answer, "version"), 40)
	elements, err := answer.Elements()
	if err != nil {
		return err
	}
	for _, e := range elements { // a compatible server tells of itself under its own name
		name, own := strings.CutSuffix(e.Key(), "Version")
		if s, ok := e.Value().StringValueOK(); ok && own && name != "" && !knownVersion(name) {
			callItself(f, name, s)
		}
		if document, ok := e.Value().DocumentOK(); ok && text(document, "version") != "" && !knownVersion(e.Key()) {
			callItself(f, e.Key(), text(document, "version"))
		}
	}
	if engines := texts(answer, "storageEngines"); len(engines) == 1 {
		f.Settings = append(f.Settings, "storage "+clean.Line(engines[0], 40))
	}
	return nil
}

// callItself takes the name and the version of a compatible server. One that gives no version of its own keeps the
// version with which it is compatible.
func callItself(f *engine.Facts, name, version string) {
	f.Product = clean.Line(name, 40)
	if version = strings.TrimPrefix(version, "v"); version != "" && version[0] >= '0' && version[0] <= '9' {
		f.Version = clean.Line(version, 40)
	}
}

// knownVersion reports whether a name in the answer is that of another part with a version, and not the server's.
func knownVersion(name string) bool {
	return slices.Contains([]string{"git", "js", "openssl", "sys", "loader", "allocator", "buildEnvironment",
		"javascriptEngine"},
		name)
}

// readRole reads the server's part in its replica set, and whether it takes writes.
func (c *conversation) readRole() {
	f := &c.facts
	f.ReplicaSet = clean.Line(text(c.hello, "setName"), 100)
	primary := clean.Line(text(c.hello, "primary"), 200)
	writable, known := c.isPrimary()
	if known {
		f.Writable = &writable
	}
	secondary, _ := truth(c.hello, "secondary")
	arbiter, _ := truth(c.hello, "arbiterOnly")
	switch {
	case text(c.hello, "msg") == "isdbgrid":
		f.Role = "router"
	case arbiter:
		f.Role, f.ReadOnlyBy = "arbiter", "the server is an arbiter: it votes, and has no data"
	case f.ReplicaSet == "":
		f.Role = "standalone"
	case secondary:
		f.Role, f.ReadOnlyBy = "secondary", "the server is a secondary of the set "+f.ReplicaSet
		f.ReplicaOf, f.InRecovery = primary, yes(true)
	case writable:
		f.Role = "primary"
	default:
		f.Role, f.ReadOnlyBy = "neither primary nor secondary", "the server is neither primary nor secondary of its set now"
	}
	if f.ReplicaSet != "" {
		f.Role += " of " + f.ReplicaSet
		f.Settings = append(f.Settings, fmt.Sprintf("%d members told", len(texts(c.hello, "hosts"))))
	}
	if id, ok := c.hello.Lookup("topologyVersion", "processId").ObjectIDOK(); ok {
		f.ServerID = hex.EncodeToString(id[:])
		f.Lineage = f.ServerID
	}
	if n, ok := number(c.hello, "connectionId"); ok && n > 0 && n < 1<<32 {
		f.ConnectionID = uint32(n)
	}
}

func yes(v bool) *bool { return &v }

// readClock compares the server's clock with ours at the middle of the hello exchange.
func (c *conversation) readClock() {
	value, err := c.hello.LookupErr("localTime")
	if err != nil {
		return
	}
	if ms, ok := value.DateTimeOK(); ok {
		c.facts.ClockDifference = engine.Milliseconds(time.UnixMilli(ms).Sub(c.asked.Add(c.trip / 2)))
	}
}

// readAccount reads the user of the session and its roles.
func (c *conversation) readAccount(ctx context.Context) error {
	answer, err := c.optional(ctx, "admin", bson.D{{Key: "connectionStatus", Value: 1}})
	if answer == nil {
		return err
	}
	f := &c.facts
	for _, user := range items(answer, "authInfo", "authenticatedUsers") {
		f.User = clean.Line(text(user, "user"), 200)
		f.Account = f.User
		if source := text(user, "db"); source != "" {
			f.Account += " of " + clean.Line(source, 100)
		}
	}
	var roles []string
	root := false
	for _, role := range items(answer, "authInfo", "authenticatedUserRoles") {
		name, database := text(role, "role"), text(role, "db")
		root = root || name == "root" && database == "admin"
		roles = append(roles, clean.Line(name, 60)+" on "+clean.Line(database, 60))
	}
	if f.User != "" && len(roles) > 0 {
		f.Superuser = &root
		const most = 4
		f.Rights = strings.Join(roles[:min(len(roles), most)], ", ")
		if len(roles) > most {
			f.Rights += fmt.Sprintf(" and %d more roles", len(roles)-most)
		}
	}
	return nil
}

// readStatus reads the storage engine and the start time, which only some accounts may.
func (c *conversation) readStatus(ctx context.Context) error {
	answer, err := c.optional(ctx, "admin", bson.D{
		{Key: "serverStatus", Value: 1}, {Key: "repl", Value: 0}, {Key: "metrics", Value: 0}, {Key: "locks", Value: 0},
	})
	if err != nil {
		return err
	}
	f := &c.facts
	if answer != nil {
		if seconds, ok := number(answer, "uptimeMillis"); ok && seconds > 0 {
			started := time.Now().Add(-time.Duration(seconds) * time.Millisecond).UTC().Truncate(time.Second)
			f.ServerStarted = &started
		}
		f.ServerHost = clean.Line(text(answer, "host"), 200)
		if name := text(answer, "storageEngine", "name"); name != "" {
			f.Settings = append(f.Settings, "storage "+clean.Line(name, 40))
		}
		if durable, known := truth(answer, "storageEngine", "persistent"); known {
			f.Persistent = &durable
		}
	}
	answer, err = c.optional(ctx, "admin", bson.D{{Key: "getDefaultRWConcern", Value: 1}})
	if level := text(answer, "defaultReadConcern", "level"); answer != nil && level != "" {
		f.Settings = append(f.Settings, "read concern "+clean.Line(level, 40))
	}
	return err
}

// judge returns the result of the session.
func (c *conversation) judge() finding.Result {
	f := &c.facts
	detail := strings.TrimPrefix(strings.Join([]string{f.User, f.Server()}, ", "), ", ")
	if f.ReplicaSet != "" && text(c.hello, "primary") == "" && f.Writable != nil && !*f.Writable {
		return finding.WarnWith(finding.New(finding.SessionNoPrimary, "the set %s has no primary now: nothing can be written",
			clean.Quote(f.ReplicaSet)).
			Saw("this member says %s", clean.Quote(f.Role)).
			Saw("the members that it knows: %s", clean.Quote(strings.Join(texts(c.hello, "hosts"), ", "))).
			Suggest("gharbor wait %s   # while the members elect one", c.to.Profile).
			Advise("can more than half of the members reach each other?"), "%s", detail)
	}
	return finding.Good("%s", detail)
}

// explainLoss returns the finding for a session that ended, or for a stage's own command that the server refused.
func (c *conversation) explainLoss(err error) *finding.Finding {
	var refused *refusal
	if !errors.As(err, &refused) {
		return c.to.SessionLost(err, probe.LastError(err))
	}
	if found := c.notReady(refused); found != nil {
		return found
	}
	switch refused.means() {
	case meansNoRight:
		return c.to.NoRight(refused.text())
	case meansTimeLimit:
		return finding.New(finding.SessionTimeLimit, "a time limit of the server ended the question").Saw("%s",
			refused.text()).
			Suggest("gharbor test %s   # again", c.to.Profile)
	}
	return c.to.SessionLost(nil, refused.text())
}

// Missing returns the collections and indexes that do not exist as far as this login can see.
func (c *conversation) Missing(ctx context.Context, what key.Name, names []string) (missing []string, err error) {
	if what != key.ExpectCollections && what != key.ExpectIndexes {
		return names, nil
	}
	for _, name := range names {
		collection, index, _ := strings.Cut(name, ".")
		if what == key.ExpectCollections {
			collection, index = name, ""
		}
		there, err := c.has(ctx, collection, index)
		if err != nil {
			return nil, err
		}
		if !there {
			missing = append(missing, name)
		}
	}
	return missing, nil
}

// errRefused says that the server refused a command of a stage.
func errRefused(err error) error {
	var refused *refusal
	if errors.As(err, &refused) {
		return errors.New(clean.Line(refused.message, 200))
	}
	return err
}

// has reports whether a collection exists, and the index on it where one is named.
func (c *conversation) has(ctx context.Context, collection, index string) (bool, error) {
	found := false
	command := bson.D{
		{Key: "listCollections", Value: 1},
		{Key: "filter", Value: bson.D{{Key: "name", Value: collection}}},
		{Key: "nameOnly", Value: true},
	}
	if index != "" {
		command = bson.D{{Key: "listIndexes", Value: collection}}
	}
	err := c.listDocuments(ctx, c.facts.Database, command, func(document bson.Raw) error {
		name := text(document, "name")
		found = found || index == "" && name == collection || index != "" && name == index
		return nil
	})
	var refused *refusal
	if errors.As(err, &refused) && refused.number == 26 { // NamespaceNotFound
		return false, nil
	}
	return found, errRefused(err)
}
