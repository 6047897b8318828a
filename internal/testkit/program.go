// Package testkit is what the tests share: it builds the program once and runs
// it on a temporary home, starts throw-away real servers, and searches for
// secrets in whatever a run leaves behind.
package testkit

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"gentleharbor/core/finding"
	"gentleharbor/internal/testkit/nolocks"
	"gentleharbor/standin/serve"
)

// build makes the program once per test run.
var build = sync.OnceValues(func() (string, error) {
	if path := os.Getenv(aloneIn); path != "" { // made by the process that started this one
		return path, nil
	}
	folder, err := os.MkdirTemp("", "gharbor-build-")
	if err != nil {
		return "", err
	}
	onExit(func() { os.RemoveAll(folder) })
	path := filepath.Join(folder, "gharbor")
	cmd := exec.Command("go", "build", "-o", path, "gentleharbor/cmd/gharbor")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", errors.New(string(out))
	}
	return path, nil
})

var (
	exitMu    sync.Mutex
	exitFuncs []func()
	mainRuns  atomic.Bool
)

// onExit notes what to do at the end of the tests. Without Main nothing would do it.
func onExit(f func()) {
	if testing.Testing() && !mainRuns.Load() {
		panic("testkit: these tests leave files behind without func TestMain(m *testing.M) { testkit.Main(m) }")
	}
	exitMu.Lock()
	defer exitMu.Unlock()
	exitFuncs = append(exitFuncs, f)
}

// Main runs a package's tests and clears up after them.
func Main(m *testing.M) {
	mainRuns.Store(true)
	nolocks.Launch()
	settle()
	code := m.Run()
	StopAll()
	if err := writeCodes(os.Getenv("GHARBOR_CODES")); err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

// StopAll stops the servers that were started and removes what was made.
func StopAll() {
	exitMu.Lock()
	defer exitMu.Unlock()
	for i := len(exitFuncs) - 1; i >= 0; i-- {
		exitFuncs[i]()
	}
	exitFuncs = nil
}

// Program is the built program with a home of its own.
type Program struct {
	t      testing.TB
	Path   string
	Home   string   // GHARBOR_HOME
	Dir    string   // to run it in; "" for the folder above Home
	Env    []string // the whole environment
	Prefix []string // the words of a program that runs it, none for itself
}

// NewProgram builds the program and gives it a home in a temporary folder.
func NewProgram(t testing.TB) *Program {
	t.Helper()
	path, err := build()
	if err != nil {
		t.Fatalf("the program does not build: %v", err)
	}
	home := t.TempDir()
	return &Program{t: t, Path: path, Home: filepath.Join(home, "gharbor"),
		// no engine of this machine is asked
		Env: []string{"GHARBOR_HOME=" + filepath.Join(home, "gharbor"), "HOME=" + home, "PATH=" + os.Getenv("PATH"),
			"USER=warden", "GHARBOR_ENGINES="}}
}

// Setenv sets a variable of the program's environment.
func (p *Program) Setenv(name, value string) {
	for i, pair := range p.Env {
		if strings.HasPrefix(pair, name+"=") {
			p.Env[i] = name + "=" + value
			return
		}
	}
	p.Env = append(p.Env, name+"="+value)
}

// Unsetenv takes a variable out of the program's environment.
func (p *Program) Unsetenv(name string) {
	p.Env = slices.DeleteFunc(p.Env, func(pair string) bool { return strings.HasPrefix(pair, name+"=") })
}

// Result is how a run ended.
type Result struct {
	t              testing.TB
	Args           []string
	Stdout, Stderr string
	Code           int
	Took           time.Duration
}

// Run runs the program without a terminal, and with nothing to read.
func (p *Program) Run(args ...string) *Result {
	p.t.Helper()
	return p.Feed("", args...)
}

// Feed runs the program with a text as its standard input.
func (p *Program) Feed(input string, args ...string) *Result {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	words := append(append(append([]string{}, p.Prefix...), p.Path), args...)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env = p.Env
	cmd.Dir = p.Dir
	if cmd.Dir == "" {
		cmd.Dir = filepath.Dir(p.Home)
	}
	cmd.Stdin = strings.NewReader(input)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	start := time.Now()
	err := cmd.Run()
	r := &Result{t: p.t, Args: args, Stdout: stdout.String(), Stderr: stderr.String(), Took: time.Since(start)}
	var exit *exec.ExitError
	switch {
	case errors.As(err, &exit):
		r.Code = exit.ExitCode()
	case err != nil:
		p.t.Fatalf("gharbor %s: %v", strings.Join(args, " "), err)
	}
	noteCodes(r)
	return r
}

// printed are the words of runs that may be codes of findings.
var (
	printed   = make(map[string]bool)
	printedMu sync.Mutex
)

var codeWord = regexp.MustCompile(`\b[a-z]+\.[a-z][a-z0-9-]+`)

// noteCodes notes the codes that a run printed, but for a page about one.
func noteCodes(r *Result) {
	if len(r.Args) == 0 || r.Args[0] == "explain" || r.Args[0] == "help" {
		return
	}
	printedMu.Lock()
	defer printedMu.Unlock()
	for _, text := range []string{r.Stdout, r.Stderr} {
		for _, word := range codeWord.FindAllString(text, -1) {
			printed[word] = true
		}
	}
}

// writeCodes writes what noteCodes noted, a word a line; nowhere for no path.
func writeCodes(path string) error {
	if path == "" {
		return nil
	}
	printedMu.Lock()
	defer printedMu.Unlock()
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600) // which other processes write too
	if err != nil {
		return err
	}
	_, err = file.WriteString(strings.Join(slices.Sorted(maps.Keys(printed)), "\n") + "\n")
	return errors.Join(err, file.Close())
}

