// Package completioncmd has the command that makes a shell complete the program's words, and the one that the shell
// calls for them. A command is a struct value; package base runs it, and knows the words for each place.
package completioncmd

import (
	"context"
	_ "embed"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/nearest"
	"gentleharbor/internal/cli/base"
)

// The scripts, by shell. Each calls the program for the words, so that these are known in one place.
var (
	//go:embed bash.sh
	bash string
	//go:embed zsh.sh
	zsh string
	//go:embed fish.fish
	fish string
)

func scripts() map[string]string { return map[string]string{"bash": bash, "zsh": zsh, "fish": fish} }

func shells() []string { return slices.Sorted(maps.Keys(scripts())) }

// Completion prints a script for a shell.
func Completion() *base.Command {
	return &base.Command{
		Name: "completion", Quick: true, Machine: true, Args: "SHELL",
		Summary: "print a script that makes a shell complete words",
		Long: `SHELL is one of:
  bash   in ~/.bashrc: eval "$(gharbor completion bash)"
  zsh    in ~/.zshrc, behind compinit: eval "$(gharbor completion zsh)"
  fish   once: gharbor completion fish > ~/.config/fish/completions/gharbor.fish

The shell then asks gharbor for words at each Tab: commands, flags and their values, the
names of profiles, aliases, containers, cloud accounts and wallet entries, keys and
finding codes. gharbor reads files for that; it never asks, dials or unlocks.`,
		Examples: []string{"gharbor completion bash", "gharbor completion fish"},
		MinArgs:  1, MaxArgs: 1,
		Words: func(*base.Call) map[string][]string { return map[string][]string{"SHELL": shells()} },
		Run: func(_ context.Context, c *base.Call) error {
			script, ok := scripts()[c.Args[0]]
			if !ok {
				text := fmt.Sprintf("no script for the shell %s; expected one of %s", clean.Word(c.Args[0]),
					strings.Join(shells(), ", "))
				if near := nearest.Name(c.Args[0], shells()); near != "" {
					text += fmt.Sprintf("; did you mean %q?", near)
				}
				return base.Usage("%s", text)
			}
			_, err := io.WriteString(c.Stdout, script)
			return err
		},
	}
}

// Words prints words for the place of the last word. The first line is "files" where names of files fit too, else
// "words"; each other line is a word, a tab and what it is.
func Words() *base.Command {
	return &base.Command{
		Name: "completion-words", Hidden: true, Quick: true, Machine: true, Args: "SHELL WORD…",
		Summary: "print the words for one place of a command line, for a shell",
		MinArgs: 2, MaxArgs: -1,
		Run: func(_ context.Context, c *base.Call) error {
			shell, words := c.Args[0], c.Args[1:]
			behind := ""
			if shell == "bash" { // it takes "=" and ":" for the end of a word
				words, behind = joinWords(words)
			}
			all := c.Complete(words)
			kind := "words"
			if all.Files {
				kind = "files"
			}
			var b strings.Builder
			fmt.Fprintln(&b, kind)
			for _, o := range all.Offers {
				word, what := strings.TrimPrefix(o.Word, behind), clean.Line(o.What, 100)
				fmt.Fprintf(&b, "%s\t%s\n", word, what)
			}
			_, err := io.WriteString(c.Stdout, b.String())
			return err
		},
	}
}

// joinWords joins what bash splits: a word, "=" or ":", and the word after it. behind is the part of the last word
// before what bash completes.
func joinWords(words []string) (whole []string, behind string) {
	glued := false // the word before was such a sign
	for _, word := range words {
		sign := word == "=" || word == ":"
		if len(whole) == 0 || !sign && !glued {
			whole, behind, glued = append(whole, word), "", false
			continue
		}
		last := &whole[len(whole)-1]
		if behind = *last; sign {
			behind += word
		}
		*last, glued = *last+word, sign
	}
	return whole, behind
}
