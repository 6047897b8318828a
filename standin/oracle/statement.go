package oracle

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Question is a statement that was sent.
type Question struct {
	Account string
	SQL     string
	Values  []string // of its parameters
}

// Answer is what comes of a statement.
type Answer struct {
	Columns []string
	Rows    [][]string // "" is NULL
	Changed int
	Code    int // of the refusal; 0 for none
	Message string
	Wait    time.Duration // before the answer; a client may break it off
}

// answerTo answers a statement.
func (s *session) answerTo(body []byte) *writer {
	sql, ok := sqlOf(body)
	if !ok {
		return (&writer{}).summary(900, "ORA-00900: invalid SQL statement")
	}
	if s.Answer != nil {
		q := Question{Account: s.account.User, SQL: sql, Values: valuesOf(body, strings.Count(sql, ":"))}
		if a := s.Answer(q); a != nil {
			return s.encodeAnswer(a)
		}
	}
	if a := s.rights(sql); a != nil {
		return s.encodeAnswer(a)
	}
	if a := s.catalogue(sql); a != nil {
		return s.encodeAnswer(a)
	}
	return s.statement(sql)
}

// encodeAnswer returns an answer as it is sent.
func (s *session) encodeAnswer(a *Answer) *writer {
	switch {
	case a.Wait > 0 && s.broken(a.Wait):
		return (&writer{}).summary(1013, "ORA-01013: user requested cancel of current operation")
	case a.Code != 0:
		return (&writer{}).summary(a.Code, a.Message)
	case a.Columns == nil:
		return (&writer{}).writeChanged(a.Changed)
	}
	return table(a.Columns, a.Rows)
}

// broken waits, and reports whether the client cancelled the statement.
func (s *session) broken(wait time.Duration) bool {
	s.conn.SetReadDeadline(time.Now().Add(wait))
	defer s.conn.SetReadDeadline(time.Time{})
	p, err := read(s.conn, false)
	return err == nil && p[4] == typeMarker
}

// statement answers a few known queries, by their beginnings.
func (s *session) statement(sql string) *writer {
	switch {
	case strings.HasPrefix(sql, "SELECT SYS_CONTEXT('USERENV','SESSION_USER')"):
		role, dba := "PRIMARY", "FALSE"
		if s.Standby {
			role = "PHYSICAL STANDBY"
		}
		user := s.account.User
		if s.dba {
			user, dba = "SYS", "TRUE"
		}
		return rows([]string{user, "SKEIN", "SKEINPDB1", "skein_a", role, "archive-a", "skein1", dba, "+00:00",
			time.Now().UTC().Format("2006-01-02T15:04:05.000"), "AL32UTF8"})
	case strings.Contains(sql, "FROM v$database"):
		if !s.account.DBA {
			return (&writer{}).summary(942, "ORA-00942: table or view does not exist")
		}
		mode := "READ WRITE"
		if s.Standby {
			mode = "READ ONLY WITH APPLY"
		}
		return rows([]string{mode, "1729000001", "1"})
	case strings.Contains(sql, "FROM all_objects"):
		count := 0
		name, owner := quotedText(sql, `object_name = `), quotedText(sql, `owner = `)
		if owner == "" {
			owner = s.account.User
		}
		if slices.Contains(s.Tables, owner+"."+name) {
			count = 1
		}
		return rows([]string{fmt.Sprint(count)})
	case strings.Contains(sql, "FROM dba_users"):
		if !s.account.DBA {
			return (&writer{}).summary(942, "ORA-00942: table or view does not exist")
		}
		a := s.find(quotedText(sql, "username = "))
		if a == nil {
			return rows(nil)
		}
		status := "OPEN"
		switch {
		case a.Locked:
			status = "LOCKED(TIMED)"
		case a.Expired:
			status = "EXPIRED"
		case a.Grace:
			status = "EXPIRED(GRACE)"
		}
		return rows([]string{status})
	}
	return (&writer{}).summary(900, "ORA-00900: invalid SQL statement")
}

// quotedText is the text in quotes after some words of a statement.
func quotedText(sql, before string) string {
	m := regexp.MustCompile(regexp.QuoteMeta(before) + `'([^']*)'`).FindStringSubmatch(sql)
	if m == nil {
		return ""
	}
	return m[1]
}

// sqlOf is the statement's text in a message that executes it.
func sqlOf(body []byte) (string, bool) {
	r := &reader{b: body[3:]}
	options := r.number()
	r.number() // the cursor
	r.byte()
	r.number() // the text's length
	r.byte()
	r.number() // of the settings behind it
	r.take(2)
	if r.byte(); options&0x20 != 0 && options&1 != 0 {
		r.number() // rows to send at once
	} else {
		r.byte()
	}
	r.number() // the longest value
	if r.byte() == 1 {
		r.number() // of parameters
	} else {
		r.byte()
	}
	r.take(5 + 2)
	sql := r.text()
	return sql, !r.bad && sql != ""
}

// valuesOf are the values of n parameters at the end of a message that executes a statement.
func valuesOf(body []byte, n int) []string {
	for at := len(body) - 1; at > 0 && n > 0; at-- {
		if body[at] != 7 {
			continue
		}
		r := &reader{b: body[at+1:]}
		values := make([]string, n)
		for i := range values {
			values[i] = r.text()
		}
		if !r.bad && len(r.b) == 0 {
			return values
		}
	}
	return nil
}

// rows is an answer of one row of texts, or of none.
func rows(row []string) *writer {
	var names []string
	for i := range row {
		names = append(names, fmt.Sprintf("C%d", i+1))
	}
	if row == nil {
		return table(nil, nil)
	}
	return table(names, [][]string{row})
}

// table is an answer of rows of texts.
func table(names []string, all [][]string) *writer {
	w := (&writer{}).bytes(16, 0).number(4000).number(len(names))
	if len(names) > 0 {
		w.bytes(0)
	}
	for _, name := range names {
		w.bytes(1, 0, 0, 0).number(400).number(0).number(0).writeSized("").number(0).number(873).bytes(1).number(400)
		w.bytes(1, 0).writeSized(name).writeSized("").writeSized("")
	}
	w.writeSized("")
	for i, row := range all {
		if i == 0 {
			w.bytes(6, 0).number(len(names)).number(0).number(1).number(0).writeSized("").writeSized("")
		}
		w.bytes(7)
		for _, value := range row {
			w.text(value)
		}
	}
	return w.summary(1403, "ORA-01403: no data found")
}
