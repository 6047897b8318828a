package mysql

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"

	"gentleharbor/core/engine"
)

// column is a column in the protocol's form.
type column struct {
	engine.Column
	kind     byte
	unsigned bool
	decimals int
}

// The kinds of columns (MySQL documentation, "Column Types").
const (
	kindDecimal    = 0
	kindTiny       = 1
	kindShort      = 2
	kindLong       = 3
	kindFloat      = 4
	kindDouble     = 5
	kindTimestamp  = 7
	kindLongLong   = 8
	kindInt24      = 9
	kindDate       = 10
	kindTime       = 11
	kindDateTime   = 12
	kindYear       = 13
	kindBit        = 16
	kindJSON       = 245
	kindNewDecimal = 246
	kindTinyBlob   = 249
	kindBlob       = 252
	kindVarString  = 253
	kindString     = 254
	kindGeometry   = 255
)

// kindNames are the servers' names for kinds.
var kindNames = map[byte]string{
	kindDecimal: "decimal", kindTiny: "tinyint", kindShort: "smallint", kindLong: "int", kindFloat: "float",
	kindDouble: "double", kindTimestamp: "timestamp", kindLongLong: "bigint", kindInt24: "mediumint", kindDate: "date",
	kindTime: "time", kindDateTime: "datetime", kindYear: "year", kindBit: "bit", kindJSON: "json",
	kindNewDecimal: "decimal", kindVarString: "varchar", kindString: "char", kindGeometry: "geometry",
}

// binaryCharset is the number of the character set of bytes.
const binaryCharset = 63

// readColumn reads a column's description (MySQL documentation, "Column Definition").
func readColumn(p []byte) (c column, err error) {
	r := packetReader{rest: p}
	for range 4 { // catalogue, schema, table and its own name
		r.text()
	}
	c.Name = string(r.text())
	r.text() // the column's own name
	r.number()
	charset := r.uint16()
	r.uint32() // how long values may be
	rest := r.take(4)
	if r.err != nil {
		return c, r.err
	}
	const unsigned = 1 << 5
	c.kind, c.unsigned, c.decimals = rest[0], rest[1]&unsigned != 0, int(rest[3])
	c.Type = kindNames[c.kind]
	isText := c.kind >= kindTinyBlob && c.kind <= kindString
	switch {
	case c.kind <= kindDouble, c.kind == kindLongLong, c.kind == kindInt24, c.kind == kindYear, c.kind == kindNewDecimal:
		c.Number = true
	case c.kind == kindJSON:
		c.JSON = true
	case c.kind == kindBit, c.kind == kindGeometry, isText && charset == binaryCharset:
		c.Binary = true
		if isText {
			c.Type = "blob"
		}
	case isText && c.Type == "":
		c.Type = "text"
	}
	return c, nil
}

// execute runs a prepared statement with its values, which are texts. It keeps the last prepared statement: loading
// sends the same one many times.
func (c *conversation) execute(s engine.Statement) error {
	if c.wire.prepared.text != s.Text {
		if err := c.prepare(s.Text); err != nil {
			return err
		}
	}
	if n := c.wire.prepared.parameters; n != len(s.Arguments) {
		return &engine.StatementError{
			Message: fmt.Sprintf("the server expects %d parameters; there are %d values", n, len(s.Arguments)),
		}
	}
	nulls := (len(s.Arguments) + 7) / 8
	size := 10 + nulls
	for _, v := range s.Arguments {
		size += 2
		if v != nil {
			size += 9 + len(*v)
		}
	}
	body := binary.LittleEndian.AppendUint32(make([]byte, 0, size), c.wire.prepared.id)
	body = append(body, 0, 1, 0, 0, 0)
	at := len(body)
	body = append(body, make([]byte, nulls)...)
	body = append(body, 1)
	for range s.Arguments {
		body = append(body, kindVarString, 0)
	}
	for i, v := range s.Arguments {
		if v == nil {
			body[at+i/8] |= 1 << (i % 8)
			continue
		}
		body = append(appendNumber(body, uint64(len(*v))), *v...)
	}
	return c.wire.command(comExecute, body)
}

// preparedStatement is a statement that the server has prepared.
type preparedStatement struct {
	text       string
	id         uint32
	parameters int
}

// prepare prepares a statement in place of the last one.
func (c *conversation) prepare(text string) error {
	if old := c.wire.prepared; old.text != "" {
		c.wire.forgotten = append(c.wire.forgotten, old.id)
		c.wire.prepared = preparedStatement{}
	}
	if err := c.wire.command(comPrepare, []byte(text)); err != nil {
		return err
	}
	a := &answerReader{conversation: c}
	p, err := a.packet()
	if err != nil {
		return err
	}
	r := packetReader{rest: p[1:]}
	id, columns, parameters := r.uint32(), int(r.uint16()), int(r.uint16())
	if r.err != nil {
		return r.err
	}
	for _, n := range []int{parameters, columns} {
		if _, err := a.readColumns(n); err != nil {
			return err
		}
	}
	c.wire.prepared = preparedStatement{text, id, parameters}
	return nil
}

