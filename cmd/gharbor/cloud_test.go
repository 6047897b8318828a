//go:build unix

package main

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	cryptossh "golang.org/x/crypto/ssh"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/internal/testkit"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/cloud"
	"gentleharbor/standin/ssh"
)

// rental is a simulated provider, and a program whose account is at it.
type rental struct {
	*testkit.Program
	*cloud.Provider
	t    *testing.T
	open []string // the flag that opens the wallet
}

// members are the instances of a provider.
func members() []*cloud.Instance {
	counts := cloud.PostgreSQL("sightings", "sighting", "observer")
	return []*cloud.Instance{
		{Name: "estuary-members", Engine: "mysql", Version: "8.4.0", Region: "north-1",
			Place: cloud.Place{Access: true, Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members", "member")},
			Branches: map[string]*cloud.Place{"spring": {Login: wire.ByPassword, Database: "members",
				Start: cloud.MySQL("members", "member", "renewal")}}},
		{Name: "estuary-counts", Engine: "postgresql", Version: "16.2", Region: "north-1",
			Place: cloud.Place{State: wire.Paused, Login: wire.ByPassword, Database: "sightings", Start: counts}},
		{Name: "estuary-audit", Engine: "postgresql", Version: "16.2", Region: "north-2",
			Place: cloud.Place{Features: []wire.Feature{{Name: "remote-access", Needed: true}}, Login: wire.ByCertificate,
				Database: "sightings", Start: counts}},
		{Name: "estuary-deep", Engine: "mysql", Version: "8.4.0", Region: "north-2",
			Place: cloud.Place{NoPublic: true, Private: true, Access: true, Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members")}},
		{Name: "estuary-new", Engine: "postgresql", Version: "16.2", Region: "north-2",
			Place: cloud.Place{First: "keeper", Database: "sightings", Start: counts}},
	}
}

// newRental starts a provider. The program has its account, as "station", and a wallet with a reader, so that nobody
// is asked.
func newRental(t *testing.T, c cloud.Config) *rental {
	t.Helper()
	root, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	c.Authority = root
	if c.Instances == nil {
		c.Instances = members()
	}
	if c.Interval == 0 {
		c.Interval = 1
	}
	provider, err := cloud.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(provider.Close)
	p := testkit.NewProgram(t)
	w := withWallet(t, p)
	s := &rental{Program: p, Provider: provider, t: t, open: w.open}
	p.Write(filepath.Join(p.Home, "ca.pem"), string(root.PEM))
	p.Profiles("[settings]\nreader = \"pin\"\n")
	p.Aliases("[hosts]\n" + provider.Hosts())
	p.OK(append([]string{"wallet", "reader", "add", "tests", "-out", filepath.Join(p.Home, "pin")}, w.open...)...)
	p.OK("cloud", "add", "station", "service="+provider.Service(), "issuer="+provider.URL(), "client="+cloud.Client,
		"scopes=instances", "tls-ca="+filepath.Join(p.Home, "ca.pem")).Has("try: gharbor cloud sign-in station")
	return s
}

// signIn signs in; a person confirms the code meanwhile.
func (s *rental) signIn(flags ...string) *testkit.Result {
	s.t.Helper()
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(100 * time.Millisecond):
				s.ConfirmAny()
			}
		}
	}()
	return s.Run(append(append([]string{"cloud", "sign-in", "station"}, s.open...), flags...)...)
}

