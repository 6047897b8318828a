package readahead

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// TestMore reads an input in chunks, keeps what was there, and tells its end from an error.
func TestMore(t *testing.T) {
	for name, in := range map[string]io.Reader{"plain": strings.NewReader("ebb and flood"), "the end with the last bytes": iotest.DataErrReader(strings.NewReader("ebb and flood")), "byte by byte": iotest.OneByteReader(strings.NewReader("ebb and flood"))} {
		buffer, ended, err := []byte("tide: "), false, error(nil)
		for !ended {
			buffer, ended, err = Read(buffer, in, 4)
		}
		if string(buffer) != "tide: ebb and flood" || err != nil {
			t.Errorf("%s: %q %v", name, buffer, err)
		}
	}
	gone := errors.New("gone")
	if buffer, ended, err := Read([]byte("a"), iotest.ErrReader(gone), 4); string(buffer) != "a" || !ended || err != gone {
		t.Errorf("%q %v %v", buffer, ended, err)
	}
}