// appendNumber adds a length-encoded number.
func appendNumber(to []byte, n uint64) []byte {
	switch {
	case n < 0xfb:
		return append(to, byte(n))
	case n < 1<<16:
		return binary.LittleEndian.AppendUint16(append(to, 0xfc), uint16(n))
	case n < 1<<24:
		return append(to, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(to, 0xfe), n)
}

// binaryRow reads a row in the binary form (MySQL documentation, "Binary Protocol Resultset Row").
func (a *answerReader) binaryRow(p []byte) error {
	r := packetReader{rest: p[1:]}
	nulls := r.take(uint64(len(a.columns)+9) / 8)
	if r.err != nil {
		return r.err
	}
	for i, c := range a.columns {
		if bit := i + 2; nulls[bit/8]&(1<<(bit%8)) != 0 {
			a.row[i] = nil
			continue
		}
		from := len(a.scratch)
		switch text := c.appendBinary(a.scratch, &r); {
		case text == nil && c.Binary:
			a.row[i] = a.hex(r.text())
		case text == nil:
			a.row[i] = r.text()
		default:
			a.scratch = text
			a.row[i] = text[from:len(text):len(text)]
		}
		if a.row[i] == nil {
			a.row[i] = []byte{}
		}
	}
	return r.err
}

// appendBinary adds a value as the text that the server would write. It returns nil for a value that is a text
// already.
func (c column) appendBinary(to []byte, r *packetReader) []byte {
	integer := func(size int) []byte {
		b := r.take(uint64(size))
		var n uint64
		for i, one := range b {
			n |= uint64(one) << (8 * i)
		}
		if c.unsigned {
			return strconv.AppendUint(to, n, 10)
		}
		shift := 64 - 8*size
		return strconv.AppendInt(to, int64(n<<shift)>>shift, 10)
	}
	switch c.kind {
	case kindTiny:
		return integer(1)
	case kindShort:
		return integer(2)
	case kindYear:
		return fmt.Appendf(to, "%04d", r.uint16())
	case kindLong, kindInt24:
		return integer(4)
	case kindLongLong:
		return integer(8)
	case kindFloat:
		return appendFloat(to, float64(math.Float32frombits(r.uint32())), 32)
	case kindDouble:
		low, high := r.uint32(), r.uint32()
		return appendFloat(to, math.Float64frombits(uint64(high)<<32|uint64(low)), 64)
	case kindDate, kindDateTime, kindTimestamp:
		return c.appendDate(to, r.text())
	case kindTime:
		return c.appendTime(to, r.text())
	}
	return nil
}

// appendFloat adds a number as servers write it: with an exponent where its point is more than 15 digits away.
func appendFloat(to []byte, f float64, bits int) []byte {
	text := strconv.AppendFloat(nil, f, 'e', -1, bits)
	digits, exponent, _ := strings.Cut(string(text), "e")
	n, _ := strconv.Atoi(exponent)
	if point := n + 1; point >= -14 && point <= 15 {
		return strconv.AppendFloat(to, f, 'f', -1, bits)
	}
	return fmt.Appendf(to, "%se%d", digits, n)
}

// appendDate adds a date, with its time where the kind has one.
func (c column) appendDate(to, b []byte) []byte {
	var full [11]byte
	copy(full[:], b)
	to = fmt.Appendf(to, "%04d-%02d-%02d", binary.LittleEndian.Uint16(full[:]), full[2], full[3])
	if c.kind == kindDate {
		return to
	}
	to = fmt.Appendf(to, " %02d:%02d:%02d", full[4], full[5], full[6])
	return c.appendFraction(to, binary.LittleEndian.Uint32(full[7:]))
}

// appendTime adds a time, which may be negative or of many hours.
func (c column) appendTime(to, b []byte) []byte {
	var full [12]byte
	copy(full[:], b)
	if full[0] != 0 {
		to = append(to, '-')
	}
	hours := uint64(binary.LittleEndian.Uint32(full[1:]))*24 + uint64(full[5])
	to = fmt.Appendf(to, "%02d:%02d:%02d", hours, full[6], full[7])
	return c.appendFraction(to, binary.LittleEndian.Uint32(full[8:]))
}

// appendFraction adds a part of a second, with the digits that the column has.
func (c column) appendFraction(to []byte, microseconds uint32) []byte {
	if c.decimals < 1 || c.decimals > 6 {
		return to
	}
	return append(to, fmt.Sprintf(".%06d", microseconds)[:c.decimals+1]...)
}
