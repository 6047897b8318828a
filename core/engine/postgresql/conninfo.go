package postgresql

import "strings"

// connectionString splits a text into names and values, as libpq reads them (PostgreSQL documentation, "Keyword/Value
// Connection Strings"): there may be blanks around "=", a value with blanks is in single quotes, and a backslash
// takes the next character as it is. A text with neither a host nor a database is no connection string.
func connectionString(text string) (pairs [][2]string, ok bool) {
	const blanks = " \t\r\n"
	for rest := strings.Trim(text, blanks); rest != ""; rest = strings.TrimLeft(rest, blanks) {
		name, after, found := strings.Cut(rest, "=")
		if name = strings.TrimRight(name, blanks); !found || !plainKeyword(name) {
			return nil, false
		}
		var value string
		if value, rest, found = keywordValue(strings.TrimLeft(after, blanks)); !found {
			return nil, false
		}
		pairs = append(pairs, [2]string{name, value})
		ok = ok || name == "host" || name == "hostaddr" || name == "dbname" || name == "service"
	}
	return pairs, ok
}

func plainKeyword(name string) bool {
	return name != "" && strings.Trim(name, "abcdefghijklmnopqrstuvwxyz_") == ""
}

// keywordValue is the value at the beginning of a text; ok is false where its quote is not closed.
func keywordValue(text string) (value, rest string, ok bool) {
	quoted := strings.HasPrefix(text, "'")
	if quoted {
		text = text[1:]
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			if i++; i < len(text) {
				b.WriteByte(text[i])
			}
		case quoted && c == '\'':
			return b.String(), text[i+1:], true
		case !quoted && strings.IndexByte(" \t\r\n", c) >= 0:
			return b.String(), text[i:], true
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), "", !quoted
}
