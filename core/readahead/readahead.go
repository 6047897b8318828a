// Package readahead reads on into a buffer that holds what is still needed: for readers that look for the end of
// something of any length. It is a leaf that the splitter of scripts and the reader of rows share.
package readahead

import (
	"errors"
	"io"
)

// More reads on, at most chunk bytes, behind what is in a buffer, which grows to twice its size where there is no room.
// ended tells that nothing more comes; err is why, nil at the end of the input.
func More(buffer []byte, in io.Reader, chunk int) (grown []byte, ended bool, err error) {
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
