// Package provision makes, changes and removes what a profile needs at its server, in an administrator's session: the
// account, its password and rights, the database. The engine plans the statements (engine.Provision); this package
// puts the parts of a verb together, runs the statements and checks the result. On the way from profile to report it
// stands behind check, which opened the session. Start with Server.Plan.
package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/engine"
)

// Verb is what is to be done.
type Verb string

// The verbs.
const (
	Make     Verb = "make"
	Unlock   Verb = "unlock"
	Expire   Verb = "expire"
	Grant    Verb = "grant"
	Revoke   Verb = "revoke"
	Drop     Verb = "drop"
	Database Verb = "database"
)

// Request is what a verb is to do.
type Request struct {
	engine.DesiredState
	Verb Verb
	// DropAccount and DropDatabase say what Drop removes; Database uses DropDatabase too.
	DropAccount, DropDatabase bool
}

// Server is a server to which an administrator is connected.
type Server struct {
	By *engine.Provision
	// Session returns the administrator's session in a database, "" for the session's present one. The caller of this
	// package closes it.
	Session func(ctx context.Context, database string) (engine.Runner, error)
}

// NotThereError says that something which a verb needs does not exist.
type NotThereError struct {
	What    string // "the role visitor"
	Account bool   // it is the account; else the database
}

func (e *NotThereError) Error() string { return e.What + " is not there" }

// ErrNotOffered says that the engine, or gharbor for it, does not have a verb.
var ErrNotOffered = errors.New("this version does not do that on this engine")

// Offers reports whether the engine can do a request.
func (s *Server) Offers(w *Request) bool {
	if s.By == nil {
		return false
	}
	needs := map[Verb][]engine.Planner{
		Make:     {s.By.Account, s.By.Database, s.By.Rights},
		Unlock:   {s.By.Unlock},
		Expire:   {s.By.Expire},
		Grant:    {s.By.Rights},
		Revoke:   {s.By.Revoke},
		Drop:     {s.By.DropAccount, s.By.DropDatabase},
		Database: {s.By.Database, s.By.DropDatabase},
	}[w.Verb]
	if s.By.Numbered && (w.Verb == Make || w.Verb == Drop) {
		needs = needs[:1]
	}
	return len(needs) > 0 && !slices.ContainsFunc(needs, func(p engine.Planner) bool { return p == nil })
}

// Plan looks at the server, and lists the changes that a request needs. It changes nothing.
func (s *Server) Plan(ctx context.Context, w *Request) (*engine.Plan, error) {
	if !s.Offers(w) {
		return nil, ErrNotOffered
	}
	switch w.Verb {
	case Make:
		return s.planMake(ctx, w)
	case Unlock:
		return s.one(ctx, s.By.Unlock, w)
	case Expire:
		return s.one(ctx, s.By.Expire, w)
	case Grant:
		return s.planGrant(ctx, w)
	case Revoke:
		return s.planRevoke(ctx, w)
	case Drop:
		return s.planDrop(ctx, w)
	}
	return s.planDatabase(ctx, w)
}

// Ask asks in the administrator's first session.
func (s *Server) Ask(ctx context.Context) (engine.Ask, error) { return s.ask(ctx, "") }

// ask asks in the administrator's session in a database.
func (s *Server) ask(ctx context.Context, database string) (engine.Ask, error) {
	runner, err := s.Session(ctx, database)
	if err != nil {
		return nil, err
	}
	return On(runner), nil
}

// On asks in a session.
func On(runner engine.Runner) engine.Ask {
	return func(ctx context.Context, question string, values ...string) ([][]string, error) {
		statement := engine.Statement{Text: question}
		for _, v := range values {
			statement.Arguments = append(statement.Arguments, &v)
		}
		var rows rowBuffer
		err := runner.Run(ctx, statement, &rows)
		return rows.rows, err
	}
}

// mostRows bounds an answer: nobody reads more databases or accounts.
const mostRows = 100_000

