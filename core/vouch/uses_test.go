package vouch

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
)

// repository makes a repository with a gharbor.toml and other files; a path that begins with
// "-> " is a link to what follows.
func repository(t *testing.T, toml string, files map[string]string) *profile.File {
	t.Helper()
	root := t.TempDir()
	os.Mkdir(filepath.Join(root, ".git"), 0o755)
	path := filepath.Join(root, "gharbor.toml")
	for name, text := range files {
		whole := filepath.Join(root, name)
		os.MkdirAll(filepath.Dir(whole), 0o755)
		if to, link := strings.CutPrefix(text, "-> "); link {
			os.Symlink(to, whole)
		} else {
			os.WriteFile(whole, []byte(text), 0o755)
		}
	}
	os.WriteFile(path, []byte(toml), 0o644)
	f, err := profile.LoadProject(allKeys, profile.Place{Path: path, Root: root})
	if err != nil {
		t.Fatalf("%v\n%s", err, toml)
	}
	return f
}

func sealed(t *testing.T, f *profile.File, name string) *resolve.Profile {
	t.Helper()
	env := resolve.Environment{Home: "/home/w", Lookup: func(string) (string, bool) { t.Error("a variable was read"); return "", false }}
	return resolve.Resolve(f, f.Lookup(name), nil, env).ProjectProfile()
}

