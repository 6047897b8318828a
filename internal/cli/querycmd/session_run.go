package querycmd

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/defect"
	"gentleharbor/core/engine"
	"gentleharbor/core/history"
	"gentleharbor/core/results"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/wording"
	"gentleharbor/internal/render"
)

// run runs one statement. After its error, no statement that was pasted behind this one is run.
func (s *session) run(ctx context.Context, p *statement.Piece) error {
	text := string(p.Text)
	s.keep(p)
	if copies(p.Words) {
		return errors.New("the session takes and gives no data beside a statement (COPY … STDIN); gharbor load does")
	}
	if err := s.askName(ctx, p); err != nil {
		return err
	}
	s.more = nil
	shown, err := s.rows()
	if err != nil {
		return err
	}
	start := time.Now()
	err = s.send(ctx, p, shown, shown.endWaiting)
	shown.endWaiting()
	took := time.Since(start)
	s.runs = append(s.runs, ranStatement{
		text: text, at: start, took: took, end: howEnded(err), secret: statement.HasSecret(p.Words, s.by),
	})
	if err == nil {
		shown.reportRows(took)
		s.database(p)
		return nil
	}
	shown.cut()
	return s.failedWith(err, shown.count)
}

// howEnded names in a word how a failed statement ended.
func howEnded(err error) string {
	var stopped *statement.StopError
	switch {
	case err == nil:
		return ""
	case errors.As(err, &stopped) && errors.Is(err, context.Canceled):
		return "cancelled"
	}
	return "failed"
}

// keep keeps a statement in the history, unless it has a password.
func (s *session) keep(p *statement.Piece) {
	if statement.HasSecret(p.Words, s.by) {
		return
	}
	entry := history.Entry{At: time.Now().UTC().Truncate(time.Millisecond), Text: string(p.Text) + ";"}
	if s.by.Lexis.Blocks && strings.HasSuffix(strings.TrimSpace(string(p.Raw)), "/") {
		entry.Text = string(p.Text) + "\n/"
	}
	if err := s.past.add(entry); err != nil {
		s.Notice("the history can't be written: %s", clean.Line(err.Error(), 200))
	}
}

// send sends a statement, and cancels it at Ctrl-C. It calls quiet before it shows a failure.
func (s *session) send(ctx context.Context, p *statement.Piece, to engine.Results, quiet func()) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer s.stopOn(stop)()
	s.job.To = to
	s.job.Failed = func(f *statement.Failure) {
		quiet()
		s.tellFailure(fmt.Sprintf("line %d", f.Line-p.Line+1), f)
	}
	return s.job.One(ctx, p)
}

// failedWith prints how a failed statement ended, after so many rows.
func (s *session) failedWith(err error, count int64) error {
	var stopped *statement.StopError
	var lost *engine.LostError
	open := s.opened.Runner.InTransaction()
	switch {
	case errors.As(err, &lost), s.job.Fatal():
		s.lost = true
		s.typed.Drop()
		what := "the connection ended while this statement ran; it is not known whether the server carried it out"
		if s.job.Fatal() {
			what = "the server ended the session"
		}
		if open {
			what += "; the transaction that was open is gone"
		}
		return errors.New(what)
	case errors.Is(err, statement.ErrFailed):
		return errQuiet
	case errors.Is(err, results.ErrOneResult):
		return errors.New("this file holds one result: /out - ends it; for several, /format json before /out")
	case errors.Is(err, results.ErrOneColumn):
		return errors.New("/format bare is for one column")
	case errors.As(err, &stopped):
		what := stopped.What
		if count > 0 {
			what += fmt.Sprintf(", after %s", wording.Count(int(count), "row", "rows"))
		}
		if s.transactionFailed() {
			what += "; the transaction can only be rolled back"
		}
		return errors.New(what)
	}
	return err
}

// errQuiet is an error whose message was printed already.
var errQuiet = errors.New("")

// rows shows the rows of a statement: as many as fit, and keeps some for /more.
type rows struct {
	*session
	writer  *results.Writer
	limit   int64 // 0 for all
	count   int64 // of the rows of the result
	results int
	full    bool // the result's limit was reached
	columns []engine.Column
	kept    *restRows
	last    engine.Outcome
	waiting *waitNotice
}

// rows is where a statement's rows go.
func (s *session) rows() (*rows, error) {
	r := &rows{session: s, limit: s.set.rows, waiting: s.wait()}
	if s.sink != nil {
		r.writer, r.limit = s.sink.writer, 0
		return r, nil
	}
	var err error
	r.writer, err = results.NewWriter(s.Stdout, s.resultLayout())
	return r, err
}

// resultLayout is the layout of results on the terminal.
func (s *session) resultLayout() results.Layout {
	l := s.layout(s.set.form, true)
	l.Wider = "/stacked on"
	return l
}

func (r *rows) Begin(columns []engine.Column) error {
	r.waiting.end()
	r.count, r.full, r.columns = 0, false, columns
	r.results++
	return r.writer.Begin(columns)
}

