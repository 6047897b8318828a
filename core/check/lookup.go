package check

import (
	"context"
	"fmt"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/key"
)

// lookUp finds out with an administrator's profile what the server did not say, and adds it to the finding.
func (a *attempt) lookUp(found *finding.Finding) {
	if !found.Is(finding.LoginPassword, finding.LoginEmptyPassword, finding.LoginPasswordWanted, finding.LoginLocked,
		finding.LoginExpired, finding.LoginPeer, finding.DatabaseNoAccess) {
		return
	}
	admin := *a.Runner
	admin.Admin, admin.Progress, admin.until = nil, nil, "session"
	name := a.Admin.Called
	a.budget.pause()    // the look-up has a budget of its own, and may ask for a password
	ctx := a.budget.run // a timer that has fired may end the budget's own context a moment after the pause began
	t := admin.test(ctx, a.Admin)
	report, conv := t.stages.report, t.conversation()
	a.budget.resume()
	if conv != nil {
		defer conv.Close()
	}
	if !report.Reached("session") {
		found.Saw("looking it up with the profile %s failed: %s", name, report.firstFailure().oneLine())
		found.Suggest("gharbor test %s", name)
		return
	}
	bound, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	facts := a.conv.Facts()
	refused := engine.Refusal{
		AuthDatabase: a.profile.Text(key.AuthDatabase),
		Profile:      a.profile.Called,
		User:         a.profile.Text(key.User),
		Database:     a.profile.Text(key.Database),
		Network:      a.network,
		Encrypted:    facts.TLS != "none",
		Method:       facts.LoginMethod,
		SeenAs:       facts.SeenAs,
		From:         a.from,
		Admin:        a.Admin.Called,
		Rotates:      a.rotates(),
		By:           fmt.Sprintf("looked up with the profile %s at %s: ", name, report.Facts.Route),
		Finding:      found,

		Certificate:     a.plan.tls.ClientCertificate(),
		CertificatePath: a.plan.tls.Cert,
	}
	if err := conv.LookUp(bound, refused); err != nil {
		found.Saw("looking it up with the profile %s failed: %s", name, clean.Line(err.Error(), 200))
	}
}

// code is that of the stage's finding, "" for none.
func (s Stage) code() finding.Code {
	if s.Finding == nil {
		return ""
	}
	return s.Finding.Code
}

// oneLine is the finding in a line.
func (s Stage) oneLine() string {
	if s.Finding == nil {
		return "its test did not end"
	}
	return string(s.Finding.Code) + ", " + s.Finding.Cause
}