// changes are, for each key of a profile, a hop and an alias, two values that differ in what is
// used, a base that the key fits in, and whether the two are the same by design.
var changes = map[string]struct{ base, one, other string }{
	"like":           {"", `"base"`, `"second"`},
	"engine":         {"host = \"h\"", `"postgresql"`, `"redis"`},
	"host":           {"", `"db-a"`, `"db-b"`},
	"port":           {"host = \"h\"", `5432`, `5433`},
	"hosts":          {"", `["a", "b"]`, `["a", "b", "c"]`},
	"target":         {"hosts = [\"a\"]", `"any"`, `"writable"`},
	"socket":         {"", `"/run/a"`, `"/run/b"`},
	"alias":          {"", `"a"`, `"b"`},
	"container":      {"", `"a"`, `{ project = "a", service = "b" }`},
	"endpoint":       {"container = \"a\"", `"unix:///run/a"`, `"unix:///run/b"`},
	"srv":            {"", `"_a._tcp.example"`, `"_b._tcp.example"`},
	"sentinel":       {"", `"counts@a:1"`, `"counts@b:1"`},
	"cloud":          {"", `"a/b"`, `"a/c"`},
	"auth-database":  {"host = \"h\"", `"a"`, `"b"`},
	"service":        {"host = \"h\"", `"a"`, `"b"`},
	"instance":       {"host = \"h\"", `"a"`, `"b"`},
	"database":       {"host = \"h\"", `"db"`, `"d\u200bb"`},
	"user":           {"host = \"h\"", `"u"`, `"u\u2060"`},
	"as":             {"host = \"h\"", `"sysdba"`, `"sysoper"`},
	"secret":         {"host = \"h\"", `"env:A"`, `"env:B"`},
	"command":        {"host = \"h\"", `["sh", "-c", "true;", "touch", "x"]`, `["sh", "-c", "true; touch x"]`},
	"tls":            {"host = \"h\"", `"off"`, `"verified"`},
	"tls-ca":         {"host = \"h\"", `"one.pem"`, `"two.pem"`},
	"tls-name":       {"host = \"h\"", `"a"`, `"b"`},
	"tls-cert":       {"host = \"h\"", `"one.pem"`, `"two.pem"`},
	"tls-key-secret": {"host = \"h\"", `"env:A"`, `"env:B"`},
	"tls-crl":        {"host = \"h\"", `"one.pem"`, `"two.pem"`},
	"tls-start":      {"host = \"h\"", `"asked"`, `"direct"`},
	"tls-key":        {"host = \"h\"", `"one.pem"`, `"two.pem"`},
	"guard":          {"host = \"h\"", `"ask"`, `"none"`},
	"server-key":     {"host = \"h\"", `"one.pem"`, `"two.pem"`},

	"hop ssh":        {"", `"a"`, `"b"`},
	"hop host":       {"", `"a"`, `"b"`},
	"hop proxy":      {"", `"socks5://a:1"`, `"http://a:1"`},
	"hop port":       {"host = \"h\"", `22`, `23`},
	"hop user":       {"host = \"h\"", `"a"`, `"b"`},
	"hop key":        {"host = \"h\"", `"one.pem"`, `"two.pem"`},
	"hop key-secret": {"host = \"h\"", `"command:sh  -c"`, `"command:sh -c"`},
	"hop agent":      {"host = \"h\"", `true`, `false`},
	"hop secret":     {"host = \"h\"", `"wallet:a"`, `"wallet:b"`},
	"hop host-key":   {"host = \"h\"", `"SHA256:` + strings.Repeat("A", 43) + `"`, `"SHA256:` + strings.Repeat("B", 43) + `"`},
	"hop algorithms": {"host = \"h\"", `["ssh-rsa"]`, `["ssh-dss"]`},

	"cloud issuer":        {"service = \"https://s\"\nclient = \"c\"", `"https://i"`, `"https://j"`},
	"cloud client":        {"service = \"https://s\"\nissuer = \"https://i\"", `"c"`, `"d"`},
	"cloud client-secret": {"service = \"https://s\"\nissuer = \"https://i\"\nclient = \"c\"", `"env:A"`, `"env:B"`},
	"cloud scopes":        {"service = \"https://s\"\nissuer = \"https://i\"\nclient = \"c\"", `["a"]`, `["a", "b"]`},
	"cloud token-file":    {"service = \"https://s\"", `"one.pem"`, `"two.pem"`},
	"cloud service":       {"", `"https://s"`, `"https://t"`},
	"cloud command":       {"", `["sh", "-c", "true;", "x"]`, `["sh", "-c", "true; x"]`},
	"cloud tls-ca":        {"service = \"https://s\"", `"one.pem"`, `"two.pem"`},

	"alias alias":           {"", `"b"`, `"c"`},
	"alias engine":          {"addresses = [\"a:1\"]", `"postgresql"`, `"redis"`},
	"alias addresses":       {"", `["a:1", "b:1"]`, `["a:1"]`},
	"alias srv":             {"", `"_a._tcp.example"`, `"_b._tcp.example"`},
	"alias pick":            {"addresses = [\"a:1\"]", `"random"`, `"fastest"`},
	"alias service":         {"addresses = [\"a:1\"]", `"a"`, `"b"`},
	"alias instance":        {"addresses = [\"a:1\"]", `"a"`, `"b"`},
	"alias database":        {"addresses = [\"a:1\"]", `"a"`, `"b"`},
	"alias connect-timeout": {"addresses = [\"a:1\"]", `"1s"`, `"2s"`},
	"alias retries":         {"addresses = [\"a:1\"]", `1`, `2`},
	"alias tls":             {"addresses = [\"a:1\"]", `"off"`, `"verified"`},
	"alias tls-ca":          {"addresses = [\"a:1\"]", `"one.pem"`, `"two.pem"`},
	"alias tls-name":        {"addresses = [\"a:1\"]", `"a"`, `"b"`},
	"alias tls-cert":        {"addresses = [\"a:1\"]", `"one.pem"`, `"two.pem"`},
	"alias tls-key":         {"addresses = [\"a:1\"]", `"one.pem"`, `"two.pem"`},
}

// written is a project's file with a key of a profile, a hop or an alias set.
func written(key, base, value string) string {
	others := "[profile.base]\nengine = \"mysql\"\nhost = \"b\"\n[profile.second]\nengine = \"mysql\"\nhost = \"b\"\n"
	switch {
	case strings.HasPrefix(key, "hop "):
		return others + fmt.Sprintf("[profile.p]\nhost = \"h\"\n[[profile.p.hop]]\n%s\n%s = %s\n", base, key[4:], value)
	case strings.HasPrefix(key, "cloud "):
		return others + fmt.Sprintf("[profile.p]\ncloud = \"a/b\"\n[cloud.a]\n%s\n%s = %s\n", base, key[6:], value)
	case strings.HasPrefix(key, "alias "):
		return others + fmt.Sprintf("[profile.p]\nalias = \"a\"\n[alias.a]\n%s\n%s = %s\n", base, key[6:], value)
	}
	return others + fmt.Sprintf("[profile.p]\n%s\n%s = %s\n", base, key, value)
}

