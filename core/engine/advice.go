package engine

import "gentleharbor/core/finding"

// PasswordAgain suggests how to send another password than the one that was refused.
func (t *Target) PasswordAgain(found *finding.Finding) *finding.Finding {
	if t.Typed {
		return found.Suggest("gharbor test %s   # type the password again", t.Profile).
			Suggest("gharbor test %s -override secret=none   # if the account has no password", t.Profile)
	}
	return found.Suggest("gharbor test %s -override secret=ask   # type the password once", t.Profile)
}

// LookUpAs advises to let an administrator's profile find out what the server did not say. It is nothing where one
// already does.
func (t *Target) LookUpAs(found *finding.Finding) *finding.Finding {
	if t.Admin != "" {
		return found
	}
	return found.Advise("let an administrator's profile look: gharbor test %s -as ADMIN", t.Profile)
}
