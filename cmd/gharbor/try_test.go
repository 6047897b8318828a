//go:build linux

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/engineapi"
)

// tryWorld is where the lines to try of one finding are run: a program whose
// profile x fails, and the servers that it fails on.
type tryWorld struct {
	*testkit.Program
	t     *testing.T
	sql   func(statements ...string) // as the administrator of the server
	pg    *testkit.PostgreSQL
	maria *testkit.MariaDB
	other *testkit.MariaDB
	dir   string

	engine *engineapi.Server                // of containers; nil for none
	remake func(all []*engineapi.Container) // makes its container again as a line asks
}

// tryCase makes one finding happen and says how its lines are to be read.
type tryCase struct {
	name  string
	code  string
	setUp func(*tryWorld)
	flags []string          // of the test
	fill  map[string]string // what a person would write for a word in capitals
	// after says which code a test ends with once a line that begins so was
	// run: "ready" for none, "same" where the line only looks. A line that
	// changes something, and is not named here, must make the finding go away.
	after map[string]string
	typed string // a password to type where one is asked for
}

// TestTryLines runs every line to try, as it is printed, and sees that it
// changes what it says it changes. Words in capitals are filled in as a person
// would; what is no command, or would change this machine, is done by hand.
func TestTryLines(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	run := newTryRun(t)
	t.Run("cases", func(t *testing.T) {
		for _, c := range slices.Concat(profileCases(), secretCases(), reachCases(), speakCases(), postgresqlCases(), mariadbCases(), mysqlCases(), walletCases(), projectCases(), hopCases(), aliasCases(), oracleCases(), storeCases(), containerCases(), cloudCases()) {
			t.Run(c.name, func(t *testing.T) {
				t.Parallel()
				run.one(t, c)
			})
		}
	})
	run.covered(t)
}

// tryRun is what the cases share.
type tryRun struct {
	pg    *testkit.PostgreSQL
	maria *testkit.MariaDB
	other *testkit.MariaDB // for anonymous accounts, which get into everybody's way
	hba   sync.Mutex       // one case at a time changes the access rules

	mu    sync.Mutex
	lines []string // as printed
}

// step is a command to try, or a step to do.
type step struct {
	line   string // as printed
	advice bool   // no command that works as it stands: a person fills in words, or does what it says
}

// toFill finds a word to fill in.
var toFill = regexp.MustCompile(`[=: ][A-Z][A-Z-]{2,}\b`)

// administrators stands before what an administrator's profile does, for the cases.
const administrators = "as an administrator: "

// unseen ends a statement with a password in it.
const unseen = " (in a session, not in a shell's history)"

// subject is the line as the cases name it: the command within advice; what an administrator's profile runs as what an
// administrator is to run.
func (s step) subject() string {
	line := strings.TrimSuffix(s.line, unseen)
	if statement, ok := strings.CutPrefix(line, "gharbor query admin "); ok {
		out, _ := exec.Command("bash", "-c", "printf %s "+statement).Output()
		return "as an administrator, run: " + string(out)
	}
	if rest, ok := strings.CutPrefix(line, "with an administrator's profile: "); ok {
		command, _, _ := strings.Cut(rest, " (it sends ")
		return administrators + strings.Replace(command, "-as ADMIN", "-as admin", 1)
	}
	if strings.HasPrefix(line, "gharbor provision ") || strings.HasPrefix(line, "gharbor secret rotate ") {
		return administrators + line
	}
	if at := regexp.MustCompile(`^[^:]*: (gharbor|ssh-add|export|rm) `).FindStringSubmatchIndex(line); s.advice && at != nil {
		line = line[at[2]:]
		if i := strings.LastIndex(line, " ("); i > 0 && strings.HasSuffix(line, ")") {
			line = line[:i]
		}
	}
	return line
}

const tryRules = `local all postgres trust
local all all peer
host all all_trust 127.0.0.1/32 trust
host all all_md5 127.0.0.1/32 md5
host all all_clear 127.0.0.1/32 password
hostssl all all_tls 127.0.0.1/32 scram-sha-256
hostssl all certified 127.0.0.1/32 cert
host all all_banned 127.0.0.1/32 reject
host all admin,warden,nosuch,nologin,nologin2,expired,unset,oldhash,limited,quiet 127.0.0.1/32 scram-sha-256
`

