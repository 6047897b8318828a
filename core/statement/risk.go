package statement

import (
	"slices"
	"strings"

	"gentleharbor/core/engine"
)

// Risk says what a statement may destroy, "" for nothing. words are those of its piece. It prevents mistakes; it is
// no access control.
func Risk(words []string, by *engine.Statements) string {
	if len(words) == 0 {
		return ""
	}
	if by.Rules != nil {
		return by.Rules.Risk(words)
	}
	switch first := words[0]; {
	case first == "DROP", first == "TRUNCATE", first == "GRANT", first == "REVOKE":
		return first
	case first == "ALTER" && slices.Contains(words, "DROP"):
		return "ALTER … DROP"
	case !by.Known.Has(first):
		return "what " + first + " does is not known"
	}
	for i, word := range words {
		if (word == "DELETE" || word == "UPDATE") && acts(words, i) && !slices.Contains(words[i:], "WHERE") {
			return word + " without a condition"
		}
	}
	return ""
}

// acts reports whether a DELETE or UPDATE is a statement, and not a part of another clause.
func acts(words []string, i int) bool {
	if i == 0 {
		return true
	}
	switch words[i-1] {
	case "FOR", "ON", "KEY", "DO", "OF", "BEFORE", "AFTER", "OR", "NO", "THEN", "COMMENT", "INSTEAD":
		return false
	}
	switch words[0] {
	case "WITH", "EXPLAIN", "ANALYZE", "DESC", "DESCRIBE", "PREPARE":
		return true
	}
	return false
}

// Commits reports whether a statement ends the transaction that it runs in: ROLLBACK TO and temporary tables do not.
func Commits(words []string, by *engine.Statements) bool {
	if len(words) == 0 || !by.Commits.Has(words[0]) {
		return false
	}
	return len(words) == 1 || words[1] != "TEMPORARY" && (words[0] != "ROLLBACK" || !slices.Contains(words, "TO"))
}

// HasSecret reports whether a statement has a password in it.
func HasSecret(words []string, by *engine.Statements) bool {
	if by.Rules != nil {
		return by.Rules.Secret(words)
	}
	for _, secret := range by.Secrets {
		for i := range words {
			if follows(words[i:], secret) {
				return true
			}
		}
	}
	return false
}

// follows reports whether words begin with those of a pattern.
func follows(words, pattern []string) bool {
	for _, want := range pattern {
		if want == literal && len(words) > 1 && words[1] == literal && marksText(words[0]) {
			words = words[1:]
		}
		if len(words) == 0 || want != "*" && words[0] != want {
			return false
		}
		words = words[1:]
	}
	return true
}

// marksText reports whether a word before a text in quotes belongs to it: E'…', U&'…', N'…', X'…', _utf8'…'.
func marksText(word string) bool {
	return len(word) == 1 && strings.Contains("EUNXB", word) || strings.HasPrefix(word, "_")
}
