package statement

import (
	"bytes"
	"errors"
	"strings"

	"gentleharbor/core/engine"
)

var errSeveral = errors.New("a variable makes several statements of this one; write each one separately")

// Expand replaces variables by their values: :NAME as it is, :'NAME' as a text, :"NAME" as a name. A variable without
// a value is left.
func (p *Piece) Expand(vars map[string]string, by *engine.Statements) (*Piece, error) {
	var text bytes.Buffer
	from := 0
	for _, c := range p.colons {
		name := string(p.Text[c.from+1 : c.to])
		value, ok := vars[strings.Trim(name, `'"`)]
		if !ok {
			continue
		}
		switch name[0] {
		case '\'':
			value = "'" + strings.ReplaceAll(value, "'", "''") + "'"
			if strings.Contains(value, `\`) {
				value = " E" + strings.ReplaceAll(value, `\`, `\\`)
			}
		case '"':
			value = by.Quote(value)
		}
		text.Write(p.Text[from:c.from])
		text.WriteString(value)
		from = c.to
	}
	if from == 0 {
		return p, nil
	}
	text.Write(p.Text[from:])
	whole := text.String()
	again := NewSplitter(strings.NewReader(whole), by.Lexis)
	filled, err := again.Next()
	var wrong *SyntaxError
	if errors.As(err, &wrong) {
		return nil, errors.New("with the values of variables " + wrong.What)
	}
	if err != nil {
		return nil, errors.New("with the values of variables there is no statement left")
	}
	if filled.Ended {
		return nil, errSeveral
	}
	changed := *p
	changed.Text, changed.Words, changed.braces, changed.colons = []byte(whole), filled.Words, nil, nil
	return &changed, nil
}
