package mysql

import (
	"strings"

	"gentleharbor/core/engine"
)

// parseGrants reads a line of SHOW GRANTS (MySQL reference manual, "SHOW GRANTS Statement"; MariaDB documentation,
// "SHOW GRANTS"). Such a line can have the stored form of the account's password, so only the rights, the thing and
// the account's name are taken from it.
func parseGrants(values [][]byte) [][][]byte {
	if len(values) == 0 {
		return nil
	}
	words, revoked := grantWords(string(values[0])), false
	switch {
	case len(words) > 0 && words[0] == "REVOKE":
		revoked = true
	case len(words) == 0 || words[0] != "GRANT":
		return nil
	}
	on, to := indexOf(words, "ON"), indexOf(words, map[bool]string{false: "TO", true: "FROM"}[revoked])
	if to < 0 || to+1 >= len(words) {
		return nil
	}
	row := make([][]byte, 6)
	row[5] = []byte("0")
	rest := words[to+2:]
	if on < 0 || on > to { // a role
		row[0], row[3] = []byte("server"), []byte("use the role "+strings.Join(names(words[1:to]), ", "))
		return [][][]byte{row}
	}
	rights := strings.ToLower(phrase(words[1:on]))
	switch {
	case rights == "proxy", rights == "usage" && !strings.Contains(words[to+1], "@"):
		return nil
	case rights == "usage":
		rights = "log in"
	case revoked:
		rights = "not: " + rights
	}
	row[3] = []byte(rights)
	target := words[on+1 : to]
	if len(target) == 0 {
		return nil
	}
	row[0] = []byte("table")
	if len(target) > 1 { // FUNCTION, PROCEDURE
		row[0], target = []byte(strings.ToLower(target[0])), target[1:]
	}
	schema, name := cutTarget(target[0])
	schema = strings.NewReplacer(`\_`, "_", `\%`, "%").Replace(schema)
	switch {
	case schema == "*":
		row[0] = []byte("server")
	case name == "*":
		row[0], row[1], row[2] = []byte("schema"), []byte(schema), []byte(schema)
	default:
		row[1], row[2] = []byte(schema), []byte(name)
	}
	var notes []string
	if whose := words[to+1]; !strings.Contains(whose, "@") {
		if whose == "PUBLIC" {
			notes = append(notes, "as every account")
		} else {
			notes = append(notes, "by the role "+strings.Trim(whose, "`'"))
		}
	}
	if text := strings.Join(rest, " "); strings.Contains(text, "WITH GRANT OPTION") {
		notes = append(notes, "may grant it")
	}
	if len(notes) > 0 {
		row[4] = []byte(strings.Join(notes, "; "))
	}
	return [][][]byte{row}
}

// grantWords splits a line into words. A name in quotes is a part of its word; commas and brackets are words of their
// own.
func grantWords(line string) (words []string) {
	for i := 0; i < len(line); {
		switch c := line[i]; {
		case c == ' ':
			i++
		case c == ',' || c == '(' || c == ')':
			words = append(words, string(c))
			i++
		default:
			from := i
			for i < len(line) && !strings.ContainsRune(" ,()", rune(line[i])) {
				if quote := line[i]; quote == '`' || quote == '\'' || quote == '"' {
					for i++; i < len(line) && line[i] != quote; {
						i++
					}
				}
				i++
			}
			words = append(words, line[from:min(i, len(line))])
		}
	}
	return words
}

func indexOf(words []string, word string) int {
	for i, w := range words {
		if w == word {
			return i
		}
	}
	return -1
}

// phrase joins words as a person writes them.
func phrase(words []string) string {
	var b strings.Builder
	for i, w := range words {
		if i > 0 && w != "," && w != ")" && words[i-1] != "(" {
			b.WriteByte(' ')
		}
		b.WriteString(strings.Trim(w, "`"))
	}
	return b.String()
}

// names are quoted words without their quotes.
func names(words []string) (all []string) {
	for _, w := range words {
		if w != "," {
			all = append(all, strings.ReplaceAll(strings.ReplaceAll(w, "`", ""), "@%", ""))
		}
	}
	return all
}

// cutTarget splits `schema`.`name`.
func cutTarget(target string) (schema, name string) {
	schema, name, both := engine.CutName(target, '`')
	if !both {
		schema, name = target, "*"
	}
	schema, _ = engine.Unquote(schema, '`')
	name, _ = engine.Unquote(name, '`')
	return schema, name
}

// accountName is an account's name in a statement's form: 'user'@'host', or a role's.
func accountName(name string) string {
	text := func(s string) string {
		return "'" + strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), "'", "''") + "'"
	}
	at := strings.LastIndexByte(name, '@')
	if at < 0 {
		if needsNoQuotes(name) {
			return name
		}
		return quoteName(name)
	}
	return text(name[:at]) + "@" + text(name[at+1:])
}
