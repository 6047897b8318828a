package optionfile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func write(t testing.TB, path, text string) string {
	t.Helper()
	os.MkdirAll(filepath.Dir(path), 0o700)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestValues(t *testing.T) {
	for line, want := range map[string]string{
		"password=knot":               "knot",
		"  password  =  knot  ":       "knot",
		"password = 'kn ot'":          "kn ot",
		`password = "kn#ot"`:          "kn#ot",
		"password = kn#ot":            "kn",
		"password = knot # a comment": "knot",
		`password = kn\tot`:           "kn\tot",
		`password = kn\\ot`:           `kn\ot`,
		`password = kn\sot\s`:         "kn ot ",
		`password = kn\qot`:           `kn\qot`,
		`password = "kn\"ot"`:         `kn"ot`,
		`password = 'kn"ot'`:          `kn"ot`,
		`password = "kn#\"#ot" # x`:   `kn#"#ot`,
		`password = "knot`:            `"knot`,
		"password = k=n":              "k=n",
		"password =":                  "",
		`password = \`:                `\`,
		"password = ''":               "",
	} {
		result, err := Read(write(t, filepath.Join(t.TempDir(), "my.cnf"), "[client]\n"+line+"\n"))
		options := result.Options
		if err != nil || len(options) != 1 || options[0].Name != "password" || options[0].Value != want || !options[0].Set {
			t.Errorf("%s: %+v %v", line, options, err)
		}
	}
}

func TestGroupsAndIncludes(t *testing.T) {
	folder := t.TempDir()
	write(t, filepath.Join(folder, "conf.d/b.cnf"), "[client]\nuser = b\n")
	write(t, filepath.Join(folder, "conf.d/a.cnf"), "[client]\r\nuser = a\r\n")
	write(t, filepath.Join(folder, "conf.d/c.txt"), "no option file")
	write(t, filepath.Join(folder, "more.cnf"), "[ moult ]\nssl_ca = x\n[client ]\nskip-ssl\n")
	path := write(t, filepath.Join(folder, "my.cnf"), "# first\n; second\n\n[client]\nuser=c\n!includedir conf.d\n!include\tmore.cnf\n!include nowhere.cnf\n!unknown\nport = 3307\n")
	os.Chmod(write(t, filepath.Join(folder, "conf.d/d.cnf"), "[client]\nuser = d\n"), 0o666)
	result, err := Read(path)
	if err != nil || len(result.Ignored) != 1 || result.Ignored[0] != filepath.Join(folder, "conf.d/d.cnf")+" (everybody may write it)" {
		t.Fatalf("%v %v", err, result.Ignored)
	}
	options := result.Options
	var all []string
	for _, o := range options {
		all = append(all, o.Group+"."+o.Name+"="+o.Value)
	}
	if got := strings.Join(all, " "); got != "client.user=c client.user=a client.user=b  moult.ssl-ca=x client.skip-ssl= client.port=3307" {
		t.Error(got)
	}
	if last := options[len(options)-1]; last.Line != 10 || last.File != path || options[1].File != filepath.Join(folder, "conf.d/a.cnf") || options[4].Set {
		t.Errorf("%+v", options)
	}
}

func TestMistakes(t *testing.T) {
	folder := t.TempDir()
	loop := filepath.Join(folder, "loop.cnf")
	write(t, loop, "!include loop.cnf\n")
	for text, want := range map[string]string{
		"user = a\n":                         ":1: an option before the first group",
		"[client\n":                          ":1: a group without its closing bracket",
		"!includedir nowhere\n":              ":1: !includedir: no such file",
		"!include\n":                         "!include without a path",
		"!include loop.cnf\n":                "more than 10 deep",
		"!include .\n":                       "not a regular file",
		strings.Repeat("# x\n", maxFile/4+1): "larger than 1024 KiB",
	} {
		if _, err := Read(write(t, filepath.Join(folder, "my.cnf"), text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.40q: %v, want %s", text, err, want)
		}
	}
	if _, err := Read(filepath.Join(folder, "none.cnf")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("[client]\npassword = \"kn#ot\" # x\n"))
	f.Add([]byte("!include x\n[a]\nb\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r := reader{}
		if r.parse(filepath.Join(t.TempDir(), "my.cnf"), data, maxDepth) != nil {
			return
		}
		for _, o := range r.Options {
			if strings.ContainsAny(o.Group+o.Name, "\n") || o.Line < 1 || !o.Set && o.Value != "" {
				t.Errorf("%q: %+v", data, o)
			}
		}
	})
}
