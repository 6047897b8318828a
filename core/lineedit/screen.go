package lineedit

import (
	"io"
	"os"
	"strconv"

	"gentleharbor/core/defect"
)

// terminalFilter writes the library's output to a terminal with one change. To go down, the library uses ESC [ n B
// (ECMA-48, 8.3.19: CUD), which does nothing on the last line of the screen, where a prompt mostly is. ESC D (index)
// goes down there too, and the screen scrolls. Otherwise the library would have to ask the terminal for the cursor's
// line. Not every terminal answers that, and the answer would come between typed keys.
type terminalFilter struct {
	out  *os.File
	pipe *os.File // the library writes here
	over chan struct{}
}

// newScreen starts the filter. end ends it after all output is on the terminal.
func newScreen(out *os.File) (*terminalFilter, error) {
	from, to, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	s := &terminalFilter{out: out, pipe: to, over: make(chan struct{})}
	defect.Go(func() {
		defer close(s.over)
		defer from.Close()
		s.give(from)
	})
	return s, nil
}

func (s *terminalFilter) end() {
	s.pipe.Close()
	<-s.over
}

func (s *terminalFilter) give(from io.Reader) {
	buffer := make([]byte, 64<<10)
	var rest []byte
	for {
		n, err := from.Read(buffer)
		var text []byte
		text, rest = replaceCUD(append(rest, buffer[:n]...))
		if err != nil {
			text = append(text, rest...)
		}
		s.out.Write(text)
		if err != nil {
			return
		}
	}
}

// replaceCUD writes each CUD (cursor down) as IND (index), which scrolls. rest is the beginning of a sequence whose
// end has not come.
func replaceCUD(text []byte) (done, rest []byte) {
	for i := 0; i < len(text); i++ {
		if text[i] != 0x1b {
			done = append(done, text[i])
			continue
		}
		end := i + 1
		if end < len(text) && text[end] == '[' {
			for end++; end < len(text) && text[end] >= '0' && text[end] <= '9'; end++ {
			}
		}
		if end >= len(text) {
			return done, text[i:]
		}
		if text[end] == 'B' && end > i+1 {
			n, err := strconv.Atoi(string(text[i+2 : end]))
			if err != nil {
				n = 1
			}
			for range n {
				done = append(done, "\x1bD"...)
			}
		} else {
			done = append(done, text[i:end+1]...)
		}
		i = end
	}
	return done, nil
}
