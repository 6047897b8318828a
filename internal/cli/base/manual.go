package base

import (
	"fmt"
	"strings"

	"gentleharbor/core/profile/schema"
)

// Manual are the pages of the manual, section 1, by file name: one for the program, and one for each command with its
// verbs. They have the text of help, in the form of man(7). date is at the foot, such as "2026-11-29".
func Manual(keys *schema.Schema, makers []Maker, date string) map[string]string {
	pages := make(map[string]string)
	m := manualPage{keys: keys}
	m.head("gharbor", "keeps, tests and uses connection profiles for database servers", date)
	m.section("SYNOPSIS")
	m.text("gharbor COMMAND [flags] [names]")
	m.section("DESCRIPTION")
	m.text("gharbor keeps connection profiles for database servers, tests them step by step, and says where a " +
		"connection stops, why, and what to try. Flags may stand before or after names.")
	group := ""
	for _, one := range makers {
		cmd := one.Make()
		if one.Group != "" && one.Group != group {
			group = one.Group
			m.section(strings.ToUpper(group))
		}
		if !cmd.Hidden {
			m.item("gharbor-"+cmd.Name+"(1)", cmd.Summary)
		}
	}
	m.section("EXIT CODES")
	for _, code := range ExitCodes() {
		m.item(fmt.Sprint(code.Code), code.Meaning)
	}
	pages["gharbor.1"] = m.String()
	for _, one := range makers {
		if cmd := one.Make(); !cmd.Hidden {
			pages["gharbor-"+cmd.Name+".1"] = commandPage(keys, cmd, date)
		}
	}
	return pages
}

func commandPage(keys *schema.Schema, cmd *Command, date string) string {
	m := manualPage{keys: keys}
	m.head("gharbor-"+cmd.Name, cmd.Summary, date)
	if cmd.Run != nil {
		m.section("DESCRIPTION")
		m.command(cmd)
	} else if cmd.Long != "" {
		m.section("DESCRIPTION")
		m.text(cmd.Long)
	}
	var walk func(cmd *Command)
	walk = func(cmd *Command) {
		if cmd.Verbs == nil {
			return
		}
		for _, verb := range cmd.Verbs() {
			if !verb.Hidden && verb.Run != nil {
				m.section("gharbor " + verb.Name)
				m.text(verb.Summary)
				m.command(verb)
			}
			walk(verb)
		}
	}
	walk(cmd)
	m.section("SEE ALSO")
	m.text("gharbor(1)")
	return m.String()
}

// manualPage is a page that is being written.
type manualPage struct {
	strings.Builder
	keys *schema.Schema
}

// escapeManual escapes what man(7) gives a meaning.
func escapeManual(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = `\&` + text
	}
	return text
}

func (m *manualPage) head(name, summary, date string) {
	fmt.Fprintf(m, ".TH %s 1 %q \"gharbor %s\"\n.SH NAME\n%s \\- %s\n", strings.ToUpper(escapeManual(name)), date,
		escapeManual(Version), escapeManual(name), escapeManual(summary))
}

func (m *manualPage) section(name string) { fmt.Fprintf(m, ".SH %s\n", escapeManual(name)) }

// text writes paragraphs; lines that begin with blanks are kept as they are.
func (m *manualPage) text(text string) {
	plain := false
	for line := range strings.Lines(InWords(m.keys, text)) {
		line = strings.TrimRight(line, "\n")
		if fixed := strings.HasPrefix(line, " "); fixed != plain {
			plain = fixed
			m.WriteString(map[bool]string{true: ".nf\n", false: ".fi\n"}[fixed])
		}
		if line == "" {
			line = ".PP"
		} else {
			line = escapeManual(line)
		}
		m.WriteString(line + "\n")
	}
	if plain {
		m.WriteString(".fi\n")
	}
}

func (m *manualPage) item(name, text string) {
	fmt.Fprintf(m, ".TP\n.B %s\n%s\n", escapeManual(name), escapeManual(text))
}

// command writes a command's forms, what it does, its flags and examples.
func (m *manualPage) command(cmd *Command) {
	fmt.Fprintf(m, ".PP\n.B %s\n", escapeManual(strings.TrimSpace("gharbor "+cmd.Name+" "+cmd.Args)))
	if cmd.Long != "" {
		m.WriteString(".PP\n")
		m.text(cmd.Long)
	}
	if cmd.Keys != nil {
		m.WriteString(".PP\n.nf\n")
		for line := range strings.Lines(cmd.Keys(m.keys)) {
			m.WriteString(escapeManual(strings.TrimRight(line, "\n")) + "\n")
		}
		m.WriteString(".fi\n")
	}
	fs := flagsOf(cmd, m.keys)
	for _, name := range fs.made {
		if head := fs.heads[name]; head != "" {
			fmt.Fprintf(m, ".SS %s\n", escapeManual(head))
		}
		m.item("-"+name, fs.Lookup(name).Usage)
	}
	if len(cmd.Examples) > 0 {
		m.WriteString(".SS Examples\n.nf\n")
		for _, example := range cmd.Examples {
			m.WriteString(escapeManual(InWords(m.keys, example)) + "\n")
		}
		m.WriteString(".fi\n")
	}
}
