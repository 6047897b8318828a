package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"gentleharbor/core/engine"
	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/engines"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/tlsrule"
	"gentleharbor/internal/cli"
	"gentleharbor/internal/cli/base"
)

// tern is an engine that no part of the program has heard of: one Spec, handed in like the others. Its servers
// say "TERN 1", and answer each line with one.
var tern = &engine.Spec{
	Word: "tern",
	Name: "Tern",
	Port: 47901,
	Begin: func(conn net.Conn, target engine.Target) engine.Conversation {
		return &ternTalk{conn: conn, to: target, lines: bufio.NewReader(conn), facts: engine.Facts{Engine: "tern", TLS: "none"}}
	},
	Keys: engine.Keys{Notes: map[key.Name]string{key.Database: "on Tern a beach"}},
	URL: engine.URL{
		Scheme:  "tern",
		Schemes: []string{"tern"},
		Parameters: map[string]engine.Parameter{
			"beach": {Key: "database"},
		},
		Write: func(c *engine.Connection, u *engine.URLParts) {
			u.Path, u.Query["beach"] = "", c.Database
		},
	},
	Sockets: engine.Sockets{Names: []string{"tern.sock"}},
	Greeting: &greeting.Greeting{
		Engine: "tern",
		Recognise: func(p []byte) (greeting.Service, bool) {
			return greeting.Service{Engine: "tern", What: "a Tern server"}, bytes.HasPrefix(p, []byte("TERN "))
		},
	},
	Variables: []engine.Family{{
		Names: map[string]string{"TERN_HOST": "host", "TERN_PORT": "port", "TERN_USER": "user", "TERN_BEACH": "beach"},
		Least: []string{"TERN_HOST"},
	}},
	Client: engine.Client{
		Variables: func(c *engine.Connection) []engine.Variable {
			return []engine.Variable{{Name: "TERN_HOST", Value: c.Host()}, {Name: "TERN_PORT", Value: c.Port()}}
		},
		Cleared:  []string{"TERN_"},
		Password: "TERN_PASSWORD",
	},
	Image: &engine.Image{
		Name:    "tern",
		Marks:   []string{"TERN_VERSION"},
		Folders: []string{"/var/lib/tern"},
	},
	Accounts: engine.Accounts{Administrators: []string{"gull"}},
	Statements: &engine.Statements{
		Quote:     strconv.Quote,
		Parameter: func(n int) string { return "@" + strconv.Itoa(n) },
		Known:     "DROP FISH",
		Bare:      func(string) bool { return true },
	},
	Identity: engine.Identity{Name: "the rings", StartExact: true},
}

// ternTalk is a conversation with such a server.
type ternTalk struct {
	conn  net.Conn
	lines *bufio.Reader
	to    engine.Target
	facts engine.Facts
}

func (t *ternTalk) ask(question string) string {
	fmt.Fprintln(t.conn, question)
	line, _ := t.lines.ReadString('\n')
	return strings.TrimSpace(line)
}

func (t *ternTalk) Speak(context.Context) finding.Result {
	if line, _ := t.lines.ReadString('\n'); !strings.HasPrefix(line, "TERN ") {
		return finding.FailWith(finding.New(finding.SpeakGarbage, "that is no Tern"))
	}
	return finding.Good("Tern answers")
}

func (t *ternTalk) Encrypt(context.Context) (*tlsrule.Facts, finding.Result) {
	result, _ := t.to.WithoutTLS(false, engine.NotOffered{})
	return nil, result
}

func (t *ternTalk) LogInAs(string) {}
func (t *ternTalk) Login(ctx context.Context) finding.Result {
	secret, err := t.to.TakeSecret(ctx)
	if err != nil || t.ask("LOGIN "+t.to.User+" "+secret.Disclose()) != "OK" {
		return finding.FailWith(finding.New(finding.LoginRefused, "the tern does not know you"))
	}
	t.facts.User = t.to.User
	return finding.Good("as %s", t.to.User)
}

func (t *ternTalk) Database(context.Context) finding.Result { return finding.Good("%s", t.to.Database) }

func (t *ternTalk) Session(context.Context) finding.Result {
	started := time.Unix(1_800_000_000, 0)
	t.facts.Database, t.facts.Lineage, t.facts.ServerStarted = t.to.Database, t.ask("RING"), &started
	return finding.Good("ring %s", t.facts.Lineage)
}

