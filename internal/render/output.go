package render

import (
	"io"
	"os"
	"sync"
)

// Output is where results go. It keeps the first error, so that no command has to look at each
// write: whoever ends the program asks once. After an error nothing more is written.
type Output struct {
	to io.Writer

	mu  sync.Mutex
	err error
}

// NewOutput is an output to a stream.
func NewOutput(to io.Writer) *Output { return &Output{to: to} }

// Write writes, or gives the first error again.
func (o *Output) Write(p []byte) (n int, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return 0, o.err
	}
	n, o.err = o.to.Write(p)
	return n, o.err
}

// Err is the first error of a write, nil for none.
func (o *Output) Err() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.err
}

// Unwrap is the stream itself: for a program that is started with it.
func (o *Output) Unwrap() io.Writer { return o.to }

// FileOf is the file that a stream is, nil where it is none.
func FileOf(stream any) *os.File {
	if o, ok := stream.(*Output); ok {
		stream = o.to
	}
	file, _ := stream.(*os.File)
	return file
}