// OK runs the program and wants exit code 0.
func (p *Program) OK(args ...string) *Result {
	p.t.Helper()
	return p.Run(args...).Want(0)
}

// Want checks the exit code.
func (r *Result) Want(code int) *Result {
	r.t.Helper()
	if r.Code != code {
		r.t.Fatalf("gharbor %s: exit code %d, want %d\n%s%s", strings.Join(r.Args, " "), r.Code, code, r.Stdout, r.Stderr)
	}
	return r
}

// wrapped finds where a sentence goes on in the next line.
var wrapped = regexp.MustCompile(`\n {2,}`)

// Has checks that the output has all the texts, stdout and stderr together. Where a line was wrapped matters not.
func (r *Result) Has(texts ...string) *Result {
	r.t.Helper()
	out := r.Stdout + r.Stderr
	unwrapped := wrapped.ReplaceAllString(out, " ")
	for _, text := range texts {
		if !strings.Contains(out, text) && !strings.Contains(unwrapped, text) {
			r.t.Errorf("gharbor %s: no %q in\n%s%s", strings.Join(r.Args, " "), text, r.Stdout, r.Stderr)
		}
	}
	return r
}

// HasNot checks that the output has none of the texts.
func (r *Result) HasNot(texts ...string) *Result {
	r.t.Helper()
	for _, text := range texts {
		if strings.Contains(r.Stdout+r.Stderr, text) {
			r.t.Errorf("gharbor %s: %q in\n%s%s", strings.Join(r.Args, " "), text, r.Stdout, r.Stderr)
		}
	}
	return r
}

// Report is `test -format json` as a reader of docs/output.md would read it.
type Report struct {
	Profile string         `json:"profile"`
	Outcome string         `json:"outcome"`
	MS      float64        `json:"ms"`
	Facts   map[string]any `json:"facts"`
	Stages  []Stage        `json:"stages"`
}

// Stage is one stage of a Report.
type Stage struct {
	Stage   string `json:"stage"`
	Outcome string `json:"outcome"`
	Detail  string `json:"detail"`
	Finding *struct {
		Code  string   `json:"code"`
		Cause string   `json:"cause"`
		Seen  []string `json:"seen"`
		Try   []string `json:"try"`
		Do    []string `json:"do"`
	} `json:"finding"`
}

// StageTime is the time that a report in JSON gives for a stage.
func StageTime(report []byte, stage string) (time.Duration, error) {
	var all struct {
		Profiles []struct {
			Stages []struct {
				Stage string
				MS    float64
			}
		}
	}
	if err := json.Unmarshal(report, &all); err != nil || len(all.Profiles) != 1 {
		return 0, fmt.Errorf("no report: %v", err)
	}
	for _, s := range all.Profiles[0].Stages {
		if s.Stage == stage {
			return time.Duration(s.MS * float64(time.Millisecond)), nil
		}
	}
	return 0, fmt.Errorf("no stage %s", stage)
}

// Report decodes the output of a test.
func (r *Result) Report() *Report {
	r.t.Helper()
	var all struct {
		Format   int      `json:"format"`
		Profiles []Report `json:"profiles"`
	}
	if err := json.Unmarshal([]byte(r.Stdout), &all); err != nil || all.Format != 1 || len(all.Profiles) != 1 {
		r.t.Fatalf("gharbor %s: no report (%v) in\n%s%s", strings.Join(r.Args, " "), err, r.Stdout, r.Stderr)
	}
	return &all.Profiles[0]
}

// Test tests a profile and returns its report.
func (p *Program) Test(name string, flags ...string) *Report {
	p.t.Helper()
	return p.Run(append([]string{"test", name, "-format", "json"}, flags...)...).Report()
}

// Stage returns the named stage.
func (r *Report) Stage(name string) Stage {
	for _, s := range r.Stages {
		if s.Stage == name {
			return s
		}
	}
	return Stage{}
}

