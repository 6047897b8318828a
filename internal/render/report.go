package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// paint puts a text in a style where colour is allowed. Styles only repeat what the words say.
type paint bool

func (p paint) style(code, s string) string {
	if !p {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

func (p paint) outcome(o finding.Outcome, s string) string {
	switch o {
	case finding.OK:
		return p.style("32", s)
	case finding.Warn:
		return p.style("33;1", s)
	case finding.Fail:
		return p.style("31;1", s)
	}
	return p.style("2", s)
}

// narrow is the width of a page that is not written to a terminal.
const narrow = 80

// PageWidth is the width of help and pages on out: that of its terminal, and at most that of a page.
func PageWidth(out io.Writer) int { return min(pageWidth(out), narrow) }

// pageWidth is the number of columns of a page on out.
func pageWidth(out io.Writer) int {
	if columns := Columns(out); columns > 0 {
		return columns
	}
	return narrow
}

// Report writes a test: a line for each reached stage, then the findings, the facts and the verdict.
type Report struct {
	// Full shows details and observations without cutting them.
	Full bool

	out   io.Writer
	paint paint
	width int
	whole bool // commands stay on one line: they go to no terminal
}

// NewReport makes a report on out.
func NewReport(out io.Writer, noColour bool) *Report {
	return &Report{
		out:   out,
		paint: paint(Colours(out, noColour)),
		width: pageWidth(out),
		whole: !IsTerminal(out),
	}
}

// Head writes the line above the stages.
func (r *Report) Head(name, what string) { r.HeadIn(0, name, what) }

// HeadIn is Head with the name in a column.
func (r *Report) HeadIn(width int, name, what string) {
	name = fmt.Sprintf("%-*s", width, name)
	fmt.Fprintf(r.out, "%s  %s\n", r.paint.style("1", name), r.wrap(what, utf8.RuneCountInString(name)+2))
}

// detailColumn is where a stage's detail begins, behind its name (8), outcome (4) and time (7).
const detailColumn = 27

// Stage writes the line of a reached stage: its name, outcome, time, and result in a few words.
func (r *Report) Stage(s check.Stage) {
	if s.Outcome == finding.Skip {
		return
	}
	detail := s.Detail
	if s.Finding != nil {
		detail = string(s.Finding.Code)
		if s.Detail != "" {
			detail += ": " + s.Detail
		}
	}
	if r.Full {
		detail = r.wrap(detail, detailColumn)
	} else {
		detail = cut(shortPaths(detail), r.width-detailColumn)
	}
	fmt.Fprintf(r.out, "  %-8s  %s  %7s  %s\n", s.Stage,
		r.paint.outcome(s.Outcome, fmt.Sprintf("%-4s", s.Outcome)), check.Duration(s.MS), detail)
}

// End writes what is below the stages: each finding, the facts of a ready profile, the stages that were not reached,
// and the verdict.
func (r *Report) End(report *check.Report) {
	for _, s := range report.Stages {
		if s.Finding != nil {
			fmt.Fprintln(r.out)
			r.Finding(2, s.Finding)
		}
	}
	if report.Interrupted {
		fmt.Fprintln(r.out, r.paint.outcome(finding.Warn, "stopped"))
		return
	}
	if report.Outcome != finding.Fail {
		r.facts(report.Facts)
	}
	fmt.Fprintln(r.out)
	if missed := report.NotReached(); len(missed) > 0 {
		const label = "not reached: "
		fmt.Fprintln(r.out, r.paint.style("2", label+r.wrap(strings.Join(missed, ", "), len(label))))
	}
	r.verdict(report)
}

// Show writes a test that is over.
func (r *Report) Show(name, what string, report *check.Report) {
	r.Head(name, what)
	for _, s := range report.Stages {
		r.Stage(s)
	}
	r.End(report)
}

// WriteStage writes one stage and its finding.
func (r *Report) WriteStage(s check.Stage) {
	r.Stage(s)
	if s.Finding != nil {
		r.Finding(2, s.Finding)
	}
}

// maxSeen is how many observations of a finding are shown: nobody reads more. Full shows all.
const maxSeen = 3

// Finding writes a finding's cause, what was seen, the commands to try and the steps to do, indented by margin
// blanks. The caller writes the code.
func (r *Report) Finding(margin int, f *finding.Finding) {
	indent := margin + labelWidth + 2
	r.label(margin, "cause", r.paint.style("1", r.wrap(f.Cause, indent)))
	for i, seen := range f.Seen {
		if i == maxSeen && len(f.Seen) > maxSeen && !r.Full {
			r.label(margin, "seen", fmt.Sprintf("… %d more with -full", len(f.Seen)-i))
			break
		}
		r.label(margin, "seen", r.wrap(seen, indent))
	}
	for _, try := range f.Try {
		r.try(margin, try)
	}
	for _, step := range f.Do {
		r.label(margin, "do", r.paint.style("36", r.wrap(step, indent)))
	}
}

// labelWidth is the width of the longest label, "cause".
const labelWidth = 5

// label writes a line of a finding.
func (r *Report) label(margin int, label, text string) {
	fmt.Fprintf(r.out, "%*s%s  %s\n", margin, "", r.paint.style("2", fmt.Sprintf("%-*s", labelWidth, label)), text)
}

// Try writes a command to try in the form of a finding's.
func (r *Report) Try(text string) { r.try(2, text) }

func (r *Report) try(margin int, text string) {
	indent := margin + labelWidth + 2
	if r.whole {
		r.label(margin, "try", text)
		return
	}
	r.label(margin, "try", r.paint.style("36", fitTry(text, r.width, indent)))
}

// Next suggests what to do with a ready profile, and how to avoid typing its password.
func (r *Report) Next(profile string, typed bool) {
	if typed {
		r.Follows("next: ", "gharbor secret keep "+profile+"   # so that the password is not typed again")
	}
	r.Follows("next: ", "gharbor browse "+profile+"   # or query, load, with, export")
}

// Follows writes a label and a command that follows from a report.
func (r *Report) Follows(label, command string) {
	if !r.whole {
		command = fitTry(command, r.width, utf8.RuneCountInString(label))
	}
	fmt.Fprintln(r.out, r.paint.style("2", label)+command)
}

// wrap breaks a text at blanks so that it fits beside a column of indent blanks.
func (r *Report) wrap(text string, indent int) string { return wrap(text, r.width, indent) }

// verdict writes the last line.
func (r *Report) verdict(report *check.Report) {
	word, rest, _ := strings.Cut(report.Verdict(), ": ")
	r.Conclusion(report.Outcome, word, rest)
}

// Line writes one line about a profile: a verdict in the colour of an outcome, and a text.
func (r *Report) Line(outcome finding.Outcome, name, verdict, more string) {
	plain := name + ": " + verdict + " "
	rest, _ := strings.CutPrefix(r.wrap(plain+more, 2), plain)
	fmt.Fprintf(r.out, "%s: %s %s\n", r.paint.style("1", name), r.paint.outcome(outcome, verdict), rest)
}

// Conclusion writes a word in the colour of an outcome, and why.
func (r *Report) Conclusion(outcome finding.Outcome, word, why string) {
	fmt.Fprintf(r.out, "%s: %s\n", r.paint.outcome(outcome, word), r.wrap(why, len(word)+2))
}

// Brief writes one line for each test; failing leaves out those that are ready.
func (r *Report) Brief(reports []*check.Report, strict, failing bool) {
	width := 0
	for _, report := range reports {
		width = max(width, utf8.RuneCountInString(report.Profile))
	}
	for _, report := range reports {
		if failing && !report.Interrupted && !report.Failed(strict) {
			continue
		}
		verdict := fmt.Sprintf("%-10s", report.Word())
		line := fmt.Sprintf("%-*s  %s  %s", width, report.Profile, verdict, briefLine(report))
		line = cut(line, r.width)
		if !report.Interrupted {
			line = strings.Replace(line, verdict, r.paint.outcome(report.Outcome, verdict), 1)
		}
		fmt.Fprintln(r.out, strings.TrimRight(line, " "))
	}
}

// briefLine is the result of a test in one line.
func briefLine(report *check.Report) string {
	first, some := report.First()
	switch {
	case report.Interrupted:
		return ""
	case some:
		return fmt.Sprintf("%s: %s", first.Finding.Code, first.Finding.Cause)
	}
	return report.Summary()
}

// shortPaths removes the folders of long paths.
func shortPaths(text string) string {
	words := strings.Split(text, " ")
	for i, word := range words {
		path := strings.TrimRight(word, ",;:")
		words[i] = ShortPath(path) + word[len(path):]
	}
	return strings.Join(words, " ")
}

// Facts writes the facts of a ready profile, as a part of its report.
func (r *Report) Facts(report *check.Report) { r.facts(report.Facts) }

// facts writes the facts of a ready profile, one kind on a line.
func (r *Report) facts(f *engine.Facts) {
	fmt.Fprintln(r.out)
	width := 0
	all := slices.DeleteFunc(f.Lines(), func(line [2]string) bool { return line[1] == "" })
	for _, line := range all {
		width = max(width, len(line[0]))
	}
	for _, line := range all {
		fmt.Fprintf(r.out, "  %s  %s\n", r.paint.style("2", fmt.Sprintf("%-*s", width, line[0])), r.wrap(line[1], width+4))
	}
}
