// Package passfile reads PostgreSQL's password file, as its documentation's
// chapter "The Password File" and libpq define it: lines of
// host:port:database:user:password, "*" for any value, "\:" and "\\" as
// escapes, "#" comments, first match wins.
package passfile

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
)

// maxLine bounds a line, in bytes. Host, database and user names end at 253,
// 63 and 63; a password this long is a mistake.
const maxLine = 64 << 10

// MaxFile bounds the bytes read; 100,000 lines are about 8 MiB.
const MaxFile = 64 << 20

// Query is what a connection looks for.
type Query struct {
	Host     string // as the profile writes it; "localhost" for a default socket folder
	Port     string
	Database string
	User     string
}

// Match is the line that fits.
type Match struct {
	Line     int
	AnyHost  bool   // its host is "*"
	Password string // with its escapes undone
}

// Near is the line that came closest without fitting.
type Near struct {
	Line int
	Why  string // "has this host and user, and port 5433"; never a password
}

// Result is what looking through a file found.
type Result struct {
	Match *Match
	Near  *Near // the best miss; nil where there is a match or nothing is similar
	Lines int   // lines with an entry
}

// Find looks for the first line that fits q. An error is one of reading.
func Find(r io.Reader, q Query) (Result, error) {
	in := bufio.NewReaderSize(io.LimitReader(r, MaxFile+1), maxLine)
	want := [4]string{q.Host, q.Port, q.Database, q.User}
	var best near
	var result Result
	total := 0
	for number := 1; ; number++ {
		line, err := in.ReadSlice('\n')
		total += len(line)
		if total > MaxFile {
			return result, fmt.Errorf("the file has more than %d MiB", MaxFile>>20)
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			return result, fmt.Errorf("line %d is longer than %d KiB", number, maxLine>>10)
		}
		if err != nil && err != io.EOF {
			return result, err
		}
		last := err == io.EOF
		line = bytes.TrimRight(line, "\r\n")
		if len(line) > 0 && line[0] != '#' {
			result.Lines++
			if rest, ok := match(line, &want); ok {
				result.Match = &Match{Line: number, AnyHost: bytes.HasPrefix(line, []byte("*:")), Password: unescape(rest)}
				return result, nil
			}
			best.consider(line, number, &want)
		}
		if last {
			result.Near = best.describe(&want)
			return result, nil
		}
	}
}

// match compares the four fields in front, and returns what follows them.
func match(line []byte, want *[4]string) (rest []byte, ok bool) {
	for i := range want {
		line, ok = matchField(line, want[i])
		if !ok {
			return nil, false
		}
	}
	return line, true
}

// matchField compares one field with word and returns what follows its colon.
// As in libpq, a backslash takes the character behind it literally.
func matchField(line []byte, word string) ([]byte, bool) {
	if len(line) >= 2 && line[0] == '*' && line[1] == ':' {
		return line[2:], true
	}
	at := 0
	for i := 0; i < len(line); i++ {
		c := line[i]
		if c == ':' {
			return line[i+1:], at == len(word)
		}
		if c == '\\' && i+1 < len(line) {
			i++
			c = line[i]
		}
		if at == len(word) || word[at] != c {
			return nil, false
		}
		at++
	}
	return nil, false
}

// unescape returns a field's text up to the next bare colon. libpq, too, ends a
// password at one.
func unescape(field []byte) string {
	var b strings.Builder
	for i := 0; i < len(field) && field[i] != ':'; i++ {
		if field[i] == '\\' && i+1 < len(field) {
			i++
		}
		b.WriteByte(field[i])
	}
	return b.String()
}

// near keeps the line with the most fitting fields, the earliest of equals.
type near struct {
	line  int
	count int
	short bool
	bare  bool // an IPv6 address whose colons have no backslashes
	has   [4]bool
	text  [4]string
}

func (n *near) consider(line []byte, number int, want *[4]string) {
	if n.count < 4 && strings.Contains(want[0], ":") && bytes.HasPrefix(line, []byte(want[0]+":")) {
		*n = near{line: number, count: 4, bare: true}
		return
	}
	var has [4]bool
	count := 0
	rest := line
	fields := 0
	for i := range want {
		after, ok := matchField(rest, want[i])
		if ok {
			has[i] = true
			count++
			rest = after
			fields++
			continue
		}
		end := fieldEnd(rest)
		if end < 0 {
			break
		}
		rest = rest[end+1:]
		fields++
	}
	// A line that only shares the port, which nearly all do, is not near.
	if count < 2 || count <= n.count {
		return
	}
	*n = near{line: number, count: count, has: has, short: fields < 4}
	rest = line
	for i := range n.text {
		n.text[i] = unescape(rest)
		end := fieldEnd(rest)
		if end < 0 {
			break
		}
		rest = rest[end+1:]
	}
}

func fieldEnd(field []byte) int {
	for i := 0; i < len(field); i++ {
		switch field[i] {
		case '\\':
			i++
		case ':':
			return i
		}
	}
	return -1
}

// describe says in words what fits and what does not. Of a line with too few
// fields nothing is repeated: a part of it may be the password.
func (n *near) describe(want *[4]string) *Near {
	if n.line == 0 {
		return nil
	}
	if n.bare {
		return &Near{n.line, `starts with this address, but without a backslash before each of its colons: \:`}
	}
	if n.short {
		return &Near{n.line, "has fewer than the five fields host:port:database:user:password"}
	}
	names := [4]string{"host", "port", "database", "user"}
	var fit, off []string
	for i, name := range names {
		switch {
		case n.has[i]:
			fit = append(fit, name)
		case strings.EqualFold(n.text[i], want[i]):
			off = append(off, name+" in another letter case")
		case i == 3 || i == 2 && !n.has[3]:
			// where a field is missing, this place may hold a part of the password
			off = append(off, "another "+name)
		default:
			off = append(off, fmt.Sprintf("%s %q", name, n.text[i]))
		}
	}
	return &Near{n.line, "has this " + join(fit) + ", and " + join(off)}
}

func join(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
