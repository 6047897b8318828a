package postgresql

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearest"
)

// account is what an administrator's login can see of a role. A pointer is nil for what it could not see.
type account struct {
	exists     bool
	mayLogIn   bool
	validUntil *time.Time
	password   *bool    // whether one is set
	stored     string   // the method it is stored for, "" where that was not seen
	near       []string // similar names, where it does not exist
}

// LookUp looks the refused role up and says why the server refused it.
func (c *conversation) LookUp(ctx context.Context, refused engine.Refusal) error {
	if refused.Finding.Code != finding.LoginPassword && refused.Finding.Code != finding.LoginEmptyPassword {
		return nil // the server has said all of it
	}
	a, err := c.account(ctx, refused.User)
	if err == nil {
		a.explain(refused)
	}
	return err
}

// explain turns the general refusal into the exact one.
func (a *account) explain(r engine.Refusal) {
	found, user, role := r.Finding, clean.Quote(r.User), identifier(r.User)
	particular := func(code finding.Code, cause string, args ...any) {
		found.Code, found.Cause = code, fmt.Sprintf(cause, args...)
		found.Try, found.Do = []string{}, []string{}
	}
	switch {
	case !a.exists:
		particular(finding.LoginNoSuchRole, "there is no role %s on this server", user)
		found.Saw("%sno such role", r.By)
		if len(a.near) > 0 {
			found.Saw("similar roles that may log in: %s", clean.Quote(strings.Join(a.near, ", ")))
		}
		found.SuggestValues(r.Profile, "user", a.near).ByAdmin(r.Admin, "provision make "+r.Profile,
			"CREATE ROLE %s LOGIN", role)
	case !a.mayLogIn:
		particular(finding.LoginNoLoginRight, "the role %s exists, but may not log in", user)
		found.Saw("%sthe role has no LOGIN", r.By).ByAdmin(r.Admin, "provision unlock "+r.Profile,
			"ALTER ROLE %s LOGIN", role)
	case a.validUntil != nil && time.Now().After(*a.validUntil):
		particular(finding.LoginExpired, "the password of %s expired on %s",
			user, a.validUntil.Format(time.DateTime+" MST"))
		found.Saw("%sVALID UNTIL is %s", r.By, a.validUntil.Format(time.RFC3339)).
			ByAdmin(r.Admin, "provision expire "+r.Profile+" -never", "ALTER ROLE %s VALID UNTIL 'infinity'", role)
	case a.password != nil && !*a.password:
		particular(finding.LoginNoPasswordSet, "the role %s has no password, so no password can be right", user)
		found.Saw("%sno password is stored", r.By).
			ByAdmin(r.Admin, "provision make "+r.Profile, "ALTER ROLE %s with the profile's password", role)
	case a.stored == methodMD5 && strings.HasPrefix(r.Method, methodSCRAM):
		particular(finding.LoginOtherHash,
			"the password of %s is stored for MD5, but the server's rules want SCRAM, so it can't be right", user)
		found.Saw("%sthe stored form begins with md5; the server asked by %s", r.By, r.Method).
			ByAdmin(r.Admin, "provision make "+r.Profile, "ALTER ROLE %s with the profile's password, for SCRAM", role)
	default:
		found.Cause = fmt.Sprintf("the password sent for %s is wrong", user)
		found.Saw("%sthe role may log in and has not expired, so the password is wrong", r.By)
	}
}

// storedQuery asks whether a role has a password and how its stored form
// begins, "md5" or "SCRAM-SHA-256$" (PostgreSQL documentation, "pg_authid").
const storedQuery = "SELECT (rolpassword IS NOT NULL)::text, coalesce(left(rolpassword, 3), '') FROM pg_authid WHERE " +
	"rolname = $1"

// account looks a role up. Only a superuser sees whether it has a password.
func (c *conversation) account(ctx context.Context, user string) (*account, error) {
	result := ask(ctx, c.pg,
		"SELECT rolcanlogin::text, extract(epoch FROM rolvaliduntil)::text FROM pg_roles WHERE rolname = $1", user)
	if result.Err != nil {
		return nil, result.Err
	}
	if len(result.Rows) == 0 {
		names := ask(ctx, c.pg, "SELECT rolname FROM pg_roles WHERE rolcanlogin ORDER BY 1 LIMIT 10000")
		return &account{near: nearest.Names(user, firstColumn(names), 3)}, names.Err
	}
	a := &account{exists: true, mayLogIn: string(result.Rows[0][0]) == "true"}
	if seconds, err := strconv.ParseFloat(string(result.Rows[0][1]), 64); err == nil && !math.IsInf(seconds, 0) {
		until := time.Unix(int64(seconds), 0).UTC()
		a.validUntil = &until
	}
	stored := ask(ctx, c.pg, storedQuery, user)
	if stored.Err == nil && len(stored.Rows) == 1 {
		a.password = truth(string(stored.Rows[0][0]), "true")
		a.stored = map[string]string{"md5": methodMD5, "SCR": methodSCRAM}[string(stored.Rows[0][1])]
	}
	return a, nil
}
