package querycmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/statement"
	"gentleharbor/internal/render"
)

// sessionWord is one of the session's own words.
type sessionWord struct {
	name, args string
	what       string
	example    string
	do         func(s *session, ctx context.Context, args []string) error
}

// words are the session's own words, in the order of /help.
func words() []sessionWord {
	return []sessionWord{
		{"browse", "[KIND] [PATTERN]", "what is on the server, as gharbor browse shows it", "/browse tables 'sight*'",
			(*session).browseWord},
		{"use", "DATABASE", "go on in another database", "/use tides", (*session).useWord},
		{"profile", "NAME", "go on with another profile", "/profile moult", (*session).profileWord},
		{"load", "FILE", "run the statements of a file", "/load report.sql", (*session).loadWord},
		{"out", "FILE | -", "write results to a new file; - for this terminal", "/out counts.csv", (*session).outWord},
		{"format", "WORD", "how results are written", "/format json", (*session).formatWord},
		{"stacked", "on | off", "a table with one value on each line", "/stacked on", (*session).stackedWord},
		{"clock", "on | off", "how long each statement takes", "/clock off", (*session).clockWord},
		{"more", "", "the next rows of the last result", "/more", func(s *session, _ context.Context, _ []string) error {
			return s.showMore()
		}},
		{"let", "[NAME=VALUE]", "a value for {NAME} in statements; only NAME to type it unseen", "/let bird=dunlin",
			(*session).letWord},
		{"again", "[N]", "run the last statement again, or number N of /history", "/again 3", (*session).againWord},
		{"every", "TIME", "run the last statement again and again; any key ends it", "/every 5s", (*session).everyWord},
		{"history", "[PATTERN]", "the statements of this session; with a PATTERN also those of before", "/history sighting",
			(*session).historyWord},
		{"who", "", "who you are, where, and how safely", "/who", (*session).whoWord},
		{"guard", "[ask | read-only]", "make the guard stricter", "/guard ask", (*session).guardWord},
		{"help", "[WORD]", "the words, or one of them", "/help out", (*session).helpWord},
		{"leave", "", "end the session", "/leave", func(s *session, _ context.Context, _ []string) error {
			return s.leave()
		}},
	}
}

// word does what one of the words asks for.
func (s *session) word(ctx context.Context, line string) error {
	if !strings.HasPrefix(line, "/let ") {
		s.past.say(line)
	}
	if line == "/" {
		if s.by.Lexis.Blocks {
			return errors.New("/ ends a block of code, and none was typed; /help lists the session's words")
		}
		return errors.New("a word follows the /; /help lists them")
	}
	args, err := fields(line[1:])
	if err != nil {
		return err
	}
	one, err := find(args[0])
	if err != nil {
		return err
	}
	return one.do(s, ctx, args[1:])
}

// find returns the word of a name, or of the beginning of one.
func find(name string) (sessionWord, error) {
	var fit []sessionWord
	var names []string
	for _, w := range words() {
		if w.name == name {
			return w, nil
		}
		if strings.HasPrefix(w.name, name) {
			fit = append(fit, w)
		}
		names = append(names, w.name)
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(fit) > 1:
		var all []string
		for _, w := range fit {
			all = append(all, "/"+w.name)
		}
		return sessionWord{}, fmt.Errorf("/%s may be %s", clean.Line(name, 20), strings.Join(all, " or "))
	}
	if near := nearest.Name(name, names); near != "" {
		return sessionWord{}, fmt.Errorf("there is no word /%s; did you mean /%s?", clean.Line(name, 20), near)
	}
	return sessionWord{}, fmt.Errorf("there is no word /%s; /help lists them", clean.Line(name, 20))
}

// fields are the words of a line; a text in quotes is one word.
func fields(line string) ([]string, error) {
	var all []string
	var one strings.Builder
	quote, begun := rune(0), false
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			one.WriteRune(r)
		case r == '\'' || r == '"':
			quote, begun = r, true
		case r == ' ' || r == '\t':
			if begun {
				all = append(all, one.String())
				one.Reset()
			}
			begun = false
		default:
			one.WriteRune(r)
			begun = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("%c is not closed", quote)
	}
	if begun {
		all = append(all, one.String())
	}
	return all, nil
}

// needs is the error for a word with the wrong arguments.
func needs(name string) error {
	w, err := find(name)
	if err != nil {
		return err
	}
	return fmt.Errorf("expected /%s %s, such as %s", w.name, w.args, w.example)
}

// onOff reads a switch.
func onOff(name string, args []string, into *bool) error {
	if len(args) != 1 || args[0] != "on" && args[0] != "off" {
		return needs(name)
	}
	*into = args[0] == "on"
	return nil
}

