//go:build unix

package main

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/mysql"
	"gentleharbor/standin/postgresql"
)

// fleet is a program with profiles on several simulated servers: two that are
// ready, one with a warning, one full, one that refuses the password.
func fleet(t *testing.T) *testkit.Program {
	t.Helper()
	p, good := standin(t, birds())
	crowded := birds()
	crowded.Fault = postgresql.Full
	_, full := standin(t, crowded)
	ring, err := mysql.Start(rings())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(ring.Close)
	p.Setenv("KNOT", "knot")
	p.Profiles(fmt.Sprintf(`[profile.sightings]
engine = "postgresql"
host = "127.0.0.1"
port = %[1]d
database = "sightings"
user = "warden"
secret = "env:DUNLIN"
tags = ["field"]

[profile.old]
like = "sightings"
user = "oldhand"
tags = ["field", "attic"]

[profile.full]
like = "sightings"
port = %[2]d
tags = ["crowd"]

[profile.moult]
engine = "mysql"
host = "127.0.0.1"
port = %[3]d
database = "moult"
user = "oldhand"
secret = "env:KNOT"

[profile.refused]
like = "sightings"
secret = "env:KNOT"
tags = []
`, good.Port(), full.Port(), ring.Port()))
	p.Profiles(strings.Replace(p.ReadProfiles(), "tags = []\n", "tags = [\"crowd\"]\n", 1))
	return p
}

func TestMany(t *testing.T) {
	t.Parallel()
	p := fleet(t)
	r := p.Run("test", "-all").Want(1)
	r.Has("session.server-full", "login.weak-method", "5 profiles: 2 ready, 1 ready with a warning, 2 not ready")
	table := r.Stdout[strings.Index(r.Stdout, "profile    engine"):]
	var order []string
	for line := range strings.SplitSeq(table, "\n") {
		if fields := strings.Fields(line); len(fields) > 4 && strings.Contains(line, "127.0.0.1") {
			order = append(order, fields[0])
		}
	}
	if got := strings.Join(order, " "); got != "sightings old full moult refused" {
		t.Errorf("the order is %s", got)
	}
	if strings.Contains(r.Stdout, "sightings  postgresql at") || !strings.Contains(r.Stdout, "full  postgresql at") {
		t.Error("those that failed are shown in full, and no others")
	}
	if r.Stderr != "" {
		t.Errorf("without a terminal there is no progress: %q", r.Stderr)
	}
	p.OK("test", "moult", "sightings", "moult").Has("2 profiles: 2 ready")
	p.OK("test", "-tag", "field").Has("2 profiles: 1 ready, 1 ready with a warning").HasNot("moult")
	p.Run("test", "-tag", "field", "-strict").Want(1).Has("login.weak-method", "(-strict)", "old  postgresql at")
	p.Run("test", "old", "-strict").Want(1)
	p.OK("test", "old")
	p.OK("test", "-engine", "mysql").Has("1 profile: 1 ready")
	if r := p.OK("test", "-engine", "mysql", "-quiet"); r.Stdout+r.Stderr != "" {
		t.Errorf("quiet, and all well: %q", r.Stdout+r.Stderr)
	}
	if r := p.Run("test", "-all", "-quiet").Want(1); strings.Count(r.Stdout, "\n") != 2 || !strings.HasPrefix(r.Stdout, "full       not ready   session.server-full: ") {
		t.Errorf("quiet: %q", r.Stdout)
	}
	if r := p.Run("test", "full", "-quiet").Want(1); strings.Count(r.Stdout, "\n") != 1 {
		t.Errorf("quiet, one: %q", r.Stdout)
	}
	p.Run("test", "-all", "-quiet", "-strict").Want(1).Has("old        warned      login.weak-method: ")
	p.Run("test", "-all", "-override", "port=1", "-parallel", "2").Want(1).Has("5 profiles: 0 ready, 5 not ready")
}

