package cloudcmd

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"gentleharbor/core/clean"
	"gentleharbor/core/cloud"
	"gentleharbor/core/cloud/oauth"
	"gentleharbor/core/cloud/tokens"
	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/secret"
	"gentleharbor/core/secret/keyring"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/render"
)

// signInOptions are the flags of cloud sign-in.
type signInOptions struct {
	secretcmd.WalletFlags
	open   bool
	forget bool
	stdin  bool
	key    string
}

func signIn() *base.Command {
	var o signInOptions
	return &base.Command{
		Name: "cloud sign-in", Args: "NAME", Summary: "sign in to a cloud account, by a code that you compare",
		Long: `Shows a page and a code. Open the page in any browser, on any device, and confirm there
that the code is the same. The token is kept in a file of its own, sealed under a key in
the system's keyring, or in the wallet where there is no keyring. gharbor opens no page
by itself; -open makes this system open it.

A job signs in by itself: with client-secret or token-file in the account.`,
		Examples: []string{"gharbor cloud sign-in club", "gharbor cloud sign-in club -open",
			"gharbor cloud sign-in club -forget",
			"gharbor cloud sign-in club -token-stdin -passphrase-file passphrase < token"},
		MinArgs: 1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&o.open, "open", false, "open the page in this system's browser")
			fs.BoolVar(&o.forget, "forget", false, "keep the token only in memory, until the wallet is locked")
			fs.BoolVar(&o.stdin, "token-stdin", false, "take a token from standard input, in place of a sign-in")
			fs.Choose("key", "keyring", "wallet")
			fs.Func("key", "where the key that seals the token is: keyring, wallet", func(s string) error {
				if o.key = s; s != "keyring" && s != "wallet" {
					return errors.New("expected keyring or wallet")
				}
				return nil
			})
			o.WalletFlags.Flags(fs)
		},
		Run: run(func(ctx context.Context, c *call) error { return c.signIn(ctx, o) }),
	}
}

func (c *call) signIn(ctx context.Context, o signInOptions) error {
	if o.forget && o.key != "" {
		return base.Usage("-forget and -key exclude each other: a token that is forgotten is not sealed")
	}
	s, err := c.CloudSession(c.Args[0])
	if err != nil {
		return err
	}
	switch {
	case s.TokenFile != "" || s.ClientSecret.Kind != "":
		return base.Failure(base.ExitUsage, fmt.Errorf("the account %s signs in by itself: it names a token-file or a "+
			"client-secret", s.Called), "gharbor cloud who "+s.Called)
	case s.Issuer == "" && s.Service == "":
		return base.Failure(base.ExitUsage, fmt.Errorf("the program of the account %s signs in by itself", s.Called),
			"gharbor cloud who "+s.Called)
	case s.Issuer == "" && !o.stdin:
		return base.Advise(base.Usage("the account %s does not say who signs people in", s.Called),
			fmt.Sprintf("say it: gharbor cloud set %s issuer=URL client=ID", s.Called),
			fmt.Sprintf("or give a token: gharbor cloud sign-in %s -token-stdin < FILE", s.Called))
	}
	var got *oauth.Token
	if o.stdin {
		v, err := secretcmd.NewCall(c.Call).SecretFromStdin()
		if err != nil {
			return err
		}
		if v.Empty() || strings.ContainsAny(v.Disclose(), " \t") {
			return base.Usage("-token-stdin: expected a token in the first line")
		}
		got = &oauth.Token{Access: v}
	}
	place, err := c.tokenPlace(ctx, o, s) // before anybody confirms a code
	if err != nil {
		return err
	}
	if got == nil {
		if got, err = c.device(ctx, o, s); err != nil {
			return err
		}
	}
	if found := s.KeepToken(ctx, got, place); found != nil {
		return findingError(ctx, found)
	}
	account, until, found := s.ReadAccount(ctx)
	if found != nil {
		return findingError(ctx, found)
	}
	c.Say("signed in: as %s at %s", clean.Line(account.Account, 100), s.Called)
	if !until.IsZero() && !got.Refresh.Present() {
		c.Say("it ends at %s, and can't be refreshed", until.Local().Format(time.DateTime))
	}
	c.Say("  try: gharbor cloud instances %s", s.Called)
	return nil
}