// TestCloud walks the way of a person: sign in, see what there is, be let in, be ready, sign out.
func TestCloud(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{RuleAfter: time.Second, WakeAfter: time.Second, More: 2})
	s.Run("cloud", "instances", "station").Want(4).Has("not signed in", "gharbor cloud sign-in station")
	s.signIn().Want(0).Has("Confirm there only if the codes are the same", "signed in: as warden@saltmarsh.example at station")
	s.OK("cloud", "who", "station").Has("warden@saltmarsh.example", "127.0.0.1", "first-password")
	s.OK("cloud", "instances", "station").Has("estuary-members/spring", "no rule for you", "remote-access off", "creek-0002", "paused")
	s.OK("cloud", "adopt", "station/estuary-members", "members")
	s.Test("members").Ends(t, "route", "fail", "cloud.not-allowed")
	s.OK("cloud", "allow", "members").Has("sees this machine as 127.0.0.1", "allowed: 127.0.0.1/32", "the rule is in force")
	s.Run("test", "members").Want(0).Has("ready: brief-")
	s.Run("cloud", "allow", "members").Want(0).Has("a rule lets 127.0.0.1/32 in already, made by warden@saltmarsh.example")
	s.Run("cloud", "allow", "members", "-lifetime", "2h").Want(0).Has("allowed: 127.0.0.1/32").HasNot("already")
	s.Run("cloud", "allow", "members", "-format", "json").Want(2).Has("-format json goes with -list")
	s.OK("cloud", "allow", "members", "-list").Has("in-force")
	s.OK("cloud", "adopt", "station/estuary-members/spring", "-test").Has("ready: brief-", "branch spring")
	s.OK("cloud", "adopt", "station/estuary-counts", "counts")
	s.Test("counts").Ends(t, "route", "fail", "cloud.paused")
	s.OK("wait", "counts", "-wake", "-within", "20s").Has("ready")
	s.OK("cloud", "adopt", "station/estuary-audit", "audit")
	s.Test("audit").Ends(t, "route", "fail", "cloud.feature-off")
	s.OK("cloud", "switch-on", "audit", "remote-access").Has("switched on")
	s.OK("test", "audit").Has("ready: brief-")
	s.OK("cloud", "adopt", "station/estuary-new", "new").Has("gharbor cloud first-password new")
	s.OK(append([]string{"cloud", "first-password", "new"}, s.open...)...).Has("keeper").HasNot("first-")
	s.OK("test", "new").Has("ready: keeper")
	s.Run(append([]string{"cloud", "first-password", "new"}, s.open...)...).Want(2).Has("has an entry new already")
	s.OK("cloud", "disallow", "members").Has("disallowed: rule")
	s.OK("cloud", "sign-out", "station").Has("revoked and forgotten")
	if left := s.Tokens(); len(left) > 0 {
		t.Errorf("%d tokens are valid after a sign-out", len(left))
	}
	s.Run("query", "spring", "select 1").Want(2)
	s.Run("query", "estuary-members-spring", "select 1").Want(4).Has("cloud.not-signed-in")
	if requests := strings.Join(s.Requests(), "\n"); !strings.Contains(requests, "POST /revoke") {
		t.Error("no token was taken back")
	}
}

