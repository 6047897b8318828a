package mongodb

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
)

// catalogue is what is on a server, read by commands that change nothing.
var catalogue = &engine.Catalogue{
	Kinds: []engine.Kind{
		engine.KindDatabases, engine.KindTables, engine.KindColumns, engine.KindIndexes, engine.KindSizes,
		engine.KindAccounts, engine.KindAccess, engine.KindActivity, engine.KindSettings,
	},
	Words:  map[string]engine.Kind{"collections": engine.KindTables, "fields": engine.KindColumns},
	Listed: engine.KindTables,
	Read:   readKind,
}

// errOther says that a connection is not this engine's: a defect of the program.
var errOther = errors.New("the connection is not of this engine")

// Bounds of listings.
const (
	sampled         = 100 // documents of a collection in which fields are looked for
	mostCollections = 200 // in which fields, indexes and sizes are looked for, where none is named
	mostFields      = 500 // of a collection
)

// readKind reads all things of one kind.
func readKind(ctx context.Context, r engine.Runner, kind engine.Kind, _ *engine.Facts, one string) (
	rows [][][]byte, less *engine.StatementError, err error,
) {
	c, ok := r.(*conversation)
	if !ok {
		return nil, nil, errOther
	}
	switch kind {
	case engine.KindDatabases:
		rows, err = c.databaseRows(ctx, one)
	case engine.KindTables:
		rows, err = c.collectionRows(ctx)
	case engine.KindColumns:
		rows, err = c.eachCollection(ctx, one, c.fieldRows)
	case engine.KindIndexes:
		rows, err = c.eachCollection(ctx, one, c.indexRows)
	case engine.KindSizes:
		rows, err = c.eachCollection(ctx, one, c.sizeRows)
	case engine.KindAccounts:
		rows, less, err = c.accountRows(ctx)
	case engine.KindAccess:
		rows, err = c.accessRows(ctx)
	case engine.KindActivity:
		rows, err = c.activityRows(ctx)
	case engine.KindSettings:
		rows, err = c.settingRows(ctx)
	}
	var refused *refusal
	switch {
	case errors.As(err, &refused):
		err = c.refusedCommand(refused)
	case err != nil:
		err = &engine.LostError{Err: err}
	}
	return rows, less, err
}

// cell is a value of a row, nil for "".
func cell(s string) []byte {
	if s == "" {
		return nil
	}
	return []byte(s)
}

// own is the last value of a row: whether the system made it.
var own = map[bool][]byte{true: []byte("t"), false: []byte("f")}

func numberCell(raw bson.Raw, path ...string) []byte {
	value, err := raw.LookupErr(path...)
	if err != nil {
		return nil
	}
	if n, ok := value.AsFloat64OK(); ok {
		return strconv.AppendFloat(nil, n, 'f', -1, 64)
	}
	return nil
}

// databaseRows are the databases that this login sees.
func (c *conversation) databaseRows(ctx context.Context, one string) ([][][]byte, error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "listDatabases", Value: 1}})
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, database := range items(answer, "databases") {
		name := text(database, "name")
		if one != "" && one != name {
			continue
		}
		system := own[slices.Contains([]string{"admin", "config", "local"}, name)]
		rows = append(rows, [][]byte{cell(name), nil, nil, nil, numberCell(database, "sizeOnDisk"), []byte("true"),
			nil, system})
	}
	return rows, nil
}

// collections are the collections and views of the database, by name.
func (c *conversation) collections(ctx context.Context) (all []bson.Raw, err error) {
	command := bson.D{
		{Key: "listCollections", Value: 1},
		{Key: "authorizedCollections", Value: true},
		{Key: "nameOnly", Value: true},
	}
	err = c.listDocuments(ctx, c.facts.Database, command, func(document bson.Raw) error {
		all = append(all, bytes.Clone(document))
		return nil
	})
	slices.SortFunc(all, func(a, b bson.Raw) int { return strings.Compare(text(a, "name"), text(b, "name")) })
	return all, err
}

func isSystem(name string) bool { return strings.HasPrefix(name, "system.") }

// collectionRows are the collections, with how many documents they have.
func (c *conversation) collectionRows(ctx context.Context) ([][][]byte, error) {
	all, err := c.collections(ctx)
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for i, collection := range all {
		name, kind := text(collection, "name"), text(collection, "type")
		if kind == "" {
			kind = "collection"
		}
		row := [][]byte{cell(c.facts.Database), cell(name), cell(clean.Line(kind, 40)), nil, nil, nil, nil,
			own[isSystem(name)]}
		if kind != "view" && i < mostCollections {
			stats, err := c.optional(ctx, c.facts.Database, bson.D{{Key: "collStats", Value: name}})
			if err != nil {
				return nil, err
			}
			if stats != nil {
				row[3], row[4] = numberCell(stats, "count"), numberCell(stats, "size")
			}
		}
		rows = append(rows, row)
	}
	return rows, nil
}