// device shows the code, and waits until it is confirmed.
func (c *call) device(ctx context.Context, o signInOptions, s *cloud.Session) (*oauth.Token, error) {
	d, found := s.SignIn(ctx)
	if found != nil {
		return nil, findingError(ctx, found)
	}
	page := d.Page
	if d.Complete != "" {
		page = d.Complete
	}
	c.Say("Open this page in a browser, here or on another device:")
	c.Say("")
	c.Say("    %s", page)
	c.Say("")
	c.Say("It shows this code, or asks for it. Confirm there only if the codes are the same:")
	c.Say("")
	for _, line := range render.Large(c.Stderr, d.Code) {
		c.Say("    %s", line)
	}
	c.Say("")
	c.Say("The code is valid until %s (%s).", d.Until.Local().Format(time.TimeOnly), roundedTime(time.Until(d.Until)))
	if o.open {
		if err := openPage(page); err != nil {
			c.Notice("the browser could not be started: %s", clean.Line(err.Error(), 200))
		}
	}
	waiting := render.NewWaiting(c.Stderr, "waiting for your confirmation", d.Until)
	got, err := d.Wait(ctx)
	waiting.Clear()
	if err != nil {
		if ctx.Err() != nil {
			return nil, context.Canceled
		}
		return nil, findingError(ctx, s.Finding(err))
	}
	return got, nil
}

// roundedTime is a time in minutes, or in seconds where it is short.
func roundedTime(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%d seconds", int(d.Round(time.Second)/time.Second))
	}
	return fmt.Sprintf("%d minutes", int(d.Round(time.Minute)/time.Minute))
}