func newTryRun(t *testing.T) *tryRun {
	return &tryRun{
		pg: testkit.ThrowAwayWith(t, tryRules, "CREATE ROLE admin SUPERUSER LOGIN PASSWORD 'knot'", "CREATE ROLE warden LOGIN PASSWORD 'knot'", "CREATE DATABASE sightings OWNER warden",
			"CREATE ROLE all_trust LOGIN", "CREATE ROLE all_clear LOGIN PASSWORD 'knot'", "CREATE ROLE all_tls LOGIN PASSWORD 'knot'", "CREATE ROLE certified LOGIN",
			"CREATE ROLE quiet LOGIN PASSWORD 'knot'", "ALTER ROLE quiet SET default_transaction_read_only = on"),
		maria: testkit.ThrowAwayMariaDB(t, "--skip-name-resolve"), other: testkit.ThrowAwayMariaDB(t, "--skip-name-resolve"),
	}
}

func (r *tryRun) one(t *testing.T, c tryCase) {
	probe := r.world(t, c)
	steps := probe.fails(c)
	if len(steps) == 0 {
		t.Fatal("the finding has nothing to try")
	}
	for i, one := range steps {
		w := probe
		if i > 0 { // each line in a world of its own, which may have other paths and ports
			w = r.world(t, c)
			one = w.fails(c)[i]
		}
		line := one.line
		if command, _, _ := strings.Cut(line, "   #"); !one.advice && !strings.HasPrefix(line, "gharbor query ") && toFill.MatchString(command) {
			t.Errorf("in the line to try\n  %s\nsomething must be filled in", line)
		}
		r.mu.Lock()
		r.lines = append(r.lines, line, strings.NewReplacer(busyLimit, "", " -timeout 3s", "", " -as admin", "").Replace(line))
		if statement, ok := strings.CutPrefix(one.subject(), "as an administrator, run: "); ok {
			r.lines = append(r.lines, statement)
		}
		if command, ok := strings.CutPrefix(one.subject(), administrators); ok {
			command, _, _ = strings.Cut(command, "   #")
			r.lines = append(r.lines, strings.NewReplacer(busyLimit, "", " -timeout 3s", "", "-as admin", "-as ADMIN").Replace(command))
		}
		r.mu.Unlock()
		changes := w.do(r, c, one)
		want, named := "", false
		for prefix, code := range c.after {
			if strings.HasPrefix(one.subject(), prefix) {
				want, named = code, true
			}
		}
		if !named && !changes {
			continue
		}
		have := w.codeAfter(c)
		switch {
		case !named && have == c.code, want == "same" && have != c.code, named && want != "same" && have != want:
			t.Errorf("after the line\n  %s\nthe test ends with %s, want %q", line, have, want)
		}
	}
}

func (r *tryRun) world(t *testing.T, c tryCase) *tryWorld {
	p := testkit.NewProgram(t)
	for name, value := range map[string]string{"KNOT": "knot", "WRONG": "dunlin", "EMPTY": ""} {
		p.Setenv(name, value)
	}
	w := &tryWorld{Program: p, t: t, pg: r.pg, maria: r.maria, other: r.other, dir: t.TempDir()}
	c.setUp(w)
	return w
}

// fails tests the profile and returns what to try and to do of the finding wanted.
func (w *tryWorld) fails(c tryCase) (steps []step) {
	w.t.Helper()
	s := w.finding(c)
	if s.Finding == nil || s.Finding.Code != c.code {
		w.t.Fatalf("the test does not come to %s: %+v %+v", c.code, s, s.Finding)
	}
	for _, line := range s.Finding.Try {
		steps = append(steps, step{line, false})
	}
	for _, line := range s.Finding.Do {
		steps = append(steps, step{line, true})
	}
	return steps
}

// busyLimit is the limit of a test that a busy machine ended at the usual one.
const busyLimit = " -timeout 30s"

// byTime ends the codes that only time shows.
var byTime = regexp.MustCompile(`\.(timeout|silent|unfinished|dropped|engine-slow|no-answer)$`)

// finding is the first finding of a test that is not ok.
func (w *tryWorld) finding(c tryCase) testkit.Stage {
	w.t.Helper()
	found := w.findingWithin(c, " -timeout 3s")
	if found.Finding != nil && found.Finding.Code != c.code && byTime.MatchString(found.Finding.Code) {
		return w.findingWithin(c, busyLimit)
	}
	return found
}

