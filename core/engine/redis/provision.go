package redis

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
	"gentleharbor/core/secret"
)

// provision is how an account that may use ACL makes another one (Redis documentation, "ACL"). It sends a password's
// SHA-256, which is the server's stored form: no log of the server has the password.
var provision = &engine.Provision{
	Numbered:    true,
	Account:     planAccount,
	Rights:      planRights,
	Revoke:      planRevoke,
	Unlock:      planUnlock,
	DropAccount: planDropAccount,
	Password:    planPassword,
	Reset:       planPassword,
	DropOld:     planDropOld,
}

// userOf is the account's name: the default user where none is named.
func userOf(w *engine.DesiredState) string {
	if w.User == "" {
		return defaultUser
	}
	return w.User
}

// hashOf is a server's stored form of a password.
func hashOf(v secret.Value) string {
	sum := sha256.Sum256([]byte(v.Disclose()))
	return hex.EncodeToString(sum[:])
}

// askAccount reads an account; nil where there is none.
func askAccount(ctx context.Context, ask engine.Ask, user string) (*account, error) {
	rows, err := ask(ctx, "ACL GETUSER "+quoteArgument(user))
	if err != nil {
		return nil, err
	}
	if len(rows) == 0 || len(rows) == 1 && len(rows[0]) == 1 && rows[0][0] == "" {
		return nil, nil
	}
	if len(rows[0]) == 1 { // names and values in turn, from a server that speaks the older protocol
		var pairs [][]string
		for i := 0; i+1 < len(rows); i += 2 {
			pairs = append(pairs, []string{rows[i][0], rows[i+1][0]})
		}
		rows = pairs
	}
	a := &account{}
	for _, row := range rows {
		var items []string
		if json.Unmarshal([]byte(row[1]), &items) != nil {
			items = nil
		}
		switch row[0] {
		case "flags":
			a.flags = items
		case "passwords":
			a.passwords = items
		case "commands":
			a.commands = row[1]
		case "keys":
			a.keys = strings.TrimSpace(row[1])
			if items != nil { // servers before version 7 give a list, and leave the ~ out
				a.keys = "~" + strings.Join(items, " ~")
			}
			if a.keys == "~" || a.keys == "[]" {
				a.keys = ""
			}
		}
	}
	a.on = slices.Contains(a.flags, "on")
	return a, nil
}

// Reasons of changes, with the user's name.
const (
	whyNoUser     = "there is no user %s"
	whyOff        = "the user %s is switched off"
	whyPassword   = "the user %s has another password than the profile"
	whyNoPassword = "the user %s has no password"
	whyOpen       = "the user %s gets in with any password (nopass)"
)

// changeUser is a change of a user by rules. The shown text has [hidden] in place of a hash.
func changeUser(why, user string, hash string, rules ...string) engine.Change {
	c := engine.Change{Why: fmt.Sprintf(why, user), Text: "ACL SETUSER " + formatArgument(user)}
	c.Shown = c.Text
	for _, rule := range rules {
		c.Text += " " + rule
		c.Shown += " " + rule
	}
	if hash != "" {
		c.Text += " #" + hash
		c.Shown += " #" + secret.Hidden
	}
	return c
}

// planAccount makes the user, with the password.
func planAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	user := userOf(w)
	a, err := askAccount(ctx, ask, user)
	if err != nil {
		return nil, err
	}
	p := &engine.Plan{}
	hash := ""
	if w.Password.Present() {
		hash = hashOf(w.Password)
	}
	switch {
	case a == nil && hash == "":
		p.Changes = append(p.Changes, changeUser(whyNoUser, user, "", "reset", "on", "nopass"))
	case a == nil:
		p.Changes = append(p.Changes, changeUser(whyNoUser, user, hash, "reset", "on"))
	default:
		if !a.on {
			p.Changes = append(p.Changes, alterUser(changeUser(whyOff, user, "", "on")))
		}
		if hash != "" && !slices.Contains(a.passwords, hash) {
			why := whyPassword
			switch {
			case slices.Contains(a.flags, "nopass"):
				why = whyOpen
			case len(a.passwords) == 0:
				why = whyNoPassword
			}
			p.Changes = append(p.Changes, alterUser(changeUser(why, user, hash, "resetpass")))
		}
	}
	return p, keep(ctx, ask, p)
}