// Ends checks at which stage a test ended with which outcome and code, and
// that what follows a failure was skipped.
func (r *Report) Ends(t testing.TB, stage, outcome, code string) Stage {
	t.Helper()
	s := r.Stage(stage)
	have := ""
	if s.Finding != nil {
		have = s.Finding.Code
	}
	if s.Outcome != outcome || have != code {
		var all strings.Builder
		for _, other := range r.Stages {
			fmt.Fprintf(&all, "%s %s %s\n", other.Stage, other.Outcome, other.Detail)
			if other.Finding != nil {
				fmt.Fprintf(&all, "  %+v\n", *other.Finding)
			}
		}
		t.Fatalf("stage %s is %s %q, want %s %q\n%s", stage, s.Outcome, have, outcome, code, all.String())
	}
	area, _, _ := strings.Cut(stage, " ") // hop 1
	if page, ok := finding.PageOf(finding.Code(code)); code != "" && (!ok || !slices.Contains(page.Stages, area)) {
		t.Errorf("%s came at the stage %s, and its page says %v", code, stage, page.Stages)
	}
	after := false
	for _, other := range r.Stages {
		if after && outcome == "fail" && other.Outcome != "skip" {
			t.Errorf("stage %s after the failure is %s", other.Stage, other.Outcome)
		}
		after = after || other.Stage == stage
	}
	return s
}

// SeenText is a finding's observations as one text.
func (s Stage) SeenText() string {
	if s.Finding == nil {
		return ""
	}
	return strings.Join(s.Finding.Seen, "\n")
}

// Try is what a finding has to try and to do as one text.
func (s Stage) Try() string {
	if s.Finding == nil {
		return ""
	}
	return strings.Join(append(s.Finding.Try, s.Finding.Do...), "\n")
}

// Profiles writes the profile file.
func (p *Program) Profiles(text string) {
	p.t.Helper()
	p.Write(filepath.Join(p.Home, "profiles.toml"), text)
}

// Write writes a file that only its owner may use, and its folder.
func (p *Program) Write(path, text string) {
	p.t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		p.t.Fatal(err)
	}
}

// Aliases writes the file of aliases.
func (p *Program) Aliases(text string) {
	p.t.Helper()
	p.Write(filepath.Join(p.Home, "aliases.toml"), text)
}

// ReadAliases reads the file of aliases.
func (p *Program) ReadAliases() string {
	p.t.Helper()
	return p.readOwn("aliases.toml")
}

// ReadProfiles reads the profile file.
func (p *Program) ReadProfiles() string {
	p.t.Helper()
	return p.readOwn("profiles.toml")
}

// Read reads a file of the folder of settings.
// Read is what is in a file.
func (p *Program) Read(path string) string {
	p.t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		p.t.Fatal(err)
	}
	return string(data)
}

func (p *Program) readOwn(name string) string {
	p.t.Helper()
	data, err := os.ReadFile(filepath.Join(p.Home, name))
	if err != nil {
		p.t.Fatal(err)
	}
	return string(data)
}

// Passfile writes the user's password file.
func (p *Program) Passfile(lines ...string) string {
	p.t.Helper()
	path := filepath.Join(filepath.Dir(p.Home), ".pgpass")
	p.Write(path, strings.Join(lines, "\n")+"\n")
	return path
}

// ports counts the ports that this process handed out: every test gets its own.
var ports atomic.Int32

// freePort finds a port below those that systems give out by themselves (from
// 32768 on, on Linux): a server that is stopped and started again finds it as it
// left it. It is looked for by dialling, since a listener may live on for a
// moment in a program that another test is starting; processes that run side by
// side begin far from each other.
func freePort() (int, error) {
	const lowest, many, apart = 10240, 20_000, 257
	for range 50 {
		port := lowest + (os.Getpid()*apart+int(ports.Add(1)))%many
		conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
		if err != nil {
			return port, nil
		}
		conn.Close()
	}
	return 0, errors.New("no free port was found")
}

// Forward hands every connection of a listener on to an address, until it is closed.
func Forward(listener net.Listener, to string) {
	for {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		next, err := net.Dial("tcp", to)
		if err != nil {
			conn.Close()
			continue
		}
		go func() { io.Copy(next, conn); next.Close() }()
		io.Copy(conn, next)
		conn.Close()
		listener.Close()
	}
}

// UnusedPort is FreePort outside of a test.
func UnusedPort() (int, error) { return freePort() }

// Serve hands each connection of a listener to serve, and closes it after; the
// listener is closed with the test.
func Serve(t testing.TB, listener net.Listener, serve func(net.Conn)) {
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
}

// ClosedPort is a port of 127.0.0.1 that nothing listens on until the test ends.
func ClosedPort(t testing.TB) int {
	t.Helper()
	port, release, err := serve.ClosedPort()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(release)
	return port
}

// FreePort is a port of 127.0.0.1 to listen on.
func FreePort(t testing.TB) int {
	t.Helper()
	port, err := freePort()
	if err != nil {
		t.Fatal(err)
	}
	return port
}

// Getenv is a variable of the program's environment.
func (p *Program) Getenv(name string) string {
	for _, pair := range p.Env {
		if value, ok := strings.CutPrefix(pair, name+"="); ok {
			return value
		}
	}
	return ""
}
