package mysql

import (
	"strings"

	"gentleharbor/core/engine"
)

// clientLines are the lines for the servers' own client that scripts have, besides DELIMITER.
var clientLines = &engine.ClientLines{
	Begins: func(word string) bool {
		switch word {
		case `\`, "SOURCE", "SYSTEM", "TEE", "NOTEE", "PAGER", "NOPAGER", "EDIT", "CONNECT", "CHARSET", "WARNINGS",
			"NOWARNING", "STATUS", "PROMPT", "QUIT", "EXIT", "REHASH", "PRINT":
			return true
		}
		return false
	},
	Read: clientLine,
}

// clientLine reads a line.
func clientLine(line string) *engine.ClientLine {
	line = strings.TrimSpace(line)
	word, _, _ := strings.Cut(line, " ")
	word = strings.TrimSuffix(word, ";")
	rest := engine.RestOfLine(line)
	if strings.HasPrefix(word, `\`) && len(word) > 2 { // \.FILE, \uDATABASE
		rest, word = strings.TrimSpace(strings.TrimSuffix(line[2:], ";")), word[:2]
	}
	switch lower := strings.ToLower(word); {
	case lower == "source", word == `\.`:
		if rest == "" {
			return engine.Refuse("it names no file")
		}
		return &engine.ClientLine{Do: engine.LineInclude, Text: rest}
	case word == `\u`:
		return engine.Refuse("write USE " + rest + "; in its place")
	case lower == "warnings", lower == "nowarning", lower == "status", lower == "rehash", lower == "prompt",
		lower == "notee", lower == "nopager", word == `\W`, word == `\w`, word == `\s`, word == `\#`, word == `\R`,
		word == `\-`, word == `\t`, word == `\n`:
		return &engine.ClientLine{Do: engine.LineIgnored}
	case lower == "quit", lower == "exit", word == `\q`:
		return &engine.ClientLine{Do: engine.LineEnd}
	case lower == "system", lower == "edit", lower == "pager", word == `\!`, word == `\e`, word == `\P`:
		return engine.Refuse("it runs a program")
	case lower == "tee", word == `\T`:
		return engine.Refuse("it writes a file of this machine")
	case lower == "connect", word == `\r`:
		return engine.Refuse("only the database can be changed, by USE, not the account or the server")
	case lower == "charset", word == `\C`:
		if strings.HasPrefix(strings.ToLower(rest), "utf8") {
			return &engine.ClientLine{Do: engine.LineIgnored}
		}
		return engine.Refuse("write SET NAMES in its place")
	}
	if strings.HasPrefix(word, `\`) {
		return engine.Refuse("it is not understood")
	}
	return nil
}
