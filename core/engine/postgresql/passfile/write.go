package passfile

import (
	"bytes"
	"errors"
	"strings"
)

// Line writes a line of a password file, without its end. Colons and
// backslashes get a backslash before them.
func Line(q Query, password string) string {
	fields := []string{q.Host, q.Port, q.Database, q.User, password}
	for i, f := range fields {
		fields[i] = strings.NewReplacer(`\`, `\\`, ":", `\:`).Replace(f)
	}
	return strings.Join(fields, ":")
}

// ErrPassword is a password that a line can't hold.
var ErrPassword = errors.New("a password file can't contain a line end")

// Set returns data with the password for q, and the number of its line: in
// the line that is for this very connection, else in a new one. A new line stands
// before a line with wildcards that fits too, since the first that fits counts.
// Every other byte stays as it is. With anyDatabase a new line is for all databases of the server.
func Set(data []byte, q Query, password string, anyDatabase bool) (text []byte, line int, err error) {
	if strings.ContainsAny(password, "\r\n\x00") {
		return nil, 0, ErrPassword
	}
	end := "\n"
	if bytes.Contains(data, []byte("\r\n")) {
		end = "\r\n"
	}
	found, err := Find(bytes.NewReader(data), q)
	if err != nil {
		return nil, 0, err
	}
	fits := q
	if anyDatabase {
		fits.Database = "*"
	}
	own := Line(fits, password)
	if found.Match == nil {
		if len(data) > 0 && data[len(data)-1] != '\n' {
			own = end + own
		}
		text = append(bytes.Clone(data), own+end...)
		return text, 1 + bytes.Count(text[:len(text)-1], []byte("\n")), nil
	}
	start := 0
	for range found.Match.Line - 1 {
		start += bytes.IndexByte(data[start:], '\n') + 1
	}
	stop := len(data)
	if i := bytes.IndexByte(data[start:], '\n'); i >= 0 {
		stop = start + i
	}
	old := bytes.TrimRight(data[start:stop], "\r")
	replaced := data[start+len(old):] // from the line's own end on
	switch {
	case bytes.HasPrefix(old, []byte(Line(q, ""))):
		own = Line(q, password) // it stays for its database
	case !bytes.HasPrefix(old, []byte(Line(fits, ""))):
		replaced = append([]byte(end), data[start:]...) // a line with wildcards stays, behind ours
	}
	text = append(append(bytes.Clone(data[:start]), own...), replaced...)
	return text, found.Match.Line, nil
}
