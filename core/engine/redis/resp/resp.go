// Package resp reads and writes the protocol of Redis' servers, in its versions 2 and 3 (Redis documentation, "Redis
// serialization protocol specification"). It takes a reader and knows no socket; everything that it reads is bounded.
// It is a part of the engine redis. Start with Reader.
package resp

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// Bounds of what a server sends.
const (
	// MaxLine is the longest line: servers bound the lines that they take to 64 KiB themselves.
	MaxLine = 64 << 10
	// MaxText is the longest text: the server's own proto-max-bulk-len.
	MaxText = 512 << 20
	// maxDepth is how deep replies may nest: the server's own need about six levels.
	maxDepth = 32
	// overhead is what an element counts in addition to its text: empty ones take memory too.
	overhead = 48
)

// Reply is one reply of a server.
type Reply struct {
	// Kind is the sign that the reply begins with: '+' a status, '-' and '!' an error, ':' and '(' a number, '$' and '='
	// a text, '*', '~' and '>' a list, '%' names and values in turn, '_' nothing, '#' true or false, ',' a number with a
	// fraction. A list or text that is not there has the kind '_'.
	Kind  byte
	Text  []byte // of a status, an error, a text and a number; 't' or 'f'
	Items []Reply
}

// IsError reports whether the server refused.
func (r *Reply) IsError() bool { return r.Kind == '-' || r.Kind == '!' }

// IsList reports whether the reply has items.
func (r *Reply) IsList() bool { return isList(r.Kind) }

func isList(kind byte) bool { return kind == '*' || kind == '~' || kind == '%' || kind == '>' }

// String is the text.
func (r *Reply) String() string { return string(r.Text) }

// ErrMalformed says that bytes are not of this protocol.
var ErrMalformed = errors.New("the server's answer is not of Redis' protocol")

// ErrTooLarge says that a reply is larger than allowed.
var ErrTooLarge = errors.New("the server's answer is larger than gharbor takes")

// Reader reads replies. It is for one goroutine.
type Reader struct {
	in *bufio.Reader
	// Most is how many bytes one reply may take.
	Most int
	left int
}

// NewReader reads replies from a connection, of at most so many bytes each.
func NewReader(in io.Reader, most int) *Reader {
	return &Reader{in: bufio.NewReaderSize(in, 16<<10), Most: most}
}

// Read reads the next reply. It skips messages that a server pushes.
func (r *Reader) Read() (*Reply, error) {
	for {
		r.left = r.Most
		reply, err := r.read(0)
		if err != nil {
			return nil, err
		}
		if reply.Kind != '>' {
			return reply, nil
		}
	}
}

// Begin reads the head of the next reply: of a list only how many items follow, each of which Item reads. Any other
// reply is whole, and n is 0. Names and values of the kind '%' count one by one.
func (r *Reader) Begin() (reply *Reply, n int64, err error) {
	for {
		r.left = r.Most
		kind, line, err := r.head()
		if err != nil {
			return nil, 0, err
		}
		switch {
		case kind == '>' || kind == '|': // what is pushed, and attributes of the reply that follows
			if _, err := r.list(kind, line, 0); err != nil {
				return nil, 0, err
			}
			continue
		case !isList(kind):
			reply, err = r.readBody(kind, line, 0)
			return reply, 0, err
		}
		n, err := count(line, kind)
		if err != nil {
			return nil, 0, err
		}
		if n < 0 {
			return &Reply{Kind: '_'}, 0, nil
		}
		return &Reply{Kind: kind}, n, nil
	}
}

// Item reads an item of a list that Begin began.
func (r *Reader) Item() (*Reply, error) {
	r.left = r.Most
	return r.read(1)
}

func (r *Reader) read(depth int) (*Reply, error) {
	kind, line, err := r.head()
	if err != nil {
		return nil, err
	}
	return r.readBody(kind, line, depth)
}

// readBody reads what follows the head of a reply.
func (r *Reader) readBody(kind byte, line []byte, depth int) (*Reply, error) {
	if depth > maxDepth {
		return nil, ErrTooLarge
	}
	if err := r.take(len(line) + overhead); err != nil {
		return nil, err
	}
	switch kind {
	case '+', '-', ':', '(', ',', '#':
		return &Reply{Kind: kind, Text: append([]byte(nil), line...)}, nil
	case '_':
		return &Reply{Kind: '_'}, nil
	case '$', '=', '!':
		return r.text(kind, line)
	case '*', '~', '%', '>', '|':
		reply, err := r.list(kind, line, depth)
		if err == nil && kind == '|' { // attributes stand before the reply that they are of
			return r.read(depth)
		}
		return reply, err
	}
	return nil, fmt.Errorf("%w: it begins with %q", ErrMalformed, kind)
}

