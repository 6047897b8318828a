package main

import (
	"bufio"
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"gentleharbor/core/finding"
	"gentleharbor/internal/testkit"
)

var update = flag.Bool("update", false, "write what the examples print into docs/")

// TestDocs runs every console example of the docs against the servers of
// `gharbor demo -keep`, in order, and compares what they print. Numbers,
// fingerprints and the demo's folder differ from run to run.
func TestDocs(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p := testkit.NewProgram(t)
	home := keepDemo(t, p)
	work := t.TempDir()
	pages, _ := filepath.Glob("../../docs/*.md")
	for _, page := range pages {
		data, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		parts := strings.Split(string(data), "```")
		for i := 1; i < len(parts); i += 2 {
			body, ok := strings.CutPrefix(parts[i], "console\n")
			if !ok {
				continue
			}
			var now strings.Builder
			for line := range strings.SplitSeq(body, "\n") {
				command, ok := strings.CutPrefix(line, "$ ")
				if !ok {
					continue
				}
				fmt.Fprintf(&now, "$ %s\n%s", command, shell(t, p, home, work, command))
			}
			if plain(now.String()) != plain(body) && !*update {
				t.Errorf("%s: an example prints\n%s\nand the page says\n%s", page, now.String(), body)
			}
			parts[i] = "console\n" + now.String()
		}
		if *update {
			if err := os.WriteFile(page, []byte(strings.Join(parts, "```")), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// keepDemo leaves the demo's servers up until the test ends.
func keepDemo(t *testing.T, p *testkit.Program) (home string) {
	t.Helper()
	cmd := exec.Command(p.Path, "demo", "-keep")
	cmd.Env = p.Env
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, rest, ok := strings.Cut(lines.Text(), "export GHARBOR_HOME="); ok {
			path, engines, _ := strings.Cut(rest, " GHARBOR_ENGINES=")
			home = path
			p.Setenv("GHARBOR_ENGINES", engines)
			break
		}
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		for lines.Scan() {
		}
		cmd.Wait()
		if _, err := os.Stat(home); err == nil {
			t.Errorf("the demo left %s behind", home)
		}
	})
	return home
}

func shell(t *testing.T, p *testkit.Program, home, work, command string) string {
	t.Helper()
	cmd := exec.Command("sh", "-c", command)
	cmd.Dir = work
	cmd.Env = append(p.Env, "GHARBOR_HOME="+home, "PATH="+filepath.Dir(p.Path)+":"+os.Getenv("PATH"))
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.Run() // many examples are of failures
	if strings.Contains(out.String(), "goroutine ") {
		t.Errorf("%s: %s", command, out.String())
	}
	text := strings.ReplaceAll(out.String(), home, "/home/warden/.config/gentle-harbor")
	return strings.ReplaceAll(text, work+"/", "")
}

var varies = regexp.MustCompile(`brief-[a-z2-7]{10}|SHA256:[A-Za-z0-9+/]{43}|([0-9A-F]{2}:){31}[0-9A-F]{2}|[+-]?[0-9]+([.][0-9]+)*`)

// cut is the beginning of a cell that a table has no room for: how much is left depends on the columns of times.
var cut = regexp.MustCompile(`[^\s]*…`)

// plain is a text without what differs from run to run.
func plain(s string) string {
	s = strings.Join(strings.Fields(varies.ReplaceAllString(cut.ReplaceAllString(s, "…"), "N")), " ")
	return strings.ReplaceAll(s, "N ms", "N s") // a busy machine takes longer
}

// TestFindingsPage keeps docs/findings.md the same as what explain prints.
func TestFindingsPage(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	b.WriteString("# All findings\n\nWhat `gharbor explain CODE` prints, for every code. A code is stable; its first word says what it is about,\nand mostly is the stage that it comes from.\n")
	for _, page := range finding.Pages() {
		passing := ""
		if page.Passing {
			passing = "; may pass by itself"
		}
		fmt.Fprintf(&b, "\n## %s\n\n*%s at %s%s.* %s\n\n%s\n", page.Code, page.Outcome, strings.Join(page.Stages, " or "), passing, page.Summary, page.Text)
	}
	const path = "../../docs/findings.md"
	if *update {
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if data, err := os.ReadFile(path); err != nil || string(data) != b.String() {
		t.Errorf("docs/findings.md is not what explain prints; go test ./cmd/gharbor -run FindingsPage -update")
	}
}
