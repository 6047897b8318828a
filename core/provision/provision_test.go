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
	return func(ctx context.Context, ask engine.Ask, w *engine.Wish) (*engine.Plan, error) {
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
		DropAccount: func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) {
			return &engine.Plan{Changes: []engine.Change{engine.Taking("", "drop role")}, Also: []string{"counts", "tides"}}, nil
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
	fresh.Database = func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) {
		return &engine.Plan{NewDatabase: true, Changes: []engine.Change{engine.Adding("", "create it")}}, nil
	}
	gone.Unlock = func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) {
		return &engine.Plan{Missing: []string{"the role x"}}, nil
	}
	unseen.Database = func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) {
		return &engine.Plan{Unseen: true}, nil
	}
	together := whole()
	together.Apart = false
	counts := engine.Wish{Database: "counts", Access: engine.AccessRead}
	for name, c := range map[string]struct {
		by   *engine.Provision
		wish Wish
		want string
	}{
		"make":                   {whole(), Wish{Verb: Make, Wish: counts}, "account counts, database counts, rights counts"},
		"make, new":              {fresh, Wish{Verb: Make, Wish: counts}, "account counts, create it, rights counts unseen"},
		"make, asleep":           {unseen, Wish{Verb: Make, Wish: counts}, "account counts"},
		"make, shut":             {whole(), Wish{Verb: Make, Wish: engine.Wish{Database: "shut", Access: engine.AccessRead}}, "error: shut"},
		"make, no database":      {whole(), Wish{Verb: Make}, "account "},
		"unlock":                 {whole(), Wish{Verb: Unlock, Wish: counts}, "unlock counts"},
		"unlock nobody":          {gone, Wish{Verb: Unlock}, "error: the role x is not there"},
		"expire":                 {whole(), Wish{Verb: Expire}, "expire "},
		"grant":                  {whole(), Wish{Verb: Grant, Wish: counts}, "database counts, rights counts"},
		"grant, new":             {fresh, Wish{Verb: Grant, Wish: counts}, "error: the database counts is not there"},
		"grant nobody":           {gone, Wish{Verb: Grant}, "error: the role x is not there"},
		"grant, asleep":          {unseen, Wish{Verb: Grant, Wish: counts}, ""},
		"revoke":                 {whole(), Wish{Verb: Revoke, Wish: counts}, "revoke counts"},
		"revoke, new":            {fresh, Wish{Verb: Revoke, Wish: counts}, "error: the database counts is not there"},
		"drop":                   {whole(), Wish{Verb: Drop, DropAccount: true, DropDatabase: true, Wish: counts}, "drop database counts, disown tides, drop role"},
		"drop the account":       {whole(), Wish{Verb: Drop, DropAccount: true, Wish: counts}, "disown counts, disown tides, drop role"},
		"drop the database":      {whole(), Wish{Verb: Drop, DropDatabase: true, Wish: counts}, "drop database counts"},
		"database":               {whole(), Wish{Verb: Database, Wish: counts}, "database counts"},
		"database with an owner": {together, Wish{Verb: Database, Wish: engine.Wish{Database: "counts", Owner: "warden"}}, "database counts, rights counts"},
		"database of nobody":     {gone, Wish{Verb: Database, Wish: engine.Wish{Owner: "x"}}, "error: the role x is not there"},
		"database, dropped":      {whole(), Wish{Verb: Database, DropDatabase: true, Wish: counts}, "drop database counts"},
		"not offered":            {&engine.Provision{Unlock: says("x")}, Wish{Verb: Make}, "error: " + ErrNotOffered.Error()},
	} {
		if got := texts(server(&log, c.by).Plan(t.Context(), &c.wish)); got != c.want {
			t.Errorf("%s: %s", name, got)
		}
	}
	if (&Server{}).Offers(&Wish{Verb: Make}) {
		t.Error("an engine without provision offers it")
	}
	if w := (Wish{Verb: Drop, DropAccount: true, DropDatabase: true, Wish: counts}); texts(server(&log, whole()).Plan(t.Context(), &w)) == "" || !w.DropsDatabase {
		t.Error("the planner of the account is not told that the database goes too")
	}
}

func TestRunAndLeft(t *testing.T) {
	var log []string
	s := server(&log, whole())
	plan := &engine.Plan{Changes: []engine.Change{engine.Adding("", "one"), {Text: "two", In: "counts"}, engine.Taking("", "drop role"), engine.Adding("", "never")}}
	made, notices := 0, 0
	err := s.Run(t.Context(), plan, func(engine.Change) { made++ }, func(engine.Notice) { notices++ })
	var refused *StatementError
	if !errors.As(err, &refused) || refused.Made != 2 || made != 2 || notices != 2 || refused.Error() != "no right" || errors.Unwrap(refused) == nil {
		t.Errorf("%v, %d made, %d notices", err, made, notices)
	}
	if !slices.Equal(log, []string{"> one", "counts> two", "> drop role"}) {
		t.Errorf("%q", log)
	}
	if left, err := s.RemainingChanges(t.Context(), &Wish{Verb: Unlock}); err != nil || !slices.Equal(left, []string{"why unlock"}) {
		t.Error(left, err)
	}
	s.By.Unlock = func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) {
		return &engine.Plan{Missing: []string{"x"}}, nil
	}
	if left, err := s.RemainingChanges(t.Context(), &Wish{Verb: Unlock}); err != nil || left != nil {
		t.Error(left, err)
	}
	s.By.Expire = func(context.Context, engine.Ask, *engine.Wish) (*engine.Plan, error) { return nil, errors.New("down") }
	if _, err := s.RemainingChanges(t.Context(), &Wish{Verb: Expire}); err == nil {
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
