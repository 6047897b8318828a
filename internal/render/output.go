package render

import (
	"bytes"
	"io"
	"os"
	"sync"
)

// Output writes results. It keeps the first error, so that a command need not check each write: the end of the
// program checks once. After an error it writes nothing more. On a terminal it breaks long lines at blanks.
type Output struct {
	to    io.Writer
	width int // of the terminal; 0 where lines stay as they are

	mu   sync.Mutex
	line []byte // the last line so far, which has no end yet
	err  error
}

// NewOutput is an output to a stream.
func NewOutput(to io.Writer) *Output {
	o := &Output{to: to}
	o.width = Columns(o)
	return o
}

// KeepLines stops the breaking of lines: what follows is for a program, or fits already.
func (o *Output) KeepLines() { o.width = 0 }

// Write writes, or gives the first error again.
func (o *Output) Write(p []byte) (n int, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.err != nil {
		return 0, o.err
	}
	if o.width == 0 && len(o.line) == 0 {
		n, o.err = o.to.Write(p)
		return n, o.err
	}
	o.line = append(o.line, p...)
	end := bytes.LastIndexByte(o.line, '\n') + 1
	o.flush(end)
	return len(p), o.err
}

// flush writes the first n bytes of the buffer, with long lines broken.
func (o *Output) flush(n int) {
	if n == 0 || o.err != nil {
		return
	}
	var out []byte
	for line := range bytes.Lines(o.line[:n]) {
		text, ended := bytes.CutSuffix(line, []byte("\n"))
		out = append(out, fitLine(string(text), o.width)...)
		if ended {
			out = append(out, '\n')
		}
	}
	o.line = append(o.line[:0], o.line[n:]...)
	_, o.err = o.to.Write(out)
}

// Err writes the rest of the buffer, and returns the first error of a write, nil for none.
func (o *Output) Err() error {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.flush(len(o.line))
	return o.err
}

// Unwrap is the stream itself, for a program that is started with it.
func (o *Output) Unwrap() io.Writer {
	o.Err()
	return o.to
}

// keepLines stops the breaking of lines of a stream's Output, and returns it.
func keepLines(stream io.Writer) io.Writer {
	if o, ok := stream.(*Output); ok {
		o.KeepLines()
	}
	return stream
}

// FileOf is the file that a stream is, nil where it is none.
func FileOf(stream any) *os.File {
	if o, ok := stream.(*Output); ok {
		stream = o.to
	}
	file, _ := stream.(*os.File)
	return file
}
