package check

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
)

// lookUp lets an administrator's profile find out what the server would not
// say, and says so.
func (t *test) lookUp(ctx context.Context, found *finding.Finding) {
	if found.Code != "login.password" && found.Code != "login.empty-password" {
		return
	}
	admin := *t.Runner
	admin.Admin, admin.Progress, admin.until = nil, nil, "session"
	name := t.Admin.Profile.Name
	t.budget.pause() // the look-up has a budget of its own, and may ask for a password
	report, conv := admin.run(ctx, t.Admin)
	t.budget.resume()
	if conv == nil || report.Outcome == finding.Fail {
		found.Saw("could not be looked up with the profile %s: %s", name, report.firstFailure().code())
		found.Suggest("gharbor test %s", name)
		return
	}
	defer conv.Close()
	bound, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	user := t.profile.Text("user")
	account, err := conv.Account(bound, user)
	if err != nil {
		found.Saw("could not be looked up with the profile %s: %s", name, clean.Line(err.Error(), 200))
		return
	}
	explainAccount(found, account, t.conv.Facts().LoginMethod, clean.Quoted(user), fmt.Sprintf("looked up with the profile %s at %s: ", name, report.Facts.Route), t.profile.Profile.Name)
}

func (s Stage) code() string {
	if s.Finding == nil {
		return "its test did not end"
	}
	return s.Finding.Code + ", " + s.Finding.Cause
}

// explainAccount makes the general refusal the particular one.
func explainAccount(found *finding.Finding, a *engine.Account, method, user, by, profileName string) {
	quoted := strings.ReplaceAll(strings.Trim(user, `"`), `"`, `""`)
	switch {
	case !a.Exists:
		found.Code, found.Cause = "login.no-such-role", fmt.Sprintf("there is no role %s on this server", user)
		found.Saw("%sno such role", by)
		if len(a.Near) > 0 {
			found.Saw("roles alike that may log in: %s", clean.Quoted(strings.Join(a.Near, ", ")))
		}
		found.Try = []string{fmt.Sprintf("gharbor set %s user=NAME", profileName), fmt.Sprintf(`as an administrator: CREATE ROLE "%s" LOGIN`, quoted)}
	case !a.MayLogIn:
		found.Code, found.Cause = "login.no-login-right", fmt.Sprintf("the role %s exists and may not log in", user)
		found.Saw("%sthe role has no LOGIN", by)
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" LOGIN`, quoted)}
	case a.ValidUntil != nil && time.Now().After(*a.ValidUntil):
		found.Code, found.Cause = "login.expired", fmt.Sprintf("the password of %s expired on %s", user, a.ValidUntil.Format(time.DateTime+" MST"))
		found.Saw("%sVALID UNTIL is %s", by, a.ValidUntil.Format(time.RFC3339))
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" VALID UNTIL 'infinity'`, quoted)}
	case a.Password != nil && !*a.Password:
		found.Code, found.Cause = "login.no-password-set", fmt.Sprintf("the role %s has no password, so none can be right", user)
		found.Saw("%sno password is stored", by)
		found.Try = []string{fmt.Sprintf(`as an administrator: ALTER ROLE "%s" PASSWORD 'NEW-PASSWORD'   # in a session, not in a shell's history`, quoted)}
	case a.Stored == "MD5" && strings.HasPrefix(method, "SCRAM"):
		found.Code, found.Cause = "login.other-hash", fmt.Sprintf("the password of %s is stored for MD5, and the server's rules ask for SCRAM, so none can be right", user)
		found.Saw("%sthe stored form begins with md5; the server asked by %s", by, method)
		found.Try = []string{fmt.Sprintf(`as an administrator: SET password_encryption = 'scram-sha-256'; ALTER ROLE "%s" PASSWORD 'THE-PASSWORD'   # in a session, not in a shell's history`, quoted)}
	default:
		found.Cause = fmt.Sprintf("the password sent for %s is wrong", user)
		found.Saw("%sthe role exists, may log in and has not expired, so it is the password", by)
	}
}
