package results

import (
	"bytes"
	"encoding/json"
	"strconv"
	"unicode/utf8"

	"gentleharbor/core/engine"
)

// jsonText is one document: {"format": 1, "results": [{"result": 1, "columns": […], "rows": [{…}, …]}, …]}.
type jsonText struct{ names [][]byte }

func (f *jsonText) begin(w *Writer) error {
	if w.results == 1 {
		w.buffer = append(w.buffer, `{"format":1,"results":[`...)
	} else {
		w.buffer = append(w.buffer, ',')
	}
	w.buffer = append(strconv.AppendInt(append(w.buffer, "\n{\"result\":"...), int64(w.results), 10), `,"columns":[`...)
	for i, c := range w.columns {
		if i > 0 {
			w.buffer = append(w.buffer, ',')
		}
		w.buffer = append(w.buffer, `{"name":`...)
		w.buffer = appendText(w.buffer, []byte(c.Name))
		if c.Type != "" {
			w.buffer = appendText(append(w.buffer, `,"type":`...), []byte(c.Type))
		}
		w.buffer = append(w.buffer, '}')
	}
	w.buffer = append(w.buffer, `],"rows":[`...)
	f.names = keysOf(w.columns)
	return nil
}

func (f *jsonText) row(w *Writer, values [][]byte) error {
	if w.rows > 1 {
		w.buffer = append(w.buffer, ',')
	}
	w.buffer = appendObject(append(w.buffer, '\n'), f.names, w.columns, values)
	return nil
}

func (f *jsonText) end(w *Writer) error {
	w.buffer = append(w.buffer, "]}"...)
	return nil
}

func (f *jsonText) close(w *Writer) {
	if w.results == 0 {
		w.buffer = append(w.buffer, `{"format":1,"results":[`...)
	}
	w.buffer = append(w.buffer, "]}\n"...)
}

// jsonLines is an object for each row, one on a line; for several statements {"result": N, "row": {…}}.
type jsonLines struct{ names [][]byte }

func (f *jsonLines) begin(w *Writer) error {
	f.names = keysOf(w.columns)
	return nil
}

func (f *jsonLines) row(w *Writer, values [][]byte) error {
	if w.layout.Several {
		w.buffer = strconv.AppendInt(append(w.buffer, `{"result":`...), int64(w.results), 10)
		w.buffer = appendObject(append(w.buffer, `,"row":`...), f.names, w.columns, values)
		w.buffer = append(w.buffer, "}\n"...)
		return nil
	}
	w.buffer = append(appendObject(w.buffer, f.names, w.columns, values), '\n')
	return nil
}

func (f *jsonLines) end(*Writer) error { return nil }
func (f *jsonLines) close(*Writer)     {}

// keysOf are the columns' names as JSON, with the colon.
func keysOf(columns []engine.Column) [][]byte {
	names := make([][]byte, len(columns))
	for i, c := range columns {
		names[i] = append(appendText(nil, []byte(c.Name)), ':')
	}
	return names
}

// appendObject adds a row as an object.
func appendObject(to []byte, names [][]byte, columns []engine.Column, values [][]byte) []byte {
	to = append(to, '{')
	for i, value := range values {
		if i > 0 {
			to = append(to, ',')
		}
		to = append(to, names[i]...)
		to = appendJSON(to, columns[i], value)
	}
	return append(to, '}')
}

// appendJSON adds a value: exact numbers as numbers, JSON as it is, everything else as a text.
func appendJSON(to []byte, c engine.Column, value []byte) []byte {
	switch {
	case value == nil:
		return append(to, "null"...)
	case c.Number && isNumber(value):
		return append(to, value...)
	case c.Truth && (string(value) == "t" || string(value) == "true"):
		return append(to, "true"...)
	case c.Truth && (string(value) == "f" || string(value) == "false"):
		return append(to, "false"...)
	case c.JSON:
		var compact bytes.Buffer
		if json.Compact(&compact, value) == nil {
			return append(to, compact.Bytes()...)
		}
	}
	return appendText(to, value)
}

// isNumber reports whether a text is a number of JSON (RFC 8259, 6). NaN, Infinity and 007 are not.
func isNumber(s []byte) bool {
	i := 0
	digits := func() bool {
		from := i
		for i < len(s) && digit(s[i]) {
			i++
		}
		return i > from
	}
	if i < len(s) && s[i] == '-' {
		i++
	}
	if i < len(s) && s[i] == '0' {
		i++
	} else if !digits() {
		return false
	}
	if i < len(s) && s[i] == '.' {
		i++
		if !digits() {
			return false
		}
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if !digits() {
			return false
		}
	}
	return i == len(s) && i > 0
}

// plainText are the bytes that a JSON text has without escapes.
var plainText = func() (plain [256]bool) {
	for i := 0x20; i < 0x80; i++ {
		plain[i] = i != '"' && i != '\\'
	}
	return plain
}()

const hexDigits = "0123456789abcdef"

// appendText adds a text in quotes. Invalid UTF-8 becomes U+FFFD.
func appendText(to, text []byte) []byte {
	to = append(to, '"')
	from := 0
	for i := 0; i < len(text); {
		c := text[i]
		if plainText[c] {
			i++
			continue
		}
		if c >= utf8.RuneSelf {
			r, size := utf8.DecodeRune(text[i:])
			if r == utf8.RuneError && size == 1 {
				to = append(append(to, text[from:i]...), "\uFFFD"...)
				from = i + 1
			}
			i += size
			continue
		}
		to = append(to, text[from:i]...)
		switch c {
		case '"', '\\':
			to = append(to, '\\', c)
		case '\n':
			to = append(to, '\\', 'n')
		case '\r':
			to = append(to, '\\', 'r')
		case '\t':
			to = append(to, '\\', 't')
		default:
			to = append(to, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
		i++
		from = i
	}
	return append(append(to, text[from:]...), '"')
}

func digit(c byte) bool { return c >= '0' && c <= '9' }
