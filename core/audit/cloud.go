package audit

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"
	"time"

	"gentleharbor/core/address"
	"gentleharbor/core/clean"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// Cloud is a cloud account to audit.
type Cloud struct {
	*profile.Cloud
	Home string // the user's home folder

	// What its service said, where it was asked.
	Places map[string]*wire.Place // by INSTANCE, or INSTANCE/BRANCH
	Rules  map[string][]wire.Rule
}

// clouds checks the cloud accounts, and the instances that profiles name.
func (a *auditor) clouds() {
	for _, c := range a.Clouds {
		at := Place{File: c.Path(), Line: c.Line}
		a.cloudFiles(c)
		if e, ok := c.OwnValue(key.TokenFile); ok {
			a.addIssue(finding.AuditTokenFile, Low, Place{File: c.Path(), Line: e.Line},
				"the cloud account %s takes its token from a file, where it is not sealed", c.FullName()).
				Advise("for a person: gharbor cloud set %s token-file= issuer=URL client=ID", c.FullName())
		}
		for within, rules := range c.Rules {
			for _, r := range rules {
				a.rule(at, c, within, r)
			}
		}
	}
	public := make(map[string][]*resolve.Profile) // profiles of an instance with a public address
	for _, p := range a.Profiles {
		if !p.Vouched() || !p.Address().InCloud() {
			continue
		}
		ref := address.CloudOf(p)
		place := a.placeOf(ref.Account, ref.Within())
		if place == nil {
			continue
		}
		a.storedPassword(p, place)
		for _, one := range place.Addresses {
			if one.Kind == wire.Public {
				public[ref.String()] = append(public[ref.String()], p)
				break
			}
		}
	}
	a.publicAddresses(public)
}

// cloudFiles checks each file that a cloud account names, by whatever key.
func (a *auditor) cloudFiles(c Cloud) {
	folder := filepath.Dir(c.Path())
	for _, e := range c.Entries {
		path, what := e.Field.AbsolutePath(e.Value.Text(), folder, c.Home), fmt.Sprintf("the %s of the cloud account %s",
			e.Field.Name,
			c.FullName())
		secretPath, isFile := strings.CutPrefix(path, "file:")
		switch {
		case e.Field.Source && isFile:
			a.secretFile(secretPath, what)
		case e.Field.Path && e.Field.Private:
			a.secretFile(path, what)
		case e.Field.Path:
			a.trustedFile(path, what)
		}
	}
}

// placeOf is the service's description of an instance, nil where it was not asked.
func (a *auditor) placeOf(account, within string) *wire.Place {
	for _, c := range a.Clouds {
		if c.FullName() == account {
			return c.Places[within]
		}
	}
	return nil
}

// isWide reports whether a range is more than one site: shorter than /24 of IPv4, or than /48 of IPv6 (RFC 6177).
func isWide(p netip.Prefix) bool {
	if p.Addr().Is4() {
		return p.Bits() < 24
	}
	return p.Bits() < 48
}

// rule checks one rule of an instance's network.
func (a *auditor) rule(at Place, c Cloud, within string, r wire.Rule) {
	prefix, err := netip.ParsePrefix(r.Range)
	if err != nil {
		return
	}
	name := clean.Line(within, 200)
	remove := "gharbor cloud disallow " + c.FullName() + "/" + within + " " + r.ID
	switch {
	case prefix.Bits() == 0:
		a.addIssue(finding.AuditRuleOpen, High, at, "the rule %s lets everybody in to %s", r.ID, name).Suggest("%s", remove)
	case isWide(prefix):
		a.addIssue(finding.AuditRuleOpen, Medium, at, "the rule %s lets the whole network %s in to %s", r.ID, r.Range, name).
			Suggest("%s", remove)
	case r.Until.IsZero() || time.Until(r.Until) > 365*24*time.Hour:
		a.addIssue(finding.AuditRuleOpen, Low, at, "the rule %s for %s has no end, or one in more than a year (%s)", r.ID,
			r.Range, name).Suggest("%s", remove)
	}
}

// storedPassword looks for a stored password of an instance whose service can make logins.
func (a *auditor) storedPassword(p *resolve.Profile, place *wire.Place) {
	source, _ := secret.ParseSource(p.Text(key.Secret))
	if place.Login == "" || source.Kind == "cloud" || source.Kind == "none" || source.Kind == "ask" {
		return
	}
	at := Place{File: p.Path(), Line: p.Profile.Line, Profile: p.Called}
	a.addIssue(finding.AuditStoredPassword, Medium, line(p, "secret", at),
		"a password is kept for an instance whose service makes logins that last minutes").
		Suggest("gharbor set %s secret=cloud user=", p.Called)
}

// publicAddresses looks for instances that have a public address although all profiles use hops.
func (a *auditor) publicAddresses(by map[string][]*resolve.Profile) {
	for ref, profiles := range by {
		needed := false
		for _, p := range profiles {
			needed = needed || !p.BehindHops()
		}
		if !needed {
			at := Place{File: profiles[0].Path(), Line: profiles[0].Profile.Line, Profile: profiles[0].Called}
			a.addIssue(finding.AuditPublicAddress, Low, at,
				"the instance %s has a public address, and every profile of it goes "+
					"through hops", clean.Line(ref, 200)).
				Advise("remove the public address where the instance is administered")
		}
	}
}

// tokenFiles looks at the files of tokens.
func (a *auditor) tokenFiles() {
	folder := filepath.Join(a.Folder, "cloud")
	a.folder(folder, "the folder of tokens", 0o077)
	files, err := filepath.Glob(filepath.Join(folder, "*.token"))
	if err != nil {
		return
	}
	for _, path := range files {
		a.secretFile(path, "the sealed token of a cloud account")
	}
}
