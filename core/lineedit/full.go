package lineedit

import (
	"errors"
	"os"
	"strings"

	"github.com/reeflective/readline"
)

// richEditor is an editor with keys, history and completion.
type richEditor struct {
	Settings
	shell *readline.Shell
}

// dropLine is the name of the command for Ctrl-C.
const dropLine = "drop-line"

func newFull(s Settings) *richEditor {
	shell := readline.NewShell()
	for name, value := range map[string]any{
		"cursor-position-probe":        false,
		"multiline-column":             false,
		"enable-bracketed-paste":       true,
		"convert-meta":                 false, // or letters with accents are commands
		"input-meta":                   true,
		"output-meta":                  true,
		"usage-hint-always":            false,
		"history-autosuggest":          false,
		"autocomplete":                 false,
		"autopairs":                    false,
		"show-all-if-ambiguous":        true,
		"menu-complete-display-prefix": true,
	} {
		if err := shell.Config.Set(name, value); err != nil {
			panic(err) // the library has no such setting
		}
	}
	if s.Vi {
		shell.Config.Set("editing-mode", "vi")
		shell.Keymap.SetMain("vi-insert")
	}
	shell.Prompt.Secondary(func() string { return "" })
	// The library's own command for Ctrl-C reads the key after it, and loses one that was typed ahead.
	shell.Keymap.Register(map[string]func(){dropLine: func() {
		shell.Display.AcceptLine()
		shell.History.Accept(false, false, readline.ErrInterrupt)
	}})
	for _, keymap := range []string{"emacs", "emacs-standard", "vi", "vi-insert", "vi-command", "vi-move"} {
		if err := shell.Config.Bind(keymap, "\x03", dropLine, false); err != nil {
			panic(err) // the library has no such keys
		}
	}
	shell.PasteTransformer = removeControls
	f := &richEditor{Settings: s, shell: shell}
	shell.History.Delete()
	shell.History.Add("statements", historyAdapter{s.History})
	shell.Completer = f.complete
	return f
}

func (f *richEditor) Read(prompt string) (string, error) {
	f.shell.Prompt.Primary(func() string { return prompt })
	to, err := newScreen(f.Out)
	if err != nil {
		return "", err
	}
	// The library writes to the process's standard output, which nothing else uses (package main).
	before := os.Stdout
	os.Stdout = to.pipe
	line, err := f.shell.Readline()
	os.Stdout = before
	to.end()
	if errors.Is(err, readline.ErrInterrupt) || err != nil && err.Error() == readline.ErrInterrupt.Error() {
		return "", ErrDropped
	}
	return line, err
}

// removeControls removes what could steer the terminal from a text: pasted text, and text from a file or a server,
// can have that.
func removeControls(text string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 && r != '\n' && r != '\t' && r != '\r' || r >= 0x7f && r < 0xa0 {
			return -1
		}
		return r
	}, text)
}

// complete is Settings.Complete for the library.
func (f *richEditor) complete(line []rune, cursor int) readline.Completions {
	if f.Complete == nil {
		return readline.Completions{}
	}
	before := string(line[:cursor])
	all, replaced := f.Complete(before)
	var values []string
	for _, c := range all {
		if removeControls(c.Text) == c.Text { // else it could not be inserted as it is
			values = append(values, c.Text, removeControls(c.What))
		}
	}
	completions := readline.CompleteValuesDescribed(values...)
	completions.PREFIX = before[len(before)-replaced:]
	return completions
}

// historyAdapter gives the library the history. Settings.History adds to it.
type historyAdapter struct{ all func() []string }

func (p historyAdapter) Write(string) (int, error) { return p.Len(), nil }

func (p historyAdapter) GetLine(i int) (string, error) {
	lines := p.all()
	if i < 0 || i >= len(lines) {
		return "", errors.New("there is no such line")
	}
	return removeControls(strings.TrimRight(lines[i], "\n")), nil
}

func (p historyAdapter) Len() int  { return len(p.all()) }
func (p historyAdapter) Dump() any { return p.all() }