// TestCloudIndependent: an issuer of an independent make signs in, refreshes and takes back.
func TestCloudIndependent(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	root, err := authority.New()
	if err != nil {
		t.Fatal(err)
	}
	_, cert, key, err := root.Issue(cloud.Host, []string{cloud.Host}, time.Now().Add(-time.Hour), time.Now().Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"ca.pem": root.PEM, "cert.pem": cert, "key.pem": key} {
		os.WriteFile(filepath.Join(folder, name), data, 0o600)
	}
	port := testkit.IndependentSignIn(t, cloud.Host, filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem"))
	var mu sync.Mutex
	known := map[string]bool{} // tokens, and whether they are taken still
	s := newRental(t, cloud.Config{Trusts: func(token string) bool {
		mu.Lock()
		defer mu.Unlock()
		if _, ok := known[token]; !ok {
			known[token] = token != ""
		}
		return known[token]
	}})
	both := filepath.Join(s.Home, "both.pem")
	s.Write(both, s.Read(filepath.Join(s.Home, "ca.pem"))+string(root.PEM))
	issuer := fmt.Sprintf("https://%s:%d", cloud.Host, port)
	s.OK("cloud", "set", "station", "issuer="+issuer, "scopes=openid,offline_access", "tls-ca="+both)
	// A person reads the code off the screen, and confirms it.
	pool := x509.NewCertPool()
	pool.AddCert(root.Cert)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool, ServerName: cloud.Host}}}
	confirmed := false
	cmd := exec.Command(s.Path, append([]string{"cloud", "sign-in", "station"}, s.open...)...)
	cmd.Env = s.Env
	screen, err := cmd.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var shown strings.Builder
	for lines := bufio.NewScanner(screen); lines.Scan(); {
		shown.WriteString(lines.Text() + "\n")
		spread := strings.Fields(lines.Text())
		if code := strings.Join(spread, ""); len(spread) == 9 && code[4] == '-' {
			answer, err := client.Post(fmt.Sprintf("https://127.0.0.1:%d/test/confirm?code=%s", port, code), "", nil)
			confirmed = err == nil && answer.StatusCode == http.StatusOK
		}
	}
	if err := cmd.Wait(); err != nil || !confirmed || !strings.Contains(shown.String(), "signed in: as warden") {
		t.Fatalf("%v, confirmed %v\n%s", err, confirmed, shown.String())
	}
	mu.Lock()
	for token := range known { // none of them is taken any more: it must be refreshed
		known[token] = false
	}
	mu.Unlock()
	s.OK("cloud", "who", "station").Has("warden@saltmarsh.example", "then refreshed")
	if len(known) != 2 {
		t.Errorf("%d tokens were sent", len(known))
	}
	s.OK("cloud", "sign-out", "station").Has("revoked and forgotten")
	s.Run("cloud", "who", "station").Want(4).Has("cloud.not-signed-in")
}

// TestCloudHostile: an issuer or a service that does what none may do gets no token, and leads nowhere.
func TestCloudHostile(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		fault cloud.Fault
		words []string
		code  int
		has   string
	}{
		{cloud.OtherIssuer, nil, 5, "those of another issuer"},
		{cloud.OtherToken, nil, 5, "token endpoint is not at the issuer's own host"},
		{cloud.PlainPage, nil, 5, "no https URL"},
		{cloud.EscapeCode, nil, 5, "no code that a person can compare"},
		{cloud.TokenInError, nil, 4, "does not accept the sign-in"},
		{cloud.RedirectIssuer, nil, 5, "redirects are not followed"},
		{cloud.NoMetadata, nil, 5, "has no metadata"},
		{cloud.Huge, []string{"cloud", "instances", "station"}, 5, "larger than 1 MiB"},
		{cloud.Redirect, []string{"cloud", "instances", "station"}, 5, "redirects are not followed"},
		{cloud.NextElsewhere, []string{"cloud", "instances", "station"}, 5, "not below its own URL"},
		{cloud.EscapeNames, []string{"cloud", "instances", "station"}, 5, "its name is not one of"},
		{cloud.Refuses, []string{"cloud", "instances", "station"}, 4, "cloud.sign-in-expired"},
		{cloud.Garbage, []string{"cloud", "instances", "station"}, 5, "not the JSON"},
		{cloud.Gone, []string{"cloud", "instances", "station"}, 5, "not available for the moment"},
	} {
		t.Run(string(c.fault), func(t *testing.T) {
			t.Parallel()
			s := newRental(t, cloud.Config{Faults: []cloud.Fault{c.fault}})
			r := s.signIn()
			tokens := s.Tokens()
			if c.words != nil {
				r = s.Run(c.words...)
				tokens = append(tokens, s.Tokens()...)
			}
			r.Want(c.code).Has(c.has).HasNot(append(tokens, "\x1b", "\x07", "at-", "rt-")...)
		})
	}
	for _, fault := range []cloud.Fault{cloud.Loopback, cloud.LinkLocal} {
		t.Run(string(fault), func(t *testing.T) {
			t.Parallel()
			s := newRental(t, cloud.Config{Faults: []cloud.Fault{fault}})
			s.signIn().Want(0)
			s.OK("cloud", "adopt", "station/estuary-members/spring", "spring")
			s.Test("spring").Ends(t, "route", "fail", "cloud.no-address")
		})
	}
}