func (w *tryWorld) findingWithin(c tryCase, limit string) testkit.Stage {
	w.t.Helper()
	r := w.Test("x", append(strings.Fields(limit), c.flags...)...)
	var first testkit.Stage
	for _, s := range r.Stages {
		switch {
		case s.Finding == nil:
		case s.Finding.Code == c.code:
			return s
		case s.Outcome == "fail" || first.Finding == nil:
			first = s
		}
	}
	return first
}

// codeAfter is the code that a test ends with, asked on a terminal where
// somebody must type.
func (w *tryWorld) codeAfter(c tryCase) string {
	w.t.Helper()
	s := w.finding(c)
	switch {
	case s.Finding == nil:
		return "ready"
	case s.Finding.Code == "secret.no-terminal" && c.typed != "":
		session := w.OnTerminal("test", "x").Expect("(not shown)").Type(c.typed + "\n").Expect("ready")
		session.Ends(0)
		return "ready"
	}
	return s.Finding.Code
}

// do runs a line and says whether it is one that changes something. What stands behind try is run as it is printed; in
// advice a person fills words in.
func (w *tryWorld) do(r *tryRun, c tryCase, one step) (changes bool) {
	w.t.Helper()
	line := one.line
	for _, left := range []map[string]string{leftToPeople, leftToSignIn} {
		for prefix := range left {
			if start, _, _ := strings.Cut(prefix, "%s"); strings.HasPrefix(line, start) && (one.advice || start == "gharbor cloud sign-in ") {
				return false
			}
		}
	}
	filled := one.subject()
	if one.advice {
		for word, value := range c.fill {
			filled = strings.ReplaceAll(filled, word, value)
		}
	} else if strings.HasPrefix(line, "gharbor query ") {
		w.shell(line, "")
		return !strings.Contains(line, "SELECT")
	}
	command, comment, _ := strings.Cut(strings.TrimPrefix(filled, administrators), "   #")
	for _, who := range []string{"as an administrator, run: ", "as root, run: ", "on the server: SELECT "} {
		text, ok := strings.CutPrefix(command, who)
		switch {
		case !ok:
			continue
		case strings.HasSuffix(who, "SELECT "):
			text = "SELECT " + text
		}
		w.sql(strings.Split(text, "; ")...)
		return !strings.HasPrefix(text, "SELECT")
	}
	if rule, ok := strings.CutPrefix(command, "on the server, in pg_hba.conf: "); ok {
		rule, _, _ = strings.Cut(rule, " (")
		w.addRule(r, rule)
		return true
	}
	if strings.HasPrefix(command, "on the server: SET ") {
		return w.byHand(r, line)
	}
	if strings.HasPrefix(command, "sudo ") && !strings.HasPrefix(command, "sudo chown ") {
		return false // it would start a server of this machine's
	}
	if own, ok := strings.CutPrefix(command, "as grace, run: "); ok {
		w.sql(own)
		return true
	}
	for _, word := range []string{"on the server", "write ", "make the container again ", "copy the data out", "add to the service: "} {
		if strings.HasPrefix(command, word) {
			return w.byHand(r, line)
		}
	}
	if strings.HasPrefix(command, "read -rs") {
		return w.typing(command)
	}
	if strings.HasPrefix(command, "${EDITOR") {
		_, option, _ := strings.Cut(comment, "a line ")
		text := "'" + option + "'" // of an option file, whose last group it is
		w.shell(command, "")
		w.shell(fmt.Sprintf("printf '%%s\\n' %s >> %s", strings.ReplaceAll(text, "PASSWORD", "knot"), strings.Fields(command)[1]), "")
		return true
	}
	if strings.Contains(command, "-override secret=ask") {
		words := strings.Fields(strings.Replace(command, " -timeout 3s", busyLimit, 1))[1:]
		session := w.OnTerminal(words...).Expect("(not shown)").Type(c.typed + "\n")
		session.Expect("ready").Ends(0)
		return false
	}
	if strings.Contains(command, " -save") { // asks for the fingerprint to be compared
		w.OnTerminal(strings.Fields(command)[1:]...).Expect("is it the same?").Type("y\n").Ends(0)
		return true
	}
	for _, prefix := range []string{"ask the administrator", "ssh -v ", "ssh -G ", "ssh-add ", "ssh-copy-id ", "ssh-keygen -y", "ssh-keygen -p", "getent hosts no-such"} { // see notRun
		if strings.HasPrefix(command, prefix) {
			return false
		}
	}
	if strings.HasPrefix(command, "gharbor hop pin ") { // asks for the fingerprint to be compared
		session := w.OnTerminal(strings.Fields(command)[1:]...)
		if c.code == "hop.host-key-changed" { // refused, always
			session.Ends(5)
			return true
		}
		session.Expect("is it the right key?").Type("y\n").Ends(0)
		return true
	}
	if strings.HasPrefix(filled, administrators) && !strings.Contains(w.ReadProfiles(), "[profile.admin]") {
		return false // a simulated server of which an administrator knows nothing
	}
	if asks(command) {
		w.dialogue(command)
		return true
	}
	w.shell(command, "")
	if strings.HasPrefix(command, "gharbor set ") {
		w.isSet(command)
		return true
	}
	if strings.HasPrefix(command, "gharbor container start ") || strings.HasPrefix(command, "gharbor container stop ") {
		return true
	}
	return strings.HasPrefix(command, "chmod ") || strings.HasPrefix(command, "ssh-keygen -R") || strings.HasPrefix(command, "gharbor hop add ") || strings.HasPrefix(command, "gharbor alias add ") || strings.HasPrefix(command, "gharbor alias set ") || strings.HasPrefix(command, "gharbor cloud ") || strings.HasPrefix(command, "sudo chown ")
}