func TestManyMistakes(t *testing.T) {
	t.Parallel()
	p := fleet(t)
	for _, c := range []struct{ args, want string }{
		{"test", "no profile was named"}, {"test -all sightings", "not both"}, {"test sightings -tag field", "not both"},
		{"test -all -tag field", "give -all, or -tag or -engine"}, {"test -tag feild", `did you mean "field"?`}, {"test -tag none-such", "no profile has that tag"},
		{"test -engine redis", "none of the 5 profiles matches"}, {"test -engine mysqll", `did you mean "mysql"?`}, {"test sightings nobody", "no profile of that name"},
		{"test -all -as sightings", "-as is for one profile"}, {"test -all -parallel 0", "-parallel: expected a number from 1"}, {"test -all -format xml", "expected text, json or junit"},
		{"wait", "no profile was named"}, {"wait sightings -within 0s", "-within: expected a time above zero"}, {"wait sightings -format junit", "expected text or json"},
		{"compare sightings", "compare needs PROFILE PROFILE"}, {"compare sightings nobody", "no profile of that name"},
	} {
		r := p.Run(strings.Fields(c.args)...)
		if r.Code != 2 || r.Stdout != "" {
			t.Errorf("%s: exit code %d, stdout %q", c.args, r.Code, r.Stdout)
		}
		r.Has(c.want)
	}
	empty := testkit.NewProgram(t)
	empty.Run("test", "-all").Want(2).Has("no profiles yet")
}

func TestManyJSON(t *testing.T) {
	t.Parallel()
	p := fleet(t)
	var all struct {
		Format   int
		Profiles []testkit.Report
		Summary  map[string]float64
	}
	if err := json.Unmarshal([]byte(p.Run("test", "-all", "-format", "json").Want(1).Stdout), &all); err != nil {
		t.Fatal(err)
	}
	if all.Format != 1 || len(all.Profiles) != 5 || all.Profiles[3].Profile != "moult" || all.Summary["ready"] != 2 || all.Summary["warned"] != 1 || all.Summary["failed"] != 2 || all.Summary["not_tested"] != 0 {
		t.Errorf("%+v", all.Summary)
	}
}

