package passfile

import (
	"fmt"
	"strings"
	"testing"
)

var query = Query{Host: "127.0.0.1", Port: "5432", Database: "sightings", User: "warden"}

func TestFind(t *testing.T) {
	for _, c := range []struct {
		file     string
		q        Query
		line     int
		password string
		near     string
	}{
		{"127.0.0.1:5432:sightings:warden:knot\n", query, 1, "knot", ""},
		{"127.0.0.1:5432:sightings:warden:knot", query, 1, "knot", ""},
		{"127.0.0.1:5432:sightings:warden:knot\r\n", query, 1, "knot", ""},
		{"# 127.0.0.1:5432:sightings:warden:no\n\n127.0.0.1:5432:sightings:warden:knot\n", query, 3, "knot", ""},
		{" # no comment\n127.0.0.1:5432:sightings:warden:knot\n", query, 2, "knot", ""},
		{"*:*:*:*:first\n127.0.0.1:5432:sightings:warden:second\n", query, 1, "first", ""},
		{"*:5432:*:warden:a\\:b\\\\c\n", query, 1, `a:b\c`, ""},
		{"*:*:*:*:ends:here\n", query, 1, "ends", ""},
		{"*:*:*:*:\n", query, 1, "", ""},
		{"*:*:*:*:knot # no comment\n", query, 1, "knot # no comment", ""},
		{"*:*:*:*: blanks \n", query, 1, " blanks ", ""},
		{"*:*:*:*:last\\", query, 1, `last\`, ""},
		{"a\\:b:*:*:*:knot\n", Query{"a:b", "1", "x", "y"}, 1, "knot", ""},
		{"a\\\\b:*:*:*:knot\n", Query{`a\b`, "1", "x", "y"}, 1, "knot", ""},
		{"\\h:*:*:*:knot\n", Query{"h", "1", "x", "y"}, 1, "knot", ""},
		{"*a:*:*:*:knot\n", query, 0, "", `line 1 has this port, database and user, and host "*a"`},
		{"\\:\\:1:5432:*:*:knot\n", Query{"::1", "5432", "x", "y"}, 1, "knot", ""},
		{"::1:5432:*:*:knot\n", Query{"::1", "5432", "x", "y"}, 0, "", `line 1 starts with this address, but without a backslash before each of its colons: \:`},
		{"127.0.0.1:5433:sightings:warden:knot\n", query, 0, "", `line 1 has this host, database and user, and port "5433"`},
		{"127.0.0.1:5432:ringing:warden:knot\n", query, 0, "", `line 1 has this host, port and user, and database "ringing"`},
		{"127.0.0.1:5432:sightings:Warden:knot\n", query, 0, "", "line 1 has this host, port and database, and user in another letter case"},
		{"127.0.0.1:5432:sightings:visitor:knot\n", query, 0, "", "line 1 has this host, port and database, and another user"},
		{"127.0.0.1:5432:sightings:warden\n", query, 0, "", "line 1 has fewer than the five fields host:port:database:user:password"},
		{"127.0.0.1:5432:avo:cet:x\n", query, 0, "", "line 1 has this host and port, and another database and another user"},
		{"localhost:5433:ringing:visitor:x\n*:5433:sightings:warden:knot\n", query, 0, "", `line 2 has this host, database and user, and port "5433"`},
		{"x.example:1:y:z:knot\n", query, 0, "", ""},
		{"", query, 0, "", ""},
		{"knot\n", query, 0, "", ""},
		{"\xff\xfe:\x00:*:*:knot\n", Query{"\xff\xfe", "\x00", "x", "y"}, 1, "knot", ""},
	} {
		r, err := Find(strings.NewReader(c.file), c.q)
		if err != nil {
			t.Fatal(err)
		}
		switch {
		case c.line > 0 && (r.Match == nil || r.Match.Line != c.line || r.Match.Password != c.password):
			t.Errorf("%q: %+v, want line %d %q", c.file, r.Match, c.line, c.password)
		case c.line == 0 && r.Match != nil:
			t.Errorf("%q matched", c.file)
		}
		near := ""
		if r.Near != nil {
			near = fmt.Sprintf("line %d %s", r.Near.Line, r.Near.Why)
		}
		if near != c.near {
			t.Errorf("%q: near %q, want %q", c.file, near, c.near)
		}
	}
}

func TestBounds(t *testing.T) {
	if _, err := Find(strings.NewReader(strings.Repeat("x", maxLine+1)), query); err == nil || !strings.Contains(err.Error(), "line 1 is longer") {
		t.Error(err)
	}
	if r, err := Find(strings.NewReader("*:*:*:*:"+strings.Repeat("x", maxLine-20)+"\n"), query); err != nil || r.Match == nil {
		t.Error(err)
	}
	if _, err := Find(strings.NewReader(strings.Repeat(strings.Repeat("y", 60<<10)+"\n", 1+MaxFile/(60<<10))), query); err == nil || !strings.Contains(err.Error(), "64 MiB") {
		t.Error(err)
	}
}

func FuzzFind(f *testing.F) {
	f.Add("# c\n127.0.0.1:5432:*:warden:k\\:not\n", "127.0.0.1", "warden")
	f.Fuzz(func(t *testing.T, file, host, user string) {
		q := Query{host, "5432", "sightings", user}
		r, err := Find(strings.NewReader(file), q)
		if err != nil {
			return
		}
		if r.Match != nil && r.Near != nil {
			t.Error("a match and a miss")
		}
		// A line made for this very connection is always found.
		escape := strings.NewReplacer(`\`, `\\`, `:`, `\:`)
		if strings.ContainsAny(host+user, "\n\r") || strings.HasPrefix(host, "#") || host == "*" {
			return
		}
		line := strings.Join([]string{escape.Replace(host), "5432", "sightings", escape.Replace(user), "knot"}, ":")
		if len(line) >= maxLine {
			return
		}
		if r, err := Find(strings.NewReader(line), q); err != nil || r.Match == nil || r.Match.Password != "knot" {
			t.Errorf("%q is not found in %q: %v", q, line, err)
		}
	})
}

// BenchmarkFind looks through 100,000 lines for the last one.
func BenchmarkFind(b *testing.B) {
	var text strings.Builder
	for i := range 100_000 {
		fmt.Fprintf(&text, "db-%d.saltmarsh.example:5432:sightings:warden:password-%d\n", i, i)
	}
	file := text.String()
	q := Query{"db-99999.saltmarsh.example", "5432", "sightings", "warden"}
	b.SetBytes(int64(len(file)))
	for b.Loop() {
		if r, err := Find(strings.NewReader(file), q); err != nil || r.Match == nil {
			b.Fatal("not found")
		}
	}
}