// shell runs a command as a person's shell would. A test may fail, a command
// that is not understood may not.
func (w *tryWorld) shell(command, input string) string {
	w.t.Helper()
	cmd := exec.Command("bash", "-c", command)
	cmd.Dir, cmd.Stdin = w.dir, strings.NewReader(input)
	bin := filepath.Join(w.dir, "bin")
	os.MkdirAll(bin, 0o700)
	for name, text := range map[string]string{"sudo": "#!/bin/sh\nexec \"$@\"\n", "vi": "#!/bin/sh\nexit 0\n", "docker": "#!/bin/sh\nexit 0\n"} {
		os.WriteFile(filepath.Join(bin, name), []byte(text), 0o700)
	}
	cmd.Env = append(slices.Clone(w.Env), "PATH="+filepath.Dir(w.Path)+":"+bin+":"+os.Getenv("PATH"))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	// A wait that would take its minute is seen to wait, and ended by Ctrl-C.
	waits := strings.HasPrefix(command, "gharbor wait ") || strings.Contains(command, "-timeout ")
	if waits {
		stop := time.AfterFunc(2*time.Second, func() { syscall.Kill(-cmd.Process.Pid, syscall.SIGINT) })
		defer stop.Stop()
	}
	err := cmd.Wait()
	code := cmd.ProcessState.ExitCode()
	for prefix, codes := range map[string][]int{"gharbor test ": {1}, "gharbor wait ": {1, 130}, "gharbor show ": {3}, "getent ": {2}, "gharbor certificate ": {5}, "gharbor container scan": {5},
		"gharbor cloud instances ": {4, 5}, "gharbor cloud who ": {4, 5}, "gharbor cloud check ": {1, 5}} {
		if strings.HasPrefix(command, prefix) && (slices.Contains(codes, code) || waits && (code == 130 || code == -1)) { // -1: it had not come as far as to listen for it
			err = nil
		}
	}
	if err != nil {
		w.t.Errorf("the line\n  %s\nends with %d:\n%s", command, code, out.String())
	}
	return out.String()
}

// typing runs a command that reads a password from its input, in a shell in
// which the test comes after it.
func (w *tryWorld) typing(command string) bool {
	w.t.Helper()
	out := w.shell(strings.TrimSpace(command)+"; gharbor test x", "knot\n")
	if !strings.Contains(out, "ready: ") && !strings.Contains(out, "login.") {
		w.t.Errorf("after\n  %s\n%s", command, out)
	}
	return false
}

