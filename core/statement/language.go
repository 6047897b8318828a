package statement

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gentleharbor/core/engine"
)

// runLine finds the end of a command that is one line. A line that begins with # is a comment.
func (l *scan) runLine() error {
	l.end = -1
	for !l.atEnd() {
		from := l.pos
		for !l.atEnd() && l.at(0) != '\n' {
			l.pos++
		}
		line := bytes.TrimRight(l.buffer[from:l.pos], " \t\r")
		blank := len(line) - len(bytes.TrimLeft(line, " \t"))
		behind := from + len(line)
		if !l.atEnd() {
			l.pos++
		}
		if from += blank; from == behind || l.buffer[from] == '#' {
			continue
		}
		l.start, l.last, l.end = from, behind, behind
		return l.arguments(l.buffer[from:behind])
	}
	return nil
}

// arguments finds the words and the placeholders of a command.
func (l *scan) arguments(line []byte) error {
	args, err := l.lexis.Line(line)
	var wrong *engine.ArgumentError
	if errors.As(err, &wrong) {
		return l.wrong(l.start+wrong.At, wrong.What)
	}
	if err != nil {
		return err
	}
	for _, a := range args {
		l.keep(strings.ToUpper(string(a.Value)))
		if !a.Quoted && isPlaceholder(string(a.Value)) {
			l.braces = append(l.braces, span{l.start + a.From, l.start + a.To})
		}
	}
	return nil
}

// isPlaceholder reports whether a text is {NAME} or {identifier NAME}.
func isPlaceholder(text string) bool {
	if len(text) < 3 || len(text) > maxPlaceholder || text[0] != '{' || text[len(text)-1] != '}' {
		return false
	}
	for i := 1; i < len(text)-1; i++ {
		if c := text[i]; !inWord(c) && c != ' ' && c != '-' && c != '.' {
			return false
		}
	}
	return true
}

// noJSON begins the error of a text that is no document.
const noJSON = "this is not JSON (names and texts are in double quotes): "

// runDocument finds the end of a JSON document (RFC 8259), which may have blanks before it.
func (l *scan) runDocument() error {
	l.end = -1
	for !l.atEnd() && strings.IndexByte(" \t\r\n", l.at(0)) >= 0 {
		l.pos++
	}
	if l.atEnd() {
		return nil
	}
	if l.at(0) != '{' {
		return l.wrong(l.pos, `expected a JSON document, such as {"find":"note"}`)
	}
	l.start = l.pos
	quote := -1 // where the text that is open begins
	for ; !l.atEnd(); l.pos++ {
		switch c := l.at(0); {
		case quote >= 0 && c == '\\':
			l.at(1)
			l.pos = min(l.pos+1, len(l.buffer)-1)
		case quote >= 0 && c == '"':
			quote = -1
		case quote >= 0:
		case c == '"':
			quote = l.pos
		case c == '{' || c == '[':
			if l.depth++; l.depth > l.lexis.Nesting {
				return l.wrong(l.pos, fmt.Sprintf("this document has more than %d levels", l.lexis.Nesting))
			}
		case c == '}' || c == ']':
			if l.depth--; l.depth == 0 {
				l.pos++
				l.last, l.end = l.pos, l.pos
				return l.document(l.buffer[l.start:l.pos])
			}
		}
	}
	if quote >= 0 {
		return l.unclosedError(quote, "quote", "this text in quotes is not closed")
	}
	return l.unclosedError(l.start, "brackets", "this document is not closed")
}

// document finds the words and the placeholders of a document: names with a colon after them (without, for the first,
// which is the command's), texts and numbers, brackets.
func (l *scan) document(text []byte) error {
	if err := json.Unmarshal(text, new(json.RawMessage)); err != nil {
		at := 0
		var wrong *json.SyntaxError
		if errors.As(err, &wrong) {
			at = max(0, int(wrong.Offset)-1)
		}
		return l.wrong(l.start+min(at, len(text)-1), noJSON+err.Error())
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var inside []bool // for each bracket that is open: a name comes next
	objects := []bool{}
	for {
		token, err := d.Token()
		if err != nil { // the end: the document was found to be one above
			break
		}
		top := len(inside) - 1
		if open, is := token.(json.Delim); is {
			if open == '{' || open == '[' {
				if top >= 0 && objects[top] {
					inside[top] = true
				}
				inside, objects = append(inside, open == '{'), append(objects, open == '{')
			} else {
				inside, objects = inside[:top], objects[:top]
			}
			if len(l.words) > 0 {
				l.keep(open.String())
			}
			continue
		}
		word := strings.ToUpper(fmt.Sprint(token))
		switch s, isText := token.(string); {
		case top >= 0 && inside[top] && len(l.words) == 0:
			l.keep(word)
			inside[top] = false
			continue
		case top >= 0 && inside[top]:
			l.keep(word + ":")
			inside[top] = false
			continue
		case isText && isPlaceholder(s):
			end := int(d.InputOffset())
			if from := end - len(s) - 2; from >= 0 && text[from] == '"' {
				l.braces = append(l.braces, span{l.start + from, l.start + end})
			}
		}
		l.keep(word)
		if top >= 0 && objects[top] {
			inside[top] = true
		}
	}
	if len(l.words) == 0 {
		return l.wrong(l.start, "this document has no command")
	}
	return nil
}
