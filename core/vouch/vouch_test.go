package vouch

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// clone makes a repository with a profile and two files, and returns the sealed
// profile.
func clone(t *testing.T, text string) *resolve.Profile {
	t.Helper()
	root := t.TempDir()
	os.Mkdir(filepath.Join(root, ".git"), 0o755)
	os.Mkdir(filepath.Join(root, "sub"), 0o755)
	os.WriteFile(filepath.Join(root, "sub", "unlock.sh"), []byte("echo x\n"), 0o755)
	os.WriteFile(filepath.Join(root, "ca.pem"), []byte("ca"), 0o644)
	path := filepath.Join(root, "gharbor.toml")
	os.WriteFile(path, []byte("[profile.tides]\nengine = \"postgresql\"\n"+text), 0o644)
	place, ok := profile.FindProject(filepath.Join(root, "sub"))
	if !ok || place.Path != path {
		t.Fatalf("%+v", place)
	}
	f, err := profile.LoadProject(allKeys, place)
	if err != nil {
		t.Fatal(err)
	}
	return resolve.Resolve(f, f.Lookup("tides"), nil, resolve.Environment{Home: "/home/w", Lookup: func(string) (string, bool) { t.Error("a variable was read"); return "", false }}).ProjectProfile()
}

// TestHash: the same in every clone, another with every use, the same with what is
// no use.
func TestHash(t *testing.T) {
	const base = "host = \"db.saltmarsh.example\"\nuser = \"${USER}\"\ncommand = [\"./sub/unlock.sh\", \"--file=ca.pem\"]\n"
	first := FindUses(clone(t, base))
	if first.Trouble != "" || len(first.Files) != 2 || !slices.Contains(first.Lines(), `variable in user: USER`) {
		t.Errorf("%+v", first)
	}
	for _, line := range first.Lines() {
		if strings.Contains(line, os.TempDir()) {
			t.Errorf("a path of this clone is in %s", line)
		}
	}
	for text, same := range map[string]bool{
		base: true, base + "note = \"n\"\n": true, base + "tags = [\"t\"]\n[profile.tides.expect]\ntables = [\"x\"]\n": true,
		base + "port = 1\n": false, base + "database = \"d\"\n": false, base + "tls = \"off\"\n": false, base + "tls-ca = \"ca.pem\"\n": false, base + "tls-name = \"n\"\n": false,
		strings.Replace(base, "saltmarsh", "evil", 1): false, strings.Replace(base, "--file", "--other", 1): false,
	} {
		if got := FindUses(clone(t, text)); (got.Hash == first.Hash) != same {
			t.Errorf("%q: the same hash is %v\n%s", text, !same, strings.Join(got.Lines(), "\n"))
		}
	}
}

func TestBook(t *testing.T) {
	ctx := context.Background()
	b := NewBook(filepath.Join(t.TempDir(), "vouched.toml"))
	p := clone(t, "host = \"h.example\"\ntls-ca = \"ca.pem\"\n")
	if found := b.Judge(p); found == nil || found.Code != "profile.not-vouched" {
		t.Fatalf("%+v", found)
	}
	uses := FindUses(p)
	if err := b.Add(ctx, Record{File: p.Path(), Profile: "tides", Hash: uses.Hash, Uses: uses.Lines()}); err != nil {
		t.Fatal(err)
	}
	if found := b.Judge(p); found != nil || string(p.PinnedFiles()[filepath.Join(p.Root(), "ca.pem")]) != "ca" {
		t.Errorf("%+v %v", found, p.PinnedFiles())
	}
	os.WriteFile(filepath.Join(p.Root(), "ca.pem"), []byte("another"), 0o644)
	if found := b.Judge(p); found == nil || len(found.Seen) != 2 {
		t.Errorf("%+v", found)
	}
	os.Chmod(b.Path, 0o666)
	if _, err := NewBook(b.Path).Records(); err == nil || !strings.Contains(err.Error(), "anybody may write") {
		t.Errorf("a book that anybody may write vouches: %v", err)
	}
	os.Chmod(b.Path, 0o600)
	if gone, err := b.Withdraw(ctx, p.Path(), nil); err != nil || len(gone) != 1 {
		t.Errorf("%v %v", gone, err)
	}
	if records, err := b.Records(); err != nil || len(records) != 0 {
		t.Errorf("%v %v", records, err)
	}
	os.WriteFile(b.Path, []byte("format = 3\n"), 0o600)
	if records, err := b.Records(); err != nil || len(records) != 0 {
		t.Errorf("the file was read again for one run: %v %v", records, err)
	}
	b = NewBook(b.Path)
	if _, err := b.Records(); err == nil {
		t.Error("another format was read")
	}
	if found := b.Judge(p); found == nil {
		t.Error("a book that can't be read vouches")
	}
}
