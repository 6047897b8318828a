// Package wire frames the messages of MongoDB's protocol (MongoDB documentation, "MongoDB Wire Protocol"): OP_MSG
// with one document, and the older OP_REPLY. It takes bytes or a reader, never a socket; what it reads is bounded in
// size, and its documents in depth. The documents themselves are the driver's package bson. It is a part of the
// engine mongodb. Start with Read.
package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Bounds of what a server sends.
const (
	// MaxMessage is the longest message: servers tell their own limit in maxMessageSizeBytes, which is this one.
	MaxMessage = 48_000_000
	// maxDepth is how deep documents may nest: servers take 100 levels (MongoDB documentation, "MongoDB Limits and
	// Thresholds"), and answers have some around them.
	maxDepth = 200
)

// The kinds of messages.
const (
	opReply = 1
	opQuery = 2004
	opMsg   = 2013
)

const (
	headerSize       = 16
	flagChecksum     = 1 << 0
	flagMoreToCome   = 1 << 1
	requiredFlags    = 0xffff // bits of which an unknown one is an error
	smallestDocument = 5
)

// ErrMalformed says that bytes are not of this protocol.
var ErrMalformed = errors.New("the server's answer is not of MongoDB's protocol")

// ErrTooLarge says that an answer is larger, or nests deeper, than allowed.
var ErrTooLarge = errors.New("the server's answer is larger than gharbor takes")

// Append adds a message with one document, a command.
func Append(to []byte, id int32, document []byte) []byte {
	from := len(to)
	to = append(to, make([]byte, headerSize+5)...) // no flags; a body follows (kind 0)
	to = append(to, document...)
	header(to[from:], id, opMsg)
	return to
}

// AppendQuery adds the older message with which servers before version 3.6 are greeted.
func AppendQuery(to []byte, id int32, document []byte) []byte {
	from := len(to)
	to = append(to, make([]byte, headerSize+4)...)
	to = append(to, "admin.$cmd\x00"...)
	to = append(to, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff) // skips none, returns one
	to = append(to, document...)
	header(to[from:], id, opQuery)
	return to
}

func header(message []byte, id int32, code uint32) {
	binary.LittleEndian.PutUint32(message, uint32(len(message)))
	binary.LittleEndian.PutUint32(message[4:], uint32(id))
	binary.LittleEndian.PutUint32(message[12:], code)
}

// Read reads the answer to the message with an id, and returns its document. most is its largest size, in bytes.
func Read(in io.Reader, id int32, most int) (bson.Raw, error) {
	head := make([]byte, headerSize)
	if _, err := io.ReadFull(in, head); err != nil {
		return nil, err
	}
	size := int64(binary.LittleEndian.Uint32(head))
	to := int32(binary.LittleEndian.Uint32(head[8:]))
	code := binary.LittleEndian.Uint32(head[12:])
	switch {
	case code != opMsg && code != opReply || to != id:
		return nil, fmt.Errorf("%w: it is no answer to what was asked", ErrMalformed)
	case size < headerSize+smallestDocument:
		return nil, fmt.Errorf("%w: it says that it has %d bytes", ErrMalformed, size)
	case size > int64(min(most, MaxMessage)):
		return nil, ErrTooLarge
	}
	body, err := readBytes(in, int(size-headerSize))
	if err != nil {
		return nil, err
	}
	if code == opReply {
		return reply(body)
	}
	return message(body)
}

// readBytes reads so many bytes. It takes memory for bytes that have come, not for a length that a server claims.
func readBytes(in io.Reader, n int) ([]byte, error) {
	const piece = 1 << 20
	body := make([]byte, 0, min(n, piece))
	for len(body) < n {
		from := len(body)
		body = append(body, make([]byte, min(n-from, piece))...)
		if _, err := io.ReadFull(in, body[from:]); err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
	}
	return body, nil
}

// message is the document of an OP_MSG: servers send one section.
func message(body []byte) (bson.Raw, error) {
	if len(body) < 5 {
		return nil, ErrMalformed
	}
	flags := binary.LittleEndian.Uint32(body)
	if flags&requiredFlags&^(flagChecksum|flagMoreToCome) != 0 || flags&flagMoreToCome != 0 {
		return nil, fmt.Errorf("%w: it has flags that nobody asked for (%#x)", ErrMalformed, flags)
	}
	if flags&flagChecksum != 0 {
		if len(body) < 9 {
			return nil, ErrMalformed
		}
		body = body[:len(body)-4]
	}
	if body[4] != 0 {
		return nil, fmt.Errorf("%w: it has sections that nobody asked for", ErrMalformed)
	}
	return document(body[5:])
}