// TestCloudScript: the example of a program in a service's place passes the check, and its instances are found.
func TestCloudScript(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("there is no python3 here")
	}
	p := testkit.NewProgram(t)
	list := filepath.Join(filepath.Dir(p.Home), "servers.json")
	p.Write(list, `[{"name":"tides","engine":"postgresql","host":"tide-db.example","port":5432,"database":"tides"},{"name":"inner","engine":"mysql","host":"127.0.0.1","port":3306}]`)
	script, err := filepath.Abs("../../docs/examples/instances.py")
	if err != nil {
		t.Fatal(err)
	}
	p.OK("cloud", "add", "shed", "command="+script+","+list).Has("try: gharbor cloud instances shed")
	p.OK("cloud", "instances", "shed").Has("tides", "postgresql")
	p.Run("cloud", "check", "shed").Want(1).Has("an address of the machine that asks")
	p.Write(list, `[{"name":"tides","engine":"postgresql","host":"tide-db.example","port":5432,"database":"tides"}]`)
	p.OK("cloud", "check", "shed").Has("0 are wrong")
	p.OK("cloud", "check", "shed", "-format", "json").Has(`"outcome": "ok"`)
	p.OK("cloud", "adopt", "shed/tides").Has("name the user")
	p.OK("set", "tides", "user=tidekeeper", "secret=none")
	p.Test("tides").Ends(t, "name", "fail", "name.unknown")
	p.Test("tides", "-override", "tls=off").Ends(t, "profile", "fail", "profile.conflict")
	p.Test("tides", "-override", "cloud=shed/tide").Ends(t, "route", "fail", "cloud.unknown-instance")
	p.Run("cloud", "allow", "tides").Want(5).Has("does not do that for the instance tides")
	p.Run("cloud", "sign-in", "shed").Want(2).Has("signs in by itself")
	p.Run("cloud", "remove", "shed", "-yes").Want(2).Has("is used by the profiles tides")
	p.OK("remove", "tides", "-yes")
	p.OK("cloud", "remove", "shed", "-yes")
	p.OK("cloud", "add", "slow", "command=sh,-c,exit 3")
	p.Run("cloud", "who", "slow").Want(5).Has("exit code 3", "gharbor cloud show slow   # is its command right?")
	p.OK("cloud", "set", "slow", "command=sh,-c,echo knot")
	p.Run("cloud", "who", "slow").Want(5).Has("is no answer").HasNot("knot")
}

// TestCloudProject: an account of a project's file is asked nothing before somebody approved it.
func TestCloudProject(t *testing.T) {
	t.Parallel()
	p := testkit.NewProgram(t)
	root := filepath.Join(filepath.Dir(p.Home), "clone")
	os.MkdirAll(filepath.Join(root, ".git"), 0o755)
	mark := filepath.Join(root, "mark")
	os.WriteFile(filepath.Join(root, "instances"), []byte("#!/bin/sh\ntouch "+mark+"\necho '{\"status\":200,\"body\":{\"format\":1,\"account\":\"x\",\"rights\":[]}}'\n"), 0o755)
	os.WriteFile(filepath.Join(root, "gharbor.toml"), []byte("[cloud.ours]\ncommand = [\"./instances\"]\n[profile.tides]\nengine = \"postgresql\"\nuser = \"u\"\nsecret = \"none\"\ncloud = \"ours/tides\"\n"), 0o644)
	p.Dir = root
	asked := func() bool { _, err := os.Stat(mark); return err == nil }
	p.OK("cloud", "list").Has("project:ours", "not approved")
	p.Run("cloud", "who", "ours").Want(5).Has("cloud.not-vouched", "gharbor vouch cloud:ours")
	p.Test("tides").Ends(t, "profile", "fail", "profile.not-vouched")
	p.Run("vouch", "tides").Want(2).Has("cloud ours command")
	expect := func(name string) {
		t.Helper()
		out := p.Run("vouch", name).Want(2).Stdout
		_, hash, _ := strings.Cut(out, "hash of this: ")
		p.OK("vouch", name, "-expect", strings.TrimSpace(hash))
	}
	expect("tides")
	p.Test("tides").Ends(t, "route", "fail", "cloud.not-vouched")
	if asked() {
		t.Fatal("the program was run before it was approved")
	}
	expect("cloud:ours")
	p.OK("cloud", "who", "ours").Has("signed in as  x")
	if !asked() {
		t.Fatal("the program was not run")
	}
	os.Remove(mark)
	os.WriteFile(filepath.Join(root, "instances"), []byte("#!/bin/sh\ntouch "+mark+"\n"), 0o755)
	p.Run("cloud", "who", "ours").Want(5).Has("cloud.not-vouched", "has changed since")
	if asked() {
		t.Error("a program that has changed was run")
	}
}

