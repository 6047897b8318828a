package statement

import (
	"bytes"
	"slices"
	"strings"

	"gentleharbor/core/engine"
)

// Effect is what a statement does to things on the server, by its words. An index may have no name.
type Effect struct {
	Deed  Action
	Kind  string // "table", "materialized view"
	Names []Name
	Sure  bool // no IF EXISTS or IF NOT EXISTS
}

// Name is the name of a thing in the server's form.
type Name struct{ Schema, Name string }

// Action is what is done.
type Action string

// The actions. A thing that is filled gets rows, one that is emptied loses all.
const (
	Makes   Action = "make"
	Changes Action = "change"
	Drops   Action = "drop"
	Empties Action = "empty"
	Fills   Action = "fill"
)

// kinds are the words for kinds of things.
var kinds = strings.Fields("TABLE VIEW INDEX SEQUENCE SCHEMA DATABASE FUNCTION PROCEDURE TRIGGER TYPE DOMAIN ROLE " +
	"USER " +
	"EXTENSION EVENT RULE POLICY AGGREGATE OPERATOR CAST COLLATION CONVERSION LANGUAGE SERVER STATISTICS PUBLICATION " +
	"SUBSCRIPTION TABLESPACE PACKAGE SYNONYM LIBRARY")

// Effects are what a statement does; none for a statement that we don't understand.
func Effects(p *Piece, by *engine.Statements) []Effect {
	if len(p.Words) == 0 || by.Rules != nil {
		return nil
	}
	w := &words{text: p.Text, lexis: by.Lexis, fold: folding(by)}
	first := w.next()
	e := Effect{Sure: true, Kind: "table"}
	switch first.word {
	case "CREATE", "DROP", "ALTER":
		e.Deed = map[string]Action{"CREATE": Makes, "DROP": Drops, "ALTER": Changes}[first.word]
		if !e.kind(w) {
			return nil
		}
		e.Names = w.names(e.Deed == Drops, e.Kind)
	case "TRUNCATE":
		e.Deed = Empties
		w.skip("TABLE", "ONLY")
		e.Names = w.names(true, "table")
	case "DELETE":
		w.skip("LOW_PRIORITY", "QUICK", "IGNORE", "FROM", "ONLY")
		e.Deed, e.Names = Changes, w.names(false, "table")
		if !slices.Contains(p.Words, "WHERE") {
			e.Deed = Empties
		}
	case "UPDATE":
		w.skip("LOW_PRIORITY", "IGNORE", "ONLY")
		e.Deed, e.Names = Changes, w.names(false, "table")
	case "INSERT", "REPLACE":
		w.skip("LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "IGNORE", "INTO")
		e.Deed, e.Names = Fills, w.names(false, "table")
	case "COPY":
		e.Deed, e.Names = Fills, w.names(false, "table")
		if !slices.Contains(p.Words, "FROM") {
			return nil
		}
	default:
		return nil
	}
	if len(e.Names) == 0 && e.Deed != Makes {
		return nil
	}
	return []Effect{e}
}

// kind reads up to the word for the kind, and past the words between it and the names.
func (e *Effect) kind(w *words) bool {
	before := ""
	for range 20 {
		t := w.next()
		if t == (token{}) {
			return false
		}
		if slices.Contains(kinds, t.word) && !(t.word == "EVENT" && w.peek().word == "TRIGGER") {
			e.Kind = strings.ToLower(strings.TrimSpace(before + " " + t.word))
			for {
				switch t := w.peek(); t.word {
				case "IF", "NOT", "EXISTS", "CONCURRENTLY", "ONLY", "BODY", "MAPPING":
					e.Sure = e.Sure && t.word != "EXISTS"
					w.next()
				default:
					return true
				}
			}
		}
		switch t.word {
		case "MATERIALIZED", "FOREIGN", "EVENT":
			before = t.word
		}
	}
	return false
}

// folding is the engine's form of a name without quotes.
func folding(by *engine.Statements) func(string) string {
	switch small, large := by.Bare("a"), by.Bare("A"); {
	case small && !large:
		return strings.ToLower
	case large && !small:
		return strings.ToUpper
	}
	return func(name string) string { return name }
}

// words reads a statement word by word, without comments.
type words struct {
	text  []byte
	lexis engine.Lexis
	fold  func(string) string
	at    int
	ahead *token
}

// token is a word, a name in quotes, or a sign.
type token struct {
	word  string // in capital letters; "" for a name in quotes and for signs
	name  string // as the server keeps it
	other bool   // it is a sign or a text
	sign  byte
}

func (w *words) peek() token {
	if w.ahead == nil {
		t := w.read()
		w.ahead = &t
	}
	return *w.ahead
}

func (w *words) next() token {
	t := w.peek()
	w.ahead = nil
	return t
}

// skip goes over some words.
func (w *words) skip(some ...string) {
	for slices.Contains(some, w.peek().word) {
		w.next()
	}
}

func (w *words) read() token {
	for w.at < len(w.text) {
		c, rest := w.text[w.at], w.text[w.at:]
		switch {
		case blank(c):
			w.at++
		case bytes.HasPrefix(rest, []byte("--")), c == '#' && w.lexis.HashComments:
			w.skipPast("\n")
		case bytes.HasPrefix(rest, []byte("/*!")) && w.lexis.VersionHints:
			for w.at += 3; w.at < len(w.text) && digit(w.text[w.at]); w.at++ {
			}
		case bytes.HasPrefix(rest, []byte("/*")):
			w.skipPast("*/")
		case bytes.HasPrefix(rest, []byte("*/")) && w.lexis.VersionHints:
			w.at += 2
		case c == '"' && !w.lexis.DoubleQuoted, c == '`' && w.lexis.Backticks:
			return token{name: w.readQuoted(c)}
		case isLetter(c):
			from := w.at
			for w.at < len(w.text) && inWord(w.text[w.at]) {
				w.at++
			}
			word := string(w.text[from:w.at])
			return token{word: strings.ToUpper(word), name: w.fold(word)}
		default:
			w.at++
			return token{other: true, sign: c}
		}
	}
	return token{}
}

// skipPast moves behind the next place of a text.
func (w *words) skipPast(text string) {
	i := bytes.Index(w.text[w.at:], []byte(text))
	if i < 0 {
		w.at = len(w.text)
		return
	}
	w.at += i + len(text)
}

// readQuoted reads a name in quotes.
func (w *words) readQuoted(quote byte) string {
	var name []byte
	for w.at++; w.at < len(w.text); w.at++ {
		if c := w.text[w.at]; c == quote {
			if w.at+1 == len(w.text) || w.text[w.at+1] != quote {
				w.at++
				break
			}
			w.at++
		}
		name = append(name, w.text[w.at])
	}
	return string(name)
}

// names reads a name, or several with commas between them. Parentheses after a name belong to it.
func (w *words) names(several bool, kind string) (all []Name) {
	for {
		var n Name
		t := w.next()
		if t.name == "" || t.word == "ON" && kind == "index" {
			return all
		}
		n.Name = t.name
		for w.peek().sign == '.' {
			w.next()
			n.Schema, n.Name = n.Name, w.next().name
		}
		if w.peek().sign == '(' {
			for depth := 0; ; {
				switch t := w.next(); {
				case t.sign == '(':
					depth++
				case t.sign == ')':
					depth--
				case t == token{}:
					depth = 0
				}
				if depth == 0 {
					break
				}
			}
		}
		all = append(all, n)
		if !several || w.peek().sign != ',' {
			return all
		}
		w.next()
		w.skip("ONLY")
	}
}