// isSet sees that `gharbor set` did what its words say.
func (w *tryWorld) isSet(command string) {
	w.t.Helper()
	var shown struct {
		Values []struct {
			Key    string
			Value  any
			Origin struct{ Kind string }
		}
	}
	if err := json.Unmarshal([]byte(w.OK("show", "x", "-format", "json").Stdout), &shown); err != nil {
		w.t.Fatal(err)
	}
	for _, word := range strings.Fields(command)[3:] {
		key, value, ok := strings.Cut(word, "=")
		if !ok {
			continue
		}
		have, fromFile := "", false
		for _, v := range shown.Values {
			if v.Key == key && v.Origin.Kind == "file" {
				have, fromFile = fmt.Sprint(v.Value), true
				if labels, ok := v.Value.(map[string]any); ok {
					have = fmt.Sprintf("%v/%v", labels["project"], labels["service"])
				}
				if list, ok := v.Value.([]any); ok {
					have = strings.Trim(strings.Join(strings.Fields(fmt.Sprint(list)), ","), "[]")
				}
			}
		}
		if value == "" && fromFile || value != "" && !fromFile || value != "" && !strings.Contains(value, "$") && have != value && have != filepath.Join(w.dir, value) {
			w.t.Errorf("after\n  %s\n%s is %q", command, key, have)
		}
	}
}

// addRule puts a line before the others of the access rules.
func (w *tryWorld) addRule(r *tryRun, line string) {
	w.t.Helper()
	r.hba.Lock()
	defer r.hba.Unlock()
	old, err := os.ReadFile(filepath.Join(r.pg.Folder, "data/pg_hba.conf"))
	if err == nil {
		err = r.pg.Write("data/pg_hba.conf", line+"\n"+string(old))
	}
	if err != nil {
		w.t.Fatal(err)
	}
	w.sql("SELECT pg_reload_conf()")
	w.sql("SELECT pg_sleep(0.3)")
}

// byHand does what a line asks for in words.
func (w *tryWorld) byHand(r *tryRun, line string) bool {
	w.t.Helper()
	switch {
	case w.engine != nil && w.remake != nil:
		w.engine.Change(func(all *[]*engineapi.Container) { w.remake(*all) })
	case strings.Contains(line, "SET password_encryption"):
		w.sql("SET password_encryption = 'scram-sha-256'; ALTER ROLE all_md5 PASSWORD 'knot'")
		w.addRule(r, "host all all_md5 127.0.0.1/32 scram-sha-256")
	case strings.Contains(line, "scram-sha-256 instead of password"):
		w.addRule(r, "host all all_clear 127.0.0.1/32 scram-sha-256")
	case strings.HasPrefix(line, "write "):
		path := filepath.Join(filepath.Dir(w.Home), ".pgpass")
		data, err := os.ReadFile(path)
		if err != nil {
			w.t.Fatal(err)
		}
		os.WriteFile(path, []byte(strings.Replace(string(data), "*", strings.Fields(line)[1], 1)), 0o600)
	case strings.HasPrefix(line, "on the server, run: ss -ltn"), strings.HasPrefix(line, "on the server: start the instance"):
		return false // there is none here
	case strings.HasPrefix(line, "on the server: set ssl"), strings.HasPrefix(line, "on the server: a line for this"), strings.HasPrefix(line, "on the server: use a certificate"), strings.HasSuffix(line, "or update it"):
		return false // see notRun
	default:
		w.t.Errorf("nobody does by hand what the line says:\n  %s", line)
	}
	return true
}

