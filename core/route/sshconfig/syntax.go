package sshconfig

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"gentleharbor/core/clean"
)

// split takes a line apart: a keyword in small letters, and its arguments, which
// may stand in quotes. A comment ends it.
func split(line string) (keyword string, args []string, err error) {
	line = strings.Trim(line, " \t\r\n\f")
	if line == "" || line[0] == '#' {
		return "", nil, nil
	}
	end := strings.IndexAny(line, " \t=")
	if end < 0 {
		return strings.ToLower(line), nil, fmt.Errorf("%s has no value", clean.Quote(line))
	}
	keyword = strings.ToLower(strings.Trim(line[:end], `"`))
	rest := strings.TrimLeft(line[end:], " \t")
	rest = strings.TrimPrefix(rest, "=")
	if keyword == "match" {
		args, err = splitCriteria(strings.TrimLeft(rest, " \t"))
		return keyword, args, err
	}
	for rest = strings.TrimLeft(rest, " \t"); rest != "" && rest[0] != '#'; rest = strings.TrimLeft(rest, " \t") {
		word, after, err := word(rest)
		if err != nil {
			return keyword, nil, err
		}
		args, rest = append(args, word), after
	}
	if len(args) == 0 {
		return keyword, nil, fmt.Errorf("%s has no value", clean.Quote(keyword))
	}
	return keyword, args, nil
}

// splitCriteria takes the criteria of a Match line apart, which know double quotes alone, and one = between two words.
func splitCriteria(text string) (words []string, err error) {
	for text != "" && text[0] != '#' {
		end := strings.IndexAny(text, " \t\"=")
		if end < 0 {
			return append(words, text), nil
		}
		if text[end] == '"' {
			inside, after, closed := strings.Cut(text[end+1:], `"`)
			if !closed {
				return nil, errors.New("a quote is not closed")
			}
			words, text = append(words, text[:end]+inside), strings.TrimLeft(after, " \t")
			continue
		}
		equals := text[end] == '='
		words, text = append(words, text[:end]), strings.TrimLeft(text[end+1:], " \t")
		if rest, ok := strings.CutPrefix(text, "="); ok && !equals {
			text = strings.TrimLeft(rest, " \t")
		}
	}
	if len(words) == 0 {
		return nil, errors.New("the Match has no value")
	}
	return words, nil
}

// word is the first argument of a text. Quotes are " and '; a backslash takes a quote, another backslash, and outside
// quotes a blank as it is, and else stands for itself.
func word(text string) (word, rest string, err error) {
	var b strings.Builder
	var quote byte
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\' && i+1 < len(text) && (strings.IndexByte(`"'\`, text[i+1]) >= 0 || quote == 0 && text[i+1] == ' '):
			i++
			b.WriteByte(text[i])
		case quote == 0 && (c == '"' || c == '\''):
			quote = c
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && (c == ' ' || c == '\t'):
			return b.String(), text[i:], nil
		default:
			b.WriteByte(c)
		}
	}
	if quote != 0 {
		return "", "", errors.New("a quote is not closed")
	}
	return b.String(), "", nil
}

// longest is the longest time that OpenSSH reads.
const longest = math.MaxInt32 * time.Second

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
		if total += time.Duration(n) * unit; total > longest {
			return 0, false
		}
		n, digits = 0, 0
	}
	total += time.Duration(n) * time.Second
	return total, text != "" && total <= longest
}
