package api

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
)

// maxLine bounds a line of a log, in bytes; the rest of a longer one is another line.
const maxLine = 64 << 10

// Follow calls each with a container's last lines, and with new ones as they come, until ctx or the container ends.
// An error of each ends it.
func (c *Client) Follow(ctx context.Context, one *Container, lines int, each func(line string) error) error {
	answer, err := c.send(ctx, http.MethodGet, "/containers/"+url.PathEscape(one.ID)+"/logs",
		url.Values{"stdout": {"1"}, "stderr": {"1"}, "follow": {"1"}, "tail": {strconv.Itoa(lines)}}, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	var body io.Reader = answer.Body
	if !one.Config.Tty {
		body = &frames{in: bufio.NewReader(answer.Body)}
	}
	in := bufio.NewReaderSize(body, maxLine)
	for {
		line, err := in.ReadSlice('\n')
		if text := strings.TrimRight(string(line), "\r\n"); len(line) > 0 {
			if stop := each(text); stop != nil {
				return stop
			}
		}
		switch {
		case err == nil, errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF):
			return nil
		default:
			return c.explainError(ctx, err)
		}
	}
}

// frames reads the text of a log out of its frames, as unframe does.
type frames struct {
	in    *bufio.Reader
	left  int64 // of the frame
	plain bool  // the engine sends no frames
	begun bool
}

func (f *frames) Read(p []byte) (int, error) {
	for f.left == 0 && !f.plain {
		const head = 8
		start, err := f.in.Peek(head)
		if err != nil || start[0] > 2 || start[1] != 0 || start[2] != 0 || start[3] != 0 {
			if f.begun {
				return 0, io.EOF
			}
			f.plain = true
			break
		}
		f.begun = true
		f.left = int64(binary.BigEndian.Uint32(start[4:head]))
		f.in.Discard(head)
	}
	if f.plain {
		return f.in.Read(p)
	}
	n, err := f.in.Read(p[:min(int64(len(p)), f.left)])
	f.left -= int64(n)
	return n, err
}