// notRun are lines that no test can run, with the reason.
var notRun = map[string]string{
	"gharbor cloud show %s   # is its comm":    "needs a program that can't be asked; TestCloudScript has one",
	"gharbor tunnel show %s":                   "of a program that waits for a way that is down; core/tunnel has it",
	"gharbor tunnel open %s -login":            "of a program's wish; TestLocalLogin comes upon it",
	"cat %s":                                   "the password of a local address; TestLocalLoginPassword reads it",
	"gharbor test %s -timeout 1m":              "needs an agent whose owner confirms; core/route/hop has one that does not",
	"say which port this one has: gharbor":     "of two containers on the host's network; core/container/find has them",
	"${EDITOR:-vi} +%d %s   # remove it":       "an editor; core/audit has histories with passwords",
	"unset %s   # and take":                    "of the shell's own variables; core/audit has some",
	"gharbor import %s -into wallet":           "of audit; import has its own tests",
	"gharbor set %s note=":                     "of audit; core/audit has a note with a password",
	"docker context use default":               "it changes what the engine's client uses; core/container/api has such a context",
	"unset %s   # looks at":                    "of a variable that names no socket; core/container/find has it",
	"gharbor test %s   # by itself it":         "needs a shell that lets few files be open; core/route has it",
	"gharbor container make %s -image":         "of container make; TestContainerMake comes upon it",
	"make it: gharbor container make %s":       "of container make; it fetches the image",
	"gharbor container adopt %s   # a profile": "of container make; TestContainerAdopt adopts",
	"gharbor container remove %s   # to make":  "of container make; TestContainerMake removes",
	"gharbor container start %s   # to use it": "of container make; TestContainerStates starts",
	"%s pull %s":                               "it fetches from a registry",
	"%s images":                                "of container make",
	"give the command one of them":             "a flag of container make; TestContainerTwoEngines gives it",
	"gharbor container start %s -within 5m":    "of container start, which it says again",
	"ls -l %s":                                 "root may use every socket; TestContainerEndpoints has it",
	"sudo usermod -aG docker":                  "it changes this machine",
	"apt-get install ca-certificates":          "it changes this machine",
	"ip route get":                             "needs an address that no route leads to",
	"cat /etc/resolv.conf":                     "needs name servers that do not answer",
	"getent hosts":                             "needs name servers that do not answer",
	"gharbor test %s -timeout 30s":             "needs an address that swallows packets",
	"on the server: set ssl = on":              "another configuration of the server; a test in TestRealFindings has both",
	"on the server: set ssl_cert":              "another configuration of the server; the second MariaDB server has none",
	"on the server: %s, or update it":          "needs a server of before TLS 1.2",
	"on the server: a line for this":           "needs a server that asks for GSSAPI",
	"ls -ld %s %s":                             "root may use every socket; TestRealSocketPermission has it",
	"ls -ld %s":                                "needs a folder of another user's",
	"sudo chown %d %s":                         "run as root only",
	"gharbor set %s host=%s tls-name":          "needs a name that only a directory knows; a test in core/route has it",
	"gharbor wallet verify":                    "the passphrase is typed on a terminal; TestWalletFiles has it",
	"name the certificate and its key: ":       "run where a server asks for one",
	"ask the administrator of":                 "it is somebody else's to do",
	"ssh-copy-id -i":                           "it asks for a password of this machine's",
	"ssh-keygen -y -f":                         "it asks for the passphrase itself",
	"ssh-keygen -p -f":                         "it asks for the passphrase itself",
	"ssh-add ":                                 "needs an agent of the system's",
	"gharbor alias resolve %s":                 "needs name servers that do not answer; TestSRVAlias and TestCheck have it",
	"gharbor alias set %s tls=verified":        "a knock's; core/alias has it",
	"gharbor alias show %s   # are":            "a knock's; TestAliasKnock has it",
	"gharbor alias used %s":                    "that of alias check; TestAliasMoves has it",
	"gharbor test %s   # type the password":    "the password is typed on a terminal; TestAskWithoutEcho has it",
	"gharbor test %s -override secret=none":    "the password is typed on a terminal; TestAskWithoutEcho has it",
	"%s   # at a port that is free":            "of container make; TestContainerMake comes upon it",
	"choose a free port":                       "of container make on another machine",
	"FLUSH PRIVILEGES":                         "needs a MariaDB server that locked an account; core/engine/mysql has it",
	"gharbor show %s   # is it the right lis":  "needs a listener that redirects to no address",
	"on the pooler: ":                          "needs a pooler; TestPooler comes upon it", "or on the pooler: ": "needs a pooler; TestPooler comes upon it",
	"gharbor wait %s   # if its server":                 "needs a pooler; TestPooler comes upon it",
	"on the server: name the proxy's":                   "needs a proxy; TestProxyHeader comes upon it",
	"or on the proxy: ":                                 "needs a proxy; TestProxyHeader comes upon it",
	"on the server: set hot_standby":                    "needs a standby; TestRealStoppingAndRecovering has one",
	"or name the primary: ":                             "needs a standby; TestRealStoppingAndRecovering has one",
	"on the server: start it without skip-grant-tables": "needs a server of that kind; TestUncheckedAccounts has one",
	"on the server: use a certificate":                  "needs a server with an RSA-PSS key",
	"ALTER ROLE %s RESET idle_session":                  "needs a session that was idle for long",
	"ALTER ROLE %s SET statement_timeout":               "needs a server that is slow; core/engine/postgresql has it",
	"ALTER USER %s REQUIRE SUBJECT":                     "TestMariaDBCertificates comes upon it",
	"name the certificate of that role":                 "TestClientCertificates comes upon it",
	"or on the server: map the name":                    "TestClientCertificates comes upon it",
	"gharbor test %s -override user=%s   # the cert":    "TestClientCertificates comes upon it",
	"if %s stands between":                              "TestClientCertificates comes upon it",
	"name a certificate too: ":                          "TestAges comes upon it",
	"ALTER USER %s WITH %s 0":                           "TestAccountLimits comes upon it",
	"FLUSH USER_RESOURCES":                              "TestAccountLimits comes upon it",
	"SELECT @@init_connect":                             "TestAccountLimits comes upon it",
	"SET GLOBAL init_connect":                           "TestAccountLimits comes upon it",
	"SELECT @@max_statement_time":                       "needs a server that is slow",
	"SELECT line_number, type":                          "needs a server that asks LDAP or the like",
	"ask the firewall's administrator":                  "needs a firewall that rejects; core/route has it",
	"gharbor show %s   # the host and where":            "TestTwinAddresses comes upon it",
	"gharbor test %s -override host=%s":                 "TestOtherLoopback comes upon it",
	"gharbor set %s host=%s":                            "TestOtherLoopback comes upon it",
	"gharbor test %s -full":                             "needs a server whose functions are all taken away",
	"gharbor test %s -override tls-start=":              "TestAges comes upon it", "gharbor set %s tls-start=": "TestAges comes upon it",
	"gharbor query %s %s":                         "of findings that are looked up; TestAccountLimits comes upon one",
	"put its list into":                           "core/tlsrule has it",
	"fetch the authority's":                       "core/tlsrule has it",
	"put the root certificate":                    "core/tlsrule has it",
	"gharbor set %s tls-key-secret":               "core/tlsrule has it",
	"or name where it is: gharbor set %s tls-key": "core/tlsrule has it",
	"gharbor show %s   # where tls-key":           "core/tlsrule has it",
	"ls -l ~/.ssh/config":                         "needs a configuration that root can't read",
}

