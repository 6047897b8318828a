package render

import (
	"regexp"
	"strings"
	"sync"
	"unicode/utf8"
)

// Fit breaks a text into lines of width columns. Lines without leading blanks are joined to a paragraph. Other lines
// stay separate, and continue below their second column where they have one.
func Fit(text string, width int) string {
	var b strings.Builder
	var paragraph []string
	flush := func() {
		if len(paragraph) > 0 {
			b.WriteString(wrapLine(strings.Join(paragraph, " "), width, 0))
			b.WriteByte('\n')
		}
		paragraph = nil
	}
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		switch {
		case strings.TrimSpace(line) == "":
			flush()
			b.WriteByte('\n')
		case line[0] != ' ':
			paragraph = append(paragraph, strings.TrimSpace(line))
		default:
			flush()
			b.WriteString(wrapLine(line, width, hangingIndent(line, width)))
			b.WriteByte('\n')
		}
	}
	flush()
	return strings.TrimRight(b.String(), "\n")
}

// secondColumn finds the beginning of a line's second column.
var secondColumn = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^ *\S+(?: \S+)*  +`) })

// hangingIndent is how many blanks go before the rest of a line that is too long. A first column of more than half of
// the width leaves no room for a second.
func hangingIndent(line string, width int) int {
	if second := utf8.RuneCountInString(secondColumn().FindString(line)); second > 0 && second <= width/2 {
		return second
	}
	return len(line) - len(strings.TrimLeft(line, " ")) + 2
}

// wrapLine breaks one line at blanks; each line after the first begins with indent blanks.
func wrapLine(line string, width, indent int) string {
	var lines []string
	for utf8.RuneCountInString(line) > width {
		runes := []rune(line)
		least := len(runes) - len([]rune(strings.TrimLeft(line, " ")))
		if len(lines) == 0 {
			least = max(least, indent)
		}
		at := width
		for at > least && runes[at] != ' ' {
			at--
		}
		if at <= least { // one word that is too long
			for at = width; at < len(runes) && runes[at] != ' '; at++ {
			}
			if at == len(runes) {
				break
			}
		}
		lines = append(lines, strings.TrimRight(string(runes[:at]), " "))
		line = strings.Repeat(" ", indent) + strings.TrimLeft(string(runes[at:]), " ")
	}
	return strings.Join(append(lines, line), "\n")
}

// FitCommand breaks a shell command into lines of width columns, with a backslash at the end of each but the last. A
// text in quotes stays together.
func FitCommand(line string, width int) string {
	const rest = 4 // blanks before what goes on, beside those of the line
	start := line[:len(line)-len(strings.TrimLeft(line, " "))]
	var b strings.Builder
	at := 0
	for i, word := range shellWords(line) {
		n := utf8.RuneCountInString(word)
		switch {
		case i == 0:
			b.WriteString(start)
			at = len(start)
		case at+1+n > width-2:
			b.WriteString(" \\\n" + start + strings.Repeat(" ", rest))
			at = len(start) + rest
		default:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += n
	}
	return b.String()
}

// shellWords splits a command at blanks outside of quotes.
func shellWords(line string) (words []string) {
	var word strings.Builder
	quote := rune(0)
	for _, r := range line + " " {
		switch {
		case r == ' ' && quote == 0:
			if word.Len() > 0 {
				words = append(words, word.String())
			}
			word.Reset()
			continue
		case quote == 0 && (r == '\'' || r == '"'):
			quote = r
		case r == quote:
			quote = 0
		}
		word.WriteRune(r)
	}
	if word.Len() > 0 {
		words = append(words, strings.TrimSuffix(word.String(), " "))
	}
	return words
}

// cut shortens a text to width columns with an ellipsis, between two words where that keeps most of it.
func cut(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	kept := string(runes[:max(width-1, 0)])
	if at := strings.LastIndexByte(kept, ' '); at > len(kept)*2/3 {
		kept = kept[:at]
	}
	return strings.TrimRight(kept, " ,;:") + "…"
}

// fitTry breaks a command to try, and its comment, into lines of width columns; each after the first begins with
// indent blanks. Where the comment does not fit after the command, it begins on a new line.
func fitTry(text string, width, indent int) string {
	blank := "\n" + strings.Repeat(" ", indent)
	room := max(width-indent, 20)
	if utf8.RuneCountInString(text) <= room {
		return text
	}
	command, comment, _ := strings.Cut(text, "   # ")
	lines := strings.Split(FitCommand(command, room), "\n")
	const sign = "# "
	for _, line := range strings.Split(wrap(comment, room, len(sign)), "\n") {
		if line = strings.TrimSpace(line); line != "" {
			lines = append(lines, sign+line)
		}
	}
	return strings.Join(lines, blank)
}

// wrap breaks a text at blanks into lines of width columns; each after the first begins with indent blanks. With
// width 0 it stays one line.
func wrap(text string, width, indent int) string {
	if width == 0 {
		return text
	}
	room := max(width-indent, 20)
	var lines []string
	for len(text) > 0 {
		runes := []rune(text)
		if len(runes) <= room {
			lines = append(lines, text)
			break
		}
		cut := strings.LastIndexByte(string(runes[:room+1]), ' ')
		if cut <= 0 {
			cut = len(string(runes[:room]))
		}
		lines = append(lines, strings.TrimRight(text[:cut], " "))
		text = strings.TrimLeft(text[cut:], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// leads matches what is before a command in a line: a label, or a prompt.
var leads = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^ *(?:(?:try|use|next|keep it)(?:: | +)|\$ (?:[A-Z_]+=\S+ )*|)(?:gharbor |$)`)
})

// fitLine breaks a line that is longer than width columns: a command with backslashes, any other line below its
// second column. width 0 means no terminal. Escapes for colours have no width.
func fitLine(line string, width int) string {
	if width == 0 || visible(line) <= width {
		return line
	}
	if strings.Contains(line, "\x1b") {
		return wrapColoured(line, width)
	}
	if lead := leads().FindString(line); lead != "" {
		lead = strings.TrimSuffix(lead, "gharbor ")
		return lead + fitTry(line[len(lead):], width, utf8.RuneCountInString(lead))
	}
	return wrapLine(line, width, hangingIndent(line, width))
}

// escapes matches a terminal's escapes for colours.
var escapes = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\x1b\[[0-9;]*[A-Za-z]`) })

// visible is how many columns a line takes.
func visible(line string) int {
	if strings.Contains(line, "\x1b") {
		line = escapes().ReplaceAllString(line, "")
	}
	return utf8.RuneCountInString(line)
}

// wrapColoured is wrapLine for a line with colours: each line after the first is indented by two blanks more.
func wrapColoured(line string, width int) string {
	plain := escapes().ReplaceAllString(line, "")
	indent := hangingIndent(plain, width)
	words := strings.Split(line, " ")
	var b strings.Builder
	at := 0
	for i, word := range words {
		n := visible(word)
		if i > 0 && at+1+n > width && at > indent {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			at = indent
		} else if i > 0 {
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += n
	}
	return b.String()
}
