package postgresql

import (
	"strings"

	"gentleharbor/core/engine"
)

// clientLines are the lines that begin with a backslash, as dumps and scripts for the server's own client have them.
var clientLines = &engine.ClientLines{
	Begins:    func(word string) bool { return word == `\` },
	Read:      clientLine,
	Variables: true,
}

// Why a line is refused.
const (
	runsProgram  = "it runs a program"
	touchesFile  = "it reads or writes a file of this machine"
	onlyDatabase = "only the database can be changed, not the account or the server"
)

// clientLine reads a line that begins with a backslash.
func clientLine(line string) *engine.ClientLine {
	word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	if i := strings.IndexByte(word, '\t'); i >= 0 {
		word, rest = word[:i], word[i:]+rest
	}
	rest = strings.TrimSpace(rest)
	if strings.Contains(rest, "`") {
		return engine.Refuse(runsProgram)
	}
	words := clientWords(rest)
	first := ""
	if len(words) > 0 {
		first = words[0]
	}
	switch strings.TrimPrefix(word, `\`) {
	case "i", "include", "ir", "include_relative":
		if len(words) == 0 {
			return engine.Refuse("it names no file")
		}
		if len(words) > 1 { // a name with blanks, without quotes
			first = rest
		}
		return &engine.ClientLine{Do: engine.LineInclude, Text: first}
	case "c", "connect":
		return connectLine(words)
	case "set":
		if len(words) == 0 {
			return &engine.ClientLine{Do: engine.LineIgnored}
		}
		return &engine.ClientLine{Do: engine.LineSet, Name: first, Text: strings.Join(words[1:], "")}
	case "unset":
		return &engine.ClientLine{Do: engine.LineSet, Name: first}
	case "echo", "qecho", "warn":
		return &engine.ClientLine{Do: engine.LineEcho, Text: strings.Join(words, " ")}
	case "restrict", "unrestrict":
		return &engine.ClientLine{Do: engine.LineRestrict, Text: first}
	case "q", "quit":
		return &engine.ClientLine{Do: engine.LineEnd}
	case "timing", "pset", "x", "a", "t", "f", "H", "C", "T", "errverbose", "conninfo":
		return &engine.ClientLine{Do: engine.LineIgnored}
	case "encoding":
		if strings.EqualFold(first, "UTF8") || strings.EqualFold(first, "UTF-8") || first == "" {
			return &engine.ClientLine{Do: engine.LineIgnored}
		}
		return engine.Refuse("only UTF8 is read; SET client_encoding in the script says another one to the server")
	case "!", "setenv", "g", "gx", "watch", "gexec", "gset", "e", "edit", "ef", "ev":
		return engine.Refuse(runsProgram + ", or changes how the statement before it is run")
	case "copy", "o", "out", "w", "write", "s", "lo_import", "lo_export", "cd":
		return engine.Refuse(touchesFile)
	case "password":
		return engine.Refuse("it changes a password")
	}
	return engine.Refuse("it is not understood")
}

// connectLine reads the line that connects again: only another database of the same account and server is allowed.
func connectLine(words []string) *engine.ClientLine {
	if len(words) == 0 {
		return &engine.ClientLine{Do: engine.LineIgnored}
	}
	database := words[0]
	if database == "-reuse-previous=on" || database == "-reuse-previous=off" {
		if words = words[1:]; len(words) == 0 {
			return engine.Refuse("it is not understood")
		}
		database = words[0]
	}
	for _, word := range words[1:] {
		if word != "-" {
			return engine.Refuse(onlyDatabase)
		}
	}
	if name, ok := strings.CutPrefix(database, "dbname="); ok && !strings.Contains(name, " ") {
		database = strings.Trim(name, "'")
	}
	if strings.ContainsAny(database, "=") || strings.Contains(database, "://") {
		return engine.Refuse(onlyDatabase)
	}
	if database == "-" {
		return &engine.ClientLine{Do: engine.LineIgnored}
	}
	return &engine.ClientLine{Do: engine.LineDatabase, Text: database}
}

// clientWords splits a line into words: in '…' quotes are doubled and backslashes escape, "…" is taken as it is.
func clientWords(text string) (words []string) {
	var word strings.Builder
	open := false
	end := func() {
		if open {
			words = append(words, word.String())
		}
		word.Reset()
		open = false
	}
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == ' ' || c == '\t' || c == '\r':
			end()
		case c == '\'':
			open = true
			for i++; i < len(text); i++ {
				if text[i] == '\\' && i+1 < len(text) {
					i++
					word.WriteByte(unescapeByte(text[i]))
				} else if text[i] != '\'' {
					word.WriteByte(text[i])
				} else if i+1 < len(text) && text[i+1] == '\'' {
					word.WriteByte('\'')
					i++
				} else {
					break
				}
			}
		case c == '"':
			open = true
			for i++; i < len(text) && text[i] != '"'; i++ {
				word.WriteByte(text[i])
			}
		default:
			open = true
			word.WriteByte(c)
		}
	}
	end()
	return words
}

// unescapeByte returns the character for a letter after a backslash.
func unescapeByte(c byte) byte {
	switch c {
	case 'n':
		return '\n'
	case 't':
		return '\t'
	case 'r':
		return '\r'
	}
	return c
}
