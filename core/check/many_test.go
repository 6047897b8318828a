package check

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
)

// station is a runner whose servers are what begin makes of each connection,
// and profiles on them.
func station(t *testing.T, n int, begin func(target engine.Target) *fake) (*Runner, []*resolve.Profile) {
	t.Helper()
	var text strings.Builder
	for i := range n {
		fmt.Fprintf(&text, "[profile.p%d]\nengine = \"postgresql\"\nuser = \"u\"\nsecret = \"env:X\"\nhost = \"10.0.0.%d\"\n", i, i+1)
	}
	f, err := profile.Parse(spoken(func(conn net.Conn, target engine.Target) engine.Conversation {
		conn.Close()
		c := begin(target)
		c.target, c.took = target, new(int)
		return c
	}), "profiles.toml", []byte(text.String()))
	if err != nil {
		t.Fatal(err)
	}
	var profiles []*resolve.Profile
	for _, p := range f.Profiles {
		profiles = append(profiles, resolve.Resolve(f, p, nil, resolve.Environment{}))
	}
	return &Runner{
		Network: route.Network{
			Resolve: func(context.Context, string) ([]netip.Addr, error) { return nil, errors.New("nobody") },
			Dial: func(context.Context, string, string) (net.Conn, error) {
				ours, theirs := net.Pipe()
				theirs.Close()
				return ours, nil
			},
		},
		Finder:  &secret.Finder{Lookup: func(string) (string, bool) { return "knot", true }},
		Places:  nearby.Places{Root: t.TempDir(), Dial: func(context.Context, string, string) (net.Conn, error) { return nil, errors.New("no") }},
		Timeout: 2 * time.Second,
	}, profiles
}

func TestManyInOrderAndBounded(t *testing.T) {
	var mu sync.Mutex
	flying, most := 0, 0
	runner, profiles := station(t, 40, func(target engine.Target) *fake {
		if target.Address == "10.0.0.7:5432" {
			return &fake{ends: map[string]finding.Result{"speak": failing("speak.garbage")}}
		}
		return &fake{work: 5 * time.Millisecond}
	})
	reports := runner.Many(context.Background(), profiles, 3, Watch{
		Begin: func(string) { mu.Lock(); flying++; most = max(most, flying); mu.Unlock() },
		End:   func(*Report) { mu.Lock(); flying--; mu.Unlock() },
	})
	for i, r := range reports {
		if want := fmt.Sprintf("p%d", i); r.Profile != want || (r.Outcome == finding.Fail) != (i == 6) {
			t.Errorf("report %d is of %s, %s", i, r.Profile, r.Outcome)
		}
	}
	if most > 3 || flying != 0 {
		t.Errorf("%d at a time, %d left", most, flying)
	}
	if s := Summarise(reports, time.Second); s.Ready != 39 || s.Failed != 1 || s.String() != "40 profiles: 39 ready, 1 not ready; 1.0 s" {
		t.Errorf("%+v %s", s, s)
	}
}

func TestManyInterruptedAndDefects(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	runner, profiles := station(t, 6, func(target engine.Target) *fake {
		if target.Address == "10.0.0.1:5432" {
			return &fake{}
		}
		return &fake{block: "tls"}
	})
	stop := func(*Report) { time.AfterFunc(80*time.Millisecond, cancel) } // once the first has ended
	reports := runner.Many(ctx, profiles, 2, Watch{End: stop})
	if reports[0].Interrupted || !reports[1].Interrupted || !reports[5].Interrupted || len(reports[5].Stages) != len(Stages) || reports[5].Word() != "not tested" {
		t.Errorf("%+v", reports)
	}
	runner, profiles = station(t, 6, func(engine.Target) *fake { panic("the tide is out") })
	for name, run := range map[string]func(){
		"many":    func() { runner.Many(context.Background(), profiles, 2, Watch{}) },
		"wait":    func() { runner.Wait(context.Background(), profiles, Waiting{Within: time.Second, Parallel: 2}) },
		"compare": func() { runner.Compare(context.Background(), profiles[0], profiles[1]) },
	} {
		func() {
			defer func() {
				if d := defect.FromPanic(recover()); d.Error() != "the tide is out" || !strings.Contains(string(d.Stack), "many_test.go") {
					t.Errorf("%s: the defect is %v\n%s", name, d, d.Stack)
				}
			}()
			run()
			t.Errorf("%s: a defect is not told", name)
		}()
	}
}

