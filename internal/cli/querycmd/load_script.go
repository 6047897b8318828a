package querycmd

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"gentleharbor/core/catalogue"
	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/script"
	"gentleharbor/core/statement"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/wording"
)

// loadScripts carries scripts out.
func (c *call) loadScripts(ctx context.Context, p *resolve.Profile, o loadOptions) error {
	files := c.Args[1:]
	if p.Engine() == nil {
		_, err := c.open(ctx, p, o.connectFlags) // the test says so
		return err
	}
	by := p.Engine().Statements
	plan := &script.Plan{}
	if files[0] != "-" || o.dryRun {
		var err error
		if plan, err = c.scan(files, by, o); err != nil {
			return err
		}
	}
	if o.dryRun {
		return c.showPlan(plan, by)
	}
	opened, err := c.openToWrite(ctx, p, o)
	if err != nil {
		return err
	}
	l := &scriptLoad{call: c, options: o, profile: p, opened: opened, plan: plan, started: time.Now()}
	defer func() { l.opened.Close() }()
	if err := l.askAgreement(ctx); err != nil {
		return err
	}
	return l.send(ctx, files)
}

// scan reads scripts, and reports what can't be run before anything is sent.
func (c *call) scan(files []string, by *engine.Statements, o loadOptions) (*script.Plan, error) {
	if o.atomic && by.Rules != nil && by.Rules.NotAtomic != "" {
		return nil, base.Usage("-atomic: %s", by.Rules.NotAtomic)
	}
	whole := &script.Plan{From: o.from}
	folder, err := c.WorkDir()
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		r, err := script.Open(file, script.Options{By: by, Outside: o.outside, Input: c.Stdin, Folder: folder})
		if err != nil {
			return nil, base.Failure(base.ExitFile, errors.New(clean.Visible(err.Error())))
		}
		err = whole.Scan(r, by)
		r.Close()
		if err != nil {
			return nil, base.Failure(base.ExitFile, errors.New(clean.Visible(err.Error())))
		}
	}
	switch {
	case whole.Statements == 0 && o.fromText != "":
		return nil, base.Usage("-from: there is no statement at %s or after it", clean.Visible(o.fromText))
	case whole.Statements == 0:
		return nil, base.Usage("%s: no statement, only blanks or comments", clean.Visible(files[0]))
	case o.atomic && whole.Commits != nil:
		return nil, base.Usage("%s: this statement ends the transaction of -atomic on this engine",
			whole.Commits)
	case o.atomic && len(whole.Databases) > 0:
		return nil, base.Usage("%s: another database can't be in the transaction of -atomic",
			whole.Databases[0].Place)
	}
	return whole, nil
}

// showPlan lists what scripts do, by kind and name.
func (c *call) showPlan(plan *script.Plan, by *engine.Statements) error {
	words := map[statement.Action]string{
		statement.Makes: "makes", statement.Changes: "changes", statement.Drops: "drops",
		statement.Empties: "empties", statement.Fills: "fills",
	}
	var lines [][2]string
	for _, deed := range []statement.Action{
		statement.Drops, statement.Empties, statement.Makes, statement.Changes, statement.Fills,
	} {
		for _, e := range plan.Effects {
			if e.Deed != deed {
				continue
			}
			at := e.Place.String()
			if e.Times > 1 {
				at += fmt.Sprintf(", %d statements", e.Times)
			}
			lines = append(lines, [2]string{fmt.Sprintf("%-8s %s %s", words[deed], e.Kind, typedName(e.Name, by)), at})
		}
	}
	for _, r := range plan.Risks {
		lines = append(lines, [2]string{"may destroy: " + r.Why, r.Place.String()})
	}
	for _, d := range plan.Databases {
		lines = append(lines, [2]string{"goes on in the database " + by.Name(d.Database), d.Place.String()})
	}
	width := 0
	for _, line := range lines {
		width = max(width, utf8.RuneCountInString(line[0]))
	}
	for _, line := range lines {
		fmt.Fprintf(c.Stdout, "%-*s  %s\n", width, clean.Visible(line[0]), clean.Visible(line[1]))
	}
	c.Say("%s; nothing was sent", wording.Count(plan.Statements, "statement", "statements"))
	return nil
}

