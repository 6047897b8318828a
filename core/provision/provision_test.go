package provision

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
)

// session is an administrator's session in a database.
type session struct {
	in   string
	log  *[]string
	fail string // the statement that is refused
}

func (s *session) Run(_ context.Context, st engine.Statement, to engine.Results) error {
	*s.log = append(*s.log, s.in+"> "+st.Text)
	if st.Text == s.fail {
		return &engine.StatementError{Message: "no right"}
	}
	to.Notice(engine.Notice{Message: "so it is"})
	if err := to.Begin(nil); err != nil {
		return err
	}
	for range len(st.Arguments) + 1 {
		if err := to.Row([][]byte{[]byte("a"), nil}); err != nil {
			return err
		}
	}
	return to.End(engine.Outcome{})
}

func (*session) InTransaction() bool { return false }
func (*session) Took() time.Duration { return 0 }

// says is a planner that plans one statement, or what its word says.
func says(word string) engine.Planner {
	return func(ctx context.Context, ask engine.Ask, w *engine.DesiredState) (*engine.Plan, error) {
		if ask != nil {
			if _, err := ask(ctx, word); err != nil {
				return nil, err
			}
		}
		where := ""
		if ask == nil {
			where = " unseen"
		}
		return &engine.Plan{Changes: []engine.Change{engine.Adding("why "+word, "%s %s%s", word, w.Database, where)}}, nil
	}
}

func server(log *[]string, by *engine.Provision) *Server {
	return &Server{By: by, Session: func(_ context.Context, database string) (engine.Runner, error) {
		if database == "shut" {
			return nil, errors.New("shut")
		}
		return &session{in: database, log: log, fail: "drop role"}, nil
	}}
}

func whole() *engine.Provision {
	return &engine.Provision{
		Apart: true, Account: says("account"), Database: says("database"), Rights: says("rights"), Revoke: says("revoke"), Unlock: says("unlock"), Expire: says("expire"),
		DropDatabase: says("drop database"), Disown: says("disown"),
		DropAccount: func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
			return &engine.Plan{Changes: []engine.Change{engine.Revoking("", "drop role")}, Also: []string{"counts", "tides"}}, nil
		},
	}
}

func texts(p *engine.Plan, err error) string {
	if err != nil {
		return "error: " + err.Error()
	}
	var all []string
	for _, c := range p.Changes {
		all = append(all, c.Text)
	}
	return strings.Join(all, ", ")
}