func TestWaitEnds(t *testing.T) {
	var mu sync.Mutex
	tries := make(map[string]int)
	begin := func(codes ...string) func(engine.Target) *fake {
		return func(target engine.Target) *fake {
			mu.Lock()
			defer mu.Unlock()
			n := tries[target.Address]
			tries[target.Address]++
			if n >= len(codes) {
				return &fake{}
			}
			return &fake{ends: map[string]finding.Result{"speak": failing(finding.Code(codes[n]))}}
		}
	}
	wait := func(persist bool, codes ...string) *WaitResult {
		clear(tries)
		runner, profiles := station(t, 1, begin(codes...))
		return runner.Wait(context.Background(), profiles, Waiting{Within: 1500 * time.Millisecond, Persist: persist, Parallel: 1})[0]
	}
	for _, c := range []struct {
		persist bool
		codes   []string
		want    WaitEnd
		tries   int
	}{
		{false, nil, WaitReady, 1}, {false, []string{"reach.refused", "speak.closed"}, WaitReady, 3}, {false, []string{"speak.starting", "login.password"}, WaitGaveUp, 2},
		{false, []string{"tls.untrusted"}, WaitGaveUp, 1}, {true, []string{"tls.untrusted", "database.missing"}, WaitReady, 3},
		{false, []string{"speak.silent", "speak.silent", "speak.silent", "speak.silent", "speak.silent", "speak.silent", "speak.silent", "speak.silent"}, WaitTimeOut, 0},
	} {
		w := wait(c.persist, c.codes...)
		if w.Outcome != c.want || c.tries != 0 && w.Tries != c.tries {
			t.Errorf("%v: %s after %d tries", c.codes, w.Outcome, w.Tries)
		}
		if w.Outcome == WaitTimeOut && w.MS < 1200 { // the last try is at the very end
			t.Errorf("%v: it gave up after %.0f ms of 1,500", c.codes, w.MS)
		}
	}
}

