package resp

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

// say writes a reply down.
func say(r *Reply) string {
	if r.IsList() {
		var all []string
		for i := range r.Items {
			all = append(all, say(&r.Items[i]))
		}
		return string(r.Kind) + "[" + strings.Join(all, " ") + "]"
	}
	return string(r.Kind) + r.String()
}

// TestRead: every kind of reply of both versions of the protocol.
func TestRead(t *testing.T) {
	for in, want := range map[string]string{
		"+OK\r\n": "+OK", "-ERR no\r\n": "-ERR no", ":12\r\n": ":12", "$3\r\nabc\r\n": "$abc", "$0\r\n\r\n": "$", "$-1\r\n": "_",
		"*-1\r\n": "_", "_\r\n": "_", "#t\r\n": "#t", ",1.5\r\n": ",1.5", "(123\r\n": "(123", "=7\r\ntxt:abc\r\n": "=abc",
		"!5\r\nERR x\r\n": "!ERR x", "*2\r\n:1\r\n$1\r\na\r\n": "*[:1 $a]", "%1\r\n+a\r\n:1\r\n": "%[+a :1]", "~1\r\n+a\r\n": "~[+a]",
		">1\r\n+x\r\n+OK\r\n": "+OK", "|1\r\n+a\r\n+b\r\n:7\r\n": ":7", "*1\r\n|1\r\n+a\r\n+b\r\n:7\r\n": "*[:7]",
	} {
		r, err := NewReader(strings.NewReader(in), 1<<20).Read()
		if err != nil || say(r) != want {
			t.Errorf("%q: %v, %v, want %s", in, r, err, want)
		}
	}
}

// TestBegin: a list is read item by item, and what stands before it is read over.
func TestBegin(t *testing.T) {
	for in, want := range map[string]string{
		"*2\r\n:1\r\n:2\r\n": "*2: :1 :2", "%1\r\n+a\r\n+b\r\n": "%2: +a +b", ">1\r\n+x\r\n|1\r\n+a\r\n+b\r\n*1\r\n:1\r\n": "*1: :1",
		"*-1\r\n": "_0:", "$1\r\na\r\n": "$0:", "*0\r\n": "*0:",
	} {
		r := NewReader(strings.NewReader(in), 1<<20)
		reply, n, err := r.Begin()
		if err != nil {
			t.Errorf("%q: %v", in, err)
			continue
		}
		got := fmt.Sprintf("%c%d:", reply.Kind, n)
		for range n {
			item, err := r.Item()
			if err != nil {
				t.Fatal(err)
			}
			got += " " + say(item)
		}
		if got != want {
			t.Errorf("%q: %s, want %s", in, got, want)
		}
	}
}

// TestBounds: lengths that nobody can mean, and bytes of no protocol, end the reading and take no memory.
func TestBounds(t *testing.T) {
	for in, want := range map[string]error{
		"$2147483647\r\nx":                     ErrTooLarge,
		"*1152921504606846976\r\n":             ErrTooLarge,
		"%4611686018427387903\r\n":             ErrTooLarge,
		strings.Repeat("*1\r\n", 100_000):      ErrTooLarge,
		"+" + strings.Repeat("a", 100_000):     ErrTooLarge,
		"kiwit\r\n":                            ErrMalformed,
		"+OK\n":                                ErrMalformed,
		"$x\r\n":                               ErrMalformed,
		"$1\r\nabc\r\n":                        ErrMalformed,
		"\r\n":                                 ErrMalformed,
		"$-2\r\n":                              ErrMalformed,
		"":                                     io.EOF,
		"+O":                                   io.ErrUnexpectedEOF,
		"$5\r\nab":                             io.ErrUnexpectedEOF,
		"*600000\r\n" + strings.Repeat("x", 9): ErrTooLarge,
	} {
		if _, err := NewReader(strings.NewReader(in), 1<<20).Read(); !errors.Is(err, want) {
			t.Errorf("%.40q: %v, want %v", in, err, want)
		}
		if _, _, err := NewReader(strings.NewReader(in), 1<<20).Begin(); err == nil && in[0] != '*' && in[0] != '%' {
			t.Errorf("%.40q is begun", in)
		}
	}
}

// TestAppend: a command is a list of texts.
func TestAppend(t *testing.T) {
	if got := string(Append(nil, "GET", "a b")); got != "*2\r\n$3\r\nGET\r\n$3\r\na b\r\n" {
		t.Errorf("%q", got)
	}
}

func FuzzRead(f *testing.F) {
	for _, in := range []string{"+OK\r\n", "*2\r\n:1\r\n$1\r\na\r\n", "%1\r\n+a\r\n:1\r\n", "|1\r\n+a\r\n+b\r\n:7\r\n"} {
		f.Add([]byte(in))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		r := NewReader(strings.NewReader(string(in)), 1<<16)
		for range 100 {
			if _, err := r.Read(); err != nil {
				return
			}
		}
	})
}