// typedName is a name as it must be typed.
func typedName(n statement.Name, by *engine.Statements) string {
	if n.Schema == "" {
		return by.Name(n.Name)
	}
	return by.Name(n.Schema) + "." + by.Name(n.Name)
}

// scriptLoad is scripts that are being sent.
type scriptLoad struct {
	*call
	options  loadOptions
	profile  *resolve.Profile
	opened   *check.Session
	plan     *script.Plan
	started  time.Time
	place    script.Place // of the statement that is sent
	rows     int64
	failures int
}

// askAgreement asks before scripts drop or empty existing things, and where the profile's guard asks.
func (l *scriptLoad) askAgreement(ctx context.Context) error {
	if l.options.yes {
		return nil
	}
	by := l.profile.Engine().Statements
	var lines []string
	destroys := l.plan.Destroys()
	there, err := l.existing(ctx, destroys)
	if err != nil {
		return err
	}
	for i, e := range destroys {
		if there[i] != "" {
			what := map[statement.Action]string{statement.Drops: "drops", statement.Empties: "empties"}[e.Deed]
			lines = append(lines, fmt.Sprintf("%s: %s the %s %s, which %s",
				e.Place, what, e.Kind, typedName(e.Name, by), there[i]))
		}
	}
	if stricter(l.options.guard, l.profile.Text(key.Guard)) == "ask" {
		for _, r := range l.plan.Risks {
			lines = append(lines, fmt.Sprintf("%s: %s: the profile's guard asks first", r.Place, r.Why))
		}
	}
	if len(lines) == 0 {
		return nil
	}
	const most = 20
	for i, line := range lines {
		if i == most {
			l.Say("and %d more (-dry-run lists all)", len(lines)-most)
			break
		}
		l.Say("%s", clean.Visible(line))
	}
	return l.confirm(ctx, "do it on "+clean.Word(l.profile.Called)+"?", "nothing was sent; to do it: -yes")
}

// existing says of each thing whether it is on the server: that it is, that it may be, or "".
func (l *scriptLoad) existing(ctx context.Context, things []script.PlannedAction) ([]string, error) {
	const yes, unknown = "is there", "may be there"
	found := make([]string, len(things))
	if len(things) == 0 {
		return found, nil
	}
	if l.profile.Engine().Statements.Catalogue == nil { // it can't be asked
		for i := range found {
			found[i] = unknown
		}
		return found, nil
	}
	server := at(l.profile, l.opened).server
	path, err := server.Path(ctx)
	if err != nil {
		return nil, base.Failure(base.ExitServer, err)
	}
	lists := make(map[*catalogue.Kind][]catalogue.Row)
	for i, e := range things {
		kind := catalogue.KindOf(e.Kind)
		if kind.Word != engine.KindDatabases && len(l.plan.Databases) > 0 {
			found[i] = unknown
			continue
		}
		if lists[kind] == nil {
			list, err := server.Read(ctx, kind, "")
			if err != nil {
				return nil, base.Failure(base.ExitFailed, err)
			}
			lists[kind] = list.Rows
		}
		switch is, known := catalogue.Has(kind, lists[kind], e.Kind, e.Name, path); {
		case is:
			found[i] = yes
		case !known:
			found[i] = unknown
		}
	}
	return found, nil
}

// send sends the scripts.
func (l *scriptLoad) send(ctx context.Context, files []string) error {
	o, by := l.options, l.profile.Engine().Statements
	show := l.progress(l.plan.Bytes)
	defer show.end()
	loader := &script.Loader{
		Job: statement.Job{
			Runner: l.opened.Runner, By: by, To: l, Timeout: o.ofStatement, KeepGoing: o.keepGoing, Atomic: o.atomic,
			Failed: func(f *statement.Failure) {
				show.clear()
				l.failures++
				l.tellFailure(script.Place{File: l.place.File, Line: f.Line, Column: f.Column}.String(), f)
			},
		},
		Connect: l.connect,
		From:    o.from,
		Begins: func(item *script.Item) {
			l.place = item.Place
			show.at(item.File)
			show.count.Add(1)
		},
		Said: func(words string) {
			show.clear()
			l.Say("%s", clean.Visible(words))
		},
	}
	folder, err := l.WorkDir()
	if err != nil {
		return err
	}
	options := script.Options{By: by, Outside: o.outside, Input: l.Stdin, Folder: folder}
	left := files
	for i, file := range files {
		left = files[i:]
		var r *script.Reader
		if r, err = script.Open(file, options); err != nil {
			break
		}
		show.reads(r.Bytes)
		err = loader.Run(ctx, r, i == 0, i == len(files)-1)
		show.endFile(r.Bytes())
		r.Close()
		if err != nil && !errors.Is(err, statement.ErrFailed) {
			break
		}
	}
	show.clear()
	return l.reportEnd(ctx, loader, left, err)
}

