package mongodb

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/mongodb/wire"
)

// maxListed bounds the documents of a listing of our own: nobody reads more.
const maxListed = 100_000

// Run sends one command: a document in canonical or relaxed Extended JSON (MongoDB's specification, version 2).
func (c *conversation) Run(ctx context.Context, s engine.Statement, to engine.Results) error {
	command, err := commandOf(s)
	if err != nil {
		return &engine.StatementError{Message: err.Error()}
	}
	if why := notSent(command); why != "" {
		return &engine.StatementError{Message: why}
	}
	return engine.Cancellable(ctx, c.raw, c.cancel, func() error { return c.run(command, s.Exact, to) })
}

// parameter stands in a document for a value: no JSON has a zero byte.
func parameter(n int) string { return "\x00" + strconv.Itoa(n) + "\x00" }

// commandOf is the command of a statement, with values as texts in the places of parameters.
func commandOf(s engine.Statement) (bson.D, error) {
	written := []byte(s.Text)
	for i, value := range s.Arguments {
		if value == nil {
			return nil, errors.New("a value is missing")
		}
		written = bytes.ReplaceAll(written, []byte(parameter(i+1)), []byte(quoteJSON(*value)))
	}
	var command bson.D
	if err := bson.UnmarshalExtJSON(written, false, &command); err != nil {
		return nil, fmt.Errorf("this is no document of Extended JSON: %w", err)
	}
	if len(command) == 0 {
		return nil, errors.New("this document has no command")
	}
	return command, nil
}

// quoteJSON returns a text as a JSON string.
func quoteJSON(s string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(s) // which can't fail for a text
	return strings.TrimSuffix(b.String(), "\n")
}

// notSent says why a command is not sent, "" for one that is.
func notSent(command bson.D) string {
	switch name := command[0].Key; name {
	case "saslStart", "saslContinue", "authenticate", "logout", "hello", "isMaster", "ismaster":
		return name + " is not sent: the connection stays the one that the test proved; for another account use its profile"
	}
	return ""
}

// exchangeCommand sends a command that a person typed. Its error is a *engine.StatementError or a *engine.LostError.
func (c *conversation) exchangeCommand(command bson.D) (bson.Raw, error) {
	answer, err := c.exchange(c.facts.Database, command)
	var refused *refusal
	switch {
	case errors.As(err, &refused):
		return nil, c.refusedCommand(refused)
	case err != nil:
		return nil, &engine.LostError{Err: err}
	}
	return answer, nil
}

// run sends a command, and gives its answer to the receiver.
func (c *conversation) run(command bson.D, exact bool, to engine.Results) error {
	c.most, c.took = wire.MaxMessage, 0
	defer func() { c.most = maxFacts }()
	start := time.Now()
	answer, err := c.exchangeCommand(command)
	c.took = c.facts.AtServer(start)
	if err != nil {
		return err
	}
	name := command[0].Key
	if cursor, ok := answer.Lookup("cursor").DocumentOK(); ok {
		return c.stream(command, cursor, exact, to)
	}
	switch name {
	case "insert", "update", "delete":
		return reportWrite(answer, name, to)
	case "count":
		return give(to, name, engine.Column{Name: "count", Number: true}, numberText(answer, "n"))
	case "distinct":
		return c.distinct(answer, exact, to)
	}
	row, err := documentText(withoutTimes(answer), exact)
	if err != nil {
		return &engine.LostError{Err: err}
	}
	return give(to, name, engine.Column{Name: "document", JSON: true}, row)
}

// give gives one value.
func give(to engine.Results, name string, column engine.Column, value []byte) error {
	if err := to.Begin([]engine.Column{column}); err != nil {
		return err
	}
	if err := to.Row([][]byte{value}); err != nil {
		return err
	}
	return to.End(engine.Outcome{Command: name, Rows: 1, Changed: -1})
}

func numberText(answer bson.Raw, name string) []byte {
	n, _ := number(answer, name)
	return strconv.AppendInt(nil, n, 10)
}

// documentText is a document as Extended JSON: relaxed, or canonical, which keeps each value's type.
func documentText(raw bson.Raw, exact bool) ([]byte, error) {
	return bson.MarshalExtJSON(raw, exact, false)
}

