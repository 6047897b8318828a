package base

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/intake"
	"gentleharbor/core/profile/schema"
	"gentleharbor/internal/render"
)

func Help() *Command {
	return &Command{
		Name: "help", Quick: true, Args: "[COMMAND [VERB]]", Summary: "the list of commands, or one command in full",
		Examples: []string{"gharbor help", "gharbor help add"},
		MaxArgs:  3,
		Run: func(_ context.Context, c *Call) error {
			if len(c.Args) == 0 {
				return overview(c.Stdout, c.Makers)
			}
			cmd, rest, err := choice(c.Makers, c.Args)
			switch {
			case err != nil:
				return err
			case len(rest) > 0:
				return Usage("help takes a command and its verb")
			case cmd.Verbs != nil && cmd.Run == nil:
				return groupHelp(c.Stdout, cmd)
			}
			return commandHelp(c.Stdout, c.Keys, cmd)
		},
	}
}

// show writes help in lines that fit.
func show(out io.Writer, b *bytes.Buffer) error {
	width := render.PageWidth(out)
	text, examples, _ := strings.Cut(b.String(), examplesHead)
	text = render.Fit(text, width) + "\n"
	if examples != "" {
		text += examplesHead
		for line := range strings.Lines(examples) {
			text += render.FitCommand(strings.TrimSuffix(line, "\n"), width) + "\n"
		}
	}
	_, err := io.WriteString(out, text)
	return err
}

// examplesHead stands above a command's examples.
const examplesHead = "\nExamples:\n"

// overview lists the commands, in groups.
func overview(out io.Writer, makers []Maker) error {
	var b bytes.Buffer
	b.WriteString("gharbor keeps connection profiles for database servers, tests them step by step,\nand says " +
		"where a " +
		"connection stops, why, and what to try.\n\n")
	b.WriteString("  gharbor COMMAND [flags] [names]     flags may stand before or after names\n\n")
	group := ""
	for _, m := range makers {
		if m.Group != "" && m.Group != group {
			if group != "" {
				b.WriteByte('\n')
			}
			group = m.Group
			fmt.Fprintf(&b, "%s\n\n", group)
		}
		cmd := m.Make()
		if cmd.Hidden {
			continue
		}
		fmt.Fprintf(&b, "  %-12s %s\n", cmd.Name, cmd.Summary)
	}
	b.WriteString("\nNew here? gharbor demo shows it all against simulated servers; gharbor nearby finds\nthe " +
		"servers " +
		"of this machine. gharbor help COMMAND has flags and examples.\n")
	return show(out, &b)
}

// groupHelp shows a group's verbs.
func groupHelp(out io.Writer, cmd *Command) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "gharbor %s: %s\n\n", cmd.Name, cmd.Summary)
	if cmd.Long != "" {
		fmt.Fprintf(&b, "%s\n\n", cmd.Long)
	}
	verbLines(&b, cmd)
	return show(out, &b)
}

// verbLines lists a group's verbs.
func verbLines(b *bytes.Buffer, cmd *Command) {
	width := 0
	for _, verb := range cmd.Verbs() {
		if !verb.Hidden {
			width = max(width, len(verb.Name))
		}
	}
	for _, verb := range cmd.Verbs() {
		if !verb.Hidden {
			fmt.Fprintf(b, "  %-*s  %s\n", width, verb.Name, verb.Summary)
		}
	}
	fmt.Fprintf(b, "\ngharbor help %s VERB has the flags and examples.\n", cmd.Name)
}

func commandHelp(out io.Writer, keys *schema.Schema, cmd *Command) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "gharbor %s: %s\n\n", cmd.Name, cmd.Summary)
	words := []string{"gharbor", cmd.Name}
	if cmd.Args != "" {
		words = append(words, cmd.Args)
	}
	if cmd.Flags != nil && !strings.Contains(cmd.Args, "[flags]") {
		words = append(words, "[flags]")
	}
	fmt.Fprintf(&b, "  %s\n", strings.Join(words, " "))
	if cmd.Long != "" {
		fmt.Fprintf(&b, "\n%s\n", InWords(keys, cmd.Long))
	}
	if cmd.Keys != nil {
		fmt.Fprintf(&b, "\n%s\n", strings.TrimRight(cmd.Keys(keys), "\n"))
	}
	if cmd.Verbs != nil {
		b.WriteByte('\n')
		verbLines(&b, cmd)
	}
	fs := flagsOf(cmd, keys)
	if len(fs.heads) > 1 {
		fs.Section("Other")
	}
	fs.BoolVar(new(bool), "verbose", false, "log each step to stderr, never a secret")
	b.WriteString(fs.help())
	b.WriteString(examplesHead)
	for _, example := range cmd.Examples {
		fmt.Fprintf(&b, "  %s\n", InWords(keys, example))
	}
	return show(out, &b)
}

// InWords replaces names in braces by the words of the first engine, or by lists of engines: help and examples need
// no change for another set of engines.
func InWords(keys *schema.Schema, text string) string {
	if !strings.Contains(text, "{{") {
		return text
	}
	engines := keys.Engines()
	one := engines.Example()
	image := one.Word
	if one.Image != nil {
		image = one.Image.Name
	}
	var forms []string
	for _, i := range (intake.Reader{Schema: keys}).Forms() {
		forms = append(forms, fmt.Sprintf("  %-10s  %s", i.Form, i.Summary))
	}
	var reads []string
	for _, spec := range engines.All() {
		for _, variable := range spec.Client.Reads {
			if !slices.Contains(reads, variable) {
				reads = append(reads, variable)
			}
		}
	}
	return strings.NewReplacer(
		"{{reads}}", strings.Join(reads, ", "),
		"{{engine}}", one.Word,
		"{{scheme}}", one.URL.Scheme,
		"{{port}}", strconv.Itoa(one.Port),
		"{{image}}", image,
		"{{listener}}", strings.Join(engines.WithKey("service"), ", "),
		"{{forms}}", strings.Join(forms, "\n"),
	).Replace(text)
}
