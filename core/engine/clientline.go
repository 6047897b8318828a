package engine

import "strings"

// ClientLines finds the lines of a script that are for the server's own client and not for the server. Dumps have
// such lines.
type ClientLines struct {
	// Begins reports whether a line may be one, by its first word in capital letters, or its first sign where that is
	// no letter.
	Begins func(word string) bool
	// Read says what a line means; nil for the beginning of a statement.
	Read func(line string) *ClientLine
	// Variables: :NAME, :'NAME' and :"NAME" in statements stand for what a line has set.
	Variables bool
}

// ClientLine is a line for the server's own client.
type ClientLine struct {
	Do   ClientAction
	Text string // the file, the database, the words to show, the value
	Name string // of the variable that is set
	Why  string // it is refused
}

// ClientAction is what such a line does.
type ClientAction int

// The actions.
const (
	LineIgnored  ClientAction = iota // it is about what the client shows
	LineRefused                      // it runs a program, touches a file, logs in as somebody else, or is not understood
	LineInclude                      // the statements of another file
	LineDatabase                     // another database of the server, by another connection
	LineSet                          // a variable
	LineEcho                         // words to show
	LineEnd                          // the end of this file
	LineRestrict                     // no line but the end of this, which has the same word
)

// Refuse returns a line that gharbor does not carry out.
func Refuse(why string) *ClientLine { return &ClientLine{Do: LineRefused, Why: why} }

// RestOfLine is a line without its first word and without quotes around the rest.
func RestOfLine(line string) string {
	_, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	rest = strings.TrimSuffix(strings.TrimSpace(rest), ";")
	if n := len(rest); n >= 2 && (rest[0] == '\'' || rest[0] == '"') && rest[n-1] == rest[0] {
		rest = rest[1 : n-1]
	}
	return rest
}
