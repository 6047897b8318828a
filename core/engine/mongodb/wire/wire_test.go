package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// answered is a message with a document, as an answer to an id.
func answered(t testing.TB, id int32, document any) []byte {
	t.Helper()
	raw, err := bson.Marshal(document)
	if err != nil {
		t.Fatal(err)
	}
	m := Append(nil, 1, raw)
	binary.LittleEndian.PutUint32(m[8:], uint32(id))
	return m
}

// all is a document with a value of each kind.
func all() bson.D {
	decimal, _ := bson.ParseDecimal128("1.5")
	return bson.D{
		{Key: "double", Value: 1.5}, {Key: "text", Value: "a"}, {Key: "document", Value: bson.D{{Key: "a", Value: bson.A{1, "b"}}}},
		{Key: "bytes", Value: bson.Binary{Data: []byte{1}}}, {Key: "undefined", Value: bson.Undefined{}}, {Key: "id", Value: bson.NewObjectID()},
		{Key: "truth", Value: true}, {Key: "date", Value: bson.NewDateTimeFromTime(time.Now())}, {Key: "null", Value: nil},
		{Key: "regex", Value: bson.Regex{Pattern: "a", Options: "i"}}, {Key: "pointer", Value: bson.DBPointer{DB: "a"}}, {Key: "code", Value: bson.JavaScript("x")},
		{Key: "symbol", Value: bson.Symbol("x")}, {Key: "scope", Value: bson.CodeWithScope{Code: "x", Scope: bson.D{{Key: "a", Value: 1}}}},
		{Key: "int", Value: int32(1)}, {Key: "timestamp", Value: bson.Timestamp{T: 1}}, {Key: "long", Value: int64(1)}, {Key: "decimal", Value: decimal},
		{Key: "min", Value: bson.MinKey{}}, {Key: "max", Value: bson.MaxKey{}},
	}
}

// TestRead: a document of every kind of value is read, by either kind of message.
func TestRead(t *testing.T) {
	raw, err := Read(bytes.NewReader(answered(t, 7, all())), 7, 1<<20)
	if err != nil || raw.Lookup("text").StringValue() != "a" {
		t.Fatalf("%v, %v", raw, err)
	}
	document, _ := bson.Marshal(all())
	old := make([]byte, 36)
	binary.LittleEndian.PutUint32(old, uint32(36+len(document)))
	binary.LittleEndian.PutUint32(old[8:], 7)
	binary.LittleEndian.PutUint32(old[12:], opReply)
	binary.LittleEndian.PutUint32(old[32:], 1)
	if _, err := Read(bytes.NewReader(append(old, document...)), 7, 1<<20); err != nil {
		t.Error(err)
	}
	with := answered(t, 7, all())
	with[16] = flagChecksum
	with = append(with, 1, 2, 3, 4)
	binary.LittleEndian.PutUint32(with, uint32(len(with)))
	if _, err := Read(bytes.NewReader(with), 7, 1<<20); err != nil {
		t.Errorf("with a checksum: %v", err)
	}
	if q := AppendQuery(nil, 1, document); int(binary.LittleEndian.Uint32(q)) != len(q) || !bytes.Contains(q, []byte("admin.$cmd\x00")) {
		t.Errorf("%q", q)
	}
}

// TestBounds: what is too long, nests too deep, is cut off or was not asked for is an error.
func TestBounds(t *testing.T) {
	change := func(at int, value byte) []byte {
		m := answered(t, 7, bson.D{{Key: "a", Value: "b"}})
		m[at] = value
		return m
	}
	deep := bson.D{}
	for range 300 {
		deep = bson.D{{Key: "a", Value: deep}}
	}
	whole := answered(t, 7, all())
	for name, c := range map[string]struct {
		message []byte
		want    error
	}{
		"other id":      {change(8, 9), ErrMalformed},
		"other code":    {change(12, 1), ErrMalformed},
		"too long":      {change(3, 0x7f), ErrTooLarge},
		"too short":     {change(0, 17), ErrMalformed},
		"flags":         {change(16, 2), ErrMalformed},
		"unknown flag":  {change(16, 4), ErrMalformed},
		"section":       {change(20, 1), ErrMalformed},
		"document":      {change(21, 99), ErrMalformed},
		"kind":          {change(25, 0x33), ErrMalformed},
		"text's length": {change(28, 99), ErrMalformed},
		"no end":        {change(len(change(0, 0))-1, 1), ErrMalformed},
		"deep":          {answered(t, 7, deep), ErrTooLarge},
		"cut off":       {whole[:len(whole)-3], io.ErrUnexpectedEOF},
		"nothing":       {nil, io.EOF},
	} {
		if m := c.message; name == "no end" || name == "other code" {
			m[0] = byte(len(m))
		}
		if _, err := Read(bytes.NewReader(c.message), 7, 1<<20); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
	if _, err := Read(bytes.NewReader(whole), 7, 40); !errors.Is(err, ErrTooLarge) {
		t.Errorf("more than wanted: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(answered(f, 7, all()))
	f.Add(answered(f, 7, bson.D{{Key: "cursor", Value: bson.D{{Key: "firstBatch", Value: bson.A{bson.D{}}}}}}))
	f.Fuzz(func(t *testing.T, message []byte) {
		raw, err := Read(bytes.NewReader(message), 7, 1<<16)
		if err != nil {
			return
		}
		raw.Lookup("ok")
		if err := raw.Validate(); err != nil { // what is read is what the package bson takes
			t.Errorf("%v of %x", err, message)
		}
		bson.MarshalExtJSON(raw, false, false)
	})
}