// eachCollection reads something of one collection, or of the first ones.
func (c *conversation) eachCollection(ctx context.Context, one string,
	read func(context.Context, string) ([][][]byte, error)) (rows [][][]byte, err error) {
	all, err := c.collections(ctx)
	if err != nil {
		return nil, err
	}
	for i, collection := range all {
		name := text(collection, "name")
		left := i >= mostCollections || isSystem(name) || text(collection, "type") == "view"
		if one != "" && name != one || one == "" && left {
			continue
		}
		some, err := read(ctx, name)
		var refused *refusal
		if err != nil && (one != "" || !errors.As(err, &refused)) {
			return nil, err
		}
		rows = append(rows, some...)
	}
	return rows, nil
}

// indexRows are the indexes of a collection.
func (c *conversation) indexRows(ctx context.Context, name string) (rows [][][]byte, err error) {
	sizes, err := c.optional(ctx, c.facts.Database, bson.D{{Key: "collStats", Value: name}})
	if err != nil {
		return nil, err
	}
	err = c.listDocuments(ctx, c.facts.Database, bson.D{{Key: "listIndexes", Value: name}}, func(index bson.Raw) error {
		var keys []string
		method := "btree"
		if document, ok := index.Lookup("key").DocumentOK(); ok {
			elements, _ := document.Elements()
			for _, e := range elements {
				key := e.Key()
				if n, ok := e.Value().AsFloat64OK(); ok && n < 0 {
					key += " descending"
				}
				if s, ok := e.Value().StringValueOK(); ok {
					method = s
				}
				keys = append(keys, key)
			}
		}
		title := text(index, "name")
		unique, _ := truth(index, "unique")
		condition, note := "", ""
		if document, ok := index.Lookup("partialFilterExpression").DocumentOK(); ok {
			plain, _ := documentText(document, false)
			condition = string(plain)
		}
		if seconds, ok := number(index, "expireAfterSeconds"); ok {
			note = fmt.Sprintf("documents expire after %d seconds", seconds)
		}
		row := [][]byte{cell(c.facts.Database), cell(name), cell(title), cell(strings.Join(keys, ", ")),
			[]byte(strconv.FormatBool(unique || title == "_id_")), []byte(strconv.FormatBool(title == "_id_")), cell(method),
			cell(condition), nil, cell(note), own[isSystem(name)]}
		if sizes != nil {
			row[8] = numberCell(sizes, "indexSizes", title)
		}
		rows = append(rows, row)
		return nil
	})
	return rows, err
}

// sizeRows is the size of a collection.
func (c *conversation) sizeRows(ctx context.Context, name string) ([][][]byte, error) {
	stats, err := c.ask(ctx, c.facts.Database, bson.D{{Key: "collStats", Value: name}})
	if err != nil {
		return nil, err
	}
	data, known := number(stats, "storageSize")
	indexes, _ := number(stats, "totalIndexSize")
	row := [][]byte{cell(c.facts.Database), cell(name), numberCell(stats, "count"), nil, nil, nil, own[isSystem(name)]}
	if known {
		row[3], row[4] = strconv.AppendInt(nil, data, 10), strconv.AppendInt(nil, indexes, 10)
		row[5] = strconv.AppendInt(nil, data+indexes, 10)
	}
	return [][][]byte{row}, nil
}

// accountRows are the users. A login that may not list them sees itself.
func (c *conversation) accountRows(ctx context.Context) (rows [][][]byte, less *engine.StatementError, err error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "usersInfo", Value: bson.D{{Key: "forAllDBs", Value: true}}}})
	var refused *refusal
	if errors.As(err, &refused) {
		if errors.As(c.refusedCommand(refused), &less) && c.facts.User != "" {
			rows = [][][]byte{{cell(c.facts.User), []byte("true"), nil, cell(c.facts.Rights), nil, nil, own[false]}}
		}
		return rows, less, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, user := range items(answer, "users") {
		var roles []string
		root := false
		for _, role := range items(user, "roles") {
			root = root || text(role, "role") == "root"
			roles = append(roles, text(role, "role")+" on "+text(role, "db"))
		}
		note := "made in " + text(user, "db")
		if methods := texts(user, "mechanisms"); len(methods) > 0 {
			note += ", logs in by " + strings.Join(methods, " or ")
		}
		rows = append(rows, [][]byte{cell(text(user, "user")), []byte("true"), []byte(strconv.FormatBool(root)),
			cell(strings.Join(roles, ", ")), nil, cell(note), own[false]})
	}
	return rows, nil, nil
}

