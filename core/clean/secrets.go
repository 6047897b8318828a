package clean

import (
	"regexp"
	"strings"
	"sync"
)

// CutOut stands where something that looks like a password was.
const CutOut = "[cut out]"

// telling are the words after which a password may stand, with what may be around
// them: "GENERATED ROOT PASSWORD: …", "--password …", "MYSQL_PWD=…", "IDENTIFIED BY '…'".
var telling = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)(pass(word|wd|phrase|code)?|pwd|secret|token|credentials?|authorization|bearer|api[-_ ]?key|private[-_ ]?key|requirepass|masterauth|identified (with \S+ )?(by|as))([-_a-z0-9]*)`)
})

// inURL is the password of a URL.
var inURL = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`([a-zA-Z][a-zA-Z0-9+.-]*://[^\s/:@]*):[^\s@]*@`) })

// short is a client's option whose value follows without a blank.
var short = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`((?:mysql|mariadb)[a-z-]*\s(?:\S+\s+)*?-p)\S+`)
})

// harmless is what follows such a word where it is no password.
var harmless = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)^(authentication failed[^:=]*$|(is |was )?(not )?(required|expired|set|provided|empty|specified|supplied|wrong|incorrect|missing|option|options|files?\b|authentication)[^:=]*$|: (yes|no)\b)`)
})

// CutSecrets takes out of lines of a log what looks like a password: what follows a
// word that announces one, the password of a URL, and the known texts. It cuts too
// much rather than too little. The lines come back one for one.
func CutSecrets(lines []string, known ...string) []string {
	cut := make([]string, len(lines))
	announced := false // a line before said that the password follows
	for i, line := range lines {
		for _, text := range known {
			if len(text) >= 4 {
				line = strings.ReplaceAll(line, text, CutOut)
			}
		}
		if announced {
			if strings.TrimSpace(line) != "" {
				cut[i], announced = CutOut, false
			}
			continue
		}
		cut[i], announced = cutLine(short().ReplaceAllString(inURL().ReplaceAllString(line, "$1:"+CutOut+"@"), "$1"+CutOut))
	}
	return cut
}

// cutLine cuts one line; announced is true where it ends before the password.
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
			return line[:end+sign+1] + " " + CutOut, false
		case strings.HasPrefix(word, "identified"), word == "requirepass", word == "masterauth", strings.HasPrefix(word, "pass"), strings.HasPrefix(word, "pwd"), strings.HasPrefix(word, "token"), strings.HasPrefix(word, "secret"), strings.HasPrefix(word, "bearer"):
			return line[:end] + " " + CutOut, false
		}
		from = end
	}
}
