// Package audit looks for profiles and files on this machine that could be safer. It connects to nothing: about
// logins it knows what the last test saw. It stands beside the check, at the end of the way.
package audit

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/lastseen"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/vouch"
	"gentleharbor/core/wallet"
)

// Severity is how much harm an issue could do.
type Severity string

// The severities. An audit fails at a high one.
const (
	High   Severity = "high"   // somebody else can have a secret, or be taken for the server
	Medium Severity = "medium" // one more thing going wrong leads there
	Low    Severity = "low"    // good to know
)

// Issue is something that could be safer.
type Issue struct {
	Code     finding.Code `json:"code"` // its page is `gharbor explain CODE`
	Severity Severity     `json:"severity"`
	Place    Place        `json:"place"`
	Why      string       `json:"why"`
	Try      []string     `json:"try"`
	Do       []string     `json:"do"`
	Fix      *Fix         `json:"fix,omitempty"`
}

// Place is where an issue is.
type Place struct {
	File    string `json:"file,omitempty"`
	Line    int    `json:"line,omitempty"` // from 1; 0 for the file as a whole
	Profile string `json:"profile,omitempty"`
	Entry   string `json:"entry,omitempty"` // of the wallet

	Variable string `json:"variable,omitempty"` // of the environment
}

// String is the place in a few words.
func (p Place) String() string {
	text := p.File
	if p.Line > 0 {
		text += fmt.Sprintf(":%d", p.Line)
	}
	switch {
	case p.Profile != "" && text != "":
		text += " (profile " + p.Profile + ")"
	case p.Profile != "":
		text = "profile " + p.Profile
	case p.Entry != "":
		text += " (entry " + p.Entry + ")"
	case p.Variable != "":
		text = "variable " + p.Variable
	}
	return clean.Line(text, 0)
}

// Subject is what is audited.
type Subject struct {
	Home     string // the user's home folder
	Folder   string // of the tool's own files
	Work     string // the working folder
	Engines  engine.Set
	Lookup   func(name string) (string, bool)
	Profiles []*resolve.Profile // with their origins; a project's among them
	Clouds   []Cloud
	Seen     map[string]lastseen.Login
	Book     vouch.Book
	Wallet   *wallet.File   // nil where there is none, or it can't be read
	Opened   *wallet.Wallet // nil where its content can't be looked at
	Pin      string         // path of the reader's pin file, "" for none
}

// auditor gathers issues.
type auditor struct {
	Subject
	issues []Issue
	looked map[string]bool // files whose permissions were looked at
	inURL  *regexp.Regexp  // a connection URL with a password
}

// Run audits a subject. It sorts issues by severity, the gravest first, then by place.
func Run(_ context.Context, s Subject) []Issue {
	a := &auditor{Subject: s, issues: []Issue{}, looked: make(map[string]bool), inURL: urlWithPassword(s.Engines)}
	a.ownFiles()
	for _, p := range s.Profiles {
		a.profile(p)
	}
	a.tokenFiles()
	a.clouds()
	a.projectText()
	a.dotenvFiles()
	a.auditLeftovers()
	a.wallet(a.rotations())
	if a.Folder != a.Home { // which has files of many programs
		a.otherFiles()
	}
	rank := map[Severity]int{High: 0, Medium: 1, Low: 2}
	slices.SortStableFunc(a.issues, func(x, y Issue) int {
		return cmp.Or(rank[x.Severity]-rank[y.Severity], strings.Compare(x.Place.File, y.Place.File),
			x.Place.Line-y.Place.Line, strings.Compare(string(x.Code), string(y.Code)))
	})
	return a.issues
}

// addIssue adds an issue.
func (a *auditor) addIssue(code finding.Code, severity Severity, place Place, why string, args ...any) *Issue {
	a.issues = append(a.issues, Issue{
		Code:     code,
		Severity: severity,
		Place:    place,
		Why:      clean.Line(fmt.Sprintf(why, args...), 0),
		Try:      []string{},
		Do:       []string{},
	})
	return &a.issues[len(a.issues)-1]
}