// withoutTimes is an answer without the parts that only drivers read.
func withoutTimes(answer bson.Raw) bson.Raw {
	elements, err := answer.Elements()
	if err != nil {
		return answer
	}
	var kept bson.D
	for _, e := range elements {
		switch e.Key() {
		case "$clusterTime", "operationTime", "$configServerState", "$gleStats", "lastCommittedOpTime":
		default:
			kept = append(kept, bson.E{Key: e.Key(), Value: e.Value()})
		}
	}
	document, err := bson.Marshal(kept)
	if err != nil {
		return answer
	}
	return document
}

// reportWrite gives the receiver the number of documents that a command changed. It returns an error for those that
// the server refused.
func reportWrite(answer bson.Raw, name string, to engine.Results) error {
	changed, _ := number(answer, "n")
	if name == "update" {
		modified, ok := number(answer, "nModified")
		if ok {
			changed = modified + int64(len(items(answer, "upserted")))
		}
	}
	if err := to.End(engine.Outcome{Command: name, Changed: changed}); err != nil {
		return err
	}
	if refused := items(answer, "writeErrors"); len(refused) > 0 {
		code, _ := number(refused[0], "code")
		index, _ := number(refused[0], "index")
		return &engine.StatementError{
			Code:     "code " + strconv.FormatInt(code, 10),
			Message:  text(refused[0], "errmsg"),
			Hint:     fmt.Sprintf("it is document %d; %d were changed before", index+1, changed),
			DataLine: int(index) + 1,
		}
	}
	if concern, ok := answer.Lookup("writeConcernError").DocumentOK(); ok {
		return &engine.StatementError{Message: text(concern, "errmsg"),
			Hint: "the change was made, and not confirmed as asked"}
	}
	return nil
}

// distinct gives the values of a field.
func (c *conversation) distinct(answer bson.Raw, exact bool, to engine.Results) error {
	if err := to.Begin([]engine.Column{{Name: "value", JSON: true}}); err != nil {
		return err
	}
	all := values(answer, "values")
	for _, value := range all {
		one, err := valueText(value, exact)
		if err != nil {
			return &engine.LostError{Err: err}
		}
		if err := to.Row([][]byte{one}); err != nil {
			return err
		}
	}
	return to.End(engine.Outcome{Command: "distinct", Rows: int64(len(all)), Changed: -1})
}

// valueText is one value as Extended JSON.
func valueText(value bson.RawValue, exact bool) ([]byte, error) {
	whole, err := bson.MarshalExtJSON(bson.D{{Key: "v", Value: value}}, exact, false)
	if err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(bytes.TrimPrefix(whole, []byte(`{"v":`)), []byte("}")), nil
}

// stream gives the documents of a cursor as they come. An error of the receiver's ends the cursor at the server.
func (c *conversation) stream(command bson.D, cursor bson.Raw, exact bool, to engine.Results) error {
	if err := to.Begin([]engine.Column{{Name: "document", JSON: true}}); err != nil {
		return err
	}
	database, collection, _ := strings.Cut(text(cursor, "ns"), ".")
	if database == "" {
		database = c.facts.Database
	}
	var rows int64
	batch := "firstBatch"
	for {
		id, _ := number(cursor, "id")
		for _, document := range items(cursor, batch) {
			row, err := documentText(document, exact)
			if err == nil {
				err = to.Row([][]byte{row})
			}
			if err != nil {
				c.killCursor(database, collection, id)
				return err
			}
			rows++
		}
		if id == 0 {
			return to.End(engine.Outcome{Command: command[0].Key, Rows: rows, Changed: -1})
		}
		answer, err := c.exchangeCommand(nextOf(database, collection, id, command))
		if err != nil {
			return err
		}
		next, ok := answer.Lookup("cursor").DocumentOK()
		if !ok {
			return &engine.LostError{Err: wire.ErrMalformed}
		}
		cursor, batch = next, "nextBatch"
	}
}

// nextOf asks for the next documents of a cursor, as many as the command's batch size says.
func nextOf(database, collection string, id int64, command bson.D) bson.D {
	more := bson.D{{Key: "getMore", Value: id}, {Key: "collection", Value: collection}}
	for _, e := range command {
		if e.Key == "batchSize" {
			more = append(more, e)
		}
		if options, ok := e.Value.(bson.D); ok && e.Key == "cursor" {
			for _, o := range options {
				if o.Key == "batchSize" {
					more = append(more, o)
				}
			}
		}
	}
	return append(more, bson.E{Key: "$db", Value: database})
}

