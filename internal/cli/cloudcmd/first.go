package cloudcmd

import (
	"context"
	"fmt"

	"gentleharbor/core/clean"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/schema"
	"gentleharbor/core/secret"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
)

func firstPassword() *base.Command {
	var o secretcmd.WalletFlags
	return &base.Command{
		Name: "cloud first-password", Args: "PROFILE", Summary: "set an administrator's first password, into the wallet",
		Long: `The service shows it only once, so it goes straight into the wallet, bound to this
instance; the profile then has its user, and secret = "wallet". The wallet's passphrase
is asked for first.`,
		Examples: []string{"gharbor cloud first-password committee"},
		MinArgs:  1, MaxArgs: 1,
		Flags: o.Flags,
		Run:   run(func(ctx context.Context, c *call) error { return c.firstPassword(ctx, o) }),
	}
}

func (c *call) firstPassword(ctx context.Context, o secretcmd.WalletFlags) error {
	s, about, err := c.instance(c.Args[0])
	if err != nil {
		return err
	}
	if about.Profile == "" {
		return base.Failure(base.ExitUsage, fmt.Errorf("the password is kept for a profile, and %s has none here",
			describeRef(about.Ref)),
			"gharbor cloud adopt "+about.Ref.String())
	}
	p, err := c.Resolve(about.Profile, nil)
	if err != nil {
		return err
	}
	if !p.Own() {
		return base.Advise(base.Usage("the profile %s is a project's, which a password does not belong to", p.Called),
			"make one of your own: gharbor copy "+p.Called+" NAME")
	}
	// The wallet is opened before the request: the service returns the password only once.
	user := ""
	err = secretcmd.NewCall(c.Call).KeepReceived(ctx, o, p, func() (string, secret.Value, error) {
		told, v, found := s.FirstPassword(ctx, about)
		if found != nil {
			return "", v, findingError(ctx, found)
		}
		user = told
		return told, v, nil
	})
	if err != nil {
		return err
	}
	c.Say("its user is %s", clean.Line(user, 100))
	sets := []schema.Override{
		{Field: c.Keys.Field(key.User), Value: schema.TextValue(user)},
		{Field: c.Keys.Field(key.Secret), Value: schema.TextValue("wallet")},
	}
	err = c.Change(ctx, false, "profile", "changed: user and secret of", p.Called,
		func(f *profile.File) (*profile.Edit, error) { return f.Set(p.Called, sets) })
	if err != nil {
		return err
	}
	c.Say("  try: gharbor test %s", p.Called)
	return nil
}