// TestCloudUse: with, tunnels, statements, and many profiles use a cloud instance as any other address.
func TestCloudUse(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{LoginFor: time.Minute})
	s.signIn().Want(0)
	s.OK("cloud", "adopt", "station/estuary-members/spring", "spring")
	s.OK("with", "spring", "--", "sh", "-c", "echo $GHARBOR_USER at $GHARBOR_HOST; cat $GHARBOR_TLS_CA").Has("brief-", "127.0.0.1", "BEGIN CERTIFICATE", "can connect until")
	s.OK("export", "spring", "-as", "url").Has("mysql://")
	s.Run("export", "spring", "-as", "env", "-with-secret", "-out", filepath.Join(s.Home, "env")).Want(4).Has("gharbor with spring")
	s.OK("show", "spring").Has("cloud", "station/estuary-members/spring", "verified")
	s.OK("list").Has("cloud station/estuary-members/spring")
	for i := range 5 {
		s.OK("copy", "spring", fmt.Sprintf("spring-%d", i))
	}
	before := len(s.Requests())
	s.OK("test", "-all").Has("6 ready")
	var instances, logins int
	for _, request := range s.Requests()[before:] {
		if strings.HasPrefix(request, "GET /v1/instances") {
			instances++
		}
		if strings.HasSuffix(request, "/logins") {
			logins++
		}
	}
	if instances != 1 || logins != 1 {
		t.Errorf("the service was asked %d times where the instances are, and for %d logins", instances, logins)
	}
	s.Feed("x\n", "secret", "keep", "spring", "-secret-stdin").Want(2).Has("none is kept")
	s.Run("audit", "-cloud").Want(0)
	s.OK("set", "spring", "secret=wallet", "user=bander")
	s.Run("audit", "-cloud").Has("audit.stored-password")
	s.EndSignIns()
	s.Test("spring-0").Ends(t, "route", "fail", "cloud.sign-in-expired")
}

// TestCloudAudit: what an audit finds of the cloud is gone after the line that it prints.
func TestCloudAudit(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	s.signIn().Want(0)
	s.OK("cloud", "adopt", "station/estuary-members", "members")
	s.OK("set", "members", "secret=env:KNOT", "user=bander")
	s.OK("hop", "add", "members", "host=gate.saltmarsh.example", "user=keeper")
	s.OK("cloud", "allow", "station/estuary-members", "-address", "203.0.113.0/20", "-lifetime", "30m")
	s.OK("cloud", "allow", "station/estuary-members", "-address", "0.0.0.0/0", "-lifetime", "30m")
	of := map[string]int{"audit.rule-open": 2, "audit.stored-password": 1, "audit.public-address": 1}
	met := make(map[string]int)
	report, _ := audited(t, s.Program, "-cloud")
	for _, one := range report.Issues {
		for _, line := range append(one.Try, one.Do...) {
			if of[one.Code] == 0 {
				continue
			}
			met[one.Code]++
			if command, ok := strings.CutPrefix(line, "gharbor "); ok {
				s.OK(strings.Fields(command)...)
			}
		}
	}
	if !maps.Equal(met, of) {
		t.Errorf("it tells of %v", met)
	}
	s.OK("hop", "remove", "members", "1", "-yes") // the public address is for this profile now
	report, _ = audited(t, s.Program, "-cloud")
	for _, one := range report.Issues {
		if of[one.Code] > 0 {
			t.Errorf("there is still %v", one)
		}
	}
}