// killCursor ends a cursor at the server. A failure does not matter: the server ends idle cursors itself.
func (c *conversation) killCursor(database, collection string, id int64) {
	if id != 0 {
		c.exchange(database, bson.D{{Key: "killCursors", Value: collection}, {Key: "cursors", Value: bson.A{id}}})
	}
}

// listDocuments gives the documents of a listing of our own. Its error is a *refusal, or that of the connection.
func (c *conversation) listDocuments(
	ctx context.Context, database string, command bson.D, each func(bson.Raw) error,
) error {
	answer, err := c.ask(ctx, database, command)
	n := 0
	for batch := "firstBatch"; err == nil; batch = "nextBatch" {
		cursor, ok := answer.Lookup("cursor").DocumentOK()
		if !ok {
			return wire.ErrMalformed
		}
		for _, document := range items(cursor, batch) {
			if n++; n > maxListed {
				return wire.ErrTooLarge
			}
			if err := each(document); err != nil {
				return err
			}
		}
		id, _ := number(cursor, "id")
		if id == 0 {
			return nil
		}
		if n++; n > maxListed { // batches without documents count too
			return wire.ErrTooLarge
		}
		_, collection, _ := strings.Cut(text(cursor, "ns"), ".")
		answer, err = c.ask(ctx, database, nextOf(database, collection, id, nil))
	}
	return err
}

// refusedCommand turns the server's refusal into our error.
func (c *conversation) refusedCommand(r *refusal) error {
	e := &engine.StatementError{Code: r.name, Message: r.message}
	if r.number != 0 {
		e.Code = strings.TrimPrefix(fmt.Sprintf("%s, code %d", r.name, r.number), ", ")
	}
	switch r.means() {
	case meansNotPrimary:
		e.Hint = "the server is no primary; a profile with hosts and target=writable finds it"
	case meansUnknownCommand:
		e.Near = strings.Trim(between(r.message, "'"), "'")
	case meansStopping:
		e.Fatal = true
	}
	return e
}

// between is the part of a text from one sign to the other, both included.
func between(text, sign string) string {
	from := strings.Index(text, sign)
	if from < 0 {
		return ""
	}
	to := strings.Index(text[from+1:], sign)
	if to < 0 {
		return ""
	}
	return text[from : from+to+2]
}

// InTransaction reports whether a transaction is open: none is begun here.
func (c *conversation) InTransaction() bool { return false }

// Took is the time of the last command at the server.
func (c *conversation) Took() time.Duration { return c.took }

// cancel logs in a second time, finds the operation of this connection and ends it.
func (c *conversation) cancel() error {
	ctx, stop := context.WithTimeout(context.Background(), engine.CancelWait)
	defer stop()
	if c.facts.ConnectionID == 0 {
		return errors.New("the server does not say which connection this is")
	}
	other, err := engine.LogInAgain(ctx, &c.to, begin)
	if err != nil {
		return err
	}
	defer other.Close()
	var operations []bson.RawValue
	err = other.listDocuments(ctx, "admin", bson.D{
		{Key: "aggregate", Value: 1},
		{Key: "pipeline", Value: bson.A{
			bson.D{{Key: "$currentOp", Value: bson.D{{Key: "allUsers", Value: false}, {Key: "idleCursors", Value: false}}}},
			bson.D{{Key: "$match", Value: bson.D{{Key: "connectionId", Value: int64(c.facts.ConnectionID)}}}},
		}},
		{Key: "cursor", Value: bson.D{}},
	}, func(document bson.Raw) error {
		operations = append(operations, document.Lookup("opid"))
		return nil
	})
	if err != nil {
		return errRefused(err)
	}
	if len(operations) == 0 {
		return errors.New("the server does not show the command")
	}
	for _, operation := range operations {
		if _, err = other.ask(ctx, "admin", bson.D{{Key: "killOp", Value: 1}, {Key: "op", Value: operation}}); err != nil {
			return errRefused(err)
		}
	}
	return nil
}
