package render

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// glyphs are large letters, five rows each, a row's columns as bits from the left (five of them).
var glyphs = map[rune][5]uint8{
	'A': {0b01110, 0b10001, 0b11111, 0b10001, 0b10001}, 'B': {0b11110, 0b10001, 0b11110, 0b10001, 0b11110},
	'C': {0b01111, 0b10000, 0b10000, 0b10000, 0b01111}, 'D': {0b11110, 0b10001, 0b10001, 0b10001, 0b11110},
	'E': {0b11111, 0b10000, 0b11110, 0b10000, 0b11111}, 'F': {0b11111, 0b10000, 0b11110, 0b10000, 0b10000},
	'G': {0b01111, 0b10000, 0b10011, 0b10001, 0b01111}, 'H': {0b10001, 0b10001, 0b11111, 0b10001, 0b10001},
	'I': {0b11111, 0b00100, 0b00100, 0b00100, 0b11111}, 'J': {0b00111, 0b00010, 0b00010, 0b10010, 0b01100},
	'K': {0b10010, 0b10100, 0b11000, 0b10100, 0b10010}, 'L': {0b10000, 0b10000, 0b10000, 0b10000, 0b11111},
	'M': {0b10001, 0b11011, 0b10101, 0b10001, 0b10001}, 'N': {0b10001, 0b11001, 0b10101, 0b10011, 0b10001},
	'O': {0b01110, 0b10001, 0b10001, 0b10001, 0b01110}, 'P': {0b11110, 0b10001, 0b11110, 0b10000, 0b10000},
	'Q': {0b01110, 0b10001, 0b10101, 0b10010, 0b01101}, 'R': {0b11110, 0b10001, 0b11110, 0b10010, 0b10001},
	'S': {0b01111, 0b10000, 0b01110, 0b00001, 0b11110}, 'T': {0b11111, 0b00100, 0b00100, 0b00100, 0b00100},
	'U': {0b10001, 0b10001, 0b10001, 0b10001, 0b01110}, 'V': {0b10001, 0b10001, 0b01010, 0b01010, 0b00100},
	'W': {0b10001, 0b10001, 0b10101, 0b11011, 0b10001}, 'X': {0b10001, 0b01010, 0b00100, 0b01010, 0b10001},
	'Y': {0b10001, 0b01010, 0b00100, 0b00100, 0b00100}, 'Z': {0b11111, 0b00010, 0b00100, 0b01000, 0b11111},
	'0': {0b01110, 0b10011, 0b10101, 0b11001, 0b01110}, '1': {0b00100, 0b01100, 0b00100, 0b00100, 0b01110},
	'2': {0b11110, 0b00001, 0b01110, 0b10000, 0b11111}, '3': {0b11110, 0b00001, 0b00110, 0b00001, 0b11110},
	'4': {0b10010, 0b10010, 0b11111, 0b00010, 0b00010}, '5': {0b11111, 0b10000, 0b11110, 0b00001, 0b11110},
	'6': {0b01110, 0b10000, 0b11110, 0b10001, 0b01110}, '7': {0b11111, 0b00010, 0b00100, 0b01000, 0b01000},
	'8': {0b01110, 0b10001, 0b01110, 0b10001, 0b01110}, '9': {0b01110, 0b10001, 0b01111, 0b00001, 0b01110},
	'-': {0, 0, 0b01110, 0, 0}, ' ': {},
}

// Large are the lines of a code for a person to compare: in large letters, where the terminal has room and each
// character has one, and as plain text.
func Large(out io.Writer, code string) []string {
	const width, margin = 7, 8 // columns of a letter with its gap, and left of all of them
	plain := strings.Join(strings.Split(code, ""), " ")
	if utf8.RuneCountInString(code)*width+margin > Columns(out) {
		return []string{plain}
	}
	lines := make([]string, 5)
	for _, r := range code {
		glyph, ok := glyphs[r]
		if !ok {
			return []string{plain}
		}
		for row, bits := range glyph {
			for column := range 5 {
				if bits>>(4-column)&1 == 1 {
					lines[row] += "█"
				} else {
					lines[row] += " "
				}
			}
			lines[row] += "  "
		}
	}
	return append(lines, "", code)
}

// Pairs writes lines of a word and its description, with the words in a column.
func Pairs(out io.Writer, noColour bool, rows [][2]string) error {
	p := paint(Colours(out, noColour))
	width := 0
	for _, row := range rows {
		width = max(width, utf8.RuneCountInString(row[0]))
	}
	for _, row := range rows {
		if _, err := fmt.Fprintf(out, "%s  %s\n", p.style("2", fmt.Sprintf("%-*s", width, row[0])), row[1]); err != nil {
			return err
		}
	}
	return nil
}
