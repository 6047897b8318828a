package render

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
)

// Many writes the reports of a run of many: those that failed in full, then a
// table of all, then how many are ready. heads says what each profile is.
func Many(out io.Writer, noColour bool, reports []*check.Report, heads []string, summary check.Summary,
	strict bool) error {
	for i, r := range reports {
		if !r.Failed(strict) || r.Interrupted {
			continue
		}
		full := NewReport(out, noColour)
		full.Head(r.Profile, heads[i])
		for _, s := range r.Stages {
			full.Stage(s)
		}
		full.Verdict(r)
		fmt.Fprintln(out)
	}
	rows := make([][]string, len(reports))
	for i, r := range reports {
		first := "-"
		if s, ok := r.First(); ok {
			first = string(s.Finding.Code)
		}
		rows[i] = []string{r.Profile, r.Facts.Engine, shortRoute(r.Facts.Route), r.Word(), first, check.Duration(r.MS)}
	}
	paint := paint(Colours(out, noColour))
	colour := func(row, column int, cell string) string {
		switch {
		case column != 3:
			return cell
		case reports[row].Interrupted:
			return paint.outcome(finding.Skip, cell)
		}
		return paint.outcome(reports[row].Outcome, cell)
	}
	if err := table(out, noColour, []string{"profile", "engine", "route", "verdict", "first finding", "time"}, rows,
		colour); err != nil {
		return err
	}
	line := "\n" + summary.String()
	if strict && summary.Warned > 0 {
		line += "; a warning counts as a failure (-strict)"
	}
	_, err := fmt.Fprintln(out, line)
	return err
}

// shortRoute is a route for a table.
func shortRoute(route string) string {
	if at, hops, ok := strings.Cut(route, " through "); ok {
		n := strings.Count(hops, ", then ") + 1
		return fmt.Sprintf("%s (%d %s)", shortRoute(at), n, map[bool]string{true: "hop", false: "hops"}[n == 1])
	}
	route, _, _ = strings.Cut(route, " in container ") // its profile says so
	if route == "" {
		return "-"
	}
	if path, ok := strings.CutPrefix(route, "socket "); ok {
		return "socket " + ShortPath(path)
	}
	return route
}

// ShortPath leaves the folders of a long path out: a table is to fit beside
// others on a screen, and JSON has the whole.
func ShortPath(path string) string {
	const room = 28
	if !strings.HasPrefix(path, "/") || len(path) <= room {
		return path
	}
	return "…/" + filepath.Base(path)
}

// FailedLines writes one line for each report that failed, and nothing where
// all is well.
func FailedLines(out io.Writer, reports []*check.Report, strict bool) error {
	var b bytes.Buffer
	for _, r := range reports {
		s, ok := r.First()
		switch {
		case r.Interrupted:
			fmt.Fprintf(&b, "%s: not tested to the end\n", r.Profile)
		case ok && r.Failed(strict):
			fmt.Fprintf(&b, "%s: %s: %s at stage %s: %s\n", r.Profile, r.Word(), s.Finding.Code, s.Stage, s.Finding.Cause)
		}
	}
	_, err := out.Write(b.Bytes())
	return err
}
