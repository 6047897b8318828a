package engine

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/core/engine/greeting"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/secret"
	"gentleharbor/core/tlsrule"
)

// birds are three engines: two of one protocol, and one that is only recognised.
func birds() Set {
	begin := func(net.Conn, Target) Conversation { return nil }
	return NewSet(
		&Spec{Word: "tern", Name: "Tern", Family: "sea", Port: 7001, Begin: begin, Keys: Keys{Only: []key.Name{key.As}},
			Sockets: Sockets{Prefix: ".tern.", Suffix: ".s"}, Greeting: &greeting.Greeting{Engine: "tern"}},
		&Spec{Word: "gull", Family: "sea", Port: 7001, Begin: begin, Sockets: Sockets{Names: []string{"gull.sock"}, Localhost: true}},
		&Spec{Word: "owl", Port: 7002},
	)
}

func TestSet(t *testing.T) {
	set := birds()
	for got, want := range map[string]string{
		strings.Join(set.Words(), " "):          "tern gull owl",
		strings.Join(set.Testable(), " "):       "tern gull",
		strings.Join(set.WithKey(key.As), " "):  "tern",
		strings.Join(set.FamilyOf("gull"), " "): "tern gull",
		strings.Join(set.FamilyOf("owl"), " "):  "owl",
	} {
		if got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
	if set.Port("owl") != 7002 || set.Port("knot") != 0 || set.AtPort(7001).Word != "tern" || set.AtPort(0) != nil || set.ByWord("knot") != nil {
		t.Error("a port is wrong")
	}
	if set.Example().Word != "tern" || NewSet().Example().Word != "ENGINE" || len(set.Greetings()) != 1 || len(set.CredentialFiles()) != 0 || len(set.All()) != 3 {
		t.Error("what a set has is wrong")
	}
	defer func() {
		if recover() == nil {
			t.Error("two engines of one word are a set")
		}
	}()
	NewSet(&Spec{Word: "tern"}, &Spec{Word: "tern"})
}

func TestSockets(t *testing.T) {
	tern, gull, owl := birds().ByWord("tern").Sockets, birds().ByWord("gull").Sockets, birds().ByWord("owl").Sockets
	if tern.FileFor("7") != ".tern.7.s" || gull.FileFor("7") != "gull.sock" || owl.FileFor("7") != "" {
		t.Error("a name is wrong")
	}
	for name, want := range map[string]string{".tern.7.s": "7", ".tern.x.s": "", "gull.sock": "", ".tern.7": ""} {
		if got := tern.PortIn(name); got != want {
			t.Errorf("%s: %q", name, got)
		}
	}
	if gull.PortIn("gull.sock") != "" || gull.ByPort() || !tern.ByPort() {
		t.Error("a fixed name has a port")
	}
}

func TestConnection(t *testing.T) {
	set := birds()
	c := Connection{Spec: set.ByWord("tern"), Servers: []Endpoint{{Host: "192.0.2.1", Port: 7001}}, TLS: "verified", TLSName: "db.saltmarsh.example"}
	if name, address, ok := c.SeparateAddress(); !ok || name != "db.saltmarsh.example" || address != "192.0.2.1" {
		t.Errorf("%s %s %v", name, address, ok)
	}
	if c.Host() != "192.0.2.1" || c.Port() != "7001" || c.Socket() != "" || c.First().String() != "192.0.2.1:7001" {
		t.Errorf("%s %s", c.Host(), c.Port())
	}
	c.TLSName = "192.0.2.1"
	if _, _, ok := c.SeparateAddress(); ok {
		t.Error("one host is two")
	}
	bundle := filepath.Join(t.TempDir(), "bundle.pem")
	os.WriteFile(bundle, nil, 0o600)
	t.Setenv("SSL_CERT_FILE", bundle)
	if c.Authorities() != bundle {
		t.Error(c.Authorities())
	}
	if c.CA = "/ca"; c.Authorities() != "/ca" {
		t.Error(c.Authorities())
	}
	at := []Endpoint{{Socket: "/run/x/.tern.7.s", Folder: "/run/x", Port: 7}}
	for word, want := range map[string]string{"tern": "/run/x", "gull": "localhost", "owl": "/run/x/.tern.7.s"} {
		s := Connection{Spec: set.ByWord(word), Servers: at}
		if s.Host() != want || s.Socket() != at[0].Socket || s.First().String() != at[0].Socket {
			t.Errorf("%s: %s", word, s.Host())
		}
	}
	if (&Connection{Spec: set.ByWord("owl"), Servers: []Endpoint{{Host: "h"}}}).Port() != "" {
		t.Error("no port is one")
	}
	if got := (Section{Line: 3, Name: "tides"}).Place("f"); got != "f:3: [tides]" {
		t.Error(got)
	}
	if i := (ImageSigns{Image: "gull"}); !i.Has("sea/Gull:2") || i.Has("tern") || (ImageSigns{}).Has("x") {
		t.Error("an image is taken for another's")
	}
}

func TestHost(t *testing.T) {
	h := Host{Root: t.TempDir()}
	os.MkdirAll(h.Path("/lib/systemd/system"), 0o755)
	os.WriteFile(h.Path("/lib/systemd/system/tern.service"), nil, 0o644)
	os.Symlink("tern.service", h.Path("/lib/systemd/system/alias.service"))
	if !h.Installed("tern") || h.Installed("alias") || h.Installed("owl") || strings.Join(h.StartCommand("tern"), " ") != "sudo service tern start" {
		t.Error("what is installed is wrong")
	}
	os.MkdirAll(h.Path("/run/systemd/system"), 0o755)
	if strings.Join(h.StartCommand("tern"), " ") != "sudo systemctl start tern" || !h.Exists("/run/systemd/system") {
		t.Error(h.StartCommand("tern"))
	}
}

// TestFindings: what means the same for every engine says where to go on.
func TestFindings(t *testing.T) {
	to := &Target{Profile: "counts", Network: "tcp", TLS: &tlsrule.Plan{Settings: tlsrule.Settings{Rule: tlsrule.Off}}}
	socket := &Target{Profile: "counts", Network: "unix", Address: "/run/x"}
	with := *to
	with.TLS = &tlsrule.Plan{Settings: tlsrule.Settings{Cert: "/c.pem"}}
	own := finding.New(finding.SecretMissing, "it is gone")
	for _, c := range []struct {
		found *finding.Finding
		code  finding.Code
		seen  string
	}{
		{to.LoginTimeout("md5", false), finding.LoginTimeout, "md5"}, {to.LoginBrokenOff("eof"), finding.LoginBrokenOff, "eof"}, {to.SessionLost(io.EOF, "eof"), finding.SessionLost, "eof"},
		{to.SessionLost(nil, "no"), finding.SessionLost, "no"},
		{to.SessionLost(fmt.Errorf("read: %w", os.ErrDeadlineExceeded), "late"), finding.SessionTimeout, "nothing came back"},
		{to.SessionLost(context.Canceled, "late"), finding.SessionTimeout, "nothing came back"},
		{to.SessionLost(net.ErrClosed, "late"), finding.SessionTimeout, "nothing came back"},
		{to.CertificateRefused(&Facts{}, "bad"), finding.TLSClientCertificate, "bad"}, {with.CertificateRefused(&Facts{}, "bad"), finding.TLSClientCertificate, "/c.pem"},
		{to.ExplainSecretError(&SecretError{errors.New("no")}), finding.SecretUnreadable, "no"}, {to.ExplainSecretError(&SecretError{&secret.Failure{Found: own}}), finding.SecretMissing, ""},
		{to.NotInTheClear(finding.New(finding.LoginCleartextRefused, "x"), &Facts{TLS: "none"}), finding.LoginCleartextRefused, "not encrypted"},
		{to.NotInTheClear(finding.New(finding.LoginCleartextRefused, "x"), &Facts{TLS: "TLS 1.3"}), finding.LoginCleartextRefused, "not verified"},
		{socket.NotInTheClear(finding.New(finding.LoginCleartextRefused, "x"), &Facts{}), finding.LoginCleartextRefused, "socket"},
	} {
		if c.found.Code != c.code || !strings.Contains(strings.Join(c.found.Seen, "\n"), c.seen) {
			t.Errorf("%+v, want %s and %q", c.found, c.code, c.seen)
		}
	}
	if err := (&SecretError{io.EOF}); !errors.Is(err, io.EOF) || err.Error() != "EOF" {
		t.Error(err)
	}
	f := &Facts{}
	if f.SetTLS(&tlsrule.Facts{Version: "TLS 1.3", Cipher: "x", Verified: true}); f.TLS != "TLS 1.3" || !*f.TLSVerified {
		t.Errorf("%+v", f)
	}
}

// answer is rows of a driver.
type answer struct{ rows [][]driver.Value }

func (a *answer) Columns() []string { return []string{"a", "b"} }
func (a *answer) Close() error      { return nil }
func (a *answer) Next(values []driver.Value) error {
	if len(a.rows) == 0 {
		return io.EOF
	}
	copy(values, a.rows[0])
	a.rows = a.rows[1:]
	return nil
}

func TestRows(t *testing.T) {
	all := [][]driver.Value{{nil, []byte("x")}, {int64(7), "y"}, {"more", "more"}}
	rows, err := Rows(&answer{all}, 2)
	if err != nil || len(rows) != 2 || rows[0][0] != "" || rows[0][1] != "x" || rows[1][0] != "7" || rows[1][1] != "y" {
		t.Errorf("%q %v", rows, err)
	}
}