// TestCloudForget: a token of -forget ends with the unlock of the wallet.
func TestCloudForget(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	s.signIn("-forget").Want(4).Has("gharbor wallet unlock")
	s.OK(append([]string{"wallet", "unlock"}, s.open...)...)
	s.signIn("-forget").Want(0)
	s.OK("cloud", "list").Has("until the wallet is locked")
	s.OK("cloud", "who", "station")
	if files, _ := filepath.Glob(filepath.Join(s.Home, "cloud", "*.token")); len(files) > 0 {
		t.Errorf("%q", files)
	}
	s.OK("wallet", "lock")
	s.Run("cloud", "who", "station").Want(4).Has("cloud.not-signed-in")
	s.Feed("a-token-of-mine\n", append([]string{"cloud", "sign-in", "station", "-token-stdin"}, s.open...)...).Want(4).Has("cloud.sign-in-expired").HasNot("a-token-of-mine")
}

// TestCloudDenied: a person says no, or nobody says anything; a server that wants fewer questions is asked less.
func TestCloudDenied(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{CodeFor: 2 * time.Second})
	s.Run(append([]string{"cloud", "sign-in", "station"}, s.open...)...).Want(4).Has("nobody confirmed the code in time")
	stop := make(chan struct{})
	go func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
				s.DenyAny()
			}
		}
	}()
	defer close(stop)
	s.Run(append([]string{"cloud", "sign-in", "station"}, s.open...)...).Want(4).Has("refused on its page")
	slow := newRental(t, cloud.Config{})
	slow.SlowDown(1)
	start := time.Now()
	slow.signIn().Want(0)
	if took := time.Since(start); took < 6*time.Second {
		t.Errorf("after slow_down it was asked again within %s", took)
	}
}

// TestCloudHops: behind a jump host the private address is used, by tests, tunnels and programs.
func TestCloudHops(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	s.signIn().Want(0)
	s.OK("cloud", "adopt", "station/estuary-deep", "deep")
	s.Test("deep").Ends(t, "route", "fail", "cloud.not-allowed")
	s.OK("cloud", "allow", "deep")
	s.Test("deep").Ends(t, "route", "fail", "cloud.no-address")
	key := filepath.Join(s.Home, "gate-key")
	public, err := ssh.NewKey(key)
	if err != nil {
		t.Fatal(err)
	}
	gate, err := ssh.Start(ssh.Config{Accounts: map[string]ssh.Account{"keeper": {Keys: []cryptossh.PublicKey{public}}}, Hosts: s.Inner()})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(gate.Close)
	s.Write(filepath.Join(s.Home, "known_hosts"), gate.KnownLine()+"\n")
	s.OK("cloud", "disallow", "deep")
	s.OK("hop", "add", "deep", "host=127.0.0.1", fmt.Sprintf("port=%d", gate.Port()), "user=keeper", "key="+key)
	s.OK("test", "deep").Has("ready: brief-", "inner.estuary-deep")
	s.OK("with", "deep", "--", "sh", "-c", "echo $GHARBOR_USER at $GHARBOR_HOST $GHARBOR_TLS_NAME").Has("at 127.0.0.1 estuary-deep.cloud.saltmarsh.example")
	s.OK("tunnel", "open", "deep", "-background", "-lifetime", "1m").Has("127.0.0.1:")
	s.OK("tunnel", "close", "deep")
}

// TestCloudProcesses: of several processes that find a token ended, one refreshes it.
func TestCloudProcesses(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{More: 3000, Page: 500})
	s.signIn().Want(0)
	for range 3 {
		s.EndTokens()
		var group sync.WaitGroup
		for range 6 {
			group.Go(func() { s.Run("cloud", "who", "station").Want(0) })
		}
		group.Wait()
	}
	if s.Refreshes != 3 {
		t.Errorf("a token that had ended 3 times was refreshed %d times", s.Refreshes)
	}
	if lines := strings.Count(s.OK("cloud", "instances", "station").Stdout, "\n"); lines != 3000+6+1 {
		t.Errorf("%d lines", lines)
	}
	s.OK("cloud", "instances", "station", "creek-2999", "-format", "json").Has("creek-2999").HasNot("creek-2998")
	s.OK("cloud", "check", "station").Has("instances: 3005")
}