func (r *rows) Row(values [][]byte) error {
	if r.count++; r.limit == 0 || r.count <= r.limit {
		return r.writer.Row(values)
	}
	if !r.full {
		r.full = true
		r.kept = &restRows{columns: r.columns}
		if err := r.writer.End(engine.Outcome{Changed: -1}); err != nil {
			return err
		}
		r.waiting = r.wait()
	}
	r.kept.add(values)
	return nil
}

func (r *rows) End(done engine.Outcome) error {
	r.waiting.end()
	r.last = done
	if r.full {
		return nil
	}
	return r.writer.End(done)
}

func (r *rows) Notice(n engine.Notice) {
	r.waiting.end()
	r.tellNotice(n)
}

// endWaiting removes the line that says that a statement runs.
func (r *rows) endWaiting() { r.waiting.end() }

// cut ends a result that was broken off.
func (r *rows) cut() {
	if r.sink == nil && !r.full {
		r.writer.Close()
	}
}

// reportRows prints the number of rows, and the time.
func (r *rows) reportRows(took time.Duration) {
	if r.sink == nil && !r.full && r.results > 0 {
		r.writer.Close()
	}
	what := ""
	switch d := r.last; {
	case r.full:
		r.session.more = r.kept
		r.kept.from = r.limit
		what = fmt.Sprintf("%d of %s shown (/more shows the next, /out FILE writes all)", r.limit,
			wording.Count(int(r.count), "row", "rows"))
	case r.results > 0:
		what = wording.Count(int(r.count), "row", "rows")
	case d.Changed >= 0:
		what = wording.Count(int(d.Changed), "row", "rows") + " changed"
	default:
		what = "done"
		if d.Command != "" {
			what = strings.ToLower(clean.Line(d.Command, 40)) + ": done"
		}
	}
	if r.sink != nil && r.results > 0 {
		what += ", written to " + r.sink.path
	}
	r.Say("%s%s", what, r.times(took))
}

// times is the time that something took, where the clock is on.
func (s *session) times(took time.Duration) string {
	if !s.set.clock {
		return ""
	}
	at := ""
	if server := s.opened.Runner.Took(); server > 0 {
		at = fmt.Sprintf(", %s at the server", shortTime(server))
	}
	return fmt.Sprintf("; %s%s", shortTime(took), at)
}

// restRows are the rows of a result that were not shown yet.
type restRows struct {
	columns []engine.Column
	rows    [][][]byte
	size    int
	from    int64 // how many were shown before
	missed  int64 // that were not kept
}

// mostKept bounds the rows that are kept, in bytes.
const mostKept = 4 << 20

// add keeps a row, as long as there is room.
func (m *restRows) add(values [][]byte) {
	if m.size >= mostKept {
		m.missed++
		return
	}
	row := make([][]byte, len(values))
	for i, v := range values {
		if v != nil {
			row[i] = append(make([]byte, 0, len(v)), v...)
		}
		m.size += len(v) + 40 // the value, its place in the row, and what the allocator adds
	}
	m.size += 24
	m.rows = append(m.rows, row)
}

// showMore shows the next rows of the last result.
func (s *session) showMore() error {
	m := s.more
	if m == nil {
		return errors.New("there are no more rows of the last result")
	}
	n := min(len(m.rows), int(s.set.rows))
	writer, err := results.NewWriter(s.Stdout, s.resultLayout())
	if err != nil {
		return err
	}
	err = writer.Begin(m.columns)
	for _, row := range m.rows[:n] {
		if err == nil {
			err = writer.Row(row)
		}
	}
	if err == nil {
		err = writer.End(engine.Outcome{Changed: -1})
	}
	if err != nil {
		return err
	}
	writer.Close()
	m.rows, m.from = m.rows[n:], m.from+int64(n)
	left := int64(len(m.rows)) + m.missed
	switch {
	case left == 0:
		s.more = nil
		s.Say("these were the last rows")
	case len(m.rows) == 0:
		s.more = nil
		s.Say("%s not kept; to have them all: /out FILE, then the statement again",
			wording.Count(int(left), "more row was", "more rows were"))
	default:
		s.Say("%d shown, %s", m.from, wording.Count(int(left), "more", "more"))
	}
	return nil
}

// waitNotice shows, on a terminal, that a statement runs and how to end it.
type waitNotice struct {
	out     io.Writer
	mu      sync.Mutex
	seen    bool
	over    bool
	stopped chan struct{}
}

// wait begins to say so, after a second.
func (s *session) wait() *waitNotice {
	w := &waitNotice{out: s.Stderr, stopped: make(chan struct{})}
	if !render.IsTerminal(s.Stderr) {
		return w
	}
	start := time.Now()
	defect.Go(func() {
		ticker := time.NewTicker(time.Second)
		defer ticker.Stop()
		for {
			select {
			case <-w.stopped:
				return
			case <-ticker.C:
				w.show(time.Since(start))
			}
		}
	})
	return w
}

func (w *waitNotice) show(since time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.over {
		return
	}
	w.seen = true
	fmt.Fprintf(w.out, "\r\x1b[Krunning for %d s; Ctrl-C cancels it", int(since.Seconds()))
}

func (w *waitNotice) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.over {
		return
	}
	w.over = true
	close(w.stopped)
	if w.seen {
		fmt.Fprint(w.out, "\r\x1b[K")
	}
}
