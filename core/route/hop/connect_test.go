package hop

import (
	"bufio"
	"context"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	sshlib "golang.org/x/crypto/ssh"

	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/route"
	"gentleharbor/core/secret"
	"gentleharbor/standin/ssh"
)

// way is a jump host, a server behind it, and the home of somebody who goes there.
type way struct {
	home   string
	gate   *ssh.Server
	inside string // what the gate calls the server
}

// newWay makes the gate: keeper gets in by the key in the home, typist by a password, asked by questions.
func newWay(t *testing.T, fault ssh.Fault) *way {
	t.Helper()
	w := &way{home: t.TempDir(), inside: "tide-db.internal.example:5432"}
	os.MkdirAll(filepath.Join(w.home, ".ssh"), 0o700)
	key, err := ssh.NewKey(filepath.Join(w.home, "gate"))
	if err != nil {
		t.Fatal(err)
	}
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { server.Close() })
	go func() {
		for {
			conn, err := server.Accept()
			if err != nil {
				return
			}
			io.WriteString(conn, "ebb")
			conn.Close()
		}
	}()
	w.gate, err = ssh.Start(ssh.Config{
		Fault: fault,
		Accounts: map[string]ssh.Account{
			"keeper": {Keys: []sshlib.PublicKey{key}},
			"typist": {Password: "dunlin"},
			"asked":  {Questions: []string{"Which bird?"}, Answers: []string{"dunlin"}},
		},
		Hosts:    map[string]string{w.inside: server.Addr().String()},
		Refusals: map[string]string{"off.internal.example:5432": "connect failed: Connection refused", "far.internal.example:5432": "No route to host"},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.gate.Close)
	w.know(t)
	return w
}

