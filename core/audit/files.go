package audit

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"gentleharbor/core/alias"
	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/intake"
	"gentleharbor/core/owner"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// Fix is a change of permissions that fixes an issue.
type Fix struct {
	Path string      `json:"path"`
	Mode fs.FileMode `json:"-"`
	Show string      `json:"mode"` // "0600"
}

// Apply changes the permissions. A symbolic link is followed to what it leads to.
func (f *Fix) Apply() error { return os.Chmod(f.Path, f.Mode) }

// ownFiles checks the tool's own folder, its most important files, and the reader's pin file.
func (a *auditor) ownFiles() {
	a.folder(a.Folder, "the folder of gharbor's files", 0o077)
	own := profile.Home{Dir: a.Folder}
	for _, path := range []string{own.ProfilesPath(), own.AliasesPath()} {
		info, err := os.Stat(path)
		if err != nil || info.Mode().Perm()&0o022 == 0 {
			a.permissions(path, "a file that says where passwords go", 0o077, Medium)
			continue
		}
		if found := a.permissions(path, "a file that says where passwords go", 0o077, High); found != nil {
			found.Advise("read the file: somebody else may have changed it")
		}
	}
	if list, ok := a.Lookup(alias.Variable); ok {
		for _, path := range filepath.SplitList(list) {
			a.trustedFile(path, "a file of aliases, which says where passwords go,")
		}
	}
	if a.Pin != "" {
		a.secretFile(a.Pin, "a reader's pin file")
	}
	if a.Wallet != nil {
		a.permissions(a.Wallet.Path, "the wallet", 0o022, High)
		a.folder(filepath.Dir(a.Wallet.Path), "the wallet's folder", 0o022)
	}
}

// otherFiles checks all other files of the tool's own folder and its subfolders.
func (a *auditor) otherFiles() {
	folder := os.DirFS(a.Folder)
	for _, pattern := range []string{"*", "*/*"} {
		names, _ := fs.Glob(folder, pattern)
		for _, name := range names {
			path := filepath.Join(a.Folder, name)
			if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() {
				a.permissions(path, "one of gharbor's own files", 0o022, Medium)
			}
		}
	}
}

// secretFile checks a file that only its owner may read, and its folder.
func (a *auditor) secretFile(path, what string) {
	a.permissions(path, what, 0o077, High)
	a.folder(filepath.Dir(path), "the folder of "+what, 0o022)
}

// trustedFile checks a file that others may read and not write.
func (a *auditor) trustedFile(path, what string) { a.permissions(path, what, 0o022, High) }

// permissions checks a file. others are the permission bits that group and others may not have. It returns nil for a
// file without an issue, or that does not exist.
func (a *auditor) permissions(path, what string, others fs.FileMode, severity Severity) *Issue {
	if path == "" || a.looked[path] || runtime.GOOS == "windows" {
		return nil
	}
	a.looked[path] = true
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	if uid, ok := owner.UserID(info); ok && uid != os.Getuid() && uid != 0 {
		return a.addIssue(finding.AuditOwner, High, Place{File: path}, "%s belongs to another user (%d), who can change it",
			what, uid).
			Suggest("sudo chown %d %s", os.Getuid(), clean.Shell(path))
	}
	mode := info.Mode().Perm()
	if mode&others == 0 {
		return nil
	}
	verb := "read"
	switch {
	case mode&others&0o022 != 0 && others&0o044 != 0:
		verb = "read and change"
	case mode&others&0o022 != 0:
		verb = "change"
	}
	fixed := mode &^ others
	found := a.addIssue(finding.AuditPermissions, severity, Place{File: path},
		"others can %s %s (%04o)", verb, what, mode).
		Suggest("chmod %04o %s", fixed, clean.Shell(path))
	found.Fix = &Fix{Path: path, Mode: fixed, Show: fmt.Sprintf("%04o", fixed)}
	return found
}

// folder checks a folder: who can write to it can replace a file in it. In a sticky one, such as the temporary
// folder, others can't.
func (a *auditor) folder(path, what string, others fs.FileMode) {
	info, err := os.Stat(path)
	if err != nil || a.looked[path] || runtime.GOOS == "windows" {
		return
	}
	if info.Mode()&fs.ModeSticky != 0 {
		return
	}
	if uid, ok := owner.UserID(info); ok && uid != os.Getuid() {
		a.looked[path] = true
		if uid != 0 {
			a.addIssue(finding.AuditOwner, High, Place{File: path},
				"%s belongs to another user (%d), who can add files to it", what, uid).
				Suggest("ls -ld %s", clean.Shell(path))
		}
		return // root's folders are root's to arrange
	}
	severity := Medium // others see the names in it
	if info.Mode().Perm()&0o022 != 0 {
		severity = High
	}
	a.permissions(path, what, others, severity)
}

