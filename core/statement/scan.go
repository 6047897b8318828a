package statement

import (
	"bytes"
	"strings"

	"gentleharbor/core/engine"
)

// scan is the search for the end of one statement.
type scan struct {
	*Splitter
	start  int // of the statement's text; -1 before it
	last   int // behind the last character that is none of a comment
	end    int // of the text, where something ended it; -1 else
	words  []string
	braces []span // what stands in braces: placeholders, where there are values
	colons []span // variables, where lines for the client set them

	asked   *engine.ClientLine // by a line for the client
	askedAt int                // where it begins

	depth  int  // of parentheses
	bodies int  // of BEGIN … END
	hint   bool // in /*! … */
	block  bool // a block of code, which a / ends
}

// maxWords bounds the words that are kept of a statement: the first ones decide all questions about it.
const maxWords = 4000

func (l *scan) run() error {
	l.end = -1
	for !l.atEnd() {
		done, err := l.step()
		if err != nil || done {
			return err
		}
	}
	if l.hint {
		return l.unclosedError(l.start, "comment", "a comment of the form /*! is not closed")
	}
	return nil
}

// step reads the next character. It reports whether the statement ended.
func (l *scan) step() (done bool, err error) {
	c := l.at(0)
	switch {
	case c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '\f' || c == '\v':
		l.pos++
		return false, nil
	case l.start < 0 && l.lexis.Delimiter && l.isDelimiter():
		return true, nil
	case l.start < 0 && l.client != nil && l.clientLine(c):
		return true, nil
	case l.lexis.Blocks && c == '/' && l.aloneOnLine():
		l.end = l.pos
		l.pos++
		l.restOfLine()
		return true, nil
	case !l.block && l.starts(l.delimiter) && l.splits():
		l.begin()
		l.end = l.pos
		l.pos += len(l.delimiter)
		return true, nil
	}
	if handled, err := l.comment(c); handled || err != nil {
		return false, err
	}
	l.begin()
	if handled, err := l.quote(c); handled || err != nil {
		if c != '`' && (c != '"' || l.lexis.DoubleQuoted) {
			l.keep(literal)
		}
		l.last = l.pos
		return false, err
	}
	switch {
	case isLetter(c):
		l.word()
	case digit(c):
		l.number()
	default:
		switch c {
		case '(':
			l.depth++
		case ')':
			l.depth = max(0, l.depth-1)
		case '{':
			l.brace()
		case ':':
			l.colon()
		case '\\':
			if l.client != nil && l.client.Variables {
				return false, l.wrong(l.pos, `gharbor does not know this line (a \ ends no statement)`)
			}
		}
		l.pos++
	}
	l.last = l.pos
	return false, nil
}

// literal is the word for a text in quotes.
const literal = "'"

// keep adds a word.
func (l *scan) keep(word string) {
	if len(l.words) < maxWords {
		l.words = append(l.words, word)
	}
}

// span is a part of the buffer.
type span struct{ from, to int }

// maxPlaceholder bounds what may stand in braces.
const maxPlaceholder = 80

// brace notes the text in the braces that open here. It does not move behind them.
func (l *scan) brace() {
	for i := 1; i < maxPlaceholder; i++ {
		c := l.at(i)
		if c == '}' {
			l.braces = append(l.braces, span{l.pos, l.pos + i + 1})
			return
		}
		if !inWord(c) && c != ' ' && c != '-' && c != '.' {
			return
		}
	}
}

// begin notes where the statement's text starts.
func (l *scan) begin() {
	if l.start < 0 {
		l.start, l.last = l.pos, l.pos
	}
}

// splits reports whether the delimiter ends a statement here.
func (l *scan) splits() bool {
	return (l.depth == 0 || !l.lexis.Parentheses) && l.bodies == 0
}

// isDelimiter takes a line that changes the delimiter, which is no statement.
func (l *scan) isDelimiter() bool {
	const word = "DELIMITER"
	l.at(len(word))
	rest := l.buffer[l.pos:]
	if len(rest) <= len(word) || !strings.EqualFold(string(rest[:len(word)]), word) ||
		rest[len(word)] != ' ' && rest[len(word)] != '\t' {
		return false
	}
	from := l.pos + len(word)
	l.restOfLine()
	text := strings.TrimSpace(string(l.buffer[from:l.pos]))
	text, _, _ = strings.Cut(text, " ")
	text = strings.Trim(text, `'"`)
	if text != "" {
		l.delimiter = text
	}
	return true
}