func TestPlan(t *testing.T) {
	var log []string
	fresh, gone, unseen := whole(), whole(), whole()
	fresh.Database = func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
		return &engine.Plan{NewDatabase: true, Changes: []engine.Change{engine.Adding("", "create it")}}, nil
	}
	gone.Unlock = func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
		return &engine.Plan{Missing: []string{"the role x"}}, nil
	}
	unseen.Database = func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
		return &engine.Plan{Unseen: true}, nil
	}
	together := whole()
	together.Apart = false
	counts := engine.DesiredState{Database: "counts", Access: engine.AccessRead}
	for name, c := range map[string]struct {
		by   *engine.Provision
		wish Request
		want string
	}{
		"make":                   {whole(), Request{Verb: Make, DesiredState: counts}, "account counts, database counts, rights counts"},
		"make, new":              {fresh, Request{Verb: Make, DesiredState: counts}, "account counts, create it, rights counts unseen"},
		"make, asleep":           {unseen, Request{Verb: Make, DesiredState: counts}, "account counts"},
		"make, shut":             {whole(), Request{Verb: Make, DesiredState: engine.DesiredState{Database: "shut", Access: engine.AccessRead}}, "error: shut"},
		"make, no database":      {whole(), Request{Verb: Make}, "account "},
		"unlock":                 {whole(), Request{Verb: Unlock, DesiredState: counts}, "unlock counts"},
		"unlock nobody":          {gone, Request{Verb: Unlock}, "error: the role x is not there"},
		"expire":                 {whole(), Request{Verb: Expire}, "expire "},
		"grant":                  {whole(), Request{Verb: Grant, DesiredState: counts}, "database counts, rights counts"},
		"grant, new":             {fresh, Request{Verb: Grant, DesiredState: counts}, "error: the database counts is not there"},
		"grant nobody":           {gone, Request{Verb: Grant}, "error: the role x is not there"},
		"grant, asleep":          {unseen, Request{Verb: Grant, DesiredState: counts}, ""},
		"revoke":                 {whole(), Request{Verb: Revoke, DesiredState: counts}, "revoke counts"},
		"revoke, new":            {fresh, Request{Verb: Revoke, DesiredState: counts}, "error: the database counts is not there"},
		"drop":                   {whole(), Request{Verb: Drop, DropAccount: true, DropDatabase: true, DesiredState: counts}, "drop database counts, disown tides, drop role"},
		"drop the account":       {whole(), Request{Verb: Drop, DropAccount: true, DesiredState: counts}, "disown counts, disown tides, drop role"},
		"drop the database":      {whole(), Request{Verb: Drop, DropDatabase: true, DesiredState: counts}, "drop database counts"},
		"database":               {whole(), Request{Verb: Database, DesiredState: counts}, "database counts"},
		"database with an owner": {together, Request{Verb: Database, DesiredState: engine.DesiredState{Database: "counts", Owner: "warden"}}, "database counts, rights counts"},
		"database of nobody":     {gone, Request{Verb: Database, DesiredState: engine.DesiredState{Owner: "x"}}, "error: the role x is not there"},
		"database, dropped":      {whole(), Request{Verb: Database, DropDatabase: true, DesiredState: counts}, "drop database counts"},
		"not offered":            {&engine.Provision{Unlock: says("x")}, Request{Verb: Make}, "error: " + ErrNotOffered.Error()},
	} {
		if got := texts(server(&log, c.by).Plan(t.Context(), &c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	if (&Server{}).Offers(&Request{Verb: Make}) {
		t.Error("an engine without provision offers it")
	}
	if w := (Request{Verb: Drop, DropAccount: true, DropDatabase: true, DesiredState: counts}); texts(server(&log, whole()).Plan(t.Context(), &w)) == "" || !w.DropsDatabase {
		t.Error("the planner of the account is not told that the database goes too")
	}
}

func TestRunAndLeft(t *testing.T) {
	var log []string
	s := server(&log, whole())
	plan := &engine.Plan{Changes: []engine.Change{engine.Adding("", "one"), {Text: "two", In: "counts"}, engine.Revoking("", "drop role"), engine.Adding("", "never")}}
	made, notices := 0, 0
	err := s.Run(t.Context(), plan, func(engine.Change) { made++ }, func(engine.Notice) { notices++ })
	var refused *StatementError
	if !errors.As(err, &refused) || refused.Made != 2 || made != 2 || notices != 2 || refused.Error() != "no right" || errors.Unwrap(refused) == nil {
		t.Errorf("%v, %d made, %d notices", err, made, notices)
	}
	if !slices.Equal(log, []string{"> one", "counts> two", "> drop role"}) {
		t.Errorf("%q", log)
	}
	if left, err := s.RemainingChanges(t.Context(), &Request{Verb: Unlock}); err != nil || !slices.Equal(left, []string{"why unlock"}) {
		t.Error(left, err)
	}
	s.By.Unlock = func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
		return &engine.Plan{Missing: []string{"x"}}, nil
	}
	if left, err := s.RemainingChanges(t.Context(), &Request{Verb: Unlock}); err != nil || left != nil {
		t.Error(left, err)
	}
	s.By.Expire = func(context.Context, engine.Ask, *engine.DesiredState) (*engine.Plan, error) {
		return nil, errors.New("down")
	}
	if _, err := s.RemainingChanges(t.Context(), &Request{Verb: Expire}); err == nil {
		t.Error("it could not look, and says nothing")
	}
	ask, err := s.Ask(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	rows, err := ask(t.Context(), "a question", "value")
	if err != nil || fmt.Sprint(rows) != "[[a ] [a ]]" {
		t.Error(rows, err)
	}
	all := &rowBuffer{rows: make([][]string, mostRows)}
	if all.Row([][]byte{nil}) == nil {
		t.Error("rows without an end are gathered")
	}
}

func TestParseAccess(t *testing.T) {
	for _, a := range engine.Accesses {
		if got, err := ParseAccess(string(a)); got != a || err != nil {
			t.Error(got, err)
		}
	}
	if _, err := ParseAccess("everything"); err == nil || !strings.Contains(err.Error(), "own, write, read") {
		t.Error(err)
	}
}