// connect continues in another database, over the same route and with the same account.
func (l *scriptLoad) connect(ctx context.Context, database string) (engine.Runner, error) {
	o := l.options.connectFlags
	field := l.Keys.Field(key.Database)
	value, err := field.ParseValue(database)
	if err != nil {
		return nil, err
	}
	o.database = ""
	o.over = append(append(base.Overrides(nil), o.over...), schema.Override{Field: field, Value: value})
	p, err := l.call.profile(l.Args[0], o)
	if err != nil {
		return nil, err
	}
	opened, err := l.open(ctx, p, o)
	if err != nil {
		return nil, err
	}
	l.opened.Close()
	l.opened, l.profile = opened, p
	return opened.Runner, nil
}

// reportEnd says what came of it.
func (l *scriptLoad) reportEnd(ctx context.Context, loader *script.Loader, files []string, err error) error {
	done := loader.Done
	var parts []string
	for _, made := range done.Made {
		parts = append(parts, wording.Count(made.N, made.Kind, plural(made.Kind)))
	}
	text := wording.Count(done.Statements, "statement", "statements")
	if l.rows > 0 {
		text += ", " + wording.Count(int(l.rows), "row", "rows")
	}
	if l.failures > 0 && l.options.keepGoing {
		text += fmt.Sprintf(", %d failed", l.failures)
	}
	if len(parts) > 0 {
		text += "; made " + strings.Join(parts, ", ")
	}
	text += "; " + shortTime(time.Since(l.started))
	switch {
	case err == nil:
		l.Say("loaded: %s", text)
		return nil
	case errors.Is(err, statement.ErrFailed) && l.options.keepGoing:
		l.Say("loaded, except what failed: %s", text)
		return base.Failure(base.ExitFailed, nil)
	case errors.Is(err, statement.ErrOpen):
		l.Say("%s. Done before that: %s", err, text)
		return base.Failure(base.ExitFailed, nil)
	}
	var stopped *script.StoppedError
	if !errors.As(err, &stopped) {
		return base.Failure(base.ExitFailed, errors.New(clean.Visible(err.Error())))
	}
	if !errors.Is(err, statement.ErrFailed) {
		l.Say("%s", clean.Visible(stopped.Error()))
	}
	code := base.Failure(base.ExitFailed, nil)
	if ctx.Err() != nil {
		code = base.Failure(base.ExitInterrupted, nil)
	}
	switch {
	case l.options.atomic && stopped.Unknown:
		l.Say("stopped: the server rolls the transaction back, nothing stays")
		return code
	case l.options.atomic:
		l.Say("stopped: the transaction is rolled back, nothing stays")
		return code
	case stopped.Unknown:
		l.Say("stopped at %s; it is not known whether that statement was done; look first. Done before: %s",
			clean.Visible(stopped.Place.String()), text)
	default:
		l.Say("stopped at %s, which was not done; done before: %s", clean.Visible(stopped.Place.String()), text)
	}
	if files[0] != "-" {
		l.Say("  try: %s", l.again(files, l.options, stopped.Place))
	}
	return code
}

// plural is the plural of a kind of things.
func plural(kind string) string {
	switch {
	case strings.HasSuffix(kind, "x"):
		return kind + "es"
	case strings.HasSuffix(kind, "y"):
		return strings.TrimSuffix(kind, "y") + "ies"
	}
	return kind + "s"
}

// Begin, Row, End and Notice receive the results of statements, and show no rows.
func (l *scriptLoad) Begin([]engine.Column) error { return nil }

// Row is not shown.
func (l *scriptLoad) Row([][]byte) error { return nil }

// End counts.
func (l *scriptLoad) End(d engine.Outcome) error {
	l.rows += max(0, d.Changed)
	return nil
}

// Notice says what the server says.
func (l *scriptLoad) Notice(n engine.Notice) { l.tellNotice(n) }