func (t *ternTalk) Missing(context.Context, key.Name, []string) ([]string, error) {
	return nil, nil
}

func (t *ternTalk) Run(_ context.Context, s engine.Statement, to engine.Results) error {
	if err := to.Begin([]engine.Column{{Name: "catch"}}); err != nil {
		return err
	}
	if err := to.Row([][]byte{[]byte(t.ask(s.Text))}); err != nil {
		return err
	}
	return to.End(engine.Outcome{Rows: 1, Changed: -1})
}
func (t *ternTalk) InTransaction() bool { return false }
func (t *ternTalk) Took() time.Duration { return 0 }

func (t *ternTalk) LookUp(context.Context, engine.Refusal) error { return nil }
func (t *ternTalk) Facts() *engine.Facts                         { return &t.facts }
func (t *ternTalk) Close()                                       { t.conn.Close() }

// startTern runs a server, at its usual port where that is free.
func startTern(t *testing.T) (port string) {
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(tern.Port)))
	if err != nil {
		if listener, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			t.Fatal(err)
		}
	}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				fmt.Fprintln(conn, "TERN 1")
				for lines := bufio.NewScanner(conn); lines.Scan(); {
					switch words := strings.Fields(lines.Text()); {
					case len(words) == 3 && words[0] == "LOGIN" && words[2] == "kirr":
						fmt.Fprintln(conn, "OK")
					case len(words) > 0 && words[0] == "FISH":
						fmt.Fprintln(conn, "herring")
					case lines.Text() == "RING":
						fmt.Fprintln(conn, "A4711")
					default:
						fmt.Fprintln(conn, "NO")
					}
				}
			}()
		}
	}()
	_, port, _ = net.SplitHostPort(listener.Addr().String())
	return port
}

// TestToyEngine: a new engine is one Spec. Every command knows it, or says by its name why not.
func TestToyEngine(t *testing.T) {
	port := startTern(t)
	home := t.TempDir()
	compose := filepath.Join(home, "compose.yaml")
	os.WriteFile(compose, []byte("name: coast\nservices: {db: {image: 'tern:2'}}\n"), 0o600)
	variables := map[string]string{"HOME": home, "GHARBOR_HOME": filepath.Join(home, "gharbor"), "PATH": os.Getenv("PATH"),
		"TERNPW": "kirr", "TERN_HOST": "10.0.0.9", "TERN_USER": "ringer", "TERN_BEACH": "north", "GHARBOR_ENGINES": "unix://" + home + "/none.sock"}
	var environ []string
	for name, value := range variables {
		environ = append(environ, name+"="+value)
	}
	run := func(code int, words string, want ...string) {
		t.Helper()
		var out, errs bytes.Buffer // a program that is started writes to both at once
		args := strings.Fields(strings.ReplaceAll(words, "PORT", port))
		got := cli.Run(t.Context(), base.World{
			Engines: engine.NewSet(append([]*engine.Spec{tern}, engines.All().All()...)...),
			Stdin:   strings.NewReader(""),
			Stdout:  &out,
			Stderr:  &errs,
			Dir:     home,
			Lookup:  func(name string) (string, bool) { value, ok := variables[name]; return value, ok },
			Environ: func() []string { return environ },
		}, args)
		out.Write(errs.Bytes())
		if got != code {
			t.Errorf("gharbor %s ended with %d, not %d:\n%s", words, got, code, out.String())
		}
		for _, text := range want {
			if !strings.Contains(out.String(), text) {
				t.Errorf("gharbor %s says nothing of %q:\n%s", words, text, out.String())
			}
		}
	}
	run(0, "help set", "tern, ", "on Tern a beach")
	run(0, "help add", "-engine tern")
	run(0, "add coast -engine tern -host 127.0.0.1 -port PORT -user ringer -database north -secret env:TERNPW")
	run(0, "test coast", "Tern answers", "ring A4711", "north")
	run(0, "add beach tern://gull@127.0.0.1:PORT?beach=south -secret env:TERNPW")
	run(0, "compare coast beach", "the rings")
	run(0, "list -engine tern", "coast", "beach")
	run(0, "nearby -format json", `"engine": "tern"`)
	run(0, "import env -dry-run", "engine    tern", "database  north")
	run(0, "import compose "+compose+" -dry-run -yes", "engine    tern", "container coast/db")
	run(0, "export coast -as url", "tern://ringer@127.0.0.1:", "beach=north")
	run(0, "export coast -as dotenv", "TERN_HOST='127.0.0.1'")
	run(2, "export coast -as passfile-line", "the profile is for tern")
	run(0, "with coast -- printenv TERN_HOST GHARBOR_ENGINE TERN_PASSWORD", "127.0.0.1\ntern\nkirr")
	run(125, "with coast -- printenv {passfile}", "is for tern")
	run(2, "container make coast -image tern:2", "the profile's engine is tern")
	run(2, "export coast -as compose", "the profile's engine is tern")
	run(0, "audit -format json", "gull")
	run(0, "alias add cliff engine=tern addresses=127.0.0.1:PORT")
	run(0, "alias knock cliff -count 1", "tern")
	run(2, "alias add rock engine=tern addresses=127.0.0.1:1 service=x", "for tern it is database")
	script := filepath.Join(home, "fish.tern")
	os.WriteFile(script, []byte("-- at dawn\nfish; fish;\n"), 0o600)
	run(0, "query coast FISH", "catch\nherring\n")
	run(0, "load coast "+script, "loaded: 2 statements")
	os.WriteFile(script, []byte("drop table nest;"), 0o600)
	run(2, "load coast "+script, "drops the table nest, which may be there")
	run(2, "browse coast tables", "can't browse tern")
	run(2, "load coast "+script+" -table nest", "can't load rows on tern")
	run(0, "set coast service=x")
	run(0, "test coast", "service has no effect", "the engine is tern")
}

