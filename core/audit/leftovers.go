package audit

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/intake"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
)

// shellHistories are the files below a user's home in which shells keep typed lines.
var shellHistories = []string{".bash_history", ".zsh_history", ".ash_history", ".local/share/fish/fish_history"}

// auditLeftovers looks for passwords in places that are not meant for them: shell histories, variables, files of the
// engines' clients, and notes.
func (a *auditor) auditLeftovers() {
	spelled := a.passwordPatterns()
	names := shellHistories
	for _, spec := range a.Engines.All() {
		names = slices.Concat(names, spec.Client.Programs.Histories)
	}
	for _, name := range names {
		a.history(filepath.Join(a.Home, name), spelled)
	}
	a.variables()
	a.clientFiles()
	a.projectFiles()
	for _, p := range a.Profiles {
		a.remarks(p)
	}
}

// passwordPatterns match lines with a password.
func (a *auditor) passwordPatterns() []*regexp.Regexp {
	all := []*regexp.Regexp{a.inURL, regexp.MustCompile(`(?i)\b(?:password|identified\s+by)\s*=?\s*'[^']+'`)}
	var names []string
	for _, spec := range a.Engines.All() {
		if one := spec.Client.Programs.Spelled; one != nil {
			all = append(all, one())
		}
		names = append(names, passwordVariables(spec)...)
	}
	if len(names) > 0 {
		all = append(all, regexp.MustCompile(`\b(?:`+strings.Join(names, "|")+`)=[^\s$]`))
	}
	return all
}

// passwordVariables are the variables from which an engine's clients take a password.
func passwordVariables(spec *engine.Spec) (names []string) {
	for _, family := range spec.Variables {
		for name, parameter := range family.Names {
			if parameter == "password" {
				names = append(names, name)
			}
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// history looks at what was typed.
func (a *auditor) history(path string, spelled []*regexp.Regexp) {
	data, err := intake.ReadFile(path)
	if err != nil || a.looked[path] {
		return
	}
	first, count, number := 0, 0, 0
	for text := range bytes.SplitSeq(data, []byte("\n")) {
		number++
		if !slices.ContainsFunc(spelled, func(one *regexp.Regexp) bool { return one.Match(text) }) {
			continue
		}
		if count++; first == 0 {
			first = number
		}
	}
	if count == 0 {
		return
	}
	a.permissions(path, "a history with passwords in it", 0o077, High)
	a.addIssue(finding.AuditPlainPassword, Medium, Place{File: path, Line: first},
		"a history of what was typed has %d %s with a password, the first here", count, clean.Plural(count, "line")).
		Suggest("${EDITOR:-vi} +%d %s   # remove it, and change the password", first, clean.Shell(path))
}

// variables checks the environment, which every program of this user inherits.
func (a *auditor) variables() {
	for _, spec := range a.Engines.All() {
		for _, name := range passwordVariables(spec) {
			a.variable(name, true)
		}
	}
	a.variable("DATABASE_URL", false)
}

func (a *auditor) variable(name string, isPassword bool) {
	value, _ := a.Lookup(name)
	seen := "variable " + name
	used := slices.ContainsFunc(a.Profiles, func(p *resolve.Profile) bool { return p.Text(key.Secret) == "env:"+name })
	if value == "" || a.looked[seen] || used || !isPassword && !a.inURL.MatchString(value) {
		return
	}
	a.looked[seen] = true
	a.addIssue(finding.AuditPlainPassword, Low, Place{Variable: name},
		"the environment has a password, which every program that you start can read").
		Suggest("unset %s   # and take the line out of the file that sets it", name)
}

// clientFiles checks the files in which the engines' own clients keep connections, with passwords.
func (a *auditor) clientFiles() {
	for _, spec := range a.Engines.All() {
		for _, form := range spec.Imports {
			path := form.Path(a.Lookup, a.Home)
			if _, err := os.Stat(path); path == "" || err != nil {
				continue
			}
			sections, err := form.Read(path)
			if err != nil {
				continue
			}
			for _, s := range sections {
				has := slices.ContainsFunc(s.Pairs, func(pair [2]string) bool { return pair[0] == "password" && pair[1] != "" })
				if !has || s.Source != "" { // a file for passwords has its own rules
					continue
				}
				a.permissions(path, "a file of connections with a password", 0o077, High)
				a.addIssue(finding.AuditPlainPassword, Low, Place{File: path, Line: s.Line},
					"a connection has its password in clear text; in the wallet it would be encrypted").
					Suggest("gharbor import %s -into wallet", form.Form)
			}
		}
	}
}

// projectFiles checks the files of the projects around the working folder. One that others can write is never loaded,
// so no other check sees its profiles.
func (a *auditor) projectFiles() {
	for folder := a.Work; folder != ""; folder = filepath.Dir(folder) {
		a.trustedFile(filepath.Join(folder, profile.ProjectFile), "a project's file, which says where passwords go,")
		if folder == filepath.Dir(folder) || folder == a.Home {
			return
		}
	}
}

// remarks checks the comments and notes of a profile.
func (a *auditor) remarks(p *resolve.Profile) {
	if note := p.Text(key.Note); a.inURL.MatchString(note) && !p.Profile.InProject() {
		a.addIssue(finding.AuditPlainPassword, Low, line(p, "note", Place{File: p.Path(), Line: p.Profile.Line,
			Profile: p.Called}), "the note has a URL with a password").
			Suggest("gharbor set %s note=   # and change the password", p.Called)
	}
}
