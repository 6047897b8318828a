package engines

import (
	"strings"
	"testing"
)

var greetings = All().Greetings()

func TestRecognise(t *testing.T) {
	for _, c := range []struct{ bytes, engine, what string }{
		{"S", "postgresql", ""}, {"N", "postgresql", ""},
		{"R\x00\x00\x00\x08\x00\x00\x00\x00", "postgresql", ""},
		{"E\x00\x00\x00\x20SFATAL\x00C57P03\x00", "postgresql", ""},
		{"v\x00\x00\x00\x0c\x00\x03\x00\x00\x00\x00\x00\x00", "postgresql", ""},
		{"R\x00\xff\x00\x08\x00\x00\x00\x00", "-", ""},
		{"ERR wrong number of arguments", "-", ""},
		{"+PONG\r\n", "redis", ""}, {"-NOAUTH Authentication required.\r\n", "redis", ""}, {"-DENIED Redis is running in protected mode", "redis", ""},
		{"SSH-2.0-OpenSSH_9.2p1\r\n", "", "OpenSSH_9.2p1"}, {"SSH-2.0-\x1b[2J\r\n", "", "an SSH server"},
		{"HTTP/1.0 400 Bad Request\r\n", "", "an HTTP server"}, {"<!DOCTYPE HTML>", "", "an HTTP server"}, {"220 ready\r\n", "", "mail"},
		{"\x15\x03\x01\x00\x02\x02\x46", "", "only TLS"}, {"\x15\x09\x01\x00\x02", "-", ""},
		{"\x4a\x00\x00\x00\x0a8.0.36\x00zz", "mysql", "8.0.36"},
		{"\x4a\x00\x00\x00\x0a5.5.5-10.11.6-MariaDB\x00zz", "mariadb", "version 10.11.6"},
		{"\x4a\x00\x00\x00\x0a11.4.2-MariaDB-log\x00zz", "mariadb", "version 11.4.2"},
		{"\x1d\x00\x00\x00\xff\x69\x04Host is blocked", "mysql", "Host is blocked"},
		{"\x1d\x00\x00\x00\xff\x10\x04#08004Too many connections", "mysql", "Too many connections"},
		{"\x4a\x00\x00\x01\x0a8.0\x00", "-", ""}, {"\x4a\x00\x00\x00\x09old\x00", "-", ""},
		{"\x05\x00\x00\x00\x0b\x08\x05\x1a\x00", "", "X Protocol"},
		{"", "-", ""}, {"tide", "-", ""},
	} {
		s, ok := greetings.Recognise([]byte(c.bytes))
		if want := c.engine != "-"; ok != want {
			t.Errorf("%q: recognised %v", c.bytes, ok)
			continue
		}
		if ok && (s.Engine != c.engine || !strings.Contains(s.What, c.what) || strings.Contains(s.What, "\x1b")) {
			t.Errorf("%q: %+v", c.bytes, s)
		}
	}
}

func FuzzRecognise(f *testing.F) {
	f.Add([]byte("\x4a\x00\x00\x00\x0a8.0.36\x00zz"))
	f.Add([]byte("\x1d\x00\x00\x00\xff\x69\x04Host is blocked"))
	f.Add([]byte("SSH-2.0-x"))
	f.Fuzz(func(t *testing.T, p []byte) {
		s, ok := greetings.Recognise(p)
		if ok && s.What == "" || len(s.What) > 1000 || strings.ContainsAny(s.What, "\x1b\n\r\x00") {
			t.Errorf("%q: %q", p, s.What)
		}
	})
}