func alterUser(c engine.Change) engine.Change {
	c.Alters = true
	return c
}

// rightsOf are the rules of an access, and examples of commands that it allows: an account that may run them has it.
func rightsOf(access engine.Access) (rules []string, examples []string) {
	reading := []string{"GET x", "SCAN 0", "TTL x", "HGETALL x", "LRANGE x 0 1", "SMEMBERS x", "ZRANGE x 0 1",
		"XRANGE x - +", "SELECT 0", "PING", "INFO"}
	writing := []string{"SET x y", "DEL x", "EXPIRE x 9", "HSET x y z", "XADD x * y z", "MULTI", "PUBLISH x y", "EVAL x 0"}
	switch access {
	case engine.AccessOwn:
		return []string{"&*", "+@all", "-@admin"}, slices.Concat(reading, writing, []string{"FLUSHDB", "KEYS *"})
	case engine.AccessWrite:
		return []string{"&*", "+@read", "+@write", "+@connection", "+@transaction", "+@pubsub", "+@scripting", "-@dangerous",
			"+info"}, slices.Concat(reading, writing)
	}
	return []string{"+@read", "+@connection", "-@dangerous", "+info"}, reading
}

// patternsOf are the patterns of the keys that the account may use.
func patternsOf(w *engine.DesiredState) []string {
	patterns := w.Tables
	if len(patterns) == 0 {
		patterns = []string{"*"}
	}
	kind := "~"
	if major, _, _ := strings.Cut(w.Facts.Version, "."); w.Access == engine.AccessRead && len(major) == 1 && major >= "7" {
		kind = "%R~"
	}
	all := make([]string, len(patterns))
	for i, pattern := range patterns {
		all[i] = kind + pattern
	}
	return all
}

// planRights gives a user commands and keys. Rights of users are for all databases.
func planRights(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	user, p := userOf(w), &engine.Plan{}
	rules, examples := rightsOf(w.Access)
	patterns := patternsOf(w)
	a, err := askAccount(ctx, ask, user)
	if err != nil {
		return nil, err
	}
	lacking := a == nil
	if a != nil {
		if lacking, err = lacks(ctx, ask, user, a, examples, patterns); err != nil {
			return nil, err
		}
	}
	if lacking {
		all := rules
		for _, pattern := range patterns {
			all = append(all, formatArgument(pattern))
		}
		p.Changes = append(p.Changes, alterUser(changeUser("the user %s lacks rights ("+string(w.Access)+")", user,
			"", all...)))
	}
	return p, keep(ctx, ask, p)
}

// lacks reports whether a user may not run one of the examples with a key that fits a pattern. A server before
// version 7 can't try a command for another user: there the rules are compared.
func lacks(ctx context.Context, ask engine.Ask, user string, a *account, examples, patterns []string) (bool, error) {
	for _, pattern := range patterns {
		_, name, _ := strings.Cut(pattern, "~")
		example := strings.NewReplacer("*", "x", "?", "x").Replace(name)
		for _, command := range examples {
			words := strings.Fields(command)
			for i, word := range words[1:] {
				if word == "x" {
					words[i+1] = example
				}
				words[i+1] = quoteArgument(words[i+1])
			}
			if words[0] == "EVAL" {
				words = []string{"EVAL", `"return 1"`, "0"}
			}
			rows, err := ask(ctx, "ACL DRYRUN "+quoteArgument(user)+" "+strings.Join(words, " "))
			var refused *engine.StatementError
			switch {
			case errors.As(err, &refused) && strings.Contains(strings.ToLower(refused.Message), "unknown"):
				return !a.all() && !strings.Contains(a.keys, "~"+name), nil
			case err != nil:
				return false, err
			case len(rows) > 0: // OK has no rows: any other answer says what the user may not do
				return true, nil
			}
		}
	}
	return false, nil
}