// TestCloudJobs: a job signs in by a client of its own.
func TestCloudJobs(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	s.Setenv("STATION", cloud.JobSecret)
	s.OK("cloud", "set", "station", "client="+cloud.Job, "client-secret=env:STATION")
	s.OK("cloud", "who", "station").Has("warden@saltmarsh.example")
	s.Run("cloud", "sign-in", "station").Want(2).Has("signs in by itself")
	s.OK("cloud", "adopt", "station/estuary-members/spring", "spring", "-test").Has("ready: brief-")
	s.OK("cloud", "list").Has("client secret")
	s.Setenv("STATION", "knotted-brine")
	s.Run("cloud", "who", "station").Want(4).Has("the client's secret is wrong").HasNot("brine")
	s.Unsetenv("STATION")
	s.Run("cloud", "who", "station").Want(4).Has("secret.missing")
	s.Run("cloud", "set", "station", "client-secret=knot-knot").Want(2).HasNot("knot")
	s.Run("cloud", "set", "station", "servce=x").Want(2).Has("did you mean")
	s.Run("cloud", "add", "other", "service=http://a.example").Want(2).Has("https URL")
	s.Run("cloud", "remove", "station").Want(2).Has("used by")
}

// TestCloudCanary: no token and no login that was made is in anything that comes out, or stays behind.
func TestCloudCanary(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	out := &strings.Builder{}
	note := func(r *testkit.Result) { out.WriteString(r.Stdout + r.Stderr) }
	note(s.signIn())
	note(s.Run(append([]string{"cloud", "first-password", "new"}, s.open...)...))
	for _, words := range [][]string{
		{"cloud", "adopt", "station/estuary-members/spring", "spring"}, {"cloud", "adopt", "station/estuary-audit", "audit"},
		{"cloud", "adopt", "station/estuary-new", "new"}, {"cloud", "switch-on", "audit", "remote-access"},
		append([]string{"cloud", "first-password", "new"}, s.open...), {"test", "spring"}, {"test", "audit"}, {"test", "new"},
		{"cloud", "who", "station"}, {"cloud", "instances", "station"}, {"cloud", "show", "station"}, {"cloud", "list"}, {"cloud", "check", "station", "-change", "estuary-members/spring"},
		{"cloud", "allow", "station/estuary-members"}, {"cloud", "allow", "station/estuary-members", "-list"}, {"audit", "-cloud"}, {"show", "spring"}, {"list"},
		{"export", "spring", "-as", "url"}, {"export", "spring", "-as", "env"}, {"with", "spring", "--", "sh", "-c", "tr '\\0' ' ' < /proc/$PPID/cmdline"}, {"compare", "spring", "audit"},
		{"certificate", "spring"}, {"wait", "spring"}, {"cloud", "allow", "nowhere"}, {"cloud", "who", "nowhere"},
	} {
		for _, more := range [][]string{nil, {"-verbose"}, {"-format", "json"}} {
			if words[0] == "with" && more != nil {
				continue
			}
			r := s.Run(append(slices.Clone(words), more...)...)
			if note(r); r.Code == 70 {
				t.Errorf("%q: a defect\n%s", words, r.Stderr)
			}
		}
	}
	secrets := append(s.Tokens(), s.MadePasswords()...)
	if len(secrets) < 6 {
		t.Fatalf("only %d secrets were made", len(secrets))
	}
	testkit.NoSecret(t, "what came out", out.String(), secrets...)
	testkit.NoSecretIn(t, filepath.Dir(s.Home), nil, secrets...)
	note(s.Run("cloud", "sign-out", "station"))
	testkit.NoSecretIn(t, filepath.Dir(s.Home), nil, secrets...)
}
