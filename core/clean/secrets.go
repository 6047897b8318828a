package clean

import (
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"
)

// CutOut replaces something that looks like a password.
const CutOut = "[cut out]"

// telling matches words before a password: "GENERATED ROOT PASSWORD: …", "--password …", "DB_PWD=…", "IDENTIFIED BY
// '…'".
var telling = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)(pass(word|wd|phrase|code)?|pwd|secret|token|credentials?|authorization|bearer|` +
		`api[-_ ]?key|private[-_ ]?key|requirepass|masterauth|identified (with \S+ )?(by|as))([-_a-z0-9]*)`)
})

// inURL is the password of a URL.
var inURL = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`([a-zA-Z][a-zA-Z0-9+.-]*://[^\s/:@]*):\S*@`)
})

// short is a client's option whose value follows without a blank.
var short = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(\s-p)[^\s=]\S*`)
})

// harmless matches what follows such a word and is no password.
var harmless = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^(authentication failed[^:=]*$|(is |was )?(not )?` +
		`(required|expired|set|provided|empty|specified|supplied|wrong|incorrect|missing|` +
		`option|options|files?\b|authentication)[^:=]*$|: (yes|no)\b)`)
})

// CutSecrets cuts out of a log's lines what looks like a password: text after a word that announces one, the password
// of a URL, and the known texts. It cuts too much rather than too little. It returns as many lines as it gets.
func CutSecrets(lines []string, known ...string) []string {
	cut := make([]string, len(lines))
	announced := false // a line before said that the password follows
	for i, line := range lines {
		for _, text := range known {
			line = cutKnown(line, text)
		}
		if announced {
			if strings.TrimSpace(line) != "" && !onlyNames().MatchString(line) {
				cut[i], announced = CutOut, false
			} else {
				cut[i] = line
			}
			continue
		}
		cut[i], announced = cutLine(short().ReplaceAllString(WithoutPasswords(line), "$1"+CutOut))
	}
	return cut
}

// WithoutPasswords cuts the passwords of URLs out of a text.
func WithoutPasswords(text string) string {
	if !strings.Contains(text, "://") {
		return text
	}
	return inURL().ReplaceAllString(text, "$1:"+CutOut+"@")
}

// names are names of variables for a secret or its place, which a log reports as missing. They are no secret, and the
// reader needs them.
var names = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\b` + secretName + `\b`) })

// secretName is such a name, as a part of an expression.
const secretName = `(?:[A-Z][A-Z0-9]*_)+(?:PASSWORD|PASS|SECRET|TOKEN)(?:_FILE|_HASH)?`

var onlyNames = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[\s*,.-]*(?:` + secretName + `(?:\s+(?:and|or))?[\s,.;]*)+$`)
})

// wordlike matches a password that is an ordinary word, as is common for containers: it is also in paths and
// sentences that have nothing to do with it.
var wordlike = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z]+[0-9]{0,4}$`) })

// common are short words of all logs: to cut them out would only reveal that one of them is the password.
var common = []string{"root", "admin", "user", "test", "pass", "guest",
	"data", "main", "local", "app", "web", "dev", "db"}

// cutKnown cuts a known password out of a line, with the whole token that it is in, so that nothing is left to guess
// from. A password that is an ordinary word is cut only where it is a whole token.
func cutKnown(line, text string) string {
	const shortest, shortWord = 4, 6
	if len(text) < shortest || len(text) < shortWord && slices.Contains(common, strings.ToLower(text)) ||
		!strings.Contains(line, text) {
		return line
	}
	if strings.ContainsFunc(text, isSeparator) { // it is more than a token itself
		return strings.ReplaceAll(line, text, CutOut)
	}
	plain := wordlike().MatchString(text)
	var b strings.Builder
	for line != "" {
		end := strings.IndexFunc(line, isSeparator)
		if end < 0 {
			end = len(line)
		}
		switch token := line[:end]; {
		case token == text, !plain && strings.Contains(token, text):
			b.WriteString(CutOut)
		default:
			b.WriteString(token)
		}
		line = line[end:]
		if line != "" {
			_, width := utf8.DecodeRuneInString(line)
			b.WriteString(line[:width])
			line = line[width:]
		}
	}
	return b.String()
}

// isSeparator reports whether a character stands between the tokens of a log's line.
func isSeparator(r rune) bool {
	return unicode.IsSpace(r) || strings.ContainsRune("\"'`=:,;()[]{}<>@|&?", r)
}

// cutLine cuts one line. announced is true where the line announces a password that is not in it.
func cutLine(line string) (text string, announced bool) {
	from := 0
	for {
		at := telling().FindStringIndex(line[from:])
		if at == nil {
			return line, false
		}
		end := from + at[1]
		rest := line[end:]
		word := strings.ToLower(line[from+at[0] : end])
		trimmed := strings.TrimLeft(rest, " \t\"'`")
		switch sign := strings.IndexAny(rest, ":="); {
		case harmless().MatchString(strings.TrimSpace(rest)):
		case strings.TrimSpace(trimmed) == "":
		case sign >= 0 && strings.TrimSpace(rest[sign+1:]) == "":
			return line, true
		case sign >= 0:
			return line[:end+sign+1] + " " + CutOut + namesIn(rest[sign+1:]), false
		case strings.HasPrefix(word, "identified"), word == "requirepass", word == "masterauth",
			strings.HasPrefix(word, "pass"), strings.HasPrefix(word, "pwd"), strings.HasPrefix(word, "token"),
			strings.HasPrefix(word, "secret"), strings.HasPrefix(word, "bearer"):
			return line[:end] + " " + CutOut + namesIn(rest), false
		}
		from = end
	}
}

// namesIn are the names of variables in a text that is cut out, each after a blank, except those with a value.
func namesIn(text string) string {
	kept := ""
	for _, at := range names().FindAllStringIndex(text, -1) {
		if !strings.HasPrefix(text[at[1]:], "=") && !strings.Contains(kept+" ", " "+text[at[0]:at[1]]+" ") {
			kept += " " + text[at[0]:at[1]]
		}
	}
	return kept
}