// TestJUnit reads the report as a CI system would.
func TestJUnit(t *testing.T) {
	t.Parallel()
	p := fleet(t)
	type suite struct {
		Name     string `xml:"name,attr"`
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Skipped  int    `xml:"skipped,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Class   string `xml:"classname,attr"`
			Failure *struct {
				Type    string `xml:"type,attr"`
				Message string `xml:"message,attr"`
				Text    string `xml:",chardata"`
			} `xml:"failure"`
			Skipped *struct{} `xml:"skipped"`
			Out     string    `xml:"system-out"`
		} `xml:"testcase"`
	}
	read := func(flags ...string) (all struct {
		Tests    int     `xml:"tests,attr"`
		Failures int     `xml:"failures,attr"`
		Suites   []suite `xml:"testsuite"`
	}) {
		r := p.Run(append([]string{"test", "-all", "-format", "junit"}, flags...)...).Want(1)
		if err := xml.Unmarshal([]byte(r.Stdout), &all); err != nil {
			t.Fatal(err)
		}
		return all
	}
	all := read()
	if all.Tests != 55 || all.Failures != 2 || len(all.Suites) != 5 || all.Suites[2].Name != "full" || all.Suites[2].Failures != 1 || all.Suites[2].Skipped != 3 || all.Suites[2].Tests != 11 {
		t.Errorf("%+v", all)
	}
	login := all.Suites[2].Cases[7]
	if login.Name != "login" || login.Class != "gharbor.full" || login.Failure == nil || login.Failure.Type != "session.server-full" || !strings.Contains(login.Failure.Text, "try: gharbor wait full") {
		t.Errorf("%+v", login)
	}
	if old := all.Suites[1].Cases[7]; old.Failure != nil || !strings.Contains(old.Out, "warning login.weak-method") {
		t.Errorf("%+v", old)
	}
	if all := read("-strict"); all.Failures != 3 || all.Suites[1].Cases[7].Failure == nil {
		t.Errorf("strict: %d failures", all.Failures)
	}
	// What a server says may not break the report.
	config := birds()
	config.Fault = postgresql.EscapeMessage
	_, odd := standin(t, config)
	r := p.Run("test", "sightings", "-format", "junit", "-override", fmt.Sprintf("port=%d", odd.Port())).Want(1)
	if err := xml.Unmarshal([]byte(r.Stdout), new(suite)); err != nil || strings.Contains(r.Stdout, "\x1b") {
		t.Errorf("the report is no XML: %v", err)
	}
}

// thousand writes a thousand profiles that lead to one server, and one that
// hangs in the middle.
func thousand(p *testkit.Program, port, hung int) {
	var b strings.Builder
	for i := range 1000 {
		at := port
		if i == 500 && hung != 0 {
			at = hung
		}
		fmt.Fprintf(&b, "[profile.station-%03d]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"open\"\nsecret = \"none\"\n\n", i, at)
	}
	p.Profiles(b.String())
}

// memoryOf watches the most memory that a process has had, in MB, until it ends (0
// where the system has no /proc). What it is told of its children when they have
// ended is no less than this process itself had when it started them.
func memoryOf(pid int) <-chan int {
	most := make(chan int, 1)
	go func() {
		last := 0
		for {
			status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
			_, rest, found := strings.Cut(string(status), "VmHWM:")
			if err != nil || !found { // it has ended, or has nothing any more
				most <- last / 1024
				return
			}
			fmt.Sscan(rest, &last)
			time.Sleep(20 * time.Millisecond)
		}
	}()
	return most
}

// TestAThousand: memory is bounded by -parallel, not by the count, and one
// server that hangs holds nobody else up.
func TestAThousand(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	_, server := standin(t, birds())
	config := birds()
	config.Fault = postgresql.Silent
	p, silent := standin(t, config)
	thousand(p, server.Port(), silent.Port())
	cmd := exec.Command(p.Path, "test", "-all", "-parallel", "4", "-timeout", "10m", "-format", "json")
	cmd.Env = p.Env
	var text bytes.Buffer
	cmd.Stdout = &text
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { // the one that hangs goes on once all others were asked
		for server.Connections() < 999 {
			time.Sleep(20 * time.Millisecond)
		}
		silent.Close()
	}()
	most := memoryOf(cmd.Process.Pid)
	err := cmd.Wait()
	out := text.Bytes()
	var all struct {
		Profiles []testkit.Report
		Summary  map[string]float64
	}
	if jsonErr := json.Unmarshal(out, &all); jsonErr != nil || err == nil {
		t.Fatalf("%v, %v", err, jsonErr)
	}
	if all.Summary["warned"] != 999 || all.Summary["failed"] != 1 || all.Profiles[500].Outcome != "fail" || all.Profiles[999].Profile != "station-999" {
		t.Errorf("%v", all.Summary)
	}
	if megabytes := <-most; megabytes > 0 {
		t.Logf("1,000 profiles at 4 in parallel: %d MB", megabytes)
		if megabytes > 150 {
			t.Errorf("%d MB", megabytes)
		}
	}
}

func TestWait(t *testing.T) {
	t.Parallel()
	p := fleet(t)
	p.OK("wait", "sightings", "moult").Has("sightings: ready after", "moult: ready after", "1 try")
	r := p.Run("wait", "refused", "-within", "20s").Want(1)
	r.Has("refused: gave up after", "1 try", "login.password", "waiting won't help")
	if r.Took > 10*time.Second {
		t.Errorf("it took %s to give up", r.Took)
	}
	r = p.Run("wait", "refused", "-within", "3s", "-persist").Want(1).Has("refused: not ready after", "login.password").HasNot("if it only takes longer")
	if !strings.Contains(r.Stderr, "refused: waiting, login.password at stage login") || strings.Contains(r.Stdout, "1 try") {
		t.Errorf("%s%s", r.Stdout, r.Stderr)
	}
	p.Run("wait", "full", "-within", "3s").Want(1).Has("full: not ready after", "session.server-full", "-within 2m")
	// One that can't become ready ends the wait for the others.
	r = p.Run("wait", "full", "refused", "-within", "30s").Want(1).Has("full: stopped after", "refused: gave up")
	if r.Took > 10*time.Second {
		t.Errorf("it took %s to give up", r.Took)
	}
	for _, flags := range [][]string{override("database=nowhere"), override("tls=verified"), override("host=")} {
		p.Run(append([]string{"wait", "sightings", "-within", "20s"}, flags...)...).Want(1).Has("gave up")
	}
	var waits struct {
		Format int
		Waits  []struct {
			Profile, Outcome string
			Tries            int
			Report           testkit.Report
		}
	}
	if err := json.Unmarshal([]byte(p.Run("wait", "-tag", "crowd", "-format", "json", "-within", "5s", "-quiet").Want(1).Stdout), &waits); err != nil {
		t.Fatal(err)
	}
	if waits.Format != 1 || len(waits.Waits) != 2 || waits.Waits[0].Outcome != "stopped" || waits.Waits[1].Outcome != "gave-up" || waits.Waits[1].Tries != 1 || waits.Waits[1].Report.Outcome != "fail" {
		t.Errorf("%+v", waits)
	}
}

// waiting is a wait under way.
type waiting struct {
	t      *testing.T
	cmd    *exec.Cmd
	stdout bytes.Buffer
	mu     sync.Mutex
	stderr strings.Builder
}

func startWait(t *testing.T, p *testkit.Program, args ...string) *waiting {
	t.Helper()
	w := &waiting{t: t, cmd: exec.Command(p.Path, append([]string{"wait"}, args...)...)}
	w.cmd.Env, w.cmd.Stdout, w.cmd.Stderr = p.Env, &w.stdout, w
	if err := w.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return w
}

// Write takes what the program says on its standard error.
func (w *waiting) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.stderr.Write(p)
}

// says waits until the program has said something.
func (w *waiting) says(text string) {
	w.t.Helper()
	for range 1200 {
		w.mu.Lock()
		said := strings.Contains(w.stderr.String(), text)
		w.mu.Unlock()
		if said {
			return
		}
		time.Sleep(25 * time.Millisecond)
	}
	w.t.Fatalf("it did not say %q but %s", text, w.stderr.String())
}

// ready waits for the end, which must be good for all names.
func (w *waiting) ready(names ...string) {
	w.t.Helper()
	if err := w.cmd.Wait(); err != nil {
		w.t.Fatalf("%v\n%s%s", err, w.stdout.String(), w.stderr.String())
	}
	for _, name := range names {
		if !strings.Contains(w.stdout.String(), name+": ready after") {
			w.t.Errorf("%s", w.stdout.String())
		}
	}
}

// TestWaitForAServerThatStarts: nothing listens, then something accepts and
// closes, then the server says that it is starting, and then it is ready.
func TestWaitForAServerThatStarts(t *testing.T) {
	t.Parallel()
	port := testkit.FreePort(t)
	p := at(t, port)
	w := startWait(t, p, "sightings", "-within", "80s", "-timeout", "2s")
	w.says("sightings: waiting, reach.refused")
	config := birds()
	config.Address = fmt.Sprintf("127.0.0.1:%d", port)
	for _, phase := range []struct {
		fault postgresql.Fault
		code  string
	}{{postgresql.CloseAtOnce, "speak.closed"}, {postgresql.Silent, "speak.silent"}, {postgresql.Starting, "speak.starting"}} {
		config.Fault = phase.fault
		server := startAgain(t, config)
		w.says("sightings: waiting, " + phase.code)
		server.Close()
	}
	config.Fault = postgresql.NoFault
	t.Cleanup(startAgain(t, config).Close)
	w.ready("sightings")
}

// startAgain starts a stand-in on a port that another one has just left: a
// program that is being started at this moment, by another test, may still hold
// that listener until it runs.
func startAgain(t *testing.T, config postgresql.Config) *postgresql.Server {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		server, err := postgresql.Start(config)
		if err == nil {
			return server
		}
		if !errors.Is(err, syscall.EADDRINUSE) || time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
}

// TestWaitForRealServers: a PostgreSQL and a MariaDB server that are started
// while they are waited for.
func TestWaitForRealServers(t *testing.T) {
	t.Parallel()
	maria := testkit.ThrowAwayMariaDB(t)
	maria.Stop()
	postgres := testkit.ThrowAway(t)
	postgres.Stop("fast")
	p, _ := withMariaDB(t, maria, "knot")
	p.OK("set", "moult", "user=root", "secret=none", "database=")
	p.OK("set", "socket", "user=root", "secret=none", "database=")
	p.OK("add", "sightings", "-engine", "postgresql", "-host", "127.0.0.1", "-port", fmt.Sprint(postgres.Port), "-user", "postgres", "-secret", "none")
	w := startWait(t, p, "moult", "socket", "sightings", "-within", "80s")
	w.says("moult: waiting, reach.refused")
	w.says("socket: waiting, reach.socket-missing")
	w.says("sightings: waiting, reach.refused")
	maria.StartUnready()
	postgres.StartUnready()
	w.ready("moult", "socket", "sightings")
	maria.Stop()
}

func TestCompare(t *testing.T) {
	t.Parallel()
	started := time.Now().Add(-time.Hour)
	config := birds()
	config.Started = started
	p, one := standin(t, config)
	clone := birds() // the same identifier, another start
	clone.Tables, clone.ReadOnly = nil, true
	_, two := standin(t, clone)
	other := birds()
	other.Lineage = "7300000000000000099"
	_, three := standin(t, other)
	ring := rings()
	ring.Started = started
	first, err := mysql.Start(ring)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(first.Close)
	p.Setenv("KNOT", "knot")
	text := p.ReadProfiles() + "[profile.sightings.expect]\ntables = [\"sighting\", \"ring\"]\nwritable = true\n"
	for name, port := range map[string]int{"again": one.Port(), "clone": two.Port(), "other": three.Port(), "closed": testkit.ClosedPort(t)} {
		text += fmt.Sprintf("\n[profile.%s]\nlike = \"sightings\"\nport = %d\n", name, port)
	}
	text += fmt.Sprintf("\n[profile.moult]\nengine = \"mysql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"oldhand\"\ndatabase = \"moult\"\nsecret = \"env:KNOT\"\n", first.Port())
	p.Profiles(text)
	p.OK("compare", "sightings", "again").Has("same-instance: the system identifiers and the start are the same", "no fact differs")
	r := p.Run("compare", "sightings", "clone").Want(1).Has("same-lineage:", "server_started", "writable", "tables sighting", "writable true")
	if strings.Contains(r.Stdout, "tables ring") {
		t.Error("an expectation that holds on neither is shown")
	}
	p.Run("compare", "sightings", "other").Want(1).Has("different: the system identifiers differ")
	p.Run("compare", "sightings", "moult").Want(1).Has("different: one is postgresql, the other mysql")
	p.OK("compare", "moult", "moult").Has("same-instance: the server_uuid")
	p.Run("compare", "sightings", "closed").Want(6).Has("unknown:", "reach.refused")
	var c struct {
		Format       int
		Verdict, Why string
		A, B         testkit.Report
		Differs      []struct{ Fact, A, B string }
		Expectations []struct {
			Key, Want, Of string
			OnA           bool   `json:"holds_on_a"`
			OnB           bool   `json:"holds_on_b"`
			HaveB         string `json:"found_on_b"`
		}
	}
	if err := json.Unmarshal([]byte(p.Run("compare", "sightings", "clone", "-format", "json").Want(1).Stdout), &c); err != nil {
		t.Fatal(err)
	}
	if c.Format != 1 || c.Verdict != "same-lineage" || c.B.Profile != "clone" || len(c.Expectations) != 2 || !c.Expectations[0].OnA || c.Expectations[0].OnB || c.Expectations[0].HaveB == "" {
		t.Errorf("%+v", c)
	}
	for _, d := range c.Differs {
		if d.Fact == "server_lineage" {
			t.Error("the lineage does not differ")
		}
	}
}

// TestCompareReal compares real servers: one by TCP and by its socket, two that
// have nothing in common, and a replica with what it replicates.
func TestCompareReal(t *testing.T) { // not parallel: others use the second server too
	p, server := onMariaDB(t)
	second := testkit.SecondMariaDB(t)
	p.OK("compare", "moult", "socket").Has("same-instance: the server_uid, the start, the machine's name and the port are the same", "route")
	p.Profiles(p.ReadProfiles() + fmt.Sprintf("\n[profile.second]\nlike = \"admin\"\nport = %d\n", second.Port))
	p.Run("compare", "admin", "second").Want(1).Has("different: the server_uid differ")
	second.SQL(t, fmt.Sprintf("CHANGE MASTER TO MASTER_HOST='127.0.0.1', MASTER_PORT=%d", server.Port))
	defer second.SQL(t, "RESET SLAVE ALL")
	p.Run("compare", "admin", "second").Want(1).Has("same-lineage: one replicates the other", "replica_of")
	pg, _ := onReal(t)
	pg.OK("compare", "sightings", "socket").Has("same-instance")
	other := testkit.SecondPostgreSQL(t)
	pg.Profiles(pg.ReadProfiles() + fmt.Sprintf("\n[profile.second]\nlike = \"sightings\"\nport = %d\n", other.Port))
	pg.Run("compare", "sightings", "second").Want(1).Has("different: the system identifiers differ")
}
