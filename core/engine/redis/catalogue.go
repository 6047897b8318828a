package redis

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/engine/redis/resp"
)

// catalogue is what is on a server, read by commands that change nothing.
var catalogue = &engine.Catalogue{
	Kinds: []engine.Kind{
		engine.KindDatabases, engine.KindKeys, engine.KindAccounts, engine.KindAccess, engine.KindActivity,
		engine.KindSlow, engine.KindSettings,
	},
	Words:  map[string]engine.Kind{"clients": engine.KindActivity, "slowlog": engine.KindSlow},
	Listed: engine.KindDatabases,
	Read:   readKind,
}

// maxListing bounds an answer of a listing, in bytes.
const maxListing = 64 << 20

// errOther says that a connection is not this engine's: a defect of the program.
var errOther = errors.New("the connection is not of this engine")

// readKind reads all things of one kind.
func readKind(ctx context.Context, r engine.Runner, kind engine.Kind, _ *engine.Facts, one string) (
	rows [][][]byte, less *engine.StatementError, err error,
) {
	c, ok := r.(*conversation)
	if !ok {
		return nil, nil, errOther
	}
	c.in.Most = maxListing
	defer func() { c.in.Most = maxFacts }()
	switch kind {
	case engine.KindDatabases:
		rows, err = c.databases(ctx, one)
	case engine.KindKeys:
		rows, err = c.keys(ctx, one)
	case engine.KindAccounts:
		return c.accounts(ctx)
	case engine.KindAccess:
		rows, err = c.access(ctx)
	case engine.KindActivity:
		rows, err = c.activity(ctx)
	case engine.KindSlow:
		rows, err = c.slow(ctx)
	case engine.KindSettings:
		rows, err = c.settings(ctx)
	}
	return rows, nil, err
}

// answer sends a command. It returns the server's refusal as an error.
func (c *conversation) answer(ctx context.Context, words ...string) (*resp.Reply, error) {
	reply, err := c.ask(ctx, words...)
	if err != nil {
		return nil, &engine.LostError{Err: err}
	}
	if reply.IsError() {
		return nil, c.refusedCommand(reply)
	}
	return reply, nil
}

// text is a value of a row, nil for "".
func text(s string) []byte {
	if s == "" {
		return nil
	}
	return printable([]byte(s))
}

// no and isSystem are the last value of a row: whether the system made it.
var no, isSystem = []byte("f"), []byte("t")

