package querycmd

import (
	"context"
	"slices"
	"strings"
	"time"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/engine"
	"gentleharbor/core/lineedit"
	"gentleharbor/core/results"
)

// serverNames has the server's names for completion: they are read at the first Tab, and bounded.
type serverNames struct {
	databases []string
	schemas   []string
	tables    [][2]string // schema and name
	columns   map[string][]string
}

// Bounds of completion: the time of a look-up, how much of an answer is used, and how much is shown.
const (
	mostKnown     = 10_000
	mostOffered   = 200
	completeAfter = 2 * time.Second
)

// languageWords are the words of the language that are completed.
const languageWords = "ALTER ANALYZE AND AS ASC BEGIN BETWEEN BY CASE COMMIT COUNT CREATE CROSS DATABASE DELETE DESC " +
	"DISTINCT DROP ELSE END EXISTS EXPLAIN FROM FULL GRANT GROUP HAVING IN INDEX INNER INSERT INTO IS JOIN LEFT LIKE " +
	"LIMIT NOT NULL OFFSET ON OR ORDER OUTER OVER PARTITION PRIMARY REFERENCES REVOKE RIGHT ROLLBACK SAVEPOINT SCHEMA " +
	"SELECT SET SHOW TABLE TEMPORARY THEN TRUNCATE UNION UNIQUE UPDATE USING VALUES VIEW WHEN WHERE WITH"

// complete returns completions for the typed text.
func (s *session) complete(before string) (all []lineedit.Completion, replaced int) {
	line := before[strings.LastIndexByte(before, '\n')+1:]
	part := line[strings.LastIndexAny(line, " \t(,=<>+-*;")+1:]
	if s.typed.Empty() && strings.HasPrefix(strings.TrimSpace(line), "/") {
		return s.completeWord(line, part)
	}
	offer := func(text, what string) {
		if len(all) < mostOffered && len(text) >= len(part) && strings.EqualFold(text[:len(part)], part) {
			all = append(all, lineedit.Completion{Text: text, What: what})
		}
	}
	k := s.know()
	behind := strings.ToUpper(lastWord(line[:len(line)-len(part)]))
	schema, name, dotted := strings.Cut(part, ".")
	if k != nil {
		whole := strings.ToLower(string(s.typed.Text()) + before)
		for _, t := range k.tables {
			typed := s.by.Name(t[1])
			if dotted && strings.EqualFold(t[0], schema) {
				offer(s.by.Name(t[0])+"."+typed, "table")
			} else if !dotted {
				offer(typed, "table of "+t[0])
			}
			if mentions(whole, t[1]) && !placeOfTable(behind) {
				for _, column := range s.columnsOf(t[1]) {
					offer(s.by.Name(column), "column of "+t[1])
					if dotted && name != "" || dotted {
						offer(schema+"."+s.by.Name(column), "column of "+t[1])
					}
				}
			}
		}
		for _, one := range k.schemas {
			offer(s.by.Name(one)+".", "schema")
		}
	}
	if part != "" && !dotted && s.by.Lexis.SQL() {
		for _, word := range strings.Fields(languageWords) {
			if part == strings.ToLower(part) {
				word = strings.ToLower(word)
			}
			offer(word, "")
		}
	}
	return unique(all), len(part)
}

// unique leaves each text once.
func unique(all []lineedit.Completion) []lineedit.Completion {
	seen := make(map[string]bool)
	return slices.DeleteFunc(all, func(c lineedit.Completion) bool {
		twice := seen[c.Text]
		seen[c.Text] = true
		return twice
	})
}

// placeOfTable reports whether a table's name follows a word.
func placeOfTable(word string) bool {
	return slices.Contains([]string{"FROM", "JOIN", "INTO", "UPDATE", "TABLE"}, word)
}

// lastWord is the word that a text ends with.
func lastWord(text string) string {
	words := strings.Fields(text)
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// mentions reports whether a statement names a table.
func mentions(statement, table string) bool {
	return slices.Contains(strings.FieldsFunc(statement, func(r rune) bool {
		return !(r == '_' || r == '$' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r > 127)
	}), strings.ToLower(table))
}

// completeWord completes a session word, or an argument of one.
func (s *session) completeWord(line, part string) (all []lineedit.Completion, replaced int) {
	given := strings.Fields(strings.TrimSpace(line))
	var from []string
	switch first := strings.TrimPrefix(given[0], "/"); {
	case len(given) == 1 && !strings.HasSuffix(line, " "):
		for _, w := range words() {
			from = append(from, "/"+w.name)
		}
	case first == "use":
		if k := s.know(); k != nil {
			from = k.databases
		}
	case first == "profile":
		if file, err := s.Load(); err == nil {
			from = file.Names()
		}
	case first == "browse":
		for _, k := range catalogue.Kinds {
			from = append(from, string(k.Word))
		}
	case first == "format":
		from = results.Formats
	case first == "stacked", first == "clock":
		from = []string{"on", "off"}
	case first == "help":
		for _, w := range words() {
			from = append(from, w.name)
		}
	}
	for _, text := range from {
		if strings.HasPrefix(text, part) {
			all = append(all, lineedit.Completion{Text: text})
		}
	}
	return all, len(part)
}

// know reads the catalogue once. Where it can't be read, there are no names.
func (s *session) know() *serverNames {
	if s.known != nil || s.lost {
		return s.known
	}
	s.known = &serverNames{columns: make(map[string][]string)}
	for _, row := range s.ask(engine.KindTables, "") {
		if !row.System {
			s.known.tables = append(s.known.tables, [2]string{row.Text(0), row.Text(1)})
		}
	}
	for _, row := range s.ask(engine.KindSchemas, "") {
		if !row.System {
			s.known.schemas = append(s.known.schemas, row.Text(0))
		}
	}
	for _, row := range s.ask(engine.KindDatabases, "") {
		s.known.databases = append(s.known.databases, row.Text(0))
	}
	return s.known
}

// columnsOf are the columns of a table, read once.
func (s *session) columnsOf(table string) []string {
	if all, ok := s.known.columns[table]; ok {
		return all
	}
	var all []string
	for _, row := range s.ask(engine.KindColumns, table) {
		all = append(all, row.Text(2))
	}
	s.known.columns[table] = all
	return all
}

// ask asks the second connection for things of a kind; none where that fails.
func (s *session) ask(kind engine.Kind, one string) []catalogue.Row {
	ctx, stop := context.WithTimeout(context.Background(), completeAfter)
	defer stop()
	second, err := s.secondConnection(ctx)
	if err != nil {
		return nil
	}
	list, err := second.server.Read(ctx, catalogue.Find(kind), one)
	if err != nil {
		s.drop(err)
		return nil
	}
	return list.Rows[:min(len(list.Rows), mostKnown)]
}
