package cli

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"gentleharbor/core/intake"
	"gentleharbor/core/profile/schema"
)

func helpCommand() *command {
	return &command{
		name: "help", quick: true, args: "[COMMAND [VERB]]", summary: "what the commands do, or one of them in full",
		examples: []string{"gharbor help", "gharbor help add"},
		maxArgs:  3,
		run: func(_ context.Context, c *call) error {
			if len(c.args) == 0 {
				return overview(c.Stdout, made(c.makers))
			}
			cmd, rest, err := choice(c.makers, c.args)
			switch {
			case err != nil:
				return err
			case len(rest) > 0:
				return usage("help takes a command and its verb")
			case cmd.verbs != nil:
				return groupHelp(c.Stdout, cmd)
			}
			return commandHelp(c.Stdout, c.keys, cmd)
		},
	}
}

func overview(out io.Writer, all []*command) error {
	var b bytes.Buffer
	b.WriteString("gharbor keeps connection profiles for database servers, tests them step by step,\nand says where a " +
		"connection stops, why, and what to try.\n\n")
	b.WriteString("  gharbor COMMAND [flags] [names]     flags may stand before or after names\n\n")
	for _, cmd := range all {
		fmt.Fprintf(&b, "  %-12s %s\n", cmd.name, cmd.summary)
	}
	b.WriteString("\nNew here? gharbor demo shows it all against simulated servers; gharbor nearby finds\nthe servers " +
		"of this machine. gharbor help COMMAND has flags and examples.\n")
	_, err := out.Write(b.Bytes())
	return err
}

// groupHelp shows a group's verbs.
func groupHelp(out io.Writer, cmd *command) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "gharbor %s: %s\n\n", cmd.name, cmd.summary)
	if cmd.long != "" {
		fmt.Fprintf(&b, "%s\n\n", cmd.long)
	}
	width := 0
	for _, verb := range cmd.verbs() {
		if !verb.hidden {
			width = max(width, len(verb.name))
		}
	}
	for _, verb := range cmd.verbs() {
		if !verb.hidden {
			fmt.Fprintf(&b, "  %-*s  %s\n", width, verb.name, verb.summary)
		}
	}
	fmt.Fprintf(&b, "\ngharbor help %s VERB has the flags and examples.\n", cmd.name)
	_, err := out.Write(b.Bytes())
	return err
}

func commandHelp(out io.Writer, keys *schema.Schema, cmd *command) error {
	var b bytes.Buffer
	fmt.Fprintf(&b, "gharbor %s: %s\n\n", cmd.name, cmd.summary)
	words := []string{"gharbor", cmd.name}
	if cmd.args != "" {
		words = append(words, cmd.args)
	}
	if cmd.flags != nil && !strings.Contains(cmd.args, "[flags]") {
		words = append(words, "[flags]")
	}
	fmt.Fprintf(&b, "  %s\n", strings.Join(words, " "))
	if cmd.long != "" {
		fmt.Fprintf(&b, "\n%s\n", inWords(keys, cmd.long))
	}
	if cmd.keys != nil {
		fmt.Fprintf(&b, "\n%s\n", strings.TrimRight(cmd.keys(keys), "\n"))
	}
	fs := &flagSet{flag.NewFlagSet(cmd.name, flag.ContinueOnError), keys}
	if cmd.flags != nil {
		cmd.flags(fs)
	}
	fs.Bool("verbose", false, "log to stderr what is done; never a secret")
	b.WriteString("\nFlags:\n")
	width := 0
	fs.VisitAll(func(f *flag.Flag) { width = max(width, len(f.Name)) })
	fs.VisitAll(func(f *flag.Flag) {
		text := f.Usage
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0s" {
			text += " (default " + f.DefValue + ")"
		}
		fmt.Fprintf(&b, "  -%-*s  %s\n", width, f.Name, text)
	})
	b.WriteString("\nExamples:\n")
	for _, example := range cmd.examples {
		fmt.Fprintf(&b, "  %s\n", inWords(keys, example))
	}
	_, err := out.Write(b.Bytes())
	return err
}

// inWords puts the words of the first engine, and lists of engines, in the place of names in braces: help and
// examples are the same whatever engines there are.
func inWords(keys *schema.Schema, text string) string {
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
		"{{listener}}", strings.Join(engines.With("service"), ", "),
		"{{forms}}", strings.Join(forms, "\n"),
	).Replace(text)
}