// databases are those with keys, and the session's own.
func (c *conversation) databases(ctx context.Context, one string) ([][][]byte, error) {
	reply, err := c.answer(ctx, "INFO", "keyspace")
	if err != nil {
		return nil, err
	}
	space := readInfo(reply.String())
	own := "db" + c.facts.Database
	if _, ok := space[own]; !ok {
		space[own] = "keys=0,expires=0"
	}
	var numbers []int
	for name := range space {
		if n, err := strconv.Atoi(strings.TrimPrefix(name, "db")); err == nil && strings.HasPrefix(name, "db") {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	var rows [][][]byte
	for _, n := range numbers {
		name := strconv.Itoa(n)
		if one != "" && one != name {
			continue
		}
		counts := make(map[string]string)
		for pair := range strings.SplitSeq(space["db"+name], ",") {
			key, value, _ := strings.Cut(pair, "=")
			counts[key] = value
		}
		comment := fmt.Sprintf("%s keys, %s of them expire", clean.Line(counts["keys"], 20),
			clean.Line(counts["expires"], 20))
		rows = append(rows, [][]byte{text(name), nil, nil, nil, nil, nil, text(comment), no})
	}
	return rows, nil
}

// Bounds of a sample of keys: its size, and the steps to find them.
const (
	mostKeys  = 1000
	keysSteps = 500
)

// lengths are the commands that count the elements of a type.
var lengths = map[string]string{
	"string": "STRLEN", "list": "LLEN", "hash": "HLEN", "set": "SCARD", "zset": "ZCARD", "stream": "XLEN",
}

// keys is a sample of the keys that fit a pattern: by type, the largest first.
func (c *conversation) keys(ctx context.Context, pattern string) ([][][]byte, error) {
	if pattern == "" {
		pattern = "*"
	}
	names, err := c.sample(ctx, pattern)
	if err != nil || len(names) == 0 {
		return nil, err
	}
	var commands [][]string
	for _, name := range names {
		commands = append(commands, []string{"TYPE", name}, []string{"PTTL", name}, []string{"MEMORY", "USAGE", name})
	}
	facts, err := c.askAll(ctx, commands...)
	if err != nil {
		return nil, &engine.LostError{Err: err}
	}
	commands = nil
	for i, name := range names {
		count := lengths[facts[3*i].String()]
		if count == "" {
			count = "EXISTS"
		}
		commands = append(commands, []string{count, name})
	}
	counts, err := c.askAll(ctx, commands...)
	if err != nil {
		return nil, &engine.LostError{Err: err}
	}
	var rows [][][]byte
	for i, name := range names {
		kind := facts[3*i]
		if kind.IsError() || kind.String() == "none" { // it has expired meanwhile
			continue
		}
		row := [][]byte{printable([]byte(name)), text(clean.Line(kind.String(), 40)), nil, nil, nil, no}
		if lengths[kind.String()] != "" && counts[i].Kind == ':' {
			row[2] = text(counts[i].String())
		}
		if size := facts[3*i+2]; size.Kind == ':' {
			row[3] = text(size.String())
		}
		if ms, err := strconv.ParseInt(facts[3*i+1].String(), 10, 64); err == nil && ms >= 0 {
			row[4] = text((time.Duration(ms) * time.Millisecond).Round(time.Second).String())
		}
		rows = append(rows, row)
	}
	slices.SortStableFunc(rows, func(a, b [][]byte) int {
		x, _ := strconv.ParseInt(string(a[3]), 10, 64)
		y, _ := strconv.ParseInt(string(b[3]), 10, 64)
		return cmp.Or(bytes.Compare(a[1], b[1]), cmp.Compare(y, x), bytes.Compare(a[0], b[0]))
	})
	return rows, nil
}

// sample are names of keys.
func (c *conversation) sample(ctx context.Context, pattern string) (names []string, err error) {
	cursor := "0"
	for range keysSteps {
		reply, err := c.answer(ctx, "SCAN", cursor, "MATCH", pattern, "COUNT", strconv.Itoa(scanStep))
		if err != nil {
			return nil, err
		}
		if len(reply.Items) != 2 {
			return nil, &engine.LostError{Err: resp.ErrMalformed}
		}
		for _, item := range reply.Items[1].Items {
			if !slices.Contains(names, item.String()) { // a key may come twice
				names = append(names, item.String())
			}
		}
		if cursor = reply.Items[0].String(); cursor == "0" || len(names) >= mostKeys {
			break
		}
	}
	return names[:min(len(names), mostKeys)], nil
}

// accounts are the users. An account that may not list them sees itself.
func (c *conversation) accounts(ctx context.Context) (rows [][][]byte, less *engine.StatementError, err error) {
	reply, err := c.answer(ctx, "ACL", "USERS")
	names := []string{c.facts.User}
	switch {
	case errors.As(err, &less):
	case err != nil:
		return nil, nil, err
	default:
		names = nil
		for _, item := range reply.Items {
			names = append(names, item.String())
		}
	}
	for _, name := range names {
		row := [][]byte{text(name), nil, nil, nil, nil, nil, no}
		if reply, err = c.ask(ctx, "ACL", "GETUSER", name); err != nil {
			return nil, nil, &engine.LostError{Err: err}
		}
		if a := readAccount(reply); a != nil {
			row[1], row[2] = []byte(strconv.FormatBool(a.on && len(a.passwords) > 0)), []byte(strconv.FormatBool(a.all()))
			note := "commands " + a.commands + "; keys " + orNone(a.keys)
			if slices.Contains(a.flags, "nopass") {
				note = "no password asked; " + note
			}
			row[5] = text(note)
		}
		rows = append(rows, row)
	}
	return rows, less, nil
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// access is what this login may do: which commands, and with which keys.
func (c *conversation) access(ctx context.Context) ([][][]byte, error) {
	reply, err := c.ask(ctx, "ACL", "GETUSER", c.facts.User)
	if err != nil {
		return nil, &engine.LostError{Err: err}
	}
	a := readAccount(reply)
	if a == nil {
		return nil, nil // a server without accounts, or one that does not show them to this login
	}
	row := func(what, may, note string) [][]byte {
		return [][]byte{text(what), nil, nil, text(may), text(note), no}
	}
	return [][][]byte{
		row("server", "commands "+orNone(a.commands), ""),
		row("server", "keys "+orNone(a.keys), ""),
		row("server", "channels "+orNone(a.channels), ""),
	}, nil
}

// activity are the clients.
func (c *conversation) activity(ctx context.Context) ([][][]byte, error) {
	reply, err := c.answer(ctx, "CLIENT", "LIST")
	if err != nil {
		return nil, err
	}
	own := c.hello["id"]
	var rows [][][]byte
	for line := range strings.Lines(reply.String()) {
		f := make(map[string]string)
		for _, word := range strings.Fields(line) {
			name, value, _ := strings.Cut(word, "=")
			f[name] = value
		}
		if f["id"] == "" {
			continue
		}
		state := "idle"
		switch {
		case f["id"] == own:
			state = "this session"
		case strings.Contains(f["flags"], "b"):
			state = "waits"
		case f["idle"] == "0":
			state = "active"
		}
		program := f["name"]
		if program == "" {
			program = f["lib-name"]
		}
		system := no
		if strings.ContainsAny(f["flags"], "MS") { // a primary or a replica
			system = isSystem
		}
		connected := ""
		if age, err := strconv.ParseInt(f["age"], 10, 64); err == nil {
			connected = time.Now().Add(-time.Duration(age) * time.Second).UTC().Format(time.DateTime)
		}
		rows = append(rows, [][]byte{
			text(f["id"]), text(f["user"]), text(f["addr"]), text(program), text(f["db"]), text(connected), text(state),
			text(f["idle"]), nil, text(strings.ReplaceAll(f["cmd"], "|", " ")), system,
		})
	}
	return rows, nil
}

// slow are the slow commands that the server has logged.
func (c *conversation) slow(ctx context.Context) ([][][]byte, error) {
	const most = "128" // which is as many as servers keep
	reply, err := c.answer(ctx, "SLOWLOG", "GET", most)
	if err != nil {
		return nil, err
	}
	var rows [][][]byte
	for _, item := range reply.Items {
		if len(item.Items) < 4 {
			continue
		}
		var words []string
		for _, word := range item.Items[3].Items {
			words = append(words, formatArgument(word.String()))
		}
		from := ""
		if len(item.Items) > 4 {
			from = item.Items[4].String()
		}
		when := ""
		if seconds, err := strconv.ParseInt(item.Items[1].String(), 10, 64); err == nil {
			when = time.Unix(seconds, 0).UTC().Format(time.DateTime)
		}
		micros, _ := strconv.ParseFloat(item.Items[2].String(), 64)
		rows = append(rows, [][]byte{
			text(item.Items[0].String()), text(when), strconv.AppendFloat(nil, micros/1000, 'f', 3, 64), text(from),
			text(strings.Join(words, " ")), no,
		})
	}
	return rows, nil
}

// settings are the server's, without passwords.
func (c *conversation) settings(ctx context.Context) ([][][]byte, error) {
	reply, err := c.answer(ctx, "CONFIG", "GET", "*")
	if err != nil {
		return nil, err
	}
	all := fields(reply)
	var names []string
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	var rows [][][]byte
	for _, name := range names {
		value := all[name]
		if isSecretSetting(name) && value != "" {
			value = "(not shown: it is a password)"
		}
		rows = append(rows, [][]byte{text(name), printable([]byte(value)), nil, nil, nil, no})
	}
	return rows, nil
}
