package sshconfig

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/clean"
)

// split takes a line apart: a keyword in small letters, and its arguments, which
// may stand in double quotes. A comment ends it.
func split(line string) (keyword string, args []string, err error) {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return "", nil, nil
	}
	end := strings.IndexAny(line, " \t=")
	if end < 0 {
		return strings.ToLower(line), nil, fmt.Errorf("%s has no value", clean.Quoted(line))
	}
	keyword = strings.ToLower(line[:end])
	rest := strings.TrimLeft(line[end:], " \t")
	rest = strings.TrimPrefix(rest, "=")
	for rest = strings.TrimLeft(rest, " \t"); rest != "" && rest[0] != '#'; rest = strings.TrimLeft(rest, " \t") {
		word, after, err := word(rest)
		if err != nil {
			return keyword, nil, err
		}
		args, rest = append(args, word), after
	}
	if len(args) == 0 {
		return keyword, nil, fmt.Errorf("%s has no value", clean.Quoted(keyword))
	}
	return keyword, args, nil
}

// word is the first argument of a text.
func word(text string) (word, rest string, err error) {
	var b strings.Builder
	quoted := false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			quoted = !quoted
		case c == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
			b.WriteByte(text[i])
		case !quoted && (c == ' ' || c == '\t'):
			return b.String(), text[i:], nil
		default:
			b.WriteByte(c)
		}
	}
	if quoted {
		return "", "", errors.New("a quote is not closed")
	}
	return b.String(), "", nil
}

// duration reads a time as OpenSSH writes it: seconds, or numbers with s, m, h, d
// or w (sshd_config(5), TIME FORMATS).
func duration(text string) (time.Duration, bool) {
	units := map[byte]time.Duration{
		's': time.Second,
		'm': time.Minute,
		'h': time.Hour,
		'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour,
	}
	var total time.Duration
	n, digits := 0, 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		if c >= '0' && c <= '9' {
			n, digits = n*10+int(c-'0'), digits+1
			if digits > 8 {
				return 0, false
			}
			continue
		}
		unit, ok := units[c|0x20]
		if !ok || digits == 0 {
			return 0, false
		}
		total, n, digits = total+time.Duration(n)*unit, 0, 0
	}
	return total + time.Duration(n)*time.Second, text != ""
}