// Suggest adds a command to try.
func (i *Issue) Suggest(format string, args ...any) *Issue {
	i.Try = append(i.Try, fmt.Sprintf(format, args...))
	return i
}

// Advise adds a step that is no command.
func (i *Issue) Advise(format string, args ...any) *Issue {
	i.Do = append(i.Do, fmt.Sprintf(format, args...))
	return i
}

// profile looks at one profile and at the files that it names.
func (a *auditor) profile(p *resolve.Profile) {
	at := Place{File: p.Path(), Line: p.Profile.Line, Profile: p.Called}
	if !p.Vouched() {
		if state, record, err := a.Book.StateOf(vouch.ProfileItem(p.ProjectProfile())); err == nil && state == vouch.Lapsed {
			a.addIssue(finding.AuditVouchLapsed, Low, at,
				"what the project's profile uses has changed since you approved it on %s", record.At.Local().
					Format("2006-01-02")).
				Suggest("gharbor vouch %s   # shows what is different", p.Profile.Name)
		}
		return // nothing of it is read
	}
	a.encryption(p, at)
	a.account(p, at)
	a.sources(p, at)
	a.hops(p, at)
	for _, private := range []bool{true, false} { // a file may be both: then nobody else may read it
		for _, f := range p.Schema().Fields() {
			path := p.Text(f.Name)
			secretPath, isFile := strings.CutPrefix(path, "file:")
			switch {
			case f.Source && isFile && f.Name != key.Secret && private: // which sources looks at
				a.secretFile(secretPath, string("the ")+string(f.Name)+" of the profile "+p.Called)
			case !f.Path || f.Address || path == "" || f.Private != private:
			case private:
				a.secretFile(path, string("the ")+string(f.Name)+" of the profile "+p.Called)
			default:
				a.trustedFile(path, string("the ")+string(f.Name)+" of the profile "+p.Called)
			}
		}
	}
}

// line is the line where a profile sets a key, else the profile's own.
func line(p *resolve.Profile, k string, at Place) Place {
	if e, ok := p.Get(key.Name(k)); ok && e.Origin.Line > 0 {
		at.File, at.Line = e.Origin.File, e.Origin.Line
	}
	return at
}

// encryption checks the TLS rule of an address that is not this machine's.
func (a *auditor) encryption(p *resolve.Profile, at Place) {
	if !p.Address().Known() || p.Local() {
		return
	}
	at = line(p, "tls", at)
	switch rule := p.Text(key.TLS); rule {
	case "off", "offered":
		a.addIssue(finding.AuditTLSWeak, High, at,
			"tls = %q to another machine: the password and all data may cross the network in clear text", rule).
			Suggest("gharbor set %s tls=verified", p.Called)
	case "required":
		a.addIssue(finding.AuditTLSWeak, Medium, at,
			"tls = \"required\" encrypts but does not check the server: an attacker in between can pose as the server").
			Suggest("gharbor set %s tls=verified", p.Called)
	}
}

// hops checks the jump hosts on the way: older algorithms, and keys that others can read.
func (a *auditor) hops(p *resolve.Profile, at Place) {
	for _, h := range p.Hops() {
		if e, ok := h.Get(key.Algorithms); ok {
			where := at
			where.File, where.Line = e.Origin.File, e.Origin.Line
			a.addIssue(finding.AuditOldAlgorithms, Medium, where,
				"hop %d allows outdated algorithms: %s", h.Number,
				strings.Join(e.Value.List(), ", ")).
				Suggest("gharbor set %s %s=   # after its SSH server was updated", h.Owner(), h.Key(key.Algorithms))
		}
		for _, f := range schema.HopFields() {
			path, text := h.Text(f.Name), fmt.Sprintf("the %s of the profile %s", h.Key(f.Name), p.Called)
			secretPath, isFile := strings.CutPrefix(path, "file:")
			switch {
			case f.Source && isFile:
				a.secretFile(secretPath, text)
			case !f.Path || path == "":
			case f.Private && !strings.HasSuffix(path, ".pub"):
				a.secretFile(path, text)
			default:
				a.trustedFile(path, text)
			}
		}
	}
}

