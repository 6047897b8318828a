package engine

import "gentleharbor/core/finding"

// PasswordAgain suggests how to send another password after one was refused.
func (t *Target) PasswordAgain(found *finding.Finding) *finding.Finding {
	if t.Typed {
		return found.Suggest("gharbor test %s   # type the password again", t.Profile).
			Suggest("gharbor test %s -override secret=none   # if the account has no password", t.Profile)
	}
	return found.Suggest("gharbor test %s -override secret=ask   # type the password once", t.Profile)
}

// PasswordWanted is for a server that wants a password, where the profile sends none or none was found. It says where
// gharbor looked, and suggests how to give one.
func (t *Target) PasswordWanted(found *finding.Finding) *finding.Finding {
	for i, tried := range t.NoSecretTried {
		found.Saw("tried %d: %s", i+1, tried)
	}
	return found.Suggest("gharbor secret keep %s   # asks for the password, and keeps it", t.Profile).
		Suggest("gharbor test %s -override secret=ask   # asks once", t.Profile)
}

// Helping is the name of an administrator's profile for the server, "" where none is known.
func (t *Target) Helping() string {
	if t.Helper == nil {
		return t.Admin
	}
	return t.Helper()
}

// LookUpAs advises to let an administrator's profile find out what the server did not say. It adds nothing where one
// does so already.
func (t *Target) LookUpAs(found *finding.Finding) *finding.Finding {
	switch {
	case t.Admin != "":
		return found
	case t.Helping() != "":
		return found.Suggest("gharbor test %s -as %s   # looks up what the server did not say", t.Profile, t.Helping())
	}
	return found.Advise("let an administrator's profile look: gharbor test %s -as ADMIN", t.Profile)
}