// keysOfAllTables are the keys of a profile, a hop and an alias, each with whether it is a use.
func keysOfAllTables() map[string]bool {
	keys := make(map[string]bool)
	for prefix, fields := range map[string][]schema.Field{"": allKeys.Fields(), "hop ": schema.HopFields(), "alias ": allKeys.AliasFields(), "cloud ": allKeys.CloudFields()} {
		for _, f := range fields {
			keys[prefix+string(f.Name)] = !f.NotUse
		}
	}
	return keys
}

// TestEveryKeyIsAUse: a key of the tables that says nothing of itself is shown and hashed, and
// another value of it is another hash. A new key fails here until it has a change.
func TestEveryKeyIsAUse(t *testing.T) {
	files := map[string]string{"one.pem": "one", "two.pem": "two"}
	for key, use := range keysOfAllTables() {
		c, ok := changes[key]
		if ok != use {
			t.Errorf("the key %s is a use: %v; it has a change: %v", key, use, ok)
			continue
		}
		if !use {
			continue
		}
		one := FindUses(sealed(t, repository(t, written(key, c.base, c.one), files), "p"))
		other := FindUses(sealed(t, repository(t, written(key, c.base, c.other), files), "p"))
		again := FindUses(sealed(t, repository(t, written(key, c.base, c.one), files), "p"))
		if one.Hash == other.Hash {
			t.Errorf("%s: %s and %s have one hash\n%s", key, c.one, c.other, strings.Join(one.Lines(), "\n"))
		}
		if one.Hash != again.Hash {
			t.Errorf("%s: another clone has another hash\n%s\n%s", key, strings.Join(one.Lines(), "\n"), strings.Join(again.Lines(), "\n"))
		}
		if slices.Equal(one.Lines(), other.Lines()) {
			t.Errorf("%s: %s and %s look the same\n%s", key, c.one, c.other, strings.Join(one.Lines(), "\n"))
		}
		if len(difference(one.Lines(), other.Lines())) == 0 {
			t.Errorf("%s: no difference is shown", key)
		}
	}
	for _, key := range []string{"note", "expect.tables"} {
		if keysOfAllTables()[key] {
			t.Errorf("%s lapses a yes", key)
		}
	}
}

// TestFilesLapse: for each key that names a file, in each way that a file may change, the hash
// is another.
func TestFilesLapse(t *testing.T) {
	long := strings.Repeat("a", 200)
	keys := map[string]string{ // the file is f, in a folder
		"tls-ca": `tls-ca = "d/f"`, "tls-cert": `tls-cert = "d/f"`, "tls-key": `tls-key = "d/f"`, "server-key": `server-key = "d/f"`,
		"file": `secret = "file:d/f"`, "passfile": `secret = "passfile:d/f"`, "optionfile": `secret = "optionfile:d/f#g"`,
		"program": `command = ["./d/f"]`, "word": `command = ["sh", "d/f"]`, "option": `command = ["make", "-fd/f"]`,
		"value": `command = ["x", "--file=d/f"]`, "two signs": `command = ["env", "A=b=./d/f"]`,
		"inline": `command = ["sh", "-c", ". ./d/f"]`, "quoted": `command = ["python3", "-c", "exec(open('d/f').read())"]`,
		"words": `secret = "command:sh d/f"`, "hop key": "[[profile.p.hop]]\nhost = \"g\"\nkey = \"d/f\"", "hop secret": "[[profile.p.hop]]\nhost = \"g\"\nsecret = \"file:d/f\"",
		"hop command": "[[profile.p.hop]]\nhost = \"g\"\nkey-secret = \"command:./d/f\"",
		"long":        `command = ["` + long + "/" + long + `/f"]`,
	}
	for name, key := range keys {
		toml := "[profile.p]\nengine = \"mysql\"\nhost = \"h\"\n" + key + "\n"
		file := "d/f"
		if name == "long" {
			file = long + "/" + long + "/f"
		}
		before := FindUses(sealed(t, repository(t, toml, map[string]string{file: "[g]\none=1\n", "other": "x"}), "p"))
		if before.Trouble != "" {
			t.Errorf("%s: %s", name, before.Trouble)
		}
		for change, files := range map[string]map[string]string{
			"rewritten": {file: "[g]\ntwo=2\n"}, "gone": {}, "a link": {file: "-> " + strings.Repeat("../", strings.Count(file, "/")) + "other", "other": "[g]\none=1\n"}, "a link outside": {file: "-> /etc/hostname"},
		} {
			after := FindUses(sealed(t, repository(t, toml, files), "p"))
			if after.Hash == before.Hash {
				t.Errorf("%s, %s: the hash stays\n%s", name, change, strings.Join(after.Lines(), "\n"))
			}
		}
	}
}