// rowBuffer keeps the rows of an answer.
type rowBuffer struct{ rows [][]string }

func (g *rowBuffer) Begin([]engine.Column) error { return nil }
func (g *rowBuffer) End(engine.Outcome) error    { return nil }
func (g *rowBuffer) Notice(engine.Notice)        {}

func (g *rowBuffer) Row(values [][]byte) error {
	if len(g.rows) == mostRows {
		return fmt.Errorf("the server gave more than %d rows", mostRows)
	}
	row := make([]string, len(values))
	for i, v := range values {
		row[i] = string(v)
	}
	g.rows = append(g.rows, row)
	return nil
}

// run runs a planner in the administrator's session.
func (s *Server) run(ctx context.Context, p engine.Planner, w *Request) (*engine.Plan, error) {
	ask, err := s.ask(ctx, "")
	if err != nil {
		return nil, err
	}
	return p(ctx, ask, &w.DesiredState)
}

// one runs a planner that needs the account.
func (s *Server) one(ctx context.Context, p engine.Planner, w *Request) (*engine.Plan, error) {
	plan, err := s.run(ctx, p, w)
	if err == nil && len(plan.Missing) > 0 {
		return nil, &NotThereError{What: plan.Missing[0], Account: true}
	}
	return plan, err
}

func (s *Server) planMake(ctx context.Context, w *Request) (*engine.Plan, error) {
	plan := &engine.Plan{}
	steps := []engine.Planner{s.By.Account}
	if w.Database != "" && !s.By.Numbered {
		steps = append(steps, s.By.Database)
	}
	for _, step := range steps {
		part, err := s.run(ctx, step, w)
		if err != nil {
			return nil, err
		}
		plan.Add(part)
	}
	if w.Database == "" && !s.By.Numbered || w.Access == "" || plan.Unseen {
		return plan, nil
	}
	return plan, s.addRights(ctx, w, s.By.Rights, plan)
}

// addRights adds the plan of a planner that reads the database, where the database exists.
func (s *Server) addRights(ctx context.Context, w *Request, p engine.Planner, plan *engine.Plan) error {
	var ask engine.Ask
	var err error
	switch {
	case !s.By.Apart:
		ask, err = s.ask(ctx, "")
	case !plan.NewDatabase:
		ask, err = s.ask(ctx, w.Database)
	}
	if err != nil {
		return err
	}
	part, err := p(ctx, ask, &w.DesiredState)
	if err == nil {
		plan.Add(part)
	}
	return err
}

// planGrant gives rights to an existing account in an existing database.
func (s *Server) planGrant(ctx context.Context, w *Request) (*engine.Plan, error) {
	if err := s.accountThere(ctx, w); err != nil {
		return nil, err
	}
	plan := &engine.Plan{}
	if s.By.Database != nil {
		part, err := s.run(ctx, s.By.Database, w)
		if err != nil {
			return nil, err
		}
		if part.NewDatabase {
			return nil, &NotThereError{What: "the database " + w.Database}
		}
		plan.Add(part)
	}
	if plan.Unseen {
		return plan, nil
	}
	return plan, s.addRights(ctx, w, s.By.Rights, plan)
}

// accountThere is an error where the account does not exist.
func (s *Server) accountThere(ctx context.Context, w *Request) error {
	if s.By.Unlock == nil {
		return nil
	}
	_, err := s.one(ctx, s.By.Unlock, w)
	return err
}

func (s *Server) planRevoke(ctx context.Context, w *Request) (*engine.Plan, error) {
	if err := s.accountThere(ctx, w); err != nil {
		return nil, err
	}
	plan := &engine.Plan{}
	if s.By.Numbered {
		return plan, s.addRights(ctx, w, s.By.Revoke, plan)
	}
	look := *w
	look.Access = "" // the database as it is
	part, err := s.run(ctx, s.By.Database, &look)
	if err != nil {
		return nil, err
	}
	if part.NewDatabase {
		return nil, &NotThereError{What: "the database " + w.Database}
	}
	return plan, s.addRights(ctx, w, s.By.Revoke, plan)
}

