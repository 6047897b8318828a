package intake

import (
	"fmt"
	"strings"

	"gentleharbor/core/clean"
)

// Dotenv reads a dotenv file: NAME=VALUE lines, "export " before a name, and comments. A value is bare up to a blank
// and a #, in single quotes without escapes, or in double quotes with \n, \r, \t, \", \\, \$ and \`; quotes may span
// lines. Variables are not expanded. The last line of a name counts. An error has the line's number, and of its text
// at most the name.
func Dotenv(data []byte) ([]Variable, error) {
	text := strings.TrimPrefix(string(data), "\xef\xbb\xbf")
	var all []Variable
	at := make(map[string]int)
	for number := 1; text != ""; {
		line, rest, _ := strings.Cut(text, "\n")
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || trimmed[0] == '#' {
			text = rest
			number++
			continue
		}
		name, _, ok := strings.Cut(line, "=")
		name = strings.TrimSpace(name)
		if after, exported := strings.CutPrefix(name, "export "); exported {
			name = strings.TrimSpace(after)
		}
		if !ok || !plainName(name) {
			return nil, fmt.Errorf("line %d: expected NAME=VALUE", number)
		}
		value, used, err := dotenvValue(text[strings.IndexByte(text, '=')+1:])
		if err != nil {
			return nil, fmt.Errorf("line %d: %s: %w", number, clean.Line(name, 100), err)
		}
		v := Variable{Name: name, Value: value, Line: number}
		if i, twice := at[name]; twice {
			all[i] = v
		} else {
			at[name] = len(all)
			all = append(all, v)
		}
		consumed := strings.IndexByte(text, '=') + 1 + used
		number += strings.Count(text[:consumed], "\n")
		text = text[consumed:]
	}
	return all, nil
}

// plainName is a variable's name as dotenv files have it: dots and dashes too.
func plainName(name string) bool {
	if name == "" {
		return false
	}
	for i, r := range name {
		letter := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z'
		if !letter && (i == 0 || !(r >= '0' && r <= '9' || r == '.' || r == '-')) {
			return false
		}
	}
	return true
}

// dotenvValue reads the value that text starts with, up to and with its line's
// end. used is the number of bytes read.
func dotenvValue(text string) (value string, used int, err error) {
	start := 0
	for start < len(text) && (text[start] == ' ' || text[start] == '\t') {
		start++
	}
	if start == len(text) || text[start] != '"' && text[start] != '\'' {
		line, _, ended := strings.Cut(text, "\n")
		used = len(line)
		if ended {
			used++
		}
		if strings.HasPrefix(strings.TrimLeft(line, " \t"), "#") {
			return "", used, nil
		}
		for i := 1; i < len(line); i++ {
			if line[i] == '#' && (line[i-1] == ' ' || line[i-1] == '\t') {
				line = line[:i]
				break
			}
		}
		return strings.TrimSpace(line), used, nil
	}
	quote := text[start]
	var b strings.Builder
	for i := start + 1; i < len(text); i++ {
		switch c := text[i]; {
		case c == quote:
			line, _, ended := strings.Cut(text[i+1:], "\n")
			if rest := strings.TrimSpace(line); rest != "" && rest[0] != '#' {
				return "", 0, fmt.Errorf("there is something after the closing quote")
			}
			used = i + 1 + len(line)
			if ended {
				used++
			}
			return b.String(), used, nil
		case c == '\\' && quote == '"' && i+1 < len(text):
			i++
			switch text[i] {
			case 'n':
				b.WriteByte('\n')
			case 'r':
				b.WriteByte('\r')
			case 't':
				b.WriteByte('\t')
			case '"', '\\', '$', '`':
				b.WriteByte(text[i])
			default:
				b.WriteByte('\\')
				b.WriteByte(text[i])
			}
		default:
			b.WriteByte(c)
		}
	}
	return "", 0, fmt.Errorf("the quote is not closed")
}

// DotenvLine writes a line that Dotenv, readers that expand variables, and a shell read as the same value. In double
// quotes a shell would run text between backquotes.
func DotenvLine(name, value string) string {
	if !strings.ContainsAny(value, "'\r") {
		return name + "='" + value + "'"
	}
	return name + `="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`", "\r", `\r`).Replace(value) + `"`
}