// accessRows are the rights of this login, and on what it has them.
func (c *conversation) accessRows(ctx context.Context) ([][][]byte, error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "connectionStatus", Value: 1}, {Key: "showPrivileges", Value: true}})
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, privilege := range items(answer, "authInfo", "authenticatedUserPrivileges") {
		resource, ok := privilege.Lookup("resource").DocumentOK()
		if !ok {
			continue
		}
		database, collection, what := text(resource, "db"), text(resource, "collection"), "database"
		cluster, _ := truth(resource, "cluster")
		switch {
		case cluster || database == "" && collection == "":
			what = "server"
		case collection != "":
			what = "collection"
		}
		name := collection
		if what == "database" {
			name, database = database, ""
		}
		may := strings.Join(texts(privilege, "actions"), ", ")
		rows = append(rows, [][]byte{cell(what), cell(database), cell(name), cell(may), nil, own[isSystem(collection)]})
	}
	if len(rows) == 0 && c.facts.LoginMethod == methodNone {
		rows = append(rows, [][]byte{cell("server"), nil, nil, cell("everything: the server wants no login"), nil,
			own[false]})
	}
	return rows, nil
}

// activityRows are the sessions and what each does.
func (c *conversation) activityRows(ctx context.Context) ([][][]byte, error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "currentOp", Value: 1}, {Key: "$all", Value: true}})
	var refused *refusal
	if errors.As(err, &refused) { // one's own are shown to everybody
		answer, err = c.ask(ctx, "admin", bson.D{
			{Key: "currentOp", Value: 1}, {Key: "$ownOps", Value: true}, {Key: "$all", Value: true},
		})
	}
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, op := range items(answer, "inprog") {
		state := "idle"
		if active, _ := truth(op, "active"); active {
			state = "active"
		}
		user, command := "", ""
		for _, one := range items(op, "effectiveUsers") {
			user = text(one, "user")
		}
		if document, ok := op.Lookup("command").DocumentOK(); ok && state == "active" {
			plain, _ := documentText(document, false)
			command = string(plain[:min(len(plain), 1000)])
		}
		database, _, _ := strings.Cut(text(op, "ns"), ".")
		id, known := number(op, "connectionId")
		if known && uint32(id) == c.facts.ConnectionID {
			state, command = "this session", ""
		}
		rows = append(rows, [][]byte{
			numberCell(op, "connectionId"), cell(user), cell(text(op, "client")), cell(text(op, "appName")),
			cell(database), nil, cell(state), numberCell(op, "secs_running"), nil, cell(command), own[!known],
		})
	}
	return rows, nil
}

// settingRows are the server's parameters.
func (c *conversation) settingRows(ctx context.Context) ([][][]byte, error) {
	answer, err := c.ask(ctx, "admin", bson.D{{Key: "getParameter", Value: "*"}})
	if err != nil {
		return nil, err
	}
	elements, err := answer.Elements()
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, e := range elements {
		if slices.Contains([]string{"ok", "$clusterTime", "operationTime"}, e.Key()) {
			continue
		}
		value, err := valueText(e.Value(), false)
		if err != nil {
			return nil, err
		}
		if s, ok := e.Value().StringValueOK(); ok {
			value = []byte(s)
		}
		rows = append(rows, [][]byte{cell(e.Key()), value, nil, nil, nil, own[false]})
	}
	slices.SortFunc(rows, func(a, b [][]byte) int { return bytes.Compare(a[0], b[0]) })
	return rows, nil
}

// insertOf is the command that adds documents to a collection.
func insertOf(collection string, documents [][]byte) string {
	var b bytes.Buffer
	fmt.Fprintf(&b, `{"insert":%s,"documents":[`, quoteJSON(collection))
	for i, document := range documents {
		if i > 0 {
			b.WriteByte(',')
		}
		b.Write(document)
	}
	b.WriteString(`],"ordered":true}`)
	return b.String()
}

// checkDocument says what is wrong with a document of a file.
func checkDocument(document []byte) error {
	var d bson.D
	return bson.UnmarshalExtJSON(document, false, &d)
}
