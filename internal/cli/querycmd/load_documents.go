package querycmd

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"gentleharbor/core/atomicfile"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/script"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

// Bounds of one statement that adds documents: servers take 100,000 documents, and messages of 48 MB.
const (
	mostAtOnce  = 1000
	bytesAtOnce = 4 << 20
	maxDocument = 16 << 20 // the servers' own limit of a document, which is no smaller as JSON
)

// documents is a file of documents, one a line.
type documents struct {
	name string
	in   *bufio.Reader
	file io.Closer
	line int // of the last one
}

// openDocuments opens a file of documents, packed with gzip or not; - is standard input.
func (c *call) openDocuments(name string) (*documents, error) {
	d := &documents{name: clean.Line(name, 200), file: io.NopCloser(nil)}
	var in io.Reader = c.Stdin
	if name == "-" {
		d.name = "standard input"
	} else {
		file, err := os.Open(c.path(name))
		if err != nil {
			return nil, base.Failure(base.ExitFile, fmt.Errorf("%s cannot be read: %w", d.name, atomicfile.Plain(err)))
		}
		in, d.file = file, file
	}
	text, err := script.Text(in)
	if err != nil {
		d.file.Close()
		return nil, base.Failure(base.ExitFile, fmt.Errorf("%s %w", d.name, atomicfile.Plain(err)))
	}
	d.in = bufio.NewReaderSize(text, 64<<10)
	return d, nil
}

// next is the next document; io.EOF after the last. It skips empty lines.
func (d *documents) next() ([]byte, error) {
	for {
		var line []byte
		d.line++
		for {
			part, err := d.in.ReadSlice('\n')
			line = append(line, part...)
			if len(line) > maxDocument {
				return nil, fmt.Errorf("%s:%d: a document of more than %d MiB", d.name, d.line, maxDocument>>20)
			}
			if errors.Is(err, bufio.ErrBufferFull) {
				continue
			}
			if err != nil && !errors.Is(err, io.EOF) {
				return nil, fmt.Errorf("%s:%d: %w", d.name, d.line, err)
			}
			if line = bytes.TrimSpace(line); len(line) == 0 && err != nil {
				return nil, io.EOF
			}
			break
		}
		if len(line) > 0 {
			return line, nil
		}
	}
}

// checkDocuments reads a file to its end, and reports the first error in it before anything is sent.
func (c *call) checkDocuments(name string, by *engine.Documents) error {
	d, err := c.openDocuments(name)
	if err != nil {
		return err
	}
	defer d.file.Close()
	for {
		document, err := d.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err == nil {
			if wrong := by.Check(document); wrong != nil {
				err = fmt.Errorf("%s:%d: this is not a JSON document: %s", d.name, d.line, clean.Line(wrong.Error(), 200))
			}
		}
		if err != nil {
			return base.Failure(base.ExitFile, err)
		}
	}
}

// loadDocuments adds the documents of files to a collection.
func (c *call) loadDocuments(ctx context.Context, p *resolve.Profile, o loadOptions) error {
	var by *engine.Documents
	if p.Engine() != nil {
		if by = p.Engine().Statements.Documents; by == nil {
			return base.Usage("-collection: %s has none; for rows there is -table", p.Engine().Word)
		}
	}
	for _, file := range c.Args[1:] {
		if by == nil || file == "-" {
			continue // it is read once: an error shows when it comes
		}
		if err := c.checkDocuments(file, by); err != nil {
			return err
		}
	}
	opened, err := c.openToWrite(ctx, p, o)
	if err != nil {
		return err
	}
	defer opened.Close()
	started, total := time.Now(), int64(0)
	show := c.progress(0, "documents")
	defer show.end()
	for _, file := range c.Args[1:] {
		show.at(clean.Line(file, 200))
		added, err := c.addDocuments(ctx, opened.Runner, by, file, o, func(n int) { show.count.Add(int64(n)) })
		total += added
		if err != nil {
			show.clear()
			c.Say("stopped; %s in", wording.Count(int(total), "document is", "documents are"))
			if ctx.Err() != nil {
				return base.Failure(base.ExitInterrupted, nil)
			}
			return base.Failure(base.ExitFailed, err)
		}
	}
	show.clear()
	c.Say("loaded: %s; %s", wording.Count(int(total), "document", "documents"), shortTime(time.Since(started)))
	return nil
}

// addDocuments adds the documents of one file, and returns how many were added.
func (c *call) addDocuments(ctx context.Context, r engine.Runner, by *engine.Documents, file string, o loadOptions,
	added func(int)) (total int64, err error) {
	d, err := c.openDocuments(file)
	if err != nil {
		return 0, err
	}
	defer d.file.Close()
	var batch [][]byte
	var lines []int
	size := 0
	send := func() error {
		n, err := c.sendDocuments(ctx, r, by, batch, o)
		total += n
		added(int(n))
		var refused *engine.StatementError
		if errors.As(err, &refused) && refused.DataLine > 0 && refused.DataLine <= len(lines) {
			err = fmt.Errorf("%s:%d: %s", d.name, lines[refused.DataLine-1], clean.Visible(refused.Error()))
		}
		batch, lines, size = nil, nil, 0
		return err
	}
	for {
		document, err := d.next()
		if errors.Is(err, io.EOF) {
			if len(batch) == 0 {
				return total, nil
			}
			return total, send()
		}
		if err == nil && by.Check(document) != nil {
			err = fmt.Errorf("%s:%d: this is not a JSON document", d.name, d.line)
		}
		if err != nil {
			return total, err
		}
		batch, lines, size = append(batch, bytes.Clone(document)), append(lines, d.line), size+len(document)
		if len(batch) == mostAtOnce || size > bytesAtOnce {
			if err := send(); err != nil {
				return total, err
			}
		}
	}
}

// sendDocuments sends one statement, and returns how many of its documents were added.
func (c *call) sendDocuments(ctx context.Context, r engine.Runner, by *engine.Documents, batch [][]byte,
	o loadOptions) (int64, error) {
	if o.ofStatement > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, o.ofStatement)
		defer stop()
	}
	var counted counter
	err := r.Run(ctx, engine.Statement{Text: by.Statement(o.collection, batch)}, &counted)
	return counted.n, err
}

// counter counts changes.
type counter struct{ n int64 }

func (c *counter) Begin([]engine.Column) error { return nil }
func (c *counter) Row([][]byte) error          { return nil }
func (c *counter) Notice(engine.Notice)        {}
func (c *counter) End(d engine.Outcome) error {
	c.n += max(0, d.Changed)
	return nil
}

// isDocuments reports whether a file has a document on each line, by its name.
func isDocuments(name string) bool {
	name = strings.TrimSuffix(strings.ToLower(name), ".gz")
	return strings.HasSuffix(name, ".jsonl") || strings.HasSuffix(name, ".ndjson")
}