// TestOutside: what a link or a path leads to outside of the repository is named as that by its
// real path, and neither read nor hashed.
func TestOutside(t *testing.T) {
	outside := filepath.Join(t.TempDir(), "victim.cnf")
	os.WriteFile(outside, []byte("UNIQUE-SECRET\n"), 0o600)
	real, _ := filepath.EvalSymlinks(outside)
	for name, key := range map[string]string{"link": `secret = "file:db.pass"`, "folder": `tls-ca = "folder/victim.cnf"`, "written": `tls-ca = "` + outside + `"`,
		"options": `secret = "optionfile:db.pass"`, "include of a folder": `secret = "optionfile:dir.cnf"`, "include": `secret = "optionfile:my.cnf"`, "word": `command = ["cat", "db.pass"]`, "dangling": `secret = "file:gone"`} {
		f := repository(t, "[profile.p]\nengine = \"mysql\"\nhost = \"h\"\n"+key+"\n", map[string]string{"db.pass": "-> " + outside, "folder": "-> " + filepath.Dir(outside), "my.cnf": "!include " + outside + "\n", "dir.cnf": "!includedir " + filepath.Dir(outside) + "\n", "gone": "-> /nowhere/at/all"})
		u := FindUses(sealed(t, f, "p"))
		text := strings.Join(u.Lines(), "\n")
		if strings.Contains(text, sum([]byte("UNIQUE-SECRET\n"))) || strings.Contains(text, "UNIQUE") {
			t.Errorf("%s: it was read\n%s", name, text)
		}
		for path, data := range u.Files {
			if strings.Contains(string(data), "UNIQUE") {
				t.Errorf("%s: %s was read", name, path)
			}
		}
		if name == "word" {
			continue // a command's words are not followed out of the repository
		}
		want := "outside of the repository, not hashed: " + real
		if name == "include of a folder" {
			want = "outside of the repository, not hashed: " + filepath.Dir(real)
			if strings.Contains(text, "victim") {
				t.Errorf("%s: the folder was looked into\n%s", name, text)
			}
		}
		if name == "dangling" {
			want = "outside of the repository, not hashed: /nowhere/at/all"
		}
		if !strings.Contains(text, want) {
			t.Errorf("%s: %s\n%s", name, want, text)
		}
	}
}

// TestUnsafe: a file of another user's, or that anybody may write, is not vouched for, nor one in
// a folder where anybody may put another in its place.
func TestUnsafe(t *testing.T) {
	f := repository(t, "[profile.p]\nengine = \"mysql\"\nhost = \"h\"\ncommand = [\"./d/f\"]\n", map[string]string{"d/f": "x"})
	script := filepath.Join(f.Root, "d", "f")
	for what, c := range map[string]struct{ spoil, fix func() error }{
		"file":    {func() error { return os.Chmod(script, 0o777) }, func() error { return os.Chmod(script, 0o755) }},
		"folder":  {func() error { return os.Chmod(filepath.Dir(script), 0o777) }, func() error { return os.Chmod(filepath.Dir(script), 0o755) }},
		"project": {func() error { return os.Chmod(f.Path, 0o666) }, func() error { return os.Chmod(f.Path, 0o644) }},
		"fifo": {func() error { os.Remove(script); return os.Mkdir(script, 0o755) }, func() error {
			os.Remove(script)
			return os.WriteFile(script, []byte("x"), 0o755)
		}},
	} {
		if u := FindUses(sealed(t, f, "p")); u.Trouble != "" {
			t.Fatalf("before %s: %s", what, u.Trouble)
		}
		if err := c.spoil(); err != nil {
			t.Fatal(err)
		}
		if u := FindUses(sealed(t, f, "p")); u.Trouble == "" {
			t.Errorf("%s: it can be vouched for\n%s", what, strings.Join(u.Lines(), "\n"))
		}
		c.fix()
	}
	if os.Getuid() == 0 {
		os.Chown(script, 12345, 12345)
		if u := FindUses(sealed(t, f, "p")); !strings.Contains(u.Trouble, "another user (12345)") {
			t.Errorf("another user's: %q", u.Trouble)
		}
	}
}