// openPage asks the system to open a page: only https, and as one word, which no shell reads.
func openPage(page string) error {
	var cmd *exec.Cmd
	switch runtime.GOOS {
	case "darwin":
		cmd = exec.Command("open", page)
	case "windows":
		cmd = exec.Command("rundll32", "url.dll,FileProtocolHandler", page)
	default:
		cmd = exec.Command("xdg-open", page)
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	return cmd.Process.Release()
}

// tokenPlace is where the token will be kept: where this account's is already, in memory for -forget, else sealed
// under a key in the system's keyring or in the wallet. It makes a missing key.
func (c *call) tokenPlace(ctx context.Context, o signInOptions, s *cloud.Session) (tokens.Place, error) {
	clouds, err := c.Clouds()
	if err != nil {
		return tokens.Place{}, err
	}
	owner, err := s.Owner()
	if err != nil {
		return tokens.Place{}, base.Failure(base.ExitFile, err)
	}
	if o.forget {
		if clouds.Tokens.Memory(ctx) == nil {
			return tokens.Place{}, base.Failure(base.ExitSecret,
				errors.New("-forget keeps the token with an unlocked wallet, and none is unlocked"),
				"gharbor wallet unlock -lifetime 8h")
		}
		return tokens.Place{Forget: true}, nil
	}
	if at, ok := clouds.Tokens.PlaceOf(ctx, owner); ok && !at.Forget && (o.key == "" || o.key == at.Key.Source) {
		if _, err := clouds.Tokens.Key(ctx, owner, at.Key); err == nil {
			return at, nil
		}
	}
	at := tokens.KeyPlace{Source: o.key, Entry: "cloud-" + owner.Name}
	if at.Source == "" {
		at.Source = "wallet"
		if keyring.Problem(c.Lookup) == "" {
			at.Source = "keyring"
		}
	}
	if at.Source == "keyring" {
		err := keyring.Set(ctx, at.Entry, tokens.NewKey().Disclose())
		if err == nil {
			return tokens.Place{Key: at}, nil
		}
		if o.key != "" || ctx.Err() != nil {
			return tokens.Place{}, base.Failure(base.ExitSecret,
				fmt.Errorf("the system's keyring can't be used: %s", clean.Line(keyring.Reason(err), 200)),
				"gharbor cloud sign-in "+s.Called+" -key wallet")
		}
		c.Notice("the system's keyring can't be used (%s): the wallet is", clean.Line(keyring.Reason(err), 200))
		at.Source = "wallet"
	}
	key := tokens.NewKey()
	known := clouds.Tokens.Key // the wallet may have been opened before the entry was there
	clouds.Tokens.Key = func(ctx context.Context, of tokens.Owner, place tokens.KeyPlace) (secret.Value, error) {
		if of == owner && place == at {
			return key, nil
		}
		return known(ctx, of, place)
	}
	keep := secretcmd.NewCall(c.Call).KeepKey
	return tokens.Place{Key: at}, keep(ctx, o.WalletFlags, at.Entry, cloud.KeyBinding(owner), key)
}

func signOut() *base.Command {
	return &base.Command{
		Name: "cloud sign-out", Args: "NAME", Summary: "sign out: revoke the token, and forget it",
		Long: `Asks the issuer to revoke the tokens (RFC 7009) and removes them from this machine.
Where the issuer can't be asked, they are removed all the same, with a notice.`,
		Examples: []string{"gharbor cloud sign-out club"},
		MinArgs:  1, MaxArgs: 1,
		Run: run(func(ctx context.Context, c *call) error {
			s, err := c.CloudSession(c.Args[0])
			if err != nil {
				return err
			}
			had, revoked, why, found := s.SignOut(ctx)
			switch {
			case found != nil:
				return findingError(ctx, found)
			case !had:
				c.Say("you were not signed in to %s", s.Called)
			case revoked:
				c.Say("signed out of %s: the token is revoked and forgotten", s.Called)
			default:
				c.Say("signed out of %s: the token is forgotten on this machine", s.Called)
				if why != "" {
					c.Notice("it was not taken back: %s", why)
				}
			}
			return nil
		}),
	}
}

func whoCommand() *base.Command {
	var form base.Format
	return &base.Command{
		Name: "cloud who", Args: "NAME", Summary: "as whom you are signed in, with which rights, until when",
		Long: `Asks the service. The address is the one from which the service sees this machine: a rule
of gharbor cloud allow is for it.`,
		Examples: []string{"gharbor cloud who station", "gharbor cloud who station -format json"},
		MinArgs:  1, MaxArgs: 1,
		Flags: func(fs *base.FlagSet) { form.Flag(fs) },
		Run: run(func(ctx context.Context, c *call) error {
			s, err := c.CloudSession(c.Args[0])
			if err != nil {
				return err
			}
			account, until, found := s.ReadAccount(ctx)
			if found != nil {
				return findingError(ctx, found)
			}
			if form.JSON() {
				return render.JSON(c.Stdout, accountJSON(s.Called, account, until))
			}
			return c.showWho(s, account, until)
		}),
	}
}

// accountJSON is the output of `cloud who -format json`.
func accountJSON(called string, a *wire.Account, until time.Time) map[string]any {
	answer := map[string]any{"format": 1, "account": called, "signed_in_as": clean.Line(a.Account, 200),
		"rights": a.Rights, "address": a.Address}
	if !until.IsZero() {
		answer["token_until"] = until.UTC()
	}
	if !a.Until.IsZero() {
		answer["access_until"] = a.Until.UTC()
	}
	return answer
}

func (c *call) showWho(s *cloud.Session, a *wire.Account, until time.Time) error {
	rights := strings.Join(a.Rights, ", ")
	if rights == "" {
		rights = "none"
	}
	rows := [][2]string{{"account", s.Called}, {"signed in as", clean.Line(a.Account, 200)}, {"rights", rights}}
	if a.Address != "" {
		rows = append(rows, [2]string{"seen from", a.Address})
	}
	if !until.IsZero() {
		rows = append(rows, [2]string{"token", "until " + until.Local().Format(time.DateTime) + ", then refreshed"})
	}
	if !a.Until.IsZero() {
		rows = append(rows, [2]string{"access", "until " + a.Until.Local().Format(time.DateTime)})
	}
	for _, f := range a.Features {
		rows = append(rows, [2]string{"feature " + f.Name, onOff(f.On)})
	}
	return render.Pairs(c.Stdout, c.NoColour, rows)
}

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}