// know writes the gate's key where it is looked for.
func (w *way) know(t *testing.T) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(w.home, ".ssh", "known_hosts"), []byte(w.gate.KnownLine()+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// plan are the hops of a profile with one hop, of those keys.
func (w *way) plan(t *testing.T, keys string) []*Hop {
	t.Helper()
	text := fmt.Sprintf("[profile.tides]\nengine = \"postgresql\"\nhost = \"tide-db.internal.example\"\n[[profile.tides.hop]]\nhost = \"127.0.0.1\"\nport = %d\nagent = false\n%s", w.gate.Port(), keys)
	return w.hops(t, text)
}

func (w *way) hops(t *testing.T, text string) []*Hop {
	t.Helper()
	f, err := profile.Parse(allKeys, "profiles.toml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	r := resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{Home: w.home})
	hops, _, found := Places{Home: w.home, System: w.home, Known: filepath.Join(w.home, "known"), Lookup: nothing}.Plan(r)
	if found != nil {
		t.Fatal(found.Cause)
	}
	return hops
}

func nothing(string) (string, bool) { return "", false }

// dialer answers every question with a password.
func dialer(password string) *Dialer {
	ask := func(context.Context, string) (secret.Value, error) { return secret.NewValue(password), nil }
	return &Dialer{Network: route.System(), Profile: "tides", Secrets: &SecretCache{},
		Finder: &secret.Finder{Lookup: nothing, Terminal: true, Ask: ask}}
}

// TestConnect: each way to log in leads to the server behind the gate.
func TestConnect(t *testing.T) {
	t.Parallel()
	w := newWay(t, "")
	for _, keys := range []string{
		fmt.Sprintf("user = \"keeper\"\nkey = %q\n", filepath.Join(w.home, "gate")),
		"user = \"typist\"\nsecret = \"ask\"\n",
		"user = \"asked\"\nsecret = \"ask\"\n",
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		hops := w.plan(t, keys)
		link, result := dialer("dunlin").Connect(ctx, nil, hops[0])
		if result.Outcome == finding.Fail {
			t.Fatalf("%s: %+v", keys, result.Finding)
		}
		conn, err := link.DialRaw(ctx, "tcp", w.inside)
		if err != nil {
			t.Fatal(err)
		}
		if text, _ := io.ReadAll(conn); string(text) != "ebb" {
			t.Errorf("behind the gate it says %q", text)
		}
		conn.Close()
		for address, want := range map[string]Reason{"off.internal.example:5432": Refused, "far.internal.example:5432": Unreachable, "none.internal.example:5432": NameUnknown} {
			_, err := link.DialRaw(ctx, "tcp", address)
			if why, _ := ReasonOf(err); why != want {
				t.Errorf("%s: %v, want %v: %v", address, why, want, err)
			}
		}
		link.Close()
		cancel()
	}
}

// TestRefusals: what goes wrong at a hop has its own finding.
func TestRefusals(t *testing.T) {
	t.Parallel()
	good := newWay(t, "")
	key := fmt.Sprintf("user = \"keeper\"\nkey = %q\n", filepath.Join(good.home, "gate"))
	stranger := newWay(t, "")
	os.WriteFile(filepath.Join(stranger.home, ".ssh", "known_hosts"), nil, 0o600)
	changed := newWay(t, "")
	os.WriteFile(filepath.Join(changed.home, ".ssh", "known_hosts"), []byte(strings.Replace(good.gate.KnownLine(), fmt.Sprint(good.gate.Port()), fmt.Sprint(changed.gate.Port()), 1)+"\n"), 0o600)
	open := newWay(t, "")
	os.Chmod(filepath.Join(open.home, "gate"), 0o644)
	own := func(w *way) string {
		return fmt.Sprintf("user = \"keeper\"\nkey = %q\n", filepath.Join(w.home, "gate"))
	}
	for name, c := range map[string]struct {
		w        *way
		keys     string
		password string
		want     finding.Code
	}{
		"a wrong password":        {good, "user = \"typist\"\nsecret = \"ask\"\n", "knot", finding.HopPasswordRefused},
		"no such account":         {good, strings.Replace(key, "keeper", "nobody", 1), "", finding.HopPasswordRefused},
		"an unknown host key":     {stranger, own(stranger), "", finding.HopHostKeyUnknown},
		"a changed host key":      {changed, own(changed), "", finding.HopHostKeyChanged},
		"a key that others read":  {open, own(open), "", finding.HopKeyPermissions},
		"a server that is silent": {newWay(t, ssh.Silent), key, "", finding.HopSilent},
		"one that closes":         {newWay(t, ssh.Close), key, "", finding.HopClosed},
		"one of no protocol":      {newWay(t, ssh.Garbage), key, "", finding.HopNotSsh},
		"lines without end":       {newWay(t, ssh.Endless), key, "", finding.HopNotSsh},
		"a pin that is another's": {good, key + "host-key = \"SHA256:" + strings.Repeat("A", 43) + "\"\n", "", finding.HopHostKeyChanged},
	} {
		limit := time.Minute
		if c.want == finding.HopSilent { // which only time shows
			limit = time.Second
		}
		ctx, cancel := context.WithTimeout(t.Context(), limit)
		link, result := dialer(c.password).Connect(ctx, nil, c.w.plan(t, c.keys)[0])
		cancel()
		if result.Outcome != finding.Fail {
			link.Close()
			t.Errorf("%s: it connected", name)
			continue
		}
		if result.Finding.Code != c.want {
			t.Errorf("%s: %s, want %s: %+v", name, result.Finding.Code, c.want, result.Finding)
		}
	}
}

// TestForwarding: a hop that lets nobody through says so.
func TestForwarding(t *testing.T) {
	t.Parallel()
	for fault, want := range map[ssh.Fault]Reason{ssh.Forbid: Prohibited, ssh.Drop: Dropped} {
		w := newWay(t, fault)
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		link, result := dialer("dunlin").Connect(ctx, nil, w.plan(t, "user = \"typist\"\nsecret = \"ask\"\n")[0])
		if result.Outcome == finding.Fail {
			t.Fatal(result.Finding.Cause)
		}
		_, err := link.DialRaw(ctx, "tcp", w.inside)
		if why, _ := ReasonOf(err); why != want {
			t.Errorf("%s: %v, want %v: %v", fault, why, want, err)
		}
		link.Close()
		cancel()
	}
}

// TestTwoHops: the second is reached through the first, and HostKey sees a key without logging in.
func TestTwoHops(t *testing.T) {
	t.Parallel()
	w := newWay(t, "")
	second := newWay(t, "")
	w.gate.Hosts["sluice.internal.example:22"] = fmt.Sprintf("127.0.0.1:%d", second.gate.Port())
	line := second.gate.KnownLine()
	os.WriteFile(filepath.Join(w.home, ".ssh", "known_hosts"), []byte(w.gate.KnownLine()+"\nsluice.internal.example"+line[strings.IndexByte(line, ' '):]+"\n"), 0o600)
	hops := w.hops(t, fmt.Sprintf("[profile.tides]\nhost = \"h\"\n[[profile.tides.hop]]\nhost = \"127.0.0.1\"\nport = %d\nuser = \"typist\"\nagent = false\nsecret = \"ask\"\n[[profile.tides.hop]]\nhost = \"sluice.internal.example\"\nuser = \"typist\"\nagent = false\nsecret = \"ask\"\n", w.gate.Port()))
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	d := dialer("dunlin")
	if _, verdict, found := d.HostKey(ctx, nil, hops[0]); found != nil {
		t.Errorf("%+v %+v", verdict, found)
	}
	first, result := d.Connect(ctx, nil, hops[0])
	if result.Outcome == finding.Fail {
		t.Fatal(result.Finding.Cause)
	}
	link, result := d.Connect(ctx, first, hops[1])
	if result.Outcome == finding.Fail {
		t.Fatalf("%+v", result.Finding)
	}
	defer link.Close()
	conn, err := link.DialRaw(ctx, "tcp", second.inside)
	if err != nil {
		t.Fatal(err)
	}
	if text, _ := io.ReadAll(conn); string(text) != "ebb" {
		t.Errorf("behind two hops it says %q", text)
	}
	if asked := strings.Join(w.gate.Targets(), " "); asked != "sluice.internal.example:22" {
		t.Errorf("the gate was asked for %s", asked)
	}
}

// TestProxies: a SOCKS5 and an HTTP proxy as a hop, and what they refuse.
func TestProxies(t *testing.T) {
	t.Parallel()
	w := newWay(t, "")
	at := w.gate.Hosts[w.inside]
	open, login := proxies(t, at, ""), proxies(t, at, "keeper:dunlin")
	const user = "user = \"keeper\"\nsecret = \"ask\"\n"
	for _, c := range []struct {
		proxy, keys, host string
		code              finding.Code // of the connection to the proxy; "" for none
		why               Reason       // of the connection through it; Other for none
	}{
		{"socks5://" + open["socks5"], "", "tide-db.internal.example", "", Other},
		{"http://" + open["http"], "", "tide-db.internal.example", "", Other},
		{"socks5://" + login["socks5"], user, "tide-db.internal.example", "", Other},
		{"http://" + login["http"], user, "tide-db.internal.example", "", Other},
		{"socks5://" + login["socks5"], "", "tide-db.internal.example", finding.HopProxyLogin, Other},
		{"http://" + login["http"], "", "tide-db.internal.example", finding.HopProxyLogin, Other},
		{"socks5://" + open["http"], "", "tide-db.internal.example", finding.HopNotProxy, Other},
		{"http://" + open["socks5"], "", "tide-db.internal.example", finding.HopNotProxy, Other},
		{"socks5://" + open["socks5"], "", "forbidden.example", "", Prohibited},
		{"http://" + open["http"], "", "forbidden.example", "", Prohibited},
		{"socks5://" + open["socks5"], "", "down.example", "", Refused},
		{"http://" + open["http"], "", "down.example", "", Unreachable},
		{"socks5://192.0.2.1:1080", user, "tide-db.internal.example", finding.HopProxyClear, Other},
	} {
		hops := w.hops(t, fmt.Sprintf("[profile.tides]\nhost = \"h\"\n[[profile.tides.hop]]\nproxy = %q\n%s", c.proxy, c.keys))
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		link, result := dialer("dunlin").Connect(ctx, nil, hops[0])
		var code finding.Code
		var why Reason
		if result.Outcome == finding.Fail {
			code = result.Finding.Code
		} else {
			conn, err := link.DialRaw(ctx, "tcp", c.host+":5432")
			if refusal := link.Refusal(err); refusal != nil {
				code = refusal.Code
			} else if err != nil {
				why, _ = ReasonOf(err)
			} else {
				text := make([]byte, 3)
				if io.ReadFull(conn, text); string(text) != "ebb" {
					t.Errorf("behind %s it says %q", c.proxy, text)
				}
				conn.Close()
			}
			link.Close()
		}
		cancel()
		if code != c.code || why != c.why {
			t.Errorf("%s to %s: %q and %v, want %q and %v", c.proxy, c.host, code, why, c.code, c.why)
		}
	}
}

// proxies are a SOCKS5 and an HTTP proxy that know one server by its private name.
func proxies(t *testing.T, server, login string) map[string]string {
	t.Helper()
	forward := func(conn net.Conn, in io.Reader) {
		far, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer far.Close()
		go io.Copy(far, in)
		io.Copy(conn, far)
	}
	socks := listens(t, func(conn net.Conn) {
		head := make([]byte, 2)
		io.ReadFull(conn, head)
		if head[0] != 5 {
			return
		}
		methods := make([]byte, head[1])
		io.ReadFull(conn, methods)
		if login != "" {
			if !strings.Contains(string(methods), "\x02") {
				conn.Write([]byte{5, 0xff})
				return
			}
			conn.Write([]byte{5, 2})
			io.ReadFull(conn, head)
			name := make([]byte, int(head[1])+1)
			io.ReadFull(conn, name)
			word := make([]byte, name[len(name)-1])
			io.ReadFull(conn, word)
			if string(name[:len(name)-1])+":"+string(word) != login {
				conn.Write([]byte{1, 1})
				return
			}
			conn.Write([]byte{1, 0})
		} else {
			conn.Write([]byte{5, 0})
		}
		request := make([]byte, 5)
		io.ReadFull(conn, request)
		host := make([]byte, int(request[4])+2)
		io.ReadFull(conn, host)
		code := map[string]byte{"forbidden.example": 2, "down.example": 5}[string(host[:len(host)-2])]
		conn.Write([]byte{5, code, 0, 1, 0, 0, 0, 0, 0, 0})
		if code == 0 {
			forward(conn, conn)
		}
	})
	http := listens(t, func(conn net.Conn) {
		in := bufio.NewReader(conn)
		first, err := in.ReadString('\n')
		if err != nil || !strings.HasPrefix(first, "CONNECT ") {
			fmt.Fprint(conn, "HTTP/1.1 400 Bad Request\r\n\r\n")
			return
		}
		allowed := login == ""
		for {
			line, err := in.ReadString('\n')
			if err != nil || line == "\r\n" {
				break
			}
			allowed = allowed || strings.TrimSpace(line) == "Proxy-Authorization: Basic "+base64.StdEncoding.EncodeToString([]byte(login))
		}
		switch {
		case !allowed:
			fmt.Fprint(conn, "HTTP/1.1 407 Proxy Authentication Required\r\n\r\n")
		case strings.Contains(first, "forbidden"):
			fmt.Fprint(conn, "HTTP/1.1 403 Forbidden\r\n\r\n")
		case strings.Contains(first, "down"):
			fmt.Fprint(conn, "HTTP/1.1 502 Bad Gateway\r\n\r\n")
		default:
			fmt.Fprint(conn, "HTTP/1.1 200 OK\r\nVia: saltmarsh\r\n\r\n")
			forward(conn, in)
		}
	})
	return map[string]string{"socks5": "127.0.0.1:" + socks, "http": "127.0.0.1:" + http}
}

// TestConfiguration: a hop that an SSH client configuration names takes its settings from there, and those of
// the profile come before them.
func TestConfiguration(t *testing.T) {
	t.Parallel()
	w := newWay(t, "")
	os.WriteFile(filepath.Join(w.home, ".ssh", "config"), []byte("Host gate\n  HostName gate.saltmarsh.example\n  User keeper\n  Port 2222\n  IdentityFile ~/gate\n  ProxyJump outer\n  ForwardX11 yes\nHost outer\n  HostName outer.saltmarsh.example\n  IdentityAgent none\n"), 0o600)
	hops := w.hops(t, "[profile.tides]\nhost = \"h\"\n[[profile.tides.hop]]\nssh = \"gate\"\nuser = \"typist\"\n")
	if len(hops) != 2 || hops[0].Host != "outer.saltmarsh.example" || hops[0].From == "" || hops[1].Address() != "gate.saltmarsh.example:2222" || hops[1].User != "typist" {
		t.Fatalf("%+v", hops)
	}
	if !strings.Contains(hops[0].String(), "outer") || hops[1].KeyName() == "" {
		t.Errorf("%s %s", hops[0], hops[1].KeyName())
	}
	for _, text := range []string{"Host gate\n  HostName outer\n  ProxyCommand nc %h %p\n", "Host gate\n  Port x\n"} {
		os.WriteFile(filepath.Join(w.home, ".ssh", "config"), []byte(text), 0o600)
		f, _ := profile.Parse(allKeys, "profiles.toml", []byte("[profile.tides]\nhost = \"h\"\n[[profile.tides.hop]]\nssh = \"gate\"\n"))
		r := resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{Home: w.home})
		if _, _, found := (Places{Home: w.home, System: w.home, Lookup: nothing}).Plan(r); found == nil || found.Code != finding.HopConfig {
			t.Errorf("%q: %+v", text, found)
		}
	}
}

// TestKeys: a key with a passphrase is opened once it is asked for; what is no key, or not there, is told.
func TestKeys(t *testing.T) {
	t.Parallel()
	w := newWay(t, "")
	os.WriteFile(filepath.Join(w.home, "text"), []byte("no key at all\n"), 0o600)
	for path, want := range map[string]finding.Code{"none": finding.HopKeyMissing, "text": finding.HopKeyNotPrivate} {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		link, result := dialer("dunlin").Connect(ctx, nil, w.plan(t, fmt.Sprintf("user = \"keeper\"\nkey = %q\n", filepath.Join(w.home, path)))[0])
		cancel()
		if result.Outcome != finding.Fail {
			link.Close()
			t.Errorf("%s: it connected", path)
		} else if result.Finding.Code != want {
			t.Errorf("%s: %+v", path, result.Finding)
		}
	}
}

// listens serves each connection by a function, and is its port.
func listens(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}
