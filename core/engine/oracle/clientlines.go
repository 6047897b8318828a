package oracle

import (
	"strings"

	"gentleharbor/core/engine"
)

// clientLines are the lines for the servers' own client that scripts have, besides statements.
var clientLines = &engine.ClientLines{
	Begins: func(word string) bool {
		switch word {
		case "@", "START", "PROMPT", "REM", "REMARK", "SET", "EXIT", "QUIT", "WHENEVER", "SPOOL", "HOST", "CONNECT",
			"CONN", "DEFINE", "DEF", "UNDEFINE", "COLUMN", "COL", "SHOW", "TTITLE", "BTITLE", "BREAK", "VARIABLE", "VAR",
			"ACCEPT", "PAUSE", "EXECUTE", "EXEC", "PASSWORD", "!":
			return true
		}
		return false
	},
	Read: clientLine,
}

// clientLine reads a line. It is nil for the beginning of a statement, such as SET TRANSACTION or SET ROLE.
func clientLine(line string) *engine.ClientLine {
	line = strings.TrimSpace(line)
	if strings.HasPrefix(line, "@") {
		name := strings.Trim(strings.TrimSpace(strings.TrimSuffix(strings.TrimLeft(line, "@"), ";")), `"`)
		return include(name)
	}
	word, rest, _ := strings.Cut(line, " ")
	rest = strings.TrimSpace(rest)
	switch strings.ToUpper(strings.TrimSuffix(word, ";")) {
	case "START":
		if strings.HasPrefix(strings.ToUpper(rest), "WITH") {
			return nil
		}
		return include(engine.RestOfLine(line))
	case "PROMPT":
		return &engine.ClientLine{Do: engine.LineEcho, Text: rest}
	case "SET":
		switch first, _, _ := strings.Cut(strings.ToUpper(rest), " "); first {
		case "TRANSACTION", "ROLE", "CONSTRAINT", "CONSTRAINTS":
			return nil
		}
		return &engine.ClientLine{Do: engine.LineIgnored}
	case "EXIT", "QUIT":
		return &engine.ClientLine{Do: engine.LineEnd}
	case "REM", "REMARK", "WHENEVER", "COLUMN", "COL", "SHOW", "TTITLE", "BTITLE", "BREAK", "UNDEFINE":
		return &engine.ClientLine{Do: engine.LineIgnored}
	case "SPOOL":
		return engine.Refuse("it writes a file of this machine")
	case "HOST", "!":
		return engine.Refuse("it runs a program")
	case "CONNECT", "CONN":
		return engine.Refuse("neither the account nor the server can be changed")
	}
	return engine.Refuse("it is not understood")
}

func include(name string) *engine.ClientLine {
	switch {
	case name == "":
		return engine.Refuse("it names no file")
	case strings.Contains(name, "://"):
		return engine.Refuse("it fetches a file from elsewhere")
	case !strings.Contains(name[strings.LastIndexByte(name, '/')+1:], "."):
		name += ".sql"
	}
	return &engine.ClientLine{Do: engine.LineInclude, Text: name}
}
