package secret

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"gentleharbor/core/finding"
)

// finder knows one variable, and answers a question with "typed".
func finder(t *testing.T) *Finder {
	t.Helper()
	return &Finder{
		Home:     t.TempDir(),
		Locks:    t.TempDir(),
		Terminal: true,
		Lookup: func(name string) (string, bool) {
			value, ok := map[string]string{"AVOCET": "knot", "EMPTY": ""}[name]
			return value, ok
		},
		Ask: func(context.Context, string) (Value, error) { return NewValue("typed"), nil },
	}
}

func source(t *testing.T, text string) Source {
	t.Helper()
	s, ok := ParseSource(text)
	if !ok {
		t.Fatalf("%s is no source", text)
	}
	return s
}

// TestSources: each source leads to its value, or says why not.
func TestSources(t *testing.T) {
	t.Parallel()
	f := finder(t)
	path := filepath.Join(f.Home, "secret")
	os.WriteFile(path, []byte("knot\nsecond line\n"), 0o600)
	open := filepath.Join(f.Home, "open")
	os.WriteFile(open, []byte("knot\n"), 0o644)
	folder := filepath.Join(f.Home, "folder")
	os.Mkdir(folder, 0o700)
	script := filepath.Join(f.Home, "print")
	os.WriteFile(script, []byte("#!/bin/sh\nprintf '%s\\n' \"$1\"\n"), 0o700)
	broken := filepath.Join(f.Home, "broken")
	os.WriteFile(broken, []byte("#!/bin/sh\necho no such bird >&2\nexit 3\n"), 0o700)
	for _, c := range []struct {
		source  string
		command []string
		want    string // of the value; "" where there is none
		code    finding.Code
	}{
		{source: "env:AVOCET", want: "knot"},
		{source: "env:NOBODY", code: finding.SecretMissing},
		{source: "env:EMPTY", want: ""},
		{source: "file:" + path, want: "knot"},
		{source: "file:" + open, code: finding.SecretPermissions},
		{source: "file:" + folder, code: finding.SecretUnreadable},
		{source: "file:/nonexistent/x", code: finding.SecretMissing},
		{source: "ask", want: "typed"},
		{source: "none", want: ""},
		{source: "command:x", command: []string{script, "knot"}, want: "knot"},
		{source: "command:x", command: []string{broken}, code: finding.SecretCommandFailed},
		{source: "command:x", command: []string{filepath.Join(f.Home, "none")}, code: finding.SecretMissing},
		{source: "command:x", command: []string{"no-such-program-here"}, code: finding.SecretMissing},
		{source: "command:x", code: finding.SecretMissing},
		{source: "container:X", code: finding.SecretMissing},
		{source: "keyring", code: finding.SecretNoKeyring},
	} {
		q := Query{Profile: "counts", Source: source(t, c.source), Command: c.command, Folder: f.Home, User: "warden"}
		l, found := f.Locate(t.Context(), q)
		var err error
		var v Value
		if l != nil {
			v, err = l.Take(t.Context())
		}
		var failure *Failure
		if errors.As(err, &failure) {
			found = failure.Found
		}
		switch {
		case c.code != "" && (found == nil || found.Code != c.code):
			t.Errorf("%s %q: %+v, want %s", c.source, c.command, found, c.code)
		case c.code == "" && (found != nil || err != nil || v.Disclose() != c.want):
			t.Errorf("%s: %+v %v", c.source, found, err)
		}
		if found != nil && strings.Contains(strings.Join(append(found.Seen, found.Cause), " "), "knot") {
			t.Errorf("%s: the finding has the secret in it: %+v", c.source, found)
		}
	}
	f.Terminal = false
	if _, found := f.Locate(t.Context(), Query{Source: Source{Kind: "ask"}}); found == nil || found.Code != finding.SecretNoTerminal {
		t.Errorf("without a terminal: %+v", found)
	}
}

// TestRecheck: what somebody vouched for is judged once more before the value is taken.
func TestRecheck(t *testing.T) {
	t.Parallel()
	f := finder(t)
	judged := 0
	q := Query{Source: source(t, "env:AVOCET"), Recheck: func() *finding.Finding {
		judged++
		return finding.New(finding.ProfileNotVouched, "it was changed")
	}}
	l, found := f.Locate(t.Context(), q)
	if found != nil || judged != 0 {
		t.Fatalf("%+v, judged %d times too early", found, judged)
	}
	if v, err := l.Take(t.Context()); err == nil || v.Present() || judged != 1 {
		t.Errorf("%v, judged %d times", err, judged)
	}
}

