package render

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/finding"
)

// The elements of a JUnit report, as CI systems read them: a suite for a profile, a case for a stage. Times are in
// seconds.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Skipped  int          `xml:"skipped,attr"`
		Time     string       `xml:"time,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name       string           `xml:"name,attr"`
		Tests      int              `xml:"tests,attr"`
		Failures   int              `xml:"failures,attr"`
		Errors     int              `xml:"errors,attr"`
		Skipped    int              `xml:"skipped,attr"`
		Time       string           `xml:"time,attr"`
		Properties *junitProperties `xml:"properties"`
		Cases      []junitCase      `xml:"testcase"`
	}
	junitProperties struct {
		List []junitProperty `xml:"property"`
	}
	junitProperty struct {
		Name  string `xml:"name,attr"`
		Value string `xml:"value,attr"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitFailure `xml:"failure"`
		Error   *junitSkipped `xml:"error"`
		Skipped *junitSkipped `xml:"skipped"`
		Out     string        `xml:"system-out,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr,omitempty"`
	}
)

// JUnit writes reports as JUnit XML. A warning is a case's output, or with
// strict a failure.
func JUnit(out io.Writer, reports []*check.Report, took time.Duration, strict bool) error {
	all := junitSuites{Name: "gharbor", Time: seconds(float64(took.Microseconds()) / 1000)}
	for _, r := range reports {
		suite := junitSuite{Name: r.Profile, Time: seconds(r.MS), Properties: properties(r)}
		for _, s := range r.Stages {
			one := junitCaseOf(r, s, strict)
			if r.Interrupted && suite.Errors == 0 && s.Outcome == finding.Skip {
				one.Skipped, one.Error = nil, &junitSkipped{Message: "stopped by Ctrl-C"}
				suite.Errors++
			}
			suite.Tests++
			if one.Failure != nil {
				suite.Failures++
			}
			if one.Skipped != nil {
				suite.Skipped++
			}
			suite.Cases = append(suite.Cases, one)
		}
		all.Tests += suite.Tests
		all.Failures += suite.Failures
		all.Skipped += suite.Skipped
		all.Errors += suite.Errors
		all.Suites = append(all.Suites, suite)
	}
	if _, err := io.WriteString(keepLines(out), xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(out)
	encoder.Indent("", "  ")
	if err := encoder.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(out, "\n")
	return err
}

func junitCaseOf(r *check.Report, s check.Stage, strict bool) junitCase {
	one := junitCase{Class: "gharbor." + r.Profile, Name: s.Stage, Time: seconds(s.MS)}
	switch {
	case s.Outcome == finding.Skip:
		one.Skipped = &junitSkipped{Message: s.Detail}
	case s.Outcome == finding.Fail, s.Outcome == finding.Warn && strict:
		one.Failure = &junitFailure{Message: s.Finding.Cause, Type: string(s.Finding.Code), Text: evidence(s)}
	case s.Outcome == finding.Warn:
		one.Out = fmt.Sprintf("%s\nwarning %s: %s\n%s", s.Detail, s.Finding.Code, s.Finding.Cause, evidence(s))
	default:
		one.Out = s.Detail
	}
	return one
}

// properties are the facts that identify a server.
func properties(r *check.Report) *junitProperties {
	f := r.Facts
	var list []junitProperty
	for _, p := range []junitProperty{{"engine", f.Engine}, {"version", f.Version}, {"route", f.Route}, {"user", f.User},
		{"database", f.Database}, {"tls", f.TLS}, {"server_id", f.ServerID}} {
		if p.Value != "" {
			list = append(list, p)
		}
	}
	return &junitProperties{list}
}

func evidence(s check.Stage) string {
	var b strings.Builder
	for _, seen := range s.Finding.Seen {
		b.WriteString("seen: " + seen + "\n")
	}
	for _, try := range s.Finding.Try {
		b.WriteString("try: " + try + "\n")
	}
	for _, step := range s.Finding.Do {
		b.WriteString("do: " + step + "\n")
	}
	return b.String()
}

func seconds(ms float64) string { return fmt.Sprintf("%.4f", ms/1000) }
