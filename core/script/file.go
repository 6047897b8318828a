package script

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"

	"gentleharbor/core/statement"
)

// file is one that is being read.
type file struct {
	name     string // as a person names it
	folder   string // what it includes is beside it
	info     os.FileInfo
	raw      io.Reader
	ends     io.Closer // nil for none
	splitter *statement.Splitter
}

// countingReader counts what is read.
type countingReader struct {
	in io.Reader
	to *atomic.Int64
}

// CountBytes returns a reader that adds the number of bytes read to a counter.
func CountBytes(in io.Reader, to *atomic.Int64) io.Reader { return &countingReader{in, to} }

func (c *countingReader) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.to.Add(int64(n))
	return n, err
}

var errNoFile = errors.New("it is not a regular file")

// openFile opens an ordinary file. shown is its name for people.
func openFile(path, shown string, read *atomic.Int64) (*file, error) {
	info, err := os.Stat(path)
	if err == nil && !info.Mode().IsRegular() {
		err = errNoFile
	}
	if err != nil {
		return nil, unreadable(shown, err)
	}
	in, err := os.Open(path)
	if err != nil {
		return nil, unreadable(shown, err)
	}
	if info, err = in.Stat(); err != nil {
		in.Close()
		return nil, unreadable(shown, err)
	}
	return &file{name: shown, folder: filepath.Dir(path), info: info, raw: CountBytes(in, read), ends: in}, nil
}

func (f *file) close() {
	if f.ends != nil {
		f.ends.Close()
	}
}

// beginnings are the first bytes of files that are no text.
var beginnings = []struct{ bytes, what string }{
	{"PGDMP", "is an archive of a dump program; make the dump as plain text"},
	{"toc.dat", "is an archive of a dump program; make the dump as plain text"},
	{"\xfe\xff", "is UTF-16; UTF-8 is needed"},
	{"\xff\xfe", "is UTF-16; UTF-8 is needed"},
	{"\x28\xb5\x2f\xfd", "is packed with zstd; unpack it first (only gzip is read directly)"},
	{"\xfd7zXZ\x00", "is packed with xz; unpack it first (only gzip is read directly)"},
	{"BZh", "is packed with bzip2; unpack it first (only gzip is read directly)"},
	{"PK\x03\x04", "is a ZIP archive; unpack it first (only gzip is read directly)"},
}

// text opens the text of a file that may be packed by gzip (RFC 1952), without a byte order mark.
func (f *file) text() (io.Reader, error) {
	text, err := Text(f.raw)
	var wrong *Error
	if errors.As(err, &wrong) {
		wrong.Place = Place{File: f.name, Line: 1}
		return nil, wrong
	}
	if err != nil {
		return nil, unreadable(f.name, err)
	}
	return text, nil
}

// Text is the text of an input that may be packed by gzip (RFC 1952), without a byte order mark. For an input that is
// no text, the error is an *Error without a place.
func Text(in io.Reader) (io.Reader, error) {
	const longest = 8
	text := bufio.NewReaderSize(in, 64<<10)
	if head, _ := text.Peek(2); bytes.Equal(head, []byte{0x1f, 0x8b}) {
		unpacked, err := gzip.NewReader(text)
		if err != nil {
			return nil, err
		}
		text = bufio.NewReaderSize(unpacked, 64<<10)
	}
	head, err := text.Peek(longest)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	for _, b := range beginnings {
		if bytes.HasPrefix(head, []byte(b.bytes)) {
			return nil, &Error{What: b.what}
		}
	}
	if bytes.HasPrefix(head, []byte("\xef\xbb\xbf")) {
		text.Discard(3)
	}
	return text, nil
}
