package api

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/secret"
	"gentleharbor/standin/engineapi"
)

func none(string) (string, bool) { return "", false }

// connect starts an engine and connects to it.
func connect(t *testing.T, c engineapi.Config) (*Client, *engineapi.Server, error) {
	t.Helper()
	folder, err := os.MkdirTemp("", "gh-api-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	c.Socket = filepath.Join(folder, "s")
	s, err := engineapi.Start(c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	client, err := Connect(t.Context(), Endpoint{Address: s.Endpoint(), From: "the test"}, none, "", (&net.Dialer{}).DialContext)
	return client, s, err
}

// TestVersions agrees on the newest version that both know.
func TestVersions(t *testing.T) {
	for _, c := range []struct {
		high, low string
		want      string // "" for none in common
	}{
		{"1.41", "1.12", "1.41"}, {"1.99", "1.44", fmt.Sprintf("1.%d", newest)}, {"1.24", "1.24", "1.24"}, {"1.24", "", "1.24"},
		{"1.23", "1.12", ""}, {"1.99", "1.90", ""}, {"2.0", "2.0", ""}, {"1.x", "1.1", ""},
	} {
		client, s, err := connect(t, engineapi.Config{APIVersion: c.high, MinVersion: c.low})
		if (err == nil) != (c.want != "") || err == nil && client.Version != c.want {
			t.Errorf("with %s to %s: %v", c.low, c.high, err)
		}
		if err != nil {
			continue
		}
		if _, err := client.List(t.Context()); err != nil || !slices.Contains(s.Calls(), "GET /containers/json") {
			t.Errorf("%v, calls %v", err, s.Calls())
		}
	}
}

// TestCalls goes through what a client asks and does.
func TestCalls(t *testing.T) {
	client, s, err := connect(t, engineapi.Config{Images: []string{"mariadb:11"}, Registry: []string{"postgres:16"}, Containers: []*engineapi.Container{
		{Name: "rings", Labels: map[string]string{"a": "b"}, Env: []string{"MARIADB_PASSWORD=x=y", "EMPTY="}, Log: []string{"one", "two", "three"}, Files: map[string]string{"/run/secrets/p": "knot\n", "/run/secrets/link": "-> ../secrets/p", "/run/secrets/circle": "-> circle"}},
		{Name: "counts", TTY: true, Log: []string{"plain"}},
	}})
	if err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	if list, err := client.List(ctx, "a=b"); err != nil || len(list) != 1 || list[0].Name() != "rings" {
		t.Errorf("the list is %v, %v", list, err)
	}
	rings, err := client.Inspect(ctx, "rings")
	if err != nil || rings.Config.Env["MARIADB_PASSWORD"].Disclose() != "x=y" || !rings.Config.Env["EMPTY"].Empty() {
		t.Errorf("%v, %v", rings, err)
	}
	if text := fmt.Sprintf("%v %+v", rings.Config.Env, rings.Config); strings.Contains(text, "x=y") {
		t.Error("an environment can be printed")
	}
	if lines, err := client.Logs(ctx, rings, 2); err != nil || strings.Join(lines, " ") != "two three" {
		t.Errorf("the log is %q, %v", lines, err)
	}
	counts, _ := client.Inspect(ctx, "counts")
	if lines, err := client.Logs(ctx, counts, 2); err != nil || strings.Join(lines, " ") != "plain" {
		t.Errorf("the log of a terminal is %q, %v", lines, err)
	}
	if v, err := client.ReadFile(ctx, rings.ID, "/run/secrets/p"); err != nil || v.Disclose() != "knot" {
		t.Errorf("the file: %v", err)
	}
	if v, err := client.ReadFile(ctx, rings.ID, "/run/secrets/link"); err != nil || v.Disclose() != "knot" {
		t.Errorf("the file behind a link: %v", err)
	}
	if _, err := client.ReadFile(ctx, rings.ID, "/run/secrets/circle"); err == nil {
		t.Error("a circle of links was read")
	}
	var failed *Error
	if _, err := client.ReadFile(ctx, rings.ID, "/etc/none"); !errors.As(err, &failed) || failed.Status != 404 {
		t.Errorf("a file that is not there: %v", err)
	}
	if err := errors.Join(client.Stop(ctx, rings.ID), client.Stop(ctx, rings.ID), client.Start(ctx, rings.ID)); err != nil || s.Find("rings").State != "running" {
		t.Errorf("stopped twice and started: %v", err)
	}
	if err := client.Remove(ctx, rings.ID); !errors.As(err, &failed) || failed.Status != 409 {
		t.Errorf("a running one was removed: %v", err)
	}
	var steps int
	if err := client.Pull(ctx, "postgres", "16", func(have, want int64) {
		if steps++; have > want {
			t.Errorf("%d of %d bytes", have, want)
		}
	}); err != nil || steps == 0 {
		t.Errorf("pulled in %d steps: %v", steps, err)
	}
	if _, ok, err := client.Image(ctx, "postgres:16"); err != nil || !ok {
		t.Errorf("the image: %v", err)
	}
	ended, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := client.List(ended); !errors.Is(err, context.Canceled) {
		t.Errorf("after Ctrl-C: %v", err)
	}
}

// TestEndpoints finds the engines that a machine may have, each once.
func TestEndpoints(t *testing.T) {
	folder := t.TempDir()
	for _, path := range []string{"docker.sock", "podman/podman.sock"} {
		os.MkdirAll(filepath.Dir(filepath.Join(folder, path)), 0o700)
		os.WriteFile(filepath.Join(folder, path), nil, 0o600)
	}
	os.Symlink(filepath.Join(folder, "docker.sock"), filepath.Join(folder, "link.sock"))
	lookup := func(values ...string) func(string) (string, bool) {
		return func(name string) (string, bool) {
			for i := 0; i+1 < len(values); i += 2 {
				if values[i] == name {
					return values[i+1], true
				}
			}
			return "", false
		}
	}
	in := func(name string) string { return "unix://" + filepath.Join(folder, name) }
	for _, c := range []struct {
		values []string
		want   []string
	}{
		{[]string{"XDG_RUNTIME_DIR", folder}, []string{in("docker.sock"), in("podman/podman.sock")}},
		{[]string{"XDG_RUNTIME_DIR", folder, "DOCKER_HOST", in("link.sock")}, []string{in("link.sock"), in("podman/podman.sock")}},
		{[]string{SocketsVariable, filepath.Join(folder, "docker.sock") + ":" + filepath.Join(folder, "none")}, []string{in("docker.sock")}},
		{[]string{SocketsVariable, "", "DOCKER_HOST", "tcp://127.0.0.1:2375"}, []string{"tcp://127.0.0.1:2375"}},
	} {
		all, err := Endpoints(lookup(c.values...), "", 1000)
		var have []string
		for _, e := range all {
			if strings.Contains(e.Address, folder) || e.Socket() == "" { // the machine's own may be there too
				have = append(have, e.Address)
			}
		}
		if err != nil || !slices.Equal(have, c.want) {
			t.Errorf("%v: %v, %v", c.values, have, err)
		}
	}
	for named, want := range map[string]string{"127.0.0.1:2375": "tcp://127.0.0.1:2375", "tcp://127.0.0.1": "tcp://127.0.0.1:2375",
		"tcp://[::1]": "tcp://[::1]:2375", "tcp://h:7": "tcp://h:7", "unix:///x": "unix:///x"} {
		if all, err := Endpoints(lookup("DOCKER_HOST", named), "", 0); err != nil || all[0].Address != want {
			t.Errorf("%s: %v %v", named, all, err)
		}
	}
	if all, err := Endpoints(lookup("DOCKER_HOST", "tcp://h", verifyVariable, "1"), "", 0); err != nil || all[0].Address != "tcp://h:2376" {
		t.Errorf("%v %v", all, err)
	}
	for _, named := range []string{"ssh://x", "h", "127.0.0.1:many", "fd://", ":2375:1"} {
		if _, err := Endpoints(lookup("DOCKER_HOST", named), "", 0); err == nil {
			t.Errorf("%s is an endpoint", named)
		}
	}
}

// TestContext: the context of the engine's client says where the engine is, where no variable does.
func TestContext(t *testing.T) {
	home := t.TempDir()
	write := func(name, text string) {
		path := filepath.Join(home, ".docker", name)
		os.MkdirAll(filepath.Dir(path), 0o700)
		os.WriteFile(path, []byte(text), 0o600)
	}
	write("config.json", `{"currentContext": "mine"}`)
	for name, host := range map[string]string{"mine": "unix:///vm/docker.sock", "far": "ssh://keeper@far"} {
		sum := sha256.Sum256([]byte(name))
		write("contexts/meta/"+hex.EncodeToString(sum[:])+"/meta.json", `{"Name": "`+name+`", "Endpoints": {"docker": {"Host": "`+host+`"}}}`)
	}
	lookup := func(pairs ...string) func(string) (string, bool) {
		return func(name string) (string, bool) {
			for i := 0; i < len(pairs); i += 2 {
				if pairs[i] == name {
					return pairs[i+1], true
				}
			}
			return "", false
		}
	}
	named := func(pairs ...string) string {
		all, err := Endpoints(lookup(pairs...), home, 1000)
		if err != nil {
			return "an error: " + err.Error()
		}
		for _, e := range all {
			if strings.HasPrefix(e.From, "the context") {
				return e.From + " " + e.Address
			}
		}
		return ""
	}
	for _, c := range []struct {
		pairs []string
		want  string
	}{
		{nil, "the context mine unix:///vm/docker.sock"}, {[]string{"DOCKER_CONTEXT", "default"}, ""}, {[]string{"DOCKER_CONTEXT", "unknown"}, ""},
		{[]string{"DOCKER_HOST", "unix:///other.sock"}, ""}, {[]string{SocketsVariable, "/x"}, ""}, {[]string{"DOCKER_CONTEXT", "far"}, "an error: "},
	} {
		if got := named(c.pairs...); got != c.want && !(c.want == "an error: " && strings.HasPrefix(got, c.want)) {
			t.Errorf("%v: %q, want %q", c.pairs, got, c.want)
		}
	}
}

// FuzzLog takes the frames of a log apart, whatever they are.
func FuzzLog(f *testing.F) {
	f.Add([]byte("\x01\x00\x00\x00\x00\x00\x00\x03one\x02\x00\x00\x00\x00\x00\x00\x02tw"))
	f.Add([]byte("no frames"))
	f.Add([]byte{1, 0, 0, 0, 255, 255, 255, 255, 'x'})
	f.Fuzz(func(t *testing.T, data []byte) {
		if text := unframe(data); len(text) > len(data) {
			t.Errorf("%d bytes became %d", len(data), len(text))
		}
		if len(data) < 1<<16 {
			var framed []byte
			framed = append(framed, 1, 0, 0, 0)
			framed = binary.BigEndian.AppendUint32(framed, uint32(len(data)))
			if got := unframe(append(framed, data...)); string(got) != string(data) {
				t.Errorf("%q became %q", data, got)
			}
		}
	})
}

// TestMaking makes a container with a volume and a file in it, and takes all away again.
func TestMaking(t *testing.T) {
	client, s, err := connect(t, engineapi.Config{Images: []string{"mariadb:11"}})
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	ctx := t.Context()
	if err := client.CreateVolume(ctx, "rings-data", map[string]string{"a": "b"}); err != nil {
		t.Fatal(err)
	}
	if labels, ok, err := client.HasVolume(ctx, "rings-data"); err != nil || !ok || labels["a"] != "b" {
		t.Errorf("%v %v %v", labels, ok, err)
	}
	id, err := client.Create(ctx, "rings", Spec{Image: "mariadb:11"})
	if err != nil || id == "" {
		t.Fatal(err)
	}
	if err := client.WriteFiles(ctx, id, "/run/secrets", []File{{Name: "p", Content: secret.NewValue("knot"), UID: 999}}); err != nil {
		t.Errorf("%v, calls %v", err, s.Calls())
	}
	if err := client.Remove(ctx, id); err != nil {
		t.Error(err)
	}
	if err := client.RemoveVolume(ctx, "rings-data"); err != nil {
		t.Error(err)
	}
	_, err = client.Inspect(ctx, "rings")
	if !Gone(err) || err.Error() == "" || client.CLIName() != "docker" || (&Error{Err: errors.New("x")}).Error() != "x" {
		t.Errorf("a container that is gone: %v", err)
	}
}

// TestPlainTCP: an engine of another machine is asked over TLS alone, and one of this machine may speak plainly.
func TestPlainTCP(t *testing.T) {
	dial := func(context.Context, string, string) (net.Conn, error) { return nil, errors.New("no engine here") }
	var failed *Error
	_, err := Connect(t.Context(), Endpoint{Address: "tcp://engine.example:2375"}, none, t.TempDir(), dial)
	if !errors.As(err, &failed) || failed.Kind != Insecure {
		t.Errorf("plain TCP to another machine: %v", err)
	}
	if _, err := Connect(t.Context(), Endpoint{Address: "tcp://127.0.0.1:2375"}, none, "", dial); err == nil || errors.As(err, &failed) && failed.Kind == Insecure {
		t.Errorf("plain TCP to this machine: %v", err)
	}
	if (Endpoint{Address: "tcp://127.0.0.1:1"}).Host() != "" || (Endpoint{Address: "tcp://far.example:1"}).Host() != "far.example" {
		t.Error("where an engine is")
	}
}

// TestFollow gives a log line by line, framed or not, up to its end or to where nobody wants more.
func TestFollow(t *testing.T) {
	client, _, err := connect(t, engineapi.Config{Containers: []*engineapi.Container{
		{Name: "framed", Log: []string{"one", "two", "three"}}, {Name: "plain", TTY: true, Log: []string{"\x03 odd", "last"}}, {Name: "empty"},
	}})
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"framed": "two|three", "plain": "\x03 odd|last", "empty": ""} {
		one, err := client.Inspect(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		err = client.Follow(t.Context(), one, 2, func(line string) error { lines = append(lines, line); return nil })
		if got := strings.Join(lines, "|"); got != want || err != nil {
			t.Errorf("%s: %q, %v", name, got, err)
		}
	}
	one, _ := client.Inspect(t.Context(), "framed")
	enough := errors.New("enough")
	if err := client.Follow(t.Context(), one, 9, func(string) error { return enough }); !errors.Is(err, enough) {
		t.Error(err)
	}
	one.ID = "nobody"
	if err := client.Follow(t.Context(), one, 9, nil); err == nil {
		t.Error("a container that is not there has a log")
	}
}