// TestPut: a secret is written where its source takes it from, or the reason is told.
func TestPut(t *testing.T) {
	t.Parallel()
	f := finder(t)
	path := filepath.Join(f.Home, "secret")
	os.WriteFile(path, []byte("old\nkept\n"), 0o600)
	if place, err := f.Put(t.Context(), Query{Source: source(t, "file:"+path)}, NewValue("new")); err != nil || place != "file "+path+", line 1" {
		t.Errorf("%s %v", place, err)
	}
	if data, _ := os.ReadFile(path); string(data) != "new\nkept\n" {
		t.Errorf("%q", data)
	}
	os.Chmod(path, 0o644)
	if _, err := f.Put(t.Context(), Query{Source: source(t, "file:"+path)}, NewValue("x")); err == nil {
		t.Error("a file that others can read was written to")
	}
	for text, ok := range map[string]bool{"file:/x": true, "wallet": true, "env:X": false, "command:x": false, "ask": false, "none": false, "keyring": false} {
		if err := f.CanPut(Query{Profile: "counts", Source: source(t, text)}); (err == nil) != ok {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestQuestions: a question names what is wanted, and one answer serves a profile or a hop.
func TestQuestions(t *testing.T) {
	t.Parallel()
	f := finder(t)
	var asked []string
	f.Ask = func(_ context.Context, prompt string) (Value, error) {
		asked = append(asked, prompt)
		return NewValue("typed"), nil
	}
	hop := Query{Kind: OfHop, Address: "keeper@gate:22", Source: source(t, "ask"), Setting: "hop.1.secret", Profile: "tides"}
	for _, q := range []Query{{Profile: "counts", User: "warden", Source: source(t, "ask")}, {Profile: "counts", User: "warden", Source: source(t, "ask")}, hop, hop, {Kind: OfKey, Address: "/k", Source: source(t, "ask")}} {
		l, _ := f.Locate(t.Context(), q)
		l.Take(t.Context())
	}
	if want := "password of warden for counts, password of keeper@gate:22, passphrase of the key /k"; strings.Join(asked, ", ") != want {
		t.Errorf("asked %q", asked)
	}
	f.Forget(hop)
	l, _ := f.Locate(t.Context(), hop)
	if l.Take(t.Context()); len(asked) != 4 {
		t.Errorf("after it was forgotten: asked %d times", len(asked))
	}
	if hop.SettingKey() != "hop.1.secret" || hop.AddressText() != "keeper@gate:22" || hop.KeyringEntry() != "keeper@gate:22" {
		t.Errorf("%s %s %s", hop.SettingKey(), hop.AddressText(), hop.KeyringEntry())
	}
	q := Query{Engine: "mysql", Family: []string{"mysql", "mariadb"}, Container: "x", Endpoint: "unix:///s"}
	if !q.SpeaksAs("mariadb") || !q.SpeaksAs("mysql") || q.SpeaksAs("redis") || q.AddressText() != "container x of unix:///s" {
		t.Error("a protocol or a place is wrong")
	}
	if ValidForHop("passfile") || !ValidForHop("env:X") || !NewValue("a").Same(NewValue("a")) || NewValue("a").Same(NewValue("b")) {
		t.Error("what a hop takes, or what is the same, is wrong")
	}
}

// TestLinks: a link into somebody else's folder is judged by where it leads.
func TestLinks(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("access lists rule there")
	}
	f := finder(t)
	path, link := filepath.Join(f.Home, "secret"), filepath.Join(f.Home, "link")
	os.WriteFile(path, []byte("knot\n"), 0o600)
	os.Symlink(path, link)
	if found := JudgeFile(link, "the file"); found != nil {
		t.Errorf("%+v", found)
	}
	pinned := Query{Pinned: map[string][]byte{path: []byte("pinned\n")}, Source: source(t, "file:"+path)}
	l, found := f.Locate(t.Context(), pinned)
	if found != nil {
		t.Fatal(found.Cause)
	}
	if v, err := l.Take(t.Context()); err != nil || v.Disclose() != "pinned" {
		t.Errorf("%v", err)
	}
	if v, err := FirstLine(path); err != nil || v.Disclose() != "knot" {
		t.Errorf("%v", err)
	}
	os.WriteFile(path, []byte(strings.Repeat("x", maxSecret+2)), 0o600)
	if _, err := FirstLine(path); err == nil {
		t.Error("a line without end was read")
	}
}