// sources checks where a profile's password is.
func (a *auditor) sources(p *resolve.Profile, at Place) {
	at = line(p, "secret", at)
	source, _ := secret.ParseSource(p.Text(key.Secret))
	switch source.Kind {
	case "none":
		a.addIssue(finding.AuditNoPassword, Low, at, "no password is needed: everybody who reaches the server can log "+
			"in as %s",
			clean.Quote(p.Text(key.User))).
			Suggest("gharbor test %s   # does the server check in another way?", p.Called)
	case "file":
		a.secretFile(source.Arg, "the secret file of the profile "+p.Called)
		a.emptyFile(source.Arg, at)
	case "env":
		if v, ok := a.Lookup(source.Arg); ok && v == "" {
			a.addIssue(finding.AuditNoPassword, Medium, at,
				"the environment variable %s is empty: an empty password is sent", source.Arg).
				Suggest("gharbor set %s secret=wallet", p.Called)
		}
	case "default":
		if spec := p.Engine(); spec != nil && spec.Credentials != nil {
			a.credentialFile(spec.Credentials, "", p)
		}
	default:
		for _, file := range p.Schema().Engines().CredentialFiles() {
			if file.Source() == source.Kind {
				a.credentialFile(file, source.Arg, p)
			}
		}
	}
	if words := p.Command(); len(words) > 0 && strings.Contains(words[0], "/") {
		a.trustedFile(words[0], "the command of the profile "+p.Called)
	}
}

func (a *auditor) emptyFile(path string, at Place) {
	if info, err := os.Stat(path); err == nil && info.Size() == 0 {
		a.addIssue(finding.AuditNoPassword, Medium, at, "the secret file %s is empty: an empty password is sent", path)
	}
}

// credentialFile checks the password file of an engine's own clients.
func (a *auditor) credentialFile(file secret.CredentialFile, arg string, p *resolve.Profile) {
	for _, risk := range file.Risks(arg, a.Lookup, a.Home) {
		seen := fmt.Sprint(risk.File, "#", risk.Line, "#", risk.Kind)
		if a.looked[seen] {
			continue
		}
		a.looked[seen] = true
		at := Place{File: risk.File, Line: risk.Line}
		var found *Issue
		switch risk.Kind {
		case secret.RiskOthers:
			a.secretFile(risk.File, risk.What)
		case secret.RiskAnyHost:
			found = a.addIssue(finding.AuditAnyHost, Medium, at, "%s", risk.What)
		case secret.RiskEmpty:
			found = a.addIssue(finding.AuditNoPassword, Medium, at, "%s", risk.What)
		case secret.RiskPlain:
			found = a.addIssue(finding.AuditPlainPassword, Low, at,
				"%s (used by the profile %s); in the wallet it would be encrypted", risk.What, p.Called).
				Suggest("gharbor set %s secret=wallet && gharbor secret keep %s", p.Called, p.Called)
		}
		if found != nil && risk.Do != "" {
			found.Advise("%s", risk.Do)
		}
	}
}

// urlWithPassword finds a connection URL of an engine with a password in any text.
func urlWithPassword(engines engine.Set) *regexp.Regexp {
	var schemes []string
	for _, spec := range engines.All() {
		schemes = append(schemes, append(spec.URL.Schemes, regexp.QuoteMeta(spec.Word))...)
	}
	// libraries have more of them: with an s for TLS, or with + and a word
	return regexp.MustCompile(`(?i)\b(?:` + strings.Join(schemes, "|") + `)(?:s|\+\w+)?://[^\s:/@"']*:[^\s@"'$<{]+@`)
}

// projectText looks for passwords in the comments and notes of project files, into which people paste URLs; no key
// can have one.
func (a *auditor) projectText() {
	var paths []string
	for _, p := range a.Profiles {
		if p.Profile.InProject() && !slices.Contains(paths, p.Path()) {
			paths = append(paths, p.Path())
		}
	}
	for _, path := range paths {
		data, err := intake.ReadFile(path)
		if err != nil {
			continue
		}
		number := 0
		for text := range bytes.SplitSeq(data, []byte("\n")) {
			number++
			if a.inURL.Match(text) {
				a.addIssue(finding.AuditSharedPassword, High, Place{File: path, Line: number},
					"a URL with a password, in a file that is shared").
					Suggest("${EDITOR:-vi} %s   # remove it, and change the password: the repository's history has it",
						clean.Shell(path))
			}
		}
	}
}

// dotenvFiles checks the dotenv files of the working folder and of the project.
func (a *auditor) dotenvFiles() {
	folders := []string{a.Work, a.Home}
	for _, p := range a.Profiles {
		if p.Profile.InProject() && !slices.Contains(folders, p.Folder()) {
			folders = append(folders, p.Folder())
		}
	}
	for _, folder := range folders {
		matches, _ := filepath.Glob(filepath.Join(folder, ".env*"))
		for _, path := range matches {
			a.dotenv(path)
		}
	}
}

func (a *auditor) dotenv(path string) {
	data, err := intake.ReadFile(path)
	if err != nil || a.looked[path] {
		return
	}
	all, err := intake.Dotenv(data)
	if err != nil {
		return
	}
	for _, v := range all {
		secretName := strings.Contains(strings.ToLower(v.Name), "passw") && v.Value != "" ||
			strings.HasSuffix(v.Name, "_PWD") && v.Value != ""
		if !secretName && !a.inURL.MatchString(v.Value) {
			continue
		}
		a.permissions(path, "a dotenv file with a password", 0o077, High)
		a.addIssue(finding.AuditPlainPassword, Low, Place{File: path, Line: v.Line},
			"%s has a password in clear text; do not commit the file, or leave the password out",
			clean.Line(v.Name, 60)).
			Suggest("gharbor import dotenv %s -into wallet", clean.Shell(path))
	}
}
