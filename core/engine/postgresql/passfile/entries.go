package passfile

import (
	"bufio"
	"fmt"
	"io"
	"strings"
)

// Entry is a line taken apart. "*" is a wildcard.
type Entry struct {
	Line                                 int
	Host, Port, Database, User, Password string
}

// Entries lists all lines with five fields, in order.
func Entries(r io.Reader) ([]Entry, error) {
	in := bufio.NewScanner(io.LimitReader(r, MaxFile))
	in.Buffer(make([]byte, 0, 4096), maxLine)
	var all []Entry
	for number := 1; in.Scan(); number++ {
		line := strings.TrimRight(in.Text(), "\r")
		if line == "" || line[0] == '#' {
			continue
		}
		rest := []byte(line)
		var fields [4]string
		whole := true
		for i := range fields {
			end := fieldEnd(rest)
			if end < 0 {
				whole = false
				break
			}
			fields[i] = unescape(rest[:end])
			rest = rest[end+1:]
		}
		if whole {
			all = append(all, Entry{number, fields[0], fields[1], fields[2], fields[3], unescape(rest)})
		}
	}
	if err := in.Err(); err != nil {
		return nil, fmt.Errorf("a line is longer than %d KiB", maxLine>>10)
	}
	return all, nil
}
