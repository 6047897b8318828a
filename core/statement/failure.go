package statement

import (
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"gentleharbor/core/engine"
)

// Failure says why the server refused a statement, and where that is in the script.
type Failure struct {
	*engine.StatementError
	Line   int    // in the script, from 1
	Column int    // in bytes, from 1; 0 where only the statement is known
	Source string // the line of the script, "" where it has a password
	Width  int    // of what is wrong in it, in characters; 0 where it is not known
}

func (f *Failure) Unwrap() error { return f.StatementError }

// NewFailure finds the place of a server's refusal. sent is the statement that Fill made of the piece. For a
// statement with a password, the failure has neither its text nor what the server repeats of it.
func NewFailure(p *Piece, sent string, said *engine.StatementError, secret bool) *Failure {
	f := &Failure{StatementError: said, Line: p.Line}
	if secret {
		f.StatementError = withoutText(said, string(p.Text))
		return f
	}
	if said.DataLine > 0 && p.Data {
		f.Line += strings.Count(string(p.Text), "\n") + said.DataLine
		return f
	}
	at, ok := position(sent, said)
	if !ok {
		f.Source = lineOf(p, 0)
		return f
	}
	was := min(p.original(at), len(p.Text))
	f.Line, f.Column = place(p, was)
	f.Source = lineOf(p, was)
	f.Width = wordWidth(string(p.Text[was:]))
	return f
}

// withoutText is a server's error without its message, where that repeats a part of a text that the statement quotes.
func withoutText(said *engine.StatementError, text string) *engine.StatementError {
	const part = 4 // bytes
	quoted := text[max(0, strings.IndexAny(text, "'\"$")):]
	words := strings.Join([]string{said.Message, said.Detail, said.Hint, said.Where}, "\n")
	repeats := len(quoted) < part && strings.Contains(words, quoted)
	for i := 0; i+part <= len(quoted) && !repeats; i++ {
		repeats = strings.Contains(words, quoted[i:i+part])
	}
	if !repeats {
		return said
	}
	return &engine.StatementError{
		Severity: said.Severity,
		Code:     said.Code,
		Message:  "the server refused a statement with a password, and its message repeats a part of it",
		Fatal:    said.Fatal,
	}
}

// position is the byte at which a server stopped.
func position(sent string, said *engine.StatementError) (int, bool) {
	if said.Position > 0 { // in characters
		at := 0
		for range said.Position - 1 {
			_, size := utf8.DecodeRuneInString(sent[at:])
			if size == 0 {
				break
			}
			at += size
		}
		return at, true
	}
	near := said.Near
	line := said.Line
	if m := nearLine().FindStringSubmatch(said.Message); m != nil && near == "" {
		near = m[1]
		line, _ = strconv.Atoi(m[2])
	}
	if near == "" {
		return 0, false
	}
	from := 0
	for range line - 1 {
		i := strings.IndexByte(sent[from:], '\n')
		if i < 0 {
			break
		}
		from += i + 1
	}
	if i := indexWord(sent[from:], near); i >= 0 {
		return from + i, true
	}
	i := indexWord(sent, near)
	return max(i, 0), i >= 0
}

// indexWord is the position of a text in another one where it is not a part of a longer word, -1 for none.
func indexWord(text, part string) int {
	for from := 0; ; {
		i := strings.Index(text[from:], part)
		if i < 0 {
			return -1
		}
		i += from
		end := i + len(part)
		before := i > 0 && inWord(text[i-1]) && inWord(part[0])
		after := end < len(text) && inWord(text[end]) && inWord(part[len(part)-1])
		if !before && !after {
			return i
		}
		from = i + 1
	}
}

// nearLine matches the place in a server's message.
var nearLine = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)near '(.+)' at line ([0-9]+)$`) })

// lineOf is the line of a piece's text with a byte. What is before the text on its first line is not known.
func lineOf(p *Piece, at int) string {
	text := string(p.Text)
	from := strings.LastIndexByte(text[:at], '\n') + 1
	line, _, _ := strings.Cut(text[from:], "\n")
	if from == 0 {
		line = strings.Repeat(" ", max(0, p.Column-1)) + line
	}
	return strings.TrimRight(line, "\r")
}

// wordWidth is how many characters the word at the start of a text has, 1 for a sign.
func wordWidth(text string) int {
	n := 0
	for i := 0; i < len(text) && inWord(text[i]); i++ {
		if utf8.RuneStart(text[i]) {
			n++
		}
	}
	if quoted := strings.IndexAny(text, "'\"`"); n == 0 && quoted == 0 {
		if end := strings.IndexByte(text[1:], text[0]); end > 0 {
			return utf8.RuneCountInString(text[:end+2])
		}
	}
	return max(n, 1)
}
