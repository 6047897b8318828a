package optionfile

import (
	"bytes"
	"errors"
	"strings"
)

// Quote writes an option's value in double quotes, with the escapes that the servers' own reader knows.
func Quote(value string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`, "\b", `\b`).
		Replace(value) + `"`
}

// ErrNotSet says that the option can't be written into the text.
var ErrNotSet = errors.New("gharbor can't make this edit in the file; make it by hand")

// Set returns data with an option of a group set: in the group's last line of
// that name, else in a new line behind the group's last one, else in a new group
// at the end. Every other byte stays as it is. Included files are not looked at.
func Set(data []byte, group, name, value string) (text []byte, line int, err error) {
	end := "\n"
	if bytes.Contains(data, []byte("\r\n")) {
		end = "\r\n"
	}
	own := name + " = " + Quote(value)
	lines := bytes.SplitAfter(data, []byte("\n"))
	current, last, at := "", -1, -1
	for i, l := range lines {
		text := strings.TrimLeft(string(bytes.TrimRight(l, "\r\n")), blanks)
		switch {
		case text == "" || strings.ContainsRune("#;!", rune(text[0])):
			continue
		case text[0] == '[':
			current, _, _ = strings.Cut(text[1:], "]")
			current = strings.TrimRight(current, blanks)
		case current == group && parseOption(text).Name == name:
			at = i
		}
		if current == group {
			last = i
		}
	}
	switch {
	case at >= 0:
		lines[at] = []byte(own + string(lines[at][len(bytes.TrimRight(lines[at], "\r\n")):]))
	case last >= 0:
		at = last + 1
		if !bytes.HasSuffix(lines[last], []byte("\n")) {
			lines[last] = append(bytes.Clone(lines[last]), end...)
		}
		rest := append([][]byte{[]byte(own + end)}, lines[at:]...)
		lines = append(lines[:at:at], rest...)
	default:
		start := "[" + group + "]" + end
		if len(data) > 0 {
			start = end + start
			if data[len(data)-1] != '\n' {
				start = end + start
			}
		}
		lines = append(lines, []byte(start+own+end))
		at = bytes.Count(bytes.Join(lines, nil), []byte("\n")) - 1
	}
	text = bytes.Join(lines, nil)
	if !reads(text, group, name, value) {
		return nil, 0, ErrNotSet
	}
	return text, at + 1, nil
}

// reads reports whether a text has the option with the wanted value.
func reads(text []byte, group, name, value string) bool {
	options, err := Parse(text)
	if err != nil {
		return false
	}
	found := ""
	for _, o := range options {
		if o.Group == group && o.Name == name {
			found = o.Value
		}
	}
	return found == value
}