// administrators are usual names of accounts with all rights, of any engine.
var administrators = []string{"admin", "administrator", "root", "sa"}

// isAdministrator reports whether a name is usual for such an account, of any engine.
func isAdministrator(engines engine.Set, user string) bool {
	user = strings.ToLower(user)
	return slices.Contains(administrators, user) || slices.ContainsFunc(engines.All(),
		func(spec *engine.Spec) bool { return slices.Contains(spec.Accounts.Administrators, user) })
}

// weakMethod finds a login method among those that reveal more than others.
func weakMethod(engines engine.Set, method string) (weak engine.WeakMethod, ok bool) {
	for _, spec := range engines.All() {
		if weak, ok = spec.Accounts.WeakMethods[method]; ok {
			return weak, true
		}
	}
	return weak, false
}

// account checks the account and the method of the last test's login.
func (a *auditor) account(p *resolve.Profile, at Place) {
	user := p.Text(key.User)
	seen, tested := a.Seen[lastseen.Key(p)]
	tested = tested && seen.User == user
	tags, _ := p.Get(key.Tags)
	meant := slices.Contains(tags.Value.List(), "admin")
	withAdmin := strings.TrimPrefix(tags.Value.Text()+",admin", ",")
	switch {
	case meant:
	case tested && seen.Superuser:
		a.addIssue(finding.AuditAdministrator, Medium, line(p, "user", at),
			"the account %s may do everything on its server (seen at the last test), and so may a bug in a program",
			clean.Quote(user)).
			Advise("name another user: gharbor set %s user=NAME (an account with the rights that the work needs)",
				p.Called).
			Suggest("gharbor set %s tags=%s   # if it is there to administer", p.Called, withAdmin)
	case isAdministrator(p.Schema().Engines(), user):
		a.addIssue(finding.AuditAdministrator, Medium, line(p, "user", at),
			"%s is the name of an account that may do everything on its server", clean.Quote(user)).
			Advise("name another user: gharbor set %s user=NAME (an account with the rights that the work needs)",
				p.Called).
			Suggest("gharbor set %s tags=%s   # if it is there to administer", p.Called, withAdmin)
	}
	if !tested {
		return
	}
	if weak, ok := weakMethod(p.Schema().Engines(), methodWord(seen.LoginMethod)); ok {
		severity := Medium
		if weak.Default {
			severity = Low
		}
		if weak.Clear && !seen.TLSVerified && !p.Local() {
			severity = High
		}
		a.addIssue(finding.AuditLoginMethod, severity, at, "at the last test the server asked for %s (%s)", weak.Why,
			clean.Line(seen.LoginMethod, 60)).
			Suggest("gharbor explain login.weak-method")
	}
	if noPassword(seen.LoginMethod) && !p.Address().OnMachine {
		a.addIssue(finding.AuditNoPassword, Medium, at, "at the last test the server let %s in without a password",
			clean.Quote(user)).
			Suggest("gharbor explain login.no-password-asked")
	}
}

// methodWord is the first word of a method, in small letters.
func methodWord(method string) string {
	word, _, _ := strings.Cut(strings.ToLower(method), " ")
	switch word {
	case "cleartext":
		return "password"
	}
	return word
}

func noPassword(method string) bool {
	return strings.HasPrefix(method, "none") || strings.HasPrefix(method, "no password")
}

// Count counts issues by severity.
func Count(issues []Issue) map[Severity]int {
	count := map[Severity]int{High: 0, Medium: 0, Low: 0}
	for _, i := range issues {
		count[i.Severity]++
	}
	return count
}