// restOfLine goes behind the end of the line.
func (l *scan) restOfLine() {
	for !l.atEnd() {
		if i := bytes.IndexByte(l.buffer[l.pos:], '\n'); i >= 0 {
			l.pos += i + 1
			return
		}
		l.pos = len(l.buffer)
	}
}

// aloneOnLine reports whether the next character is alone on its line.
func (l *scan) aloneOnLine() bool {
	piece := l.buffer[l.base:l.pos]
	line := piece[bytes.LastIndexByte(piece, '\n')+1:]
	if len(bytes.TrimSpace(line)) > 0 || len(line) == len(piece) && l.column > 1 {
		return false
	}
	for i := 1; ; i++ {
		switch c := l.at(i); c {
		case ' ', '\t', '\r':
		case '\n':
			return true
		default:
			return c == 0 && l.pos+i >= len(l.buffer)
		}
	}
}

// comment goes over a comment.
func (l *scan) comment(c byte) (bool, error) {
	switch {
	case c == '#' && l.lexis.HashComments:
		l.line()
	case c == '-' && l.at(1) == '-' && (!l.lexis.DashSpace || blank(l.at(2))):
		l.line()
	case c == '/' && l.at(1) == '*':
		return true, l.block1()
	case c == '*' && l.at(1) == '/' && l.hint:
		l.hint = false
		l.pos += 2
		l.last = l.pos
	default:
		return false, nil
	}
	return true, nil
}

// line goes to the end of a line, which stays.
func (l *scan) line() {
	for !l.atEnd() {
		if i := bytes.IndexByte(l.buffer[l.pos:], '\n'); i >= 0 {
			l.pos += i
			return
		}
		l.pos = len(l.buffer)
	}
}

// block1 moves past a comment between /* and */, or into one whose text is a part of the statement.
func (l *scan) block1() error {
	from := l.pos
	if l.lexis.VersionHints && (l.at(2) == '!' || l.at(2) == 'M' && l.at(3) == '!') {
		l.begin()
		l.hint = true
		l.pos += 3
		for l.at(0) == '!' || digit(l.at(0)) {
			l.pos++
		}
		return nil
	}
	l.pos += 2
	for depth := 1; depth > 0; {
		if l.atEnd() {
			return l.unclosedError(from, "comment", "a comment is not closed: /* without */")
		}
		rest := l.buffer[l.pos:]
		i := bytes.IndexAny(rest, "*/")
		if i < 0 {
			l.pos = len(l.buffer)
			continue
		}
		l.pos += i
		switch {
		case l.at(0) == '*' && l.at(1) == '/':
			depth--
			l.pos += 2
		case l.at(0) == '/' && l.at(1) == '*' && l.lexis.NestedComments:
			depth++
			l.pos += 2
		default:
			l.pos++
		}
	}
	return nil
}

// quote goes over what stands in quotes.
func (l *scan) quote(c byte) (bool, error) {
	switch {
	case c == '\'':
		return true, l.skipQuoted('\'', l.backslashes())
	case c == '"':
		return true, l.skipQuoted('"', l.lexis.DoubleQuoted && l.lexis.Backslashes)
	case c == '`' && l.lexis.Backticks:
		return true, l.skipQuoted('`', false)
	case c == '$' && l.lexis.DollarQuotes:
		return l.dollar()
	case (c == 'q' || c == 'Q') && l.lexis.OtherQuotes && l.at(1) == '\'':
		return true, l.skipOtherQuotes()
	}
	return false, nil
}

// backslashes reports whether a backslash escapes in the quotes that begin here.
func (l *scan) backslashes() bool {
	if !l.lexis.EscapeStrings {
		return l.lexis.Backslashes
	}
	if !l.standard {
		return true
	}
	if l.pos == l.base || l.buffer[l.pos-1] != 'E' && l.buffer[l.pos-1] != 'e' {
		return false
	}
	return l.pos == l.base+1 || !inWord(l.buffer[l.pos-2])
}

// skipQuoted moves behind the closing quote. A doubled quote does not close.
func (l *scan) skipQuoted(quote byte, backslashes bool) error {
	from := l.pos
	l.pos++
	for {
		if l.atEnd() {
			return l.unclosedError(from, "quote", "quotes are not closed: "+string(quote))
		}
		rest := l.buffer[l.pos:]
		i := bytes.IndexByte(rest, quote)
		if backslashes {
			if j := bytes.IndexByte(rest, '\\'); j >= 0 && (i < 0 || j < i) {
				l.pos += j + 1
				if l.atEnd() {
					return l.unclosedError(from, "quote", "quotes are not closed: "+string(quote))
				}
				l.pos++
				continue
			}
		}
		if i < 0 {
			l.pos = len(l.buffer)
			continue
		}
		l.pos += i + 1
		if l.at(0) != quote {
			return nil
		}
		l.pos++
	}
}

