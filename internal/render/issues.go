package render

import (
	"fmt"
	"io"
	"net/url"
	"strings"

	"gentleharbor/core/audit"
	"gentleharbor/core/finding"
)

// Issues writes an audit: each issue with its severity, place and code, and what to try; then the count.
func Issues(out io.Writer, noColour bool, issues []audit.Issue) error {
	r := NewReport(out, noColour)
	outcome := map[audit.Severity]finding.Outcome{
		audit.High:   finding.Fail,
		audit.Medium: finding.Warn,
		audit.Low:    finding.Skip,
	}
	const indent = 8
	blank := strings.Repeat(" ", indent)
	for _, i := range issues {
		fmt.Fprintf(out, "%s%s\n", r.paint.outcome(outcome[i.Severity], fmt.Sprintf("%-*s", indent, i.Severity)),
			r.wrap(i.Why, indent))
		fmt.Fprintf(out, "%s%s  %s\n", blank, r.paint.style("1", i.Place.String()), r.paint.style("2", string(i.Code)))
		for _, try := range i.Try {
			r.try(indent, try)
		}
		for _, step := range i.Do {
			r.label(indent, "do", r.paint.style("36", r.wrap(step, indent+labelWidth+2)))
		}
	}
	count := audit.Count(issues)
	if len(issues) > 0 {
		fmt.Fprintln(out)
	}
	_, err := fmt.Fprintf(out, "%d high, %d medium, %d low\n", count[audit.High], count[audit.Medium], count[audit.Low])
	return err
}

// The parts of SARIF 2.1.0 (OASIS, "Static Analysis Results Interchange Format") that an audit uses.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
		FullDescription  sarifText `json:"fullDescription"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine int `json:"startLine"`
	}
)

// SARIF writes an audit for tools that collect the results of analyses.
func SARIF(out io.Writer, version string, issues []audit.Issue) error {
	level := map[audit.Severity]string{audit.High: "error", audit.Medium: "warning", audit.Low: "note"}
	driver := sarifDriver{Name: "gharbor", Version: version, Rules: []sarifRule{}}
	run := sarifRun{Tool: sarifTool{driver}, Results: []sarifResult{}}
	index := make(map[string]int)
	for _, i := range issues {
		at, known := index[string(i.Code)]
		if !known {
			page, _ := finding.PageOf(i.Code)
			at = len(run.Tool.Driver.Rules)
			index[string(i.Code)] = at
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{
				ID:               string(i.Code),
				ShortDescription: sarifText{page.Summary},
				FullDescription:  sarifText{page.Text},
			})
		}
		text := i.Why
		if len(i.Try) > 0 {
			text += "\nTry: " + strings.Join(i.Try, "\n     ")
		}
		if len(i.Do) > 0 {
			text += "\nDo: " + strings.Join(i.Do, "\n    ")
		}
		physical := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Scheme: "file", Path: i.Place.File}).String()}}
		if i.Place.Line > 0 {
			physical.Region = &sarifRegion{i.Place.Line}
		}
		run.Results = append(run.Results, sarifResult{
			RuleID:    string(i.Code),
			RuleIndex: at,
			Level:     level[i.Severity],
			Message:   sarifText{text},
			Locations: []sarifLocation{{physical}},
		})
	}
	return JSON(out, sarifLog{
		Schema:  "https://json.schemastore.org/sarif-2.1.0.json",
		Version: "2.1.0",
		Runs:    []sarifRun{run},
	})
}