// TestInterpreter: the interpreter that a script's first line names is a use.
func TestInterpreter(t *testing.T) {
	toml := "[profile.p]\nengine = \"mysql\"\nhost = \"h\"\ncommand = [\"./tool\"]\n"
	files := map[string]string{"tool": "#!./run -x\n", "run": "#!/bin/sh\necho a\n"}
	before := FindUses(sealed(t, repository(t, toml, files), "p"))
	if !strings.Contains(strings.Join(before.Lines(), "\n"), "first line of ./tool: ./run -x") {
		t.Error(strings.Join(before.Lines(), "\n"))
	}
	files["run"] = "#!/bin/sh\necho b\n"
	if after := FindUses(sealed(t, repository(t, toml, files), "p")); after.Hash == before.Hash {
		t.Error("another interpreter, and the same hash")
	}
}

// TestShownWhole: nothing of a use is cut, what can't be seen is escaped, and what is too long to
// be looked at is refused.
func TestShownWhole(t *testing.T) {
	end := "touch PWNED"
	var options []string
	for i := range 20 {
		options = append(options, fmt.Sprintf("--option-%02d=default", i))
	}
	toml := func(word string) string {
		return "[profile.p]\nengine = \"mysql\"\nhost = \"h\"\ncommand = [\"sh\", \"-c\", \"" + word + "\"]\n"
	}
	u := FindUses(sealed(t, repository(t, toml("cat x; : "+strings.Join(options, " ")+" ; "+end), nil), "p"))
	if u.Trouble != "" || !strings.Contains(strings.Join(u.Lines(), "\n"), end) {
		t.Errorf("%s\n%s", u.Trouble, strings.Join(u.Lines(), "\n"))
	}
	for _, one := range u.List {
		if one.Key == "command" && one.Note != inline {
			t.Errorf("an inline program is not said to be not hashed: %q", one.Note)
		}
	}
	if u := FindUses(sealed(t, repository(t, toml(strings.Repeat("x", maxShown)), nil), "p")); !strings.Contains(u.Trouble, "too long to show") {
		t.Errorf("%q", u.Trouble)
	}
	two := toml(strings.Repeat("x", maxShown-200))
	for i := range 16 {
		two += fmt.Sprintf("[[profile.p.hop]]\nhost = \"g\"\nsecret = \"command:sh %d%s\"\n", i, strings.Repeat("y", 2000))
	}
	if u := FindUses(sealed(t, repository(t, two, nil), "p")); !strings.Contains(u.Trouble, "what it uses is too long") {
		t.Errorf("%q", u.Trouble)
	}
	var hops strings.Builder
	for range 16 {
		hops.WriteString("[[profile.p.hop]]\nhost = \"g\"\nuser = \"${U}\"\nkey = \"k\"\nsecret = \"ask\"\nkey-secret = \"ask\"\n")
	}
	if u := FindUses(sealed(t, repository(t, "[profile.p]\nhost = \"h\"\n"+hops.String(), nil), "p")); u.Trouble != "" {
		t.Errorf("the most hops that there may be: %s", u.Trouble)
	}
}