// covered sees that every line to try that the code can print was run.
func (r *tryRun) covered(t *testing.T) {
	for _, format := range suggestions(t, "../../core", "../../core/audit") { // TestAuditTryLines has the audit's
		if slices.ContainsFunc(r.lines, printedBy(format)) {
			continue
		}
		excused := false
		for _, reasons := range []map[string]string{notRun, leftToPeople, leftToSignIn} {
			for prefix := range reasons {
				excused = excused || strings.HasPrefix(format, prefix)
			}
		}
		if !excused {
			t.Errorf("no case runs the line %q", format)
		}
	}
	t.Logf("%d lines were run", len(r.lines))
}

// printedBy reports of a line whether a format printed it.
func printedBy(format string) func(line string) bool {
	percent := strings.ReplaceAll(regexp.QuoteMeta(format), "%%", "\x00")
	return regexp.MustCompile("^" + strings.ReplaceAll(verb.ReplaceAllString(percent, "(.+)"), "\x00", "%") + "$").MatchString
}

var verb = regexp.MustCompile(`%[0-9]*[sdqo]`)

// suggestions are the formats of all lines to try, read from the source.
func suggestions(t *testing.T, folder, except string) []string {
	t.Helper()
	found := make(map[string]bool)
	err := filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		if err != nil || except != "" && strings.HasPrefix(path, except) || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) == 0 {
				return true
			}
			name, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			format := 0
			switch name.Sel.Name {
			case "Suggest", "Advise", "AdviseUnseen":
			case "AsAdmin":
				format = 1
			case "ByAdmin":
				found["gharbor "+assembled(call.Args[1])+" -as ADMIN"] = true
				return true
			default:
				return true
			}
			if text, isText := literal(call.Args[format]); isText {
				found[text] = true
			}
			return true
		})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for text := range found {
		if text != "%s" { // a line that was put together before: what its stage prints is run
			all = append(all, text)
		}
	}
	slices.Sort(all)
	return all
}

// assembled is a text that is put together of literals and values, with %s for a value.
func assembled(e ast.Expr) string {
	if sum, ok := e.(*ast.BinaryExpr); ok {
		return assembled(sum.X) + assembled(sum.Y)
	}
	if text, ok := literal(e); ok {
		return text
	}
	return "%s"
}

// literal is a text in the source, also one that is put together of several lines.
func literal(e ast.Expr) (text string, ok bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		left, ok := literal(e.X)
		right, also := literal(e.Y)
		return left + right, ok && also
	}
	return "", false
}