func TestVerdict(t *testing.T) {
	at := func(second int, micro int) *time.Time {
		when := time.Date(2026, 11, 23, 9, 0, second, micro*1000, time.UTC)
		return &when
	}
	pg := func(lineage string, started *time.Time) *engine.Facts {
		return &engine.Facts{Engine: "postgresql", Lineage: lineage, ServerStarted: started}
	}
	my := func(word, lineage, host string, started *time.Time, replicaOf string) *engine.Facts {
		return &engine.Facts{Engine: word, Lineage: lineage, ServerHost: host, ServerStarted: started, ReplicaOf: replicaOf, Route: "127.0.0.1:3306"}
	}
	unseen := func(f *engine.Facts) *engine.Facts {
		f.SourceUnseen = true
		return f
	}
	for _, c := range []struct {
		name string
		a, b *engine.Facts
		want Kinship
	}{
		{"one server", pg("7", at(1, 5)), pg("7", at(1, 5)), SameInstance},
		{"a standby", pg("7", at(1, 5)), pg("7", at(1, 6)), SameLineage},
		{"another cluster", pg("7", at(1, 5)), pg("8", at(1, 5)), Different},
		{"identifiers kept secret, one start", pg("", at(1, 5)), pg("", at(1, 5)), SameInstance},
		{"identifiers kept secret", pg("", at(1, 5)), pg("", at(1, 6)), Unknown},
		{"one identifier kept secret", pg("7", at(1, 5)), pg("", at(1, 6)), Unknown},
		{"no start", pg("7", nil), pg("7", at(1, 5)), Unknown},
		{"other engines", pg("7", at(1, 5)), my("mysql", "7", "h", at(1, 0), ""), Different},
		{"flavours", my("mysql", "7", "h", at(1, 0), ""), my("mariadb", "7", "h", at(1, 0), ""), Different},
		{"one MySQL", my("mysql", "7", "h:3306", at(1, 0), ""), my("mysql", "7", "h:3306", at(2, 0), ""), SameInstance},
		{"a copied MySQL", my("mysql", "7", "h:3306", at(1, 0), ""), my("mysql", "7", "h:3307", at(2, 0), ""), SameLineage},
		{"a restored MySQL", my("mysql", "7", "h:3306", at(1, 0), ""), my("mysql", "7", "h:3306", at(9, 0), ""), SameLineage},
		{"containers with one network card", my("mariadb", "7", "h:3306", at(1, 0), ""), my("mariadb", "7", "i:3306", at(9, 0), ""), Unknown},
		{"one MariaDB", my("mariadb", "7", "h:3306", at(1, 0), ""), my("mariadb", "7", "h:3306", at(1, 0), ""), SameInstance},
		{"accounts that see no replication", unseen(my("mariadb", "7", "h", at(1, 0), "")), my("mariadb", "8", "i", at(1, 0), ""), Unknown},
		{"one that sees none", my("mariadb", "7", "h", at(1, 0), ""), unseen(my("mariadb", "8", "i", at(1, 0), "")), Unknown},
		{"a replica that is seen from one side", unseen(my("mysql", "7", "h", at(1, 0), "")), my("mysql", "8", "i", at(1, 0), "7"), SameLineage},
		{"a replica", my("mysql", "7", "h", at(1, 0), "8"), my("mysql", "8", "i", at(1, 0), ""), SameLineage},
		{"a replica, the other way", my("mysql", "8", "h", at(1, 0), ""), my("mysql", "7", "i", at(1, 0), "8"), SameLineage},
		{"a MariaDB replica, by address", my("mariadb", "7", "h", at(1, 0), "127.0.0.1:3306"), my("mariadb", "8", "i", at(1, 0), ""), SameLineage},
		{"two replicas of one", my("mysql", "7", "h", at(1, 0), "9"), my("mysql", "8", "i", at(1, 0), "9"), SameLineage},
	} {
		word, why := verdict(keys.Engines(), &Report{Outcome: finding.OK, Facts: c.a}, &Report{Outcome: finding.Warn, Facts: c.b})
		if word != c.want || why == "" {
			t.Errorf("%s: %s, %s", c.name, word, why)
		}
		if back, _ := verdict(keys.Engines(), &Report{Facts: c.b}, &Report{Facts: c.a}); back != c.want {
			t.Errorf("%s, the other way: %s", c.name, back)
		}
	}
	failed := &Report{Profile: "full", Outcome: finding.Fail, Facts: pg("7", nil), Stages: []Stage{{Outcome: finding.Fail, Finding: finding.New("session.server-full", "no room")}}}
	if word, why := verdict(keys.Engines(), failed, failed); word != Unknown || !strings.Contains(why, "session.server-full") {
		t.Errorf("%s, %s", word, why)
	}
}

func TestModesAndZones(t *testing.T) {
	if !hasModes("STRICT_TRANS_TABLES,NO_ZERO_DATE", "strict_trans_tables") || hasModes("STRICT_TRANS_TABLES", "STRICT_TRANS_TABLES,ANSI") || hasModes("", "ANSI") {
		t.Error("modes")
	}
	if !sameZone("SYSTEM (UTC)", "utc") || !sameZone("SYSTEM (UTC)", "system") || !sameZone("Etc/UTC", "etc/utc") || sameZone("SYSTEM (CET)", "UTC") {
		t.Error("zones")
	}
}
