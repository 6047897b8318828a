package optionfile

import (
	"strings"
	"testing"
)

func TestSet(t *testing.T) {
	for _, c := range []struct {
		before, after string
		line          int
	}{
		{"", "[client]\npassword = \"p # \\\"w\\\\\"\n", 2},
		{"[mysqld]\nport=1", "[mysqld]\nport=1\n\n[client]\npassword = \"p # \\\"w\\\\\"\n", 5},
		{"# mine\n[client]\nuser=u # me\n\n[other]\npassword=x\n", "# mine\n[client]\nuser=u # me\npassword = \"p # \\\"w\\\\\"\n\n[other]\npassword=x\n", 4},
		{"[client]\r\npassword = old\r\nport=1\r\n", "[client]\r\npassword = \"p # \\\"w\\\\\"\r\nport=1\r\n", 2},
		{"[client]\npassword=a\npassword=b\n!include x\n", "[client]\npassword=a\npassword = \"p # \\\"w\\\\\"\n!include x\n", 3},
		{"[client]", "[client]\npassword = \"p # \\\"w\\\\\"\n", 2},
	} {
		text, line, err := Set([]byte(c.before), "client", "password", `p # "w\`)
		if err != nil || string(text) != c.after || line != c.line {
			t.Errorf("%q:\n%q, line %d, %v; wanted\n%q, line %d", c.before, text, line, err, c.after, c.line)
		}
	}
	if _, _, err := Set([]byte("an option before a group\n"), "client", "password", "x"); err == nil {
		t.Error("a wrong file was written on")
	}
}

func FuzzSet(f *testing.F) {
	f.Add("[client]\nuser=u\n", "secret")
	f.Fuzz(func(t *testing.T, before, password string) {
		text, line, err := Set([]byte(before), "client", "password", password)
		if err != nil {
			return
		}
		options, err := Parse(text)
		if err != nil {
			t.Fatalf("%q was written, and cannot be read: %v", text, err)
		}
		for _, o := range options {
			if o.Group == "client" && o.Name == "password" && o.Line == line && o.Value == password {
				return
			}
		}
		t.Errorf("%q with %q: %q has it not on line %d", before, password, text, line)
	})
}

func TestQuote(t *testing.T) {
	for _, text := range []string{"", " ", "a b", `a"b`, `a'b`, `a\`, `\n`, "a#b", "tab\there", "line\nend", `"quoted"`, `'x'`} {
		if o := parseOption("password = " + Quote(text)); o.Value != text {
			t.Errorf("%q is read back as %q", text, o.Value)
		}
	}
	if strings.Contains(Quote("a\nb"), "\n") {
		t.Error("a line end inside a value")
	}
}
