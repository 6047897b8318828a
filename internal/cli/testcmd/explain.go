package testcmd

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/render"
)

func Explain() *base.Command {
	return &base.Command{
		Name: "explain", Quick: true, Args: "[CODE]", Summary: "explain a finding, or list all of them",
		Examples: []string{"gharbor explain", "gharbor explain login.password", "gharbor explain login"},
		MaxArgs:  1,
		Run: run(func(_ context.Context, c *Call) error {
			if len(c.Args) == 0 {
				return c.explainAll("")
			}
			page, ok := finding.PageOf(finding.Code(c.Args[0]))
			if ok {
				passing := ""
				if page.Passing {
					passing = ", may go away by itself"
				}
				head := fmt.Sprintf("%s (%s at %s%s)", page.Code, page.Outcome, strings.Join(page.Stages, " or "), passing)
				width := render.PageWidth(c.Stdout)
				_, err := fmt.Fprintf(c.Stdout, "%s\n%s\n\n%s\n", head, render.Fit(page.Summary, width),
					render.Fit(page.Text, width))
				return err
			}
			var codes []string
			for _, p := range finding.Pages() {
				if p.Code.Area() == c.Args[0] {
					return c.explainAll(c.Args[0])
				}
				codes = append(codes, string(p.Code))
			}
			text := "no code of that name"
			if near := nearest.Name(c.Args[0], codes); near != "" {
				text += fmt.Sprintf("; did you mean %q?", near)
			}
			return base.Failure(base.ExitUsage, fmt.Errorf("%s", text), "gharbor explain")
		}),
	}
}

// explainAll lists the codes of an area, "" for all.
func (c *Call) explainAll(area string) error {
	var b bytes.Buffer
	last := ""
	for _, p := range finding.Pages() {
		group := p.Code.Area()
		if area != "" && group != area {
			continue
		}
		if last != "" && group != last {
			b.WriteByte('\n')
		}
		last = group
		fmt.Fprintf(&b, "%-27s %-4s  %s\n", p.Code, p.Outcome, p.Summary)
	}
	_, err := c.Stdout.Write(b.Bytes())
	return err
}