// dollar moves past a text in dollar quotes: $tag$ … $tag$.
func (l *scan) dollar() (bool, error) {
	if l.pos > l.base && inWord(l.buffer[l.pos-1]) {
		return false, nil
	}
	n := 1
	for ; l.at(n) != '$'; n++ {
		if c := l.at(n); !inWord(c) || n == 1 && digit(c) {
			return false, nil
		}
	}
	from := l.pos
	tag := string(l.buffer[l.pos : l.pos+n+1])
	l.pos += n + 1
	for searched := l.pos; ; {
		if i := bytes.Index(l.buffer[searched:], []byte(tag)); i >= 0 {
			l.pos = searched + i + len(tag)
			return true, nil
		}
		searched = max(l.pos, len(l.buffer)-len(tag)+1)
		if !l.readMore() {
			l.pos = len(l.buffer)
			return true, l.unclosedError(from, "quote", "dollar quotes are not closed: "+tag)
		}
	}
}

// skipOtherQuotes moves past a text in alternative quotes: q'[ … ]'.
func (l *scan) skipOtherQuotes() error {
	from := l.pos
	open := l.at(2)
	if open == 0 {
		return l.unclosedError(from, "quote", "quotes are not closed: q'")
	}
	end := string(open) + "'"
	if i := strings.IndexByte("([{<", open); i >= 0 {
		end = string(")]}>"[i]) + "'"
	}
	l.pos += 3
	for !l.starts(end) {
		if l.atEnd() {
			return l.unclosedError(from, "quote", "quotes are not closed: q'"+string(open))
		}
		l.pos++
	}
	l.pos += len(end)
	return nil
}

// word reads a word, and notes what it means for the end of the statement.
func (l *scan) word() {
	from := l.pos
	for inWord(l.at(0)) && !l.atDelimiter() {
		l.pos++
	}
	if len(l.words) >= maxWords {
		return
	}
	word := strings.ToUpper(string(l.buffer[from:l.pos]))
	l.keep(word)
	if l.lexis.AtomicBodies && l.depth == 0 && makesRoutine(l.words) {
		switch {
		case word == "BEGIN", word == "CASE" && l.bodies > 0:
			l.bodies++
		case word == "END" && l.bodies > 0:
			l.bodies--
		}
	}
	if l.lexis.Blocks && !l.block {
		l.block = isBlock(l.words)
	}
}

// number moves past a number, which may have letters.
func (l *scan) number() {
	for c := l.at(0); (inWord(c) || c == '.') && !l.atDelimiter(); c = l.at(0) {
		l.pos++
	}
}

// atDelimiter reports whether a delimiter that could be a part of a word begins here.
func (l *scan) atDelimiter() bool { return inWord(l.delimiter[0]) && l.starts(l.delimiter) }

// makesRoutine reports whether a statement makes a function or procedure.
func makesRoutine(words []string) bool {
	if len(words) < 2 || words[0] != "CREATE" {
		return false
	}
	kind := words[1]
	if kind == "OR" && len(words) > 3 {
		kind = words[3]
	}
	return kind == "FUNCTION" || kind == "PROCEDURE"
}

// isBlock reports whether a statement is a block of code, in which a semicolon ends no statement.
func isBlock(words []string) bool {
	switch words[0] {
	case "BEGIN", "DECLARE":
		return true
	case "CREATE":
		for _, word := range words[1:] {
			switch word {
			case "OR", "REPLACE", "EDITIONABLE", "NONEDITIONABLE":
			case "FUNCTION", "PROCEDURE", "PACKAGE", "TRIGGER", "TYPE", "LIBRARY":
				return true
			default:
				return false
			}
		}
	}
	return false
}

// copies reports whether lines of data follow the statement.
func (l *scan) copies() bool {
	if !l.lexis.CopyData || l.end < 0 || len(l.words) < 3 || l.words[0] != "COPY" {
		return false
	}
	for i := 1; i+1 < len(l.words); i++ {
		if l.words[i] == "FROM" && l.words[i+1] == "STDIN" {
			l.restOfLine()
			return true
		}
	}
	return false
}

func isLetter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c >= 0x80
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

// inWord reports whether a character continues a word.
func inWord(c byte) bool { return isLetter(c) || digit(c) || c == '$' }

func blank(c byte) bool { return c <= ' ' }