func (s *session) helpWord(_ context.Context, args []string) error {
	list := words()
	if len(args) > 0 {
		one, err := find(strings.TrimPrefix(args[0], "/"))
		if err != nil {
			return err
		}
		list = []sessionWord{one}
	}
	var rows [][]string
	for _, w := range list {
		rows = append(rows, []string{strings.TrimSpace("/" + w.name + " " + w.args), w.what, w.example})
	}
	if err := render.Table(s.Stdout, s.NoColour, []string{"word", "what it does", "example"}, rows); err != nil {
		return err
	}
	if len(args) == 0 {
		s.Say("Enter runs a statement once it has its end: %s", s.end())
		s.Say("Ctrl-C drops what is typed, or cancels what runs")
	}
	return nil
}

func (s *session) formatWord(_ context.Context, args []string) error {
	if len(args) != 1 {
		return needs("format")
	}
	if err := s.set.form.set(args[0]); err != nil {
		return err
	}
	if args[0] != "table" {
		s.set.stacked = false
	}
	return nil
}

func (s *session) stackedWord(_ context.Context, args []string) error {
	if err := onOff("stacked", args, &s.set.stacked); err != nil {
		return err
	}
	if s.set.stacked {
		s.set.format = ""
	}
	return nil
}

func (s *session) clockWord(_ context.Context, args []string) error {
	return onOff("clock", args, &s.set.clock)
}

func (s *session) letWord(ctx context.Context, args []string) error {
	if len(args) == 0 {
		for _, name := range slices.Sorted(maps.Keys(s.values)) {
			s.Say("{%s}", name)
		}
		if len(s.values) == 0 {
			return errors.New("there are no values yet, such as /let bird=dunlin for {bird} in a statement")
		}
		return nil
	}
	name, value, given := strings.Cut(strings.Join(args, " "), "=")
	if !syntax.ValidName(name) {
		return errors.New("expected /let NAME=VALUE: " + syntax.NameRule)
	}
	if !given {
		typed, err := s.Secret(ctx, "the value of {"+name+"}")
		if err != nil {
			return err
		}
		value = typed.Disclose()
	}
	s.values[name] = &value
	s.job.Values = s.values
	return nil
}

func (s *session) againWord(ctx context.Context, args []string) error {
	text, err := s.statementFor(args)
	if err != nil {
		return err
	}
	text += s.ending(text)
	if p, err := one(text, s.by); err == nil && !statement.HasSecret(p.Words, s.by) {
		s.Say("%s", clean.Visible(strings.TrimSuffix(text, ";")))
	}
	return s.line(ctx, text)
}

// ending is the end for an earlier statement that lacks one.
func (s *session) ending(text string) string {
	if _, err := one(text, s.by); err == nil {
		return ""
	}
	if s.by.Lexis.Blocks && strings.HasSuffix(strings.TrimSpace(text), ";") {
		return "\n/"
	}
	return ";"
}

// statementFor is the last statement, or the one with a number.
func (s *session) statementFor(args []string) (string, error) {
	switch {
	case len(args) == 0 && len(s.runs) == 0:
		return "", errors.New("no statement was run yet in this session")
	case len(args) == 0:
		return s.runs[len(s.runs)-1].text, nil
	}
	n, err := strconv.Atoi(args[0])
	if text, ok := s.past.statementAt(n); ok && err == nil && len(args) == 1 {
		return text, nil
	}
	if err != nil || n < 1 || n > len(s.runs) || len(args) > 1 {
		return "", fmt.Errorf("expected the number of a statement, from 1 to %d; /history shows them, and /history "+
			"PATTERN those of before", len(s.runs))
	}
	return s.runs[n-1].text, nil
}

func (s *session) historyWord(_ context.Context, args []string) error {
	pattern := strings.ToLower(strings.Join(args, " "))
	var rows [][]string
	if pattern != "" || len(s.runs) == 0 {
		rows = s.past.find(pattern)
	}
	for i, r := range s.runs {
		if !strings.Contains(strings.ToLower(r.text), pattern) {
			continue
		}
		text := oneLine(r.text)
		if r.secret {
			text = "(a statement with a password)"
		}
		rows = append(rows, []string{
			strconv.Itoa(i + 1), r.at.Format(time.TimeOnly), cmp.Or(r.end, shortTime(r.took)), text,
		})
	}
	if len(rows) > 0 {
		return render.Table(s.Stdout, s.NoColour, []string{"number", "at", "took", "statement"}, rows)
	}
	if pattern == "" {
		return errors.New("no statement was run yet, in this session or before")
	}
	return errors.New("no statement has that in it, in this session or before")
}

func (s *session) whoWord(context.Context, []string) error {
	text := render.NewReport(s.Stdout, s.NoColour)
	text.Facts(s.opened.Report)
	return nil
}

func (s *session) guardWord(ctx context.Context, args []string) error {
	if len(args) == 0 {
		s.Say("guard: %s", s.guard)
		return nil
	}
	if len(args) != 1 || rank(args[0]) == 0 && args[0] != "none" {
		return needs("guard")
	}
	if rank(args[0]) < rank(s.guard) {
		return fmt.Errorf("the guard is %s, and can only be made stricter", s.guard)
	}
	s.guard = args[0]
	if s.guard == "read-only" {
		return s.job.Prepare(ctx, true)
	}
	return nil
}