// reply is the document of an OP_REPLY.
func reply(body []byte) (bson.Raw, error) {
	const fixed = 20 // flags, cursor, start, number of documents
	if len(body) < fixed || binary.LittleEndian.Uint32(body[16:]) != 1 {
		return nil, ErrMalformed
	}
	return document(body[fixed:])
}

// document checks a document.
func document(body []byte) (bson.Raw, error) {
	raw := bson.Raw(body)
	if len(body) < smallestDocument || int64(binary.LittleEndian.Uint32(body)) != int64(len(body)) {
		return nil, fmt.Errorf("%w: its document does not end where it says", ErrMalformed)
	}
	if err := checkDepth(raw, 0); err != nil {
		return nil, err
	}
	return raw, nil
}

// checkDepth checks that a document is complete, and nests no deeper than allowed. It reads each level once; the
// package bson would check the inner levels again at each outer one, and has no bound.
func checkDepth(raw bson.Raw, depth int) error {
	if depth > maxDepth {
		return ErrTooLarge
	}
	if len(raw) < smallestDocument || raw[len(raw)-1] != 0 {
		return ErrMalformed
	}
	rest := raw[4 : len(raw)-1]
	for len(rest) > 0 {
		kind := rest[0]
		end := 1
		for end < len(rest) && rest[end] != 0 {
			end++
		}
		if end == len(rest) {
			return ErrMalformed
		}
		value := rest[end+1:]
		size, err := valueSize(kind, value)
		if err != nil {
			return err
		}
		switch bson.Type(kind) {
		case bson.TypeEmbeddedDocument, bson.TypeArray:
			err = checkDepth(bson.Raw(value[:size]), depth+1)
		case bson.TypeCodeWithScope:
			err = checkScope(value[:size], depth)
		}
		if err != nil {
			return err
		}
		rest = value[size:]
	}
	return nil
}

// checkScope checks the document in a value of code with scope.
func checkScope(value []byte, depth int) error {
	if len(value) < 8 {
		return ErrMalformed
	}
	text := int64(binary.LittleEndian.Uint32(value[4:]))
	if text < 1 || 8+text+smallestDocument > int64(len(value)) {
		return ErrMalformed
	}
	scope := value[8+text:]
	if int64(binary.LittleEndian.Uint32(scope)) != int64(len(scope)) {
		return ErrMalformed
	}
	return checkDepth(scope, depth+1)
}

// valueSize is how many bytes a value of a kind has (BSON specification, version 1.1).
func valueSize(kind byte, value []byte) (int, error) {
	size := int64(0)
	length := func() int64 {
		if len(value) < 4 {
			return -1
		}
		return int64(binary.LittleEndian.Uint32(value))
	}
	switch bson.Type(kind) {
	case bson.TypeNull, bson.TypeUndefined, bson.TypeMinKey, bson.TypeMaxKey:
	case bson.TypeBoolean:
		size = 1
	case bson.TypeInt32:
		size = 4
	case bson.TypeDouble, bson.TypeInt64, bson.TypeDateTime, bson.TypeTimestamp:
		size = 8
	case bson.TypeObjectID:
		size = 12
	case bson.TypeDecimal128:
		size = 16
	case bson.TypeString, bson.TypeJavaScript, bson.TypeSymbol:
		size = 4 + length()
		if size >= 5 && size <= int64(len(value)) && value[size-1] != 0 {
			return 0, ErrMalformed
		}
		if size < 5 {
			return 0, ErrMalformed
		}
	case bson.TypeBinary:
		size = 5 + length()
		if size < 5 {
			return 0, ErrMalformed
		}
	case bson.TypeDBPointer:
		size = 4 + length() + 12
		if size < 17 {
			return 0, ErrMalformed
		}
	case bson.TypeEmbeddedDocument, bson.TypeArray, bson.TypeCodeWithScope:
		if size = length(); size < smallestDocument {
			return 0, ErrMalformed
		}
	case bson.TypeRegex:
		for n := 0; n < 2; size++ {
			if size == int64(len(value)) {
				return 0, ErrMalformed
			}
			if value[size] == 0 {
				n++
			}
		}
	default:
		return 0, fmt.Errorf("%w: a value of the unknown kind %#x", ErrMalformed, kind)
	}
	if size > int64(len(value)) {
		return 0, ErrMalformed
	}
	return int(size), nil
}