// head reads the sign and the line that a reply begins with. The line is valid until the next read.
func (r *Reader) head() (kind byte, line []byte, err error) {
	line, err = r.line()
	if err != nil {
		return 0, nil, err
	}
	if len(line) == 0 {
		return 0, nil, fmt.Errorf("%w: it begins with an empty line", ErrMalformed)
	}
	return line[0], line[1:], nil
}

// line reads a line, without its end.
func (r *Reader) line() ([]byte, error) {
	line, err := r.in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		whole := append([]byte(nil), line...)
		for errors.Is(err, bufio.ErrBufferFull) && len(whole) <= MaxLine {
			line, err = r.in.ReadSlice('\n')
			whole = append(whole, line...)
		}
		line = whole
	}
	switch {
	case len(line) > MaxLine:
		return nil, ErrTooLarge
	case err != nil:
		if errors.Is(err, io.EOF) && len(line) > 0 {
			err = io.ErrUnexpectedEOF
		}
		return nil, err
	case len(line) < 2 || line[len(line)-2] != '\r':
		return nil, fmt.Errorf("%w: a line ends without a carriage return", ErrMalformed)
	}
	return line[:len(line)-2], nil
}

// take counts bytes of the reply.
func (r *Reader) take(n int) error {
	if n > r.left {
		return ErrTooLarge
	}
	r.left -= n
	return nil
}

// count reads a number of bytes or items, -1 for something that is not there.
func count(line []byte, kind byte) (int64, error) {
	n, err := strconv.ParseInt(string(line), 10, 63)
	if err != nil || n < -1 {
		return 0, fmt.Errorf("%w: %q is no length", ErrMalformed, cut(line))
	}
	if kind == '%' || kind == '|' {
		if n > 1<<61 {
			return 0, ErrTooLarge
		}
		n *= 2
	}
	return n, nil
}

func cut(line []byte) []byte { return line[:min(len(line), 40)] }

// text reads a text of a length.
func (r *Reader) text(kind byte, line []byte) (*Reply, error) {
	n, err := count(line, kind)
	if err != nil {
		return nil, err
	}
	if n < 0 {
		return &Reply{Kind: '_'}, nil
	}
	if n > MaxText || n > int64(r.left) {
		return nil, ErrTooLarge
	}
	if err := r.take(int(n)); err != nil {
		return nil, err
	}
	text, err := r.bytes(int(n) + 2)
	if err != nil {
		return nil, err
	}
	if text[n] != '\r' || text[n+1] != '\n' {
		return nil, fmt.Errorf("%w: a text does not end where its length says", ErrMalformed)
	}
	text = text[:n]
	if kind == '=' && len(text) >= 4 && text[3] == ':' { // three letters say what the text is
		text = text[4:]
	}
	return &Reply{Kind: kind, Text: text}, nil
}

// bytes reads so many bytes. It takes memory for bytes that have come, not for a length that a server claims.
func (r *Reader) bytes(n int) ([]byte, error) {
	const piece = 1 << 20
	text := make([]byte, 0, min(n, piece))
	for len(text) < n {
		from := len(text)
		text = append(text, make([]byte, min(n-from, piece))...)
		if _, err := io.ReadFull(r.in, text[from:]); err != nil {
			return nil, err
		}
	}
	return text, nil
}

// list reads the items of a list.
func (r *Reader) list(kind byte, line []byte, depth int) (*Reply, error) {
	n, err := count(line, kind)
	if err != nil {
		return nil, err
	}
	if n < 0 {
		return &Reply{Kind: '_'}, nil
	}
	if n > int64(r.left/overhead) {
		return nil, ErrTooLarge
	}
	reply := &Reply{Kind: kind, Items: make([]Reply, 0, min(n, 64))}
	for range n {
		item, err := r.read(depth + 1)
		if err != nil {
			return nil, err
		}
		reply.Items = append(reply.Items, *item)
	}
	return reply, nil
}

// Append adds a command to the bytes to send.
func Append(to []byte, words ...string) []byte {
	to = append(strconv.AppendInt(append(to, '*'), int64(len(words)), 10), "\r\n"...)
	for _, word := range words {
		to = append(strconv.AppendInt(append(to, '$'), int64(len(word)), 10), "\r\n"...)
		to = append(append(to, word...), "\r\n"...)
	}
	return to
}