// planRevoke takes all keys and commands from a user.
func planRevoke(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	user, p := userOf(w), &engine.Plan{}
	a, err := askAccount(ctx, ask, user)
	if err != nil || a == nil || a.keys == "" && a.commands == "-@all" {
		return p, err
	}
	c := changeUser("the user %s has rights", user, "", "resetkeys", "resetchannels", "nocommands")
	c.Takes = true
	p.Changes = append(p.Changes, c)
	return p, keep(ctx, ask, p)
}

// planUser plans the change of an existing user.
func planUser(ctx context.Context, ask engine.Ask, w *engine.DesiredState, change func(user string,
	a *account) []engine.Change) (
	*engine.Plan, error,
) {
	user, p := userOf(w), &engine.Plan{}
	a, err := askAccount(ctx, ask, user)
	if err != nil {
		return nil, err
	}
	if a == nil {
		p.Missing = append(p.Missing, "the user "+user)
		return p, nil
	}
	p.Changes = change(user, a)
	return p, keep(ctx, ask, p)
}

// planUnlock enables a user.
func planUnlock(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	return planUser(ctx, ask, w, func(user string, a *account) []engine.Change {
		if a.on {
			return nil
		}
		return []engine.Change{alterUser(changeUser(whyOff, user, "", "on"))}
	})
}

// planDropAccount removes a user. The default user can't be removed.
func planDropAccount(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	if userOf(w) == defaultUser {
		return nil, &engine.NameError{What: "the user default can't be dropped: each connection begins as it"}
	}
	return planUser(ctx, ask, w, func(user string, _ *account) []engine.Change {
		return []engine.Change{engine.Revoking("the user "+user+" is there", "ACL DELUSER %s", formatArgument(user))}
	})
}

// planPassword gives a user a new password, beside the one before it or in its place.
func planPassword(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	return planUser(ctx, ask, w, func(user string, _ *account) []engine.Change {
		rules := []string{"resetpass"}
		if w.KeepOld {
			rules = nil
		}
		return []engine.Change{alterUser(changeUser("a new password for %s", user, hashOf(w.Password), rules...))}
	})
}

// planDropOld removes all passwords of a user except the new one.
func planDropOld(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
	user, p := userOf(w), &engine.Plan{}
	a, err := askAccount(ctx, ask, user)
	if err != nil || a == nil || len(a.passwords) < 2 {
		return p, err
	}
	c := changeUser("the old password of %s is good still", user, hashOf(w.Password), "resetpass")
	c.Takes = true
	p.Changes = append(p.Changes, c)
	return p, keep(ctx, ask, p)
}

// keep adds the statement that writes changed users to the server's disk: into its file of users where it has one,
// else into its file of settings. Without either they last until the server ends, and a note says so.
func keep(ctx context.Context, ask engine.Ask, p *engine.Plan) error {
	if len(p.Changes) == 0 {
		return nil
	}
	const why = "the change is to outlast a restart of the server"
	rows, err := ask(ctx, "CONFIG GET aclfile")
	var refused *engine.StatementError
	switch {
	case errors.As(err, &refused):
		p.Notes = append(p.Notes, "whether the change outlasts a restart is not known: CONFIG GET is refused")
		return nil
	case err != nil:
		return err
	case lastOf(rows) != "":
		p.Changes = append(p.Changes, engine.Adding(why, "ACL SAVE"))
		return nil
	}
	rows, err = ask(ctx, "INFO server")
	if err != nil {
		return err
	}
	if readInfo(lastOf(rows))["config_file"] == "" {
		p.Notes = append(p.Notes, "the server has no file for its users: the change lasts until it ends")
		return nil
	}
	p.Changes = append(p.Changes, engine.Adding(why, "CONFIG REWRITE"))
	return nil
}

// lastOf is the last value of an answer, "" where there is none.
func lastOf(rows [][]string) string {
	if len(rows) == 0 || len(rows[len(rows)-1]) == 0 {
		return ""
	}
	row := rows[len(rows)-1]
	return row[len(row)-1]
}
