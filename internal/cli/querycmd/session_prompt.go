package querycmd

import (
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
)

// prompt says where one is, and what is open.
func (s *session) prompt() string {
	if s.lost {
		return "connection lost, Enter connects again: "
	}
	if !s.typed.Empty() {
		_, open, _ := s.typed.Next()
		return map[string]string{
			"quote":    "in a quote: ",
			"comment":  "in a comment: ",
			"brackets": "in brackets: ",
		}[open] + map[bool]string{true: "in the statement: "}[open == "statement"]
	}
	words := []string{"at " + clean.Word(s.profile.Called)}
	f := s.opened.Report.Facts
	if database := s.reached; database != "" {
		words[0] += " in " + clean.Word(database)
	}
	if f.Superuser != nil && *f.Superuser {
		words = append(words, "administrator")
	}
	if s.readOnly() {
		words = append(words, "read-only")
	}
	switch {
	case s.transactionFailed():
		words = append(words, "transaction failed")
	case s.opened.Runner.InTransaction():
		words = append(words, "transaction open")
	}
	return strings.Join(words, ", ") + ": "
}

// transactionFailed reports whether the open transaction can only be rolled back.
func (s *session) transactionFailed() bool {
	failing, ok := s.opened.Runner.(engine.AbortReporter)
	return ok && failing.TransactionFailed()
}