// TestEveryCharacter: of a project's profile, changing any one character that changes what would
// be used lapses the vouching.
func TestEveryCharacter(t *testing.T) {
	const text = "[profile.p]\nengine = \"mysql\"\nhosts = [\"db-a:1\", \"db-b:2\"]\nuser = \"${USER:-w}\"\ndatabase = \"sightings\"\n" +
		"command = [\"sh\", \"-c\", \"echo '$HOME' | tr a b\"]\ntls = \"verified\"\ntls-ca = \"one.pem\"\nnote = \"N\"\n[[profile.p.hop]]\nhost = \"gate\"\nkey = \"k\"\n"
	root := t.TempDir()
	os.Mkdir(filepath.Join(root, ".git"), 0o755)
	os.WriteFile(filepath.Join(root, "one.pem"), []byte("ca"), 0o644)
	path := filepath.Join(root, "gharbor.toml")
	os.WriteFile(path, []byte(text), 0o644)
	values := func(data string) (string, *Uses) {
		os.WriteFile(path, []byte(data), 0o644)
		f, err := profile.LoadProject(allKeys, profile.Place{Path: path, Root: root})
		if err != nil || f.Lookup("p") == nil {
			return "", nil
		}
		p := sealed(t, f, "p")
		var all strings.Builder
		for _, field := range allKeys.Fields() {
			if v, ok := p.WrittenValue(field.Name); ok && !field.NotUse {
				fmt.Fprintf(&all, "%s=%q\n", field.Name, v.Words())
			}
		}
		for _, h := range p.Hops() {
			for _, field := range schema.HopFields() {
				if e, ok := h.WrittenValue(field.Name); ok {
					fmt.Fprintf(&all, "hop %s=%q\n", field.Name, e.Value.Words())
				}
			}
		}
		u := FindUses(p)
		return all.String(), &u
	}
	before, uses := values(text)
	tried, changed := 0, 0
	for i := range len(text) {
		for _, c := range []byte("xX '\"\\,;.0~$") {
			if text[i] == c {
				continue
			}
			after, now := values(text[:i] + string(c) + text[i+1:])
			if now == nil {
				continue // no file that is read at all
			}
			tried++
			if (after != before) != (now.Hash != uses.Hash) {
				t.Errorf("character %d to %q: the values changed %v, the hash %v", i, c, after != before, now.Hash != uses.Hash)
			}
			if after != before {
				changed++
			}
		}
	}
	if tried < 500 || changed < 450 {
		t.Errorf("only %d changes were tried, %d of them of uses", tried, changed)
	}
}

// TestEncoding: words that look like the parts of another use are not taken for them.
func TestEncoding(t *testing.T) {
	one := []Use{{Key: "k", Words: []string{"a", "k2", "", "", "", "0"}}}
	two := []Use{{Key: "k", Words: []string{"a"}}, {Key: "k2"}}
	three := []Use{{Key: "k", Words: []string{"a", "k2", "", "", ""}}}
	if bytes.Equal(encode(one), encode(two)) || bytes.Equal(encode(three), encode(two)) || bytes.Equal(encode(one), encode(three)) {
		t.Error("two lists of uses have the same bytes")
	}
	for _, list := range [][]Use{{{Key: "a,"}}, {{Key: "a"}, {}}, {{Words: []string{"1:a,"}}}, {{Words: []string{"1", "a"}}}} {
		for _, other := range [][]Use{{{Key: "1:a,"}}, {{}, {Key: "a"}}, {{Words: []string{"a"}}}, {{Words: []string{"1,a"}}}} {
			if bytes.Equal(encode(list), encode(other)) {
				t.Errorf("%+v and %+v have the same bytes", list, other)
			}
		}
	}
}

// FuzzEncoding: two lists of uses that differ never have the same bytes.
func FuzzEncoding(f *testing.F) {
	f.Add("host", "a", "b", "", "host", "a,b", "", "")
	f.Add("k", "1:a,", "", "x", "k", "1:a", ",", "x")
	f.Add("gharbor", "\x00", "5:", "", "gharbor", "\x00", "5:", "6")
	f.Fuzz(func(t *testing.T, key, a, b, sum, key2, a2, b2, sum2 string) {
		lists := [][]Use{
			{{Key: key, Words: []string{a, b}, File: File{Sum: sum}}},
			{{Key: key2, Words: []string{a2, b2}, File: File{Sum: sum2}}},
			{{Key: key, Words: []string{a}}, {Key: b, Words: []string{sum}}},
			{{Key: key2, Words: []string{a2}}, {Key: b2, Words: []string{sum2}}},
			{{Key: key, Words: []string{a, b, sum}}},
			{{Key: key, File: File{State: FileState(a), Path: b, Sum: sum}}},
			{{Key: key, Words: []string{a}, File: File{Path: b, Sum: sum}}},
		}
		for i, x := range lists {
			for _, y := range lists[:i] {
				if same := fmt.Sprintf("%#v", x) == fmt.Sprintf("%#v", y); same != bytes.Equal(encode(x), encode(y)) {
					t.Errorf("%#v and %#v: the same %v", x, y, same)
				}
			}
		}
	})
}