// planDrop drops the database first: then the account's things in it need no other owner.
func (s *Server) planDrop(ctx context.Context, w *Request) (*engine.Plan, error) {
	plan := &engine.Plan{}
	w.DropsDatabase = w.DropDatabase && w.Database != "" && !s.By.Numbered
	if w.DropsDatabase {
		part, err := s.run(ctx, s.By.DropDatabase, w)
		if err != nil {
			return nil, err
		}
		plan.Add(part)
	}
	if !w.DropAccount {
		return plan, nil
	}
	account, err := s.run(ctx, s.By.DropAccount, w)
	if err != nil {
		return nil, err
	}
	for _, database := range account.Also {
		if w.DropsDatabase && database == w.Database {
			continue
		}
		ask, err := s.ask(ctx, database)
		if err != nil {
			return nil, err
		}
		there := w.DesiredState
		there.Database = database
		part, err := s.By.Disown(ctx, ask, &there)
		if err != nil {
			return nil, err
		}
		plan.Add(part)
	}
	plan.Add(account)
	return plan, nil
}

// planDatabase makes or drops a database without an account of its own.
func (s *Server) planDatabase(ctx context.Context, w *Request) (*engine.Plan, error) {
	if w.DropDatabase {
		return s.run(ctx, s.By.DropDatabase, w)
	}
	if w.Owner != "" {
		if err := s.accountThere(ctx, w); err != nil {
			return nil, err
		}
	}
	plan, err := s.run(ctx, s.By.Database, w)
	if err != nil || w.Owner == "" || s.By.Apart {
		return plan, err
	}
	return plan, s.addRights(ctx, w, s.By.Rights, plan) // where a database has no owner, its rights make one
}

// StatementError says which change the server refused. The changes before it were made.
type StatementError struct {
	Change engine.Change
	Made   int
	Err    error
}

func (e *StatementError) Error() string { return e.Err.Error() }
func (e *StatementError) Unwrap() error { return e.Err }

// Run makes the changes of a plan, one after another, and calls made for each. It ends at the first that the server
// refuses, with a *StatementError. notice gets the server's notices.
func (s *Server) Run(ctx context.Context, plan *engine.Plan, made func(engine.Change),
	notice func(engine.Notice)) error {
	for i, c := range plan.Changes {
		runner, err := s.Session(ctx, c.In)
		if err == nil {
			err = runner.Run(ctx, engine.Statement{Text: c.Text}, &noticeWriter{notice: notice})
		}
		if err != nil {
			return &StatementError{Change: c, Made: i, Err: err}
		}
		made(c)
	}
	return nil
}

// noticeWriter hands on what a server says.
type noticeWriter struct {
	rowBuffer
	notice func(engine.Notice)
}

func (s *noticeWriter) Notice(n engine.Notice) { s.notice(n) }

// RemainingChanges are the changes that a new plan still has, a sentence for each: the server accepted them without
// an error and did not make them.
func (s *Server) RemainingChanges(ctx context.Context, w *Request) (left []string, err error) {
	plan, err := s.Plan(ctx, w)
	var gone *NotThereError
	switch {
	case errors.As(err, &gone):
		return nil, nil
	case err != nil:
		return nil, err
	}
	for _, c := range plan.Changes {
		left = append(left, c.Why)
	}
	return left, nil
}

// ParseAccess reads an access.
func ParseAccess(s string) (engine.Access, error) {
	if a := engine.Access(s); slices.Contains(engine.Accesses, a) {
		return a, nil
	}
	words := make([]string, len(engine.Accesses))
	for i, a := range engine.Accesses {
		words[i] = string(a)
	}
	return "", fmt.Errorf("expected one of %s", strings.Join(words, ", "))
}
