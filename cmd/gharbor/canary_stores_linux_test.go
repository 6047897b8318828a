package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/mongodb"
)

// TestCanaryStores drives unusual secrets through the commands on a real key-value store and a simulated document
// database: through logins, statements with passwords, what is looked around in, provision and rotation.
func TestCanaryStores(t *testing.T) {
	t.Parallel()
	r := testkit.RedisServer(t)
	r.Do(t, []string{"ACL", "SETUSER", "warden", "on", ">" + canary, "~*", "&*", "+@all"}, []string{"CONFIG", "SET", "requirepass", otherCanary})
	notes, err := mongodb.Start(mongodb.Config{Accounts: []mongodb.Account{
		{User: "scribe", Password: canary}, {User: "old", Password: canary, Method: "SCRAM-SHA-1"}, {User: "admin", Password: canary, Role: "root"}}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(notes.Close)
	p := testkit.NewProgram(t)
	work := filepath.Dir(p.Home)
	secretFile := filepath.Join(work, "secret")
	p.Write(secretFile, canary+"\n")
	statements := filepath.Join(work, "users.redis")
	p.Write(statements, "ACL SETUSER visitor on >"+strings.NewReplacer(`"`, `\"`, `'`, `\'`).Replace("knot")+"\nKIWIT '"+"x"+"'\n")
	p.Setenv("CANARY", canary)
	p.Setenv("OTHER", otherCanary)
	p.Profiles(fmt.Sprintf("[profile.cache]\nengine = \"redis\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\nsecret = \"file:%s\"\n", r.Port, secretFile) +
		fmt.Sprintf("[profile.notes]\nengine = \"mongodb\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"scribe\"\nsecret = \"env:CANARY\"\n", notes.Port()))
	runs := [][]string{
		{"test", "cache"}, {"test", "cache", "-override", "secret=env:OTHER"}, {"test", "cache", "-override", "user=", "-override", "secret=env:OTHER"},
		{"test", "cache", "-override", "user=nobody", "-as", "cache"}, {"test", "notes"}, {"test", "notes", "-override", "secret=env:OTHER"},
		{"test", "notes", "-override", "user=old"}, {"test", "notes", "-override", "auth-database=other"}, {"test", "notes", "-override", "user=nobody", "-as", "notes"},
		{"query", "cache", "ACL LIST"}, {"query", "cache", "CONFIG GET save"}, {"query", "cache", "AUTH " + "'" + "x" + "'"}, {"query", "cache", "-file", statements},
		{"browse", "cache", "settings"}, {"browse", "cache", "accounts"}, {"browse", "cache", "slow"}, {"browse", "cache", "activity"},
		{"query", "notes", `{"usersInfo":1}`}, {"browse", "notes", "accounts"}, {"browse", "notes", "settings"},
		{"provision", "make", "cache", "-as", "cache", "-override", "user=visitor", "-override", "secret=env:OTHER", "-same-server", "-yes"},
		{"export", "cache", "-as", "url"}, {"export", "notes", "-as", "url"}, {"export", "cache", "-as", "env"}, {"export", "notes", "-as", "json"},
		{"add", "x", "redis://:" + otherCanary + "@127.0.0.1"}, {"add", "x", "mongodb://u:" + otherCanary + "@127.0.0.1/x"}, {"add", "x", "mongodb://127.0.0.1/?tlsCertificateKeyFilePassword=" + otherCanary},
		{"audit"}, {"list"}, {"show", "cache"},
	}
	for _, args := range runs {
		for _, more := range [][]string{nil, {"-verbose"}, {"-format", "json"}} {
			r := p.Run(append(append([]string{}, args...), more...)...)
			where := "gharbor " + strings.Join(args[:min(len(args), 2)], " ")
			testkit.NoSecret(t, where+" on stdout", r.Stdout, canary, otherCanary)
			testkit.NoSecret(t, where+" on stderr", r.Stderr, canary, otherCanary)
			if strings.Contains(r.Stderr, "panic") || r.Code == 70 {
				t.Errorf("%s: a defect\n%s", where, r.Stderr)
			}
		}
	}
	for _, name := range []string{"cache", "notes"} {
		if r := p.Test(name); r.Outcome != "ok" && r.Outcome != "warn" {
			t.Errorf("the canary itself does not log in at %s: %+v", name, r.Stages)
		}
	}
	p.OK("secret", "rotate", "cache", "-yes")
	if log, err := os.ReadFile(filepath.Join(r.Folder, "log")); err != nil || strings.Contains(string(log), canary) {
		t.Errorf("the server's log has the password: %v", err)
	}
	testkit.NoSecretIn(t, work, []string{secretFile, statements}, canary, otherCanary)
}
