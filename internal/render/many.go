package render

import (
	"cmp"
	"fmt"
	"path/filepath"
	"strings"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
)

// Target is the engine and the address of a profile, in words.
type Target struct{ Engine, Where string }

func (t Target) String() string { return cmp.Or(t.Engine, "no engine") + " at " + t.Where }

// Many writes the reports of a run of many: for each that failed, the finding and the stages that are not ok (all
// with r.Full); then a table of all, then how many are ready. targets has the Target of each profile.
func (r *Report) Many(reports []*check.Report, targets []Target, summary check.Summary, strict bool) error {
	for i, report := range reports {
		if !report.Failed(strict) || report.Interrupted {
			continue
		}
		r.Head(report.Profile, targets[i].String())
		for _, s := range report.Stages {
			if r.Full || s.Finding != nil {
				r.Stage(s)
			}
		}
		for _, s := range report.Stages {
			if s.Finding != nil {
				r.Finding(2, s.Finding)
			}
		}
		fmt.Fprintln(r.out)
	}
	rows := make([][]string, len(reports))
	for i, one := range reports {
		first := "-"
		if s, ok := one.First(); ok {
			first = string(s.Finding.Code)
		}
		route := targets[i].Where // where it was not reached
		if one.Facts.Route != "" {
			route = shortRoute(one.Facts.Route)
		}
		rows[i] = []string{one.Profile, targets[i].Engine, route, one.Word(), first, check.Duration(one.MS)}
	}
	colour := func(row, column int, cell string) string {
		switch {
		case column != 3:
			return cell
		case reports[row].Interrupted:
			return r.paint.outcome(finding.Skip, cell)
		}
		return r.paint.outcome(reports[row].Outcome, cell)
	}
	headings := []string{"profile", "engine", "route", "verdict", "first finding", "time"}
	if err := r.table(headings, rows, 2, colour); err != nil {
		return err
	}
	line := summary.String()
	if strict && summary.Warned > 0 {
		line += "; a warning counts as a failure (-strict)"
	}
	_, err := fmt.Fprintln(r.out, "\n"+r.wrap(line, 0))
	return err
}

// shortRoute is a route for a table.
func shortRoute(route string) string {
	if at, hops, ok := strings.Cut(route, " through "); ok {
		n := strings.Count(hops, ", then ") + 1
		return fmt.Sprintf("%s (%d %s)", shortRoute(at), n, map[bool]string{true: "hop", false: "hops"}[n == 1])
	}
	route, _, _ = strings.Cut(route, " in container ") // its profile says so
	if path, ok := strings.CutPrefix(route, "socket "); ok {
		return "socket " + ShortPath(path)
	}
	return route
}

// ShortPath removes the folders of a long path, so that a table fits on a screen. JSON has the whole path.
func ShortPath(path string) string {
	const room = 28
	if !strings.HasPrefix(path, "/") || len(path) <= room {
		return path
	}
	return "…/" + filepath.Base(path)
}