// TestPartsOfSpecs: what an engine of the program leaves out of its Spec, it leaves out on purpose.
func TestPartsOfSpecs(t *testing.T) {
	without := map[string]string{
		"oracle Bulk":            "it has no statement that takes rows as data",
		"mysql Bulk":             "the one there is takes wrong rows with a warning, and needs local files to be on",
		"mariadb Bulk":           "the same",
		"redis Bulk":             "there are no rows",
		"redis ClientLines":      "a file of commands is sent as it is",
		"mongodb Bulk":           "there are documents, and no rows",
		"mongodb ClientLines":    "a file of documents is sent as it is",
		"oracle Sockets":         "its servers are asked through a listener, over TCP",
		"oracle Credentials":     "its own clients keep passwords in a wallet of their own, which is not read",
		"oracle Variables":       "its own clients take a connection from an argument",
		"oracle Client":          "the same",
		"oracle Local":           "a listener's process says nothing of the databases behind it",
		"mongodb Credentials":    "its own clients keep none",
		"mongodb Variables":      "its own clients read none",
		"mongodb Client":         "its own clients read none",
		"redis Credentials":      "its own clients keep none",
		"mariadb Greeting":       "that of mysql recognises both",
		"mongodb Administrators": "none is there from the start",
	}
	for _, spec := range engines.All().All() {
		for part, there := range map[string]bool{
			"Begin":          spec.Begin != nil,
			"Greeting":       spec.Greeting != nil,
			"Sockets":        spec.Sockets.ByPort() || len(spec.Sockets.Names) > 0,
			"Credentials":    spec.Credentials != nil,
			"Variables":      len(spec.Variables) > 0,
			"Client":         spec.Client.Variables != nil || spec.Client.Password != "",
			"Local":          len(spec.Local.Programs) > 0,
			"Image":          spec.Image != nil && len(spec.Image.Marks) > 0 && len(spec.Image.Folders) > 0,
			"Identity":       spec.Identity.Name != "",
			"Administrators": len(spec.Accounts.Administrators) > 0,
			"Port":           spec.Port > 0,
			"Statements":     spec.Statements != nil && spec.Statements.Catalogue != nil,
			"ClientLines":    spec.Statements != nil && spec.Statements.ClientLines != nil,
			"Bulk":           spec.Statements != nil && spec.Statements.Bulk != nil,
			"URL":            spec.URL.Scheme != "",
		} {
			why, known := without[spec.Word+" "+part]
			switch {
			case !there && !known:
				t.Errorf("the engine %s has no %s, and nothing says why", spec.Word, part)
			case there && known:
				t.Errorf("the engine %s has %s, and it is said to have none: %s", spec.Word, part, why)
			}
		}
	}
}
