package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"

	"gentleharbor/core/check"
	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// paint wraps text in a style where colour is allowed. The styles only repeat
// what the words say.
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

// Report writes a test's stages as they end, and its verdict.
type Report struct {
	out   io.Writer
	paint paint
	width int // 0: lines are not wrapped
}

// NewReport makes a report on out.
func NewReport(out io.Writer, noColour bool) *Report {
	return &Report{out: out, paint: paint(Colours(out, noColour)), width: Columns(out)}
}

// Head writes the line above the stages.
func (r *Report) Head(name, what string) { r.HeadIn(0, name, what) }

// HeadIn is Head with the name in a column of its own.
func (r *Report) HeadIn(width int, name, what string) {
	fmt.Fprintf(r.out, "%s  %s\n", r.paint.style("1", fmt.Sprintf("%-*s", width, name)), what)
}

// Stage writes one stage: a line, then cause, seen and try where it has a
// finding. The columns are stage (8), outcome (4), time (8) and detail.
func (r *Report) Stage(s check.Stage) {
	took := ""
	if s.Outcome != finding.Skip || s.Detail != "" {
		took = check.Duration(s.MS)
	}
	detail := s.Detail
	if s.Finding != nil {
		if detail != "" {
			detail += ": "
		}
		detail += string(s.Finding.Code)
	}
	head := fmt.Sprintf("  %-8s  %s  %8s", s.Stage, r.paint.outcome(s.Outcome, fmt.Sprintf("%-4s", s.Outcome)), took)
	const indent = 28
	if s.Finding == nil || s.Detail == "" {
		fmt.Fprintln(r.out, strings.TrimRight(head+"  "+r.wrap(detail, indent), " "))
	} else {
		fmt.Fprintln(r.out, head+"  "+r.wrap(s.Detail, indent))
	}
	if s.Finding != nil {
		const margin = 12
		if s.Detail != "" {
			r.label(margin, "code", string(s.Finding.Code))
		}
		r.Finding(margin, s.Finding)
	}
}

// Finding writes a finding's cause, what was seen and what to try, behind margin
// blanks. Its code is the caller's to write.
func (r *Report) Finding(margin int, f *finding.Finding) {
	indent := margin + 7
	r.label(margin, "cause", r.paint.style("1", r.wrap(f.Cause, indent)))
	for _, seen := range f.Seen {
		r.label(margin, "seen", r.wrap(seen, indent))
	}
	for _, try := range f.Try {
		r.label(margin, "try", r.paint.style("36", try))
	}
}

// label writes a line of a finding.
func (r *Report) label(margin int, label, text string) {
	fmt.Fprintf(r.out, "%*s%s  %s\n", margin, "", r.paint.style("2", fmt.Sprintf("%-5s", label)), text)
}

// wrap breaks text at spaces so that it fits beside a column of indent blanks.
func (r *Report) wrap(text string, indent int) string { return wrap(text, r.width, indent) }

// wrap breaks text at spaces into lines of width columns, those after the first
// behind indent blanks. width 0 is no terminal, whose lines stay whole.
func wrap(text string, width, indent int) string {
	room := width - indent - 1
	if width == 0 || room < 20 {
		return text
	}
	var lines []string
	for len(text) > 0 {
		runes := []rune(text)
		if len(runes) <= room {
			lines = append(lines, text)
			break
		}
		cut := strings.LastIndexByte(string(runes[:room+1]), ' ')
		if cut <= 0 {
			cut = len(string(runes[:room]))
		}
		lines = append(lines, strings.TrimRight(text[:cut], " "))
		text = strings.TrimLeft(text[cut:], " ")
	}
	return strings.Join(lines, "\n"+strings.Repeat(" ", indent))
}

// Verdict writes the last line.
func (r *Report) Verdict(report *check.Report) {
	text := report.Verdict()
	word, rest, _ := strings.Cut(text, ":")
	outcome := report.Outcome
	if report.Interrupted {
		outcome = finding.Warn
	}
	fmt.Fprintf(r.out, "%s: %s\n", r.paint.outcome(outcome, word), r.wrap(strings.TrimPrefix(rest, " "), len(word)+2))
}

// Line writes one line about a profile: a verdict in the colour of an outcome,
// and more.
func (r *Report) Line(outcome finding.Outcome, name, verdict, more string) {
	plain := name + ": " + verdict + " "
	rest, _ := strings.CutPrefix(r.wrap(plain+more, 4), plain)
	fmt.Fprintf(r.out, "%s: %s %s\n", r.paint.style("1", name), r.paint.outcome(outcome, verdict), rest)
}

// Conclusion writes a word in the colour of an outcome, and why.
func (r *Report) Conclusion(outcome finding.Outcome, word, why string) {
	fmt.Fprintf(r.out, "%s: %s\n", r.paint.outcome(outcome, word), r.wrap(why, len(word)+2))
}

// Try writes a line to try where those of a finding stand.
func (r *Report) Try(text string) {
	fmt.Fprintf(r.out, "%12s%s  %s\n", "", r.paint.style("2", fmt.Sprintf("%-5s", "try")), r.paint.style("36", text))
}

// JSON writes v, indented, with a line end. Field names are stable.
func JSON(out io.Writer, v any) error {
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); err != nil {
		return err
	}
	_, err := out.Write(escapeUnseen(text.Bytes()))
	return err
}

// escapeUnseen writes what could steer a terminal, or can't be seen on one, as an escape: \u202e.
// Such characters stand in JSON's strings alone (RFC 8259, 7).
func escapeUnseen(text []byte) []byte {
	if !bytes.ContainsFunc(text, func(r rune) bool { return r != '\n' && !clean.Printable(r) }) {
		return text
	}
	var b bytes.Buffer
	for _, r := range string(text) {
		switch {
		case r == '\n' || clean.Printable(r):
			b.WriteRune(r)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.Bytes()
}
