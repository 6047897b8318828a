// Package readahead reads more input into a buffer with bytes that are still needed, for readers that look for the
// end of something of any length. The splitter of scripts and the reader of rows share it.
package readahead

import (
	"errors"
	"io"
)

// Read appends at most chunk bytes of the input to a buffer, which doubles its size where it is full. ended is true
// at the end of the input and after an error; err is that error, nil at the end.
func Read(buffer []byte, in io.Reader, chunk int) (grown []byte, ended bool, err error) {
	old := len(buffer)
	if cap(buffer)-old < chunk {
		wider := make([]byte, old, 2*cap(buffer)+chunk)
		copy(wider, buffer)
		buffer = wider
	}
	n, err := in.Read(buffer[old : old+chunk])
	if errors.Is(err, io.EOF) {
		return buffer[:old+n], true, nil
	}
	return buffer[:old+n], err != nil, err
}
