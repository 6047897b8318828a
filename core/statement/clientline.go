package statement

import "strings"

// clientLine takes a line for the server's own client, which is no statement.
func (l *scan) clientLine(c byte) bool {
	if digit(c) || c == '(' {
		return false
	}
	n := 0
	for n < maxClientWord && isLetter(l.at(n)) && l.at(n) < 0x80 {
		n++
	}
	if !l.client.Begins(strings.ToUpper(string(l.buffer[l.pos : l.pos+max(n, 1)]))) {
		return false
	}
	from := l.pos
	l.restOfLine()
	if l.asked = l.client.Read(strings.TrimRight(string(l.buffer[from:l.pos]), "\r\n")); l.asked == nil {
		l.pos = from
		return false
	}
	l.askedAt = from
	return true
}

// maxClientWord bounds the first word of a line for the client.
const maxClientWord = 12

// colon notes a variable: :NAME, :'NAME' or :"NAME". It does not move behind the quotes, which are read next.
func (l *scan) colon() {
	if l.client == nil || !l.client.Variables {
		return
	}
	if l.at(1) == ':' { // ::TYPE
		l.pos++
		return
	}
	i := 1
	quote := l.at(1)
	if quote == '\'' || quote == '"' {
		i++
	}
	from := i
	for c := l.at(i); isLetter(c) || digit(c); c = l.at(i) {
		i++
	}
	if i == from || from == 2 && l.at(i) != quote {
		return
	}
	if from == 2 {
		i++
	}
	l.colons = append(l.colons, span{l.pos, l.pos + i})
}
