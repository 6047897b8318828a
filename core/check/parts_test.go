package check

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	sshlib "golang.org/x/crypto/ssh"

	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/route/hop"
	"gentleharbor/core/secret"
	"gentleharbor/standin/ssh"
)

// TestExpectations: what was found for each key, and whether it holds.
func TestExpectations(t *testing.T) {
	yes, trip := true, 4.5
	f := &engine.Facts{Version: "15.4 (Debian)", User: "warden", Account: "warden@%", Database: "sightings", Encoding: "UTF8", Lineage: "7", Collation: "en_GB.UTF-8",
		SQLMode: "STRICT_TRANS_TABLES,NO_ZERO_DATE", TimeZone: "SYSTEM (UTC)", RoundTrip: &trip, Writable: &yes, TLS: "TLS 1.3", TLSVerified: &yes}
	for key, wants := range map[string]map[string]bool{
		"version":   {"15": true, ">= 14, < 17": true, "16": false},
		"tls":       {"verified": true, "required": true, "off": false, "true": true, "false": false},
		"writable":  {"true": true, "false": false},
		"user":      {"warden": true, "warden@%": true, "visitor": false},
		"database":  {"sightings": true, "x": false},
		"encoding":  {"utf-8": true, "LATIN1": false},
		"server":    {"7": true, "8": false},
		"collation": {"EN_gb.utf-8": true, "C": false},
		"sql-mode":  {"strict_trans_tables": true, "STRICT_TRANS_TABLES,ANSI": false},
		"time-zone": {"utc": true, "SYSTEM": true, "Europe/Oslo": false},
		"latency":   {"5ms": true, "4ms": false},
	} {
		for want, holds := range wants {
			if have, got := compare(key, want, f); got != holds || have == "" {
				t.Errorf("%s %s: found %s, holds %v", key, want, have, got)
			}
		}
	}
	for _, key := range []string{"writable", "server", "collation", "latency"} {
		if have, holds := compare(key, "1", &engine.Facts{}); holds || have != "not known" {
			t.Errorf("%s of nothing: %s %v", key, have, holds)
		}
	}
}

// TestExpectStage: all that does not hold is told, the first in the sentence.
func TestExpectStage(t *testing.T) {
	at := map[string]*fake{"10.0.0.1:5432": {facts: engine.Facts{Version: "15.4", User: "u", TLS: "none"}}}
	report, _ := run(t, t.Context(), "host = \"10.0.0.1\"\nsecret = \"env:X\"\ntls = \"off\"\n[profile.tides.expect]\nversion = \"16\"\nuser = \"u\"\ntables = [\"ring\"]\nextensions = [\"postgis\"]\n", at, nil, 2*time.Second)
	last := report.Stages[len(report.Stages)-1]
	if last.Outcome != finding.Fail || last.Finding.Code != "expect.version" || !strings.Contains(strings.Join(last.Finding.Seen, " "), "ring") {
		t.Errorf("%+v", last.Finding)
	}
}

// TestCompare: two sessions are told apart by what their servers say of themselves.
func TestCompare(t *testing.T) {
	started := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	facts := map[string]engine.Facts{
		"10.0.0.1:5432": {Engine: "postgresql", Version: "15.4", Database: "sightings", Lineage: "7", ServerStarted: &started, TLS: "none"},
		"10.0.0.2:5432": {Engine: "postgresql", Version: "16.1", Database: "sightings", Lineage: "8", ServerStarted: &started, TLS: "none"},
	}
	runner, profiles := station(t, 2, func(target engine.Target) *fake { return &fake{facts: facts[target.Address]} })
	c := runner.Compare(t.Context(), profiles[0], profiles[1])
	if c.Verdict != Different || len(c.Differs) == 0 {
		t.Errorf("%+v", c)
	}
	var keys []string
	for _, d := range c.Differs {
		keys = append(keys, d.Fact)
	}
	if got := strings.Join(keys, " "); !strings.Contains(got, "version") || strings.Contains(got, "database") {
		t.Errorf("they differ in %s", got)
	}
}

// TestCertificates: the handshake's facts are had without a login.
func TestCertificates(t *testing.T) {
	runner, profiles := station(t, 1, func(engine.Target) *fake { return &fake{} })
	report, facts := runner.Certificates(t.Context(), profiles[0])
	if facts != nil || report == nil {
		t.Errorf("%+v %+v", report, facts)
	}
	for _, s := range report.Stages {
		if s.Stage == "login" && s.Outcome == finding.OK {
			t.Error("somebody logged in")
		}
	}
}

// TestThroughHop: the server is reached through a jump host, and what is wrong there is told at its stage.
func TestThroughHop(t *testing.T) {
	home := t.TempDir()
	key, err := ssh.NewKey(filepath.Join(home, "gate"))
	if err != nil {
		t.Fatal(err)
	}
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	go func() {
		for {
			conn, err := server.Accept()
			if err != nil {
				return
			}
			conn.Close()
		}
	}()
	gate, err := ssh.Start(ssh.Config{
		Accounts: map[string]ssh.Account{"keeper": {Keys: []sshlib.PublicKey{key}}},
		Hosts:    map[string]string{"tide-db.internal.example:5432": server.Addr().String()},
		Refusals: map[string]string{"off.internal.example:5432": "connect failed: Connection refused"},
	})
	if err != nil {
		t.Fatal(err)
	}
	defer gate.Close()
	os.MkdirAll(filepath.Join(home, ".ssh"), 0o700)
	os.WriteFile(filepath.Join(home, ".ssh", "known_hosts"), []byte(gate.KnownLine()+"\n"), 0o600)
	none := func(string) (string, bool) { return "", false }
	keys := spoken(func(conn net.Conn, target engine.Target) engine.Conversation {
		conn.Close()
		return &fake{target: target, took: new(int)}
	})
	for host, want := range map[string]finding.Code{"tide-db.internal.example": "", "off.internal.example": finding.ReachRefused, "none.internal.example": finding.NameUnknownThere} {
		f, err := profile.Parse(keys, "profiles.toml", fmt.Appendf(nil, "[profile.tides]\nengine = \"postgresql\"\nuser = \"u\"\nhost = %q\nsecret = \"none\"\ntls = \"off\"\n[[profile.tides.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"keeper\"\nagent = false\nkey = %q\n", host, gate.Port(), filepath.Join(home, "gate")))
		if err != nil {
			t.Fatal(err)
		}
		runner := &Runner{
			Network: route.System(),
			Hops:    hop.Places{Home: home, System: home, Lookup: none},
			Finder:  &secret.Finder{Lookup: none, Home: home},
			Timeout: 5 * time.Second,
		}
		report := runner.Run(t.Context(), resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{Home: home, Lookup: none}))
		var code finding.Code // of the stage that failed
		for _, s := range report.Stages {
			if s.Outcome == finding.Fail {
				code = s.Finding.Code
			}
		}
		if code != want {
			t.Errorf("%s: %s, want %s", host, code, want)
		}
		if n := len(report.Stages) - len(Stages); n != 1 {
			t.Errorf("%d stages are the hop's", n)
		}
	}
}
