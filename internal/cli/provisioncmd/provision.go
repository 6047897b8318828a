package provisioncmd

import (
	"context"
	"errors"
	"strings"
	"time"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/profile/syntax"
	"gentleharbor/core/provision"
	"gentleharbor/internal/cli/base"
	"gentleharbor/internal/cli/secretcmd"
	"gentleharbor/internal/cli/testcmd"
)

// Provision makes and changes what a profile needs at its server.
func Provision() *base.Command {
	return &base.Command{
		Name:    "provision",
		Args:    "VERB",
		Summary: "make or change the account, rights and database of a profile",
		Long: `An administrator's profile (-as) does it. Each verb looks at the server first, shows every
statement that it will send (a password as [hidden]), asks, and tests the profile
afterwards. -dry-run only shows. What is there already stays as it is; what differs is
changed only after a yes.`,
		Verbs: func() []*base.Command {
			return []*base.Command{
				provisionMake(), provisionUnlock(), provisionExpire(), provisionGrant(), provisionRevoke(),
				provisionDrop(), provisionDatabase(),
			}
		},
	}
}

// options are the flags of all verbs.
type options struct {
	secretcmd.WalletFlags
	over    base.Overrides
	as      string
	dryRun  bool
	yes     bool
	same    bool
	timeout time.Duration

	access engine.Access
	tables []string
	until  time.Time
	never  bool
	owner  string
	drop   bool // provision database

	account, database bool // provision drop
}

func (o *options) flags(fs *base.FlagSet) {
	fs.StringVar(&o.as, "as", "", "the administrator's profile that does it")
	o.over.Flag(fs)
	fs.BoolVar(&o.dryRun, "dry-run", false, "show the statements, and send none of them")
	fs.BoolVar(&o.yes, "yes", false, "do not ask")
	fs.BoolVar(&o.same, "same-server", false, "both profiles lead to one server, although their addresses do not tell")
	fs.DurationVar(&o.timeout, "timeout", check.DefaultTimeout, "for each connection")
	o.WalletFlags.Flags(fs)
}

// accessFlag registers -access.
func (o *options) accessFlag(fs *base.FlagSet) {
	fs.Choose("access", "own", "write", "read")
	fs.Func("access", "own (makes tables), write (changes rows) or read", func(s string) (err error) {
		o.access, err = provision.ParseAccess(s)
		return err
	})
}

// tablesFlag registers -on for tables.
func (o *options) tablesFlag(fs *base.FlagSet) {
	fs.Func("on", "only these tables: TABLE or SCHEMA.TABLE, with commas between", func(s string) error {
		for word := range strings.SplitSeq(s, ",") {
			if word = strings.TrimSpace(word); word == "" {
				return errors.New("expected TABLE,TABLE")
			}
			o.tables = append(o.tables, word)
		}
		return nil
	})
}

// command makes the command of a verb.
func command(o *options, verb provision.Verb, c *base.Command) *base.Command {
	c.Name = "provision " + string(verb)
	c.MinArgs, c.MaxArgs = 1, 1
	more := c.Flags
	c.Flags = func(fs *base.FlagSet) {
		if more != nil {
			more(fs)
		}
		o.flags(fs)
	}
	c.Run = run(func(ctx context.Context, c *call) error {
		switch {
		case o.as == "":
			return c.noAdministrator(verb, o)
		case o.dryRun && o.yes:
			return base.Usage("give -dry-run or -yes, not both")
		case o.timeout <= 0:
			return base.Usage("-timeout: expected a time above zero, such as 10s")
		}
		return c.provision(ctx, verb, o)
	})
	return c
}

// noAdministrator is the error for a command without -as. It suggests an administrator's profile for the server, if
// one is known.
func (c *call) noAdministrator(verb provision.Verb, o *options) error {
	try := "gharbor help provision " + string(verb)
	if verb != provision.Database {
		if p, err := c.Resolve(c.Args[0], o.over); err != nil {
			return err
		} else if admin := testcmd.NewCall(c.Call).AdministratorOf(p); admin != "" {
			try = c.CommandWith("as", admin)
		}
	}
	return base.Failure(base.ExitUsage, errors.New("-as is missing: the administrator's profile that does it"), try)
}

func provisionMake() *base.Command {
	var o options
	return command(&o, provision.Make, &base.Command{
		Args:    "PROFILE -as ADMIN",
		Summary: "make the account, database and rights that a profile needs",
		Long: `Makes what is missing: the database with the server's own encoding, the account (for the
host from which the profile's connection really comes, where accounts are for hosts),
its password and its rights, also on future tables. The password is the one in the
profile's secret source; where that has none, one of 32 characters is made and kept
there. It is sent as a hash where the server takes one, so that no log of the server
shows it.

Without -access the account owns a database that is new or its own already, and writes in
another; it only reads where the profile expects writable = false.`,
		Examples: []string{
			"gharbor provision make sightings-ro -as sightings-admin -dry-run",
			"gharbor provision make sightings -override user=newcomer -as sightings-admin -access read -yes",
		},
		Flags: o.accessFlag,
	})
}

func provisionUnlock() *base.Command {
	var o options
	return command(&o, provision.Unlock, &base.Command{
		Args:    "PROFILE -as ADMIN",
		Summary: "let a profile's account log in again",
		Long: `Removes what keeps the account out: a lock, a missing right to log in, an expired
password.`,
		Examples: []string{"gharbor provision unlock sightings -override user=summer-help -as sightings-admin -yes"},
	})
}

func provisionExpire() *base.Command {
	var o options
	return command(&o, provision.Expire, &base.Command{
		Args:    "PROFILE -as ADMIN -on DATE",
		Summary: "set when the password of a profile's account expires",
		Long: `-on is a day, such as 2027-03-31: the password is valid to the end of that day (UTC).
Some servers count days from the password's last change: it then expires at the time of
day of that change.`,
		Examples: []string{
			"gharbor provision expire sightings -as sightings-admin -on 2030-03-31 -dry-run",
			"gharbor provision expire sightings -as sightings-admin -never -yes",
		},
		Flags: func(fs *base.FlagSet) {
			fs.Func("on", "the last day on which the password works: YEAR-MONTH-DAY", func(s string) error {
				day, err := time.Parse(time.DateOnly, s)
				if err != nil {
					return errors.New("expected a day as 2027-03-31")
				}
				o.until = day.AddDate(0, 0, 1)
				return nil
			})
			fs.BoolVar(&o.never, "never", false, "the password never ends")
		},
	})
}

func provisionGrant() *base.Command {
	var o options
	return command(&o, provision.Grant, &base.Command{
		Args:     "PROFILE -as ADMIN -access ACCESS",
		Summary:  "give a profile's account rights in its database",
		Long:     `On all present and future tables, or only on those of -on.`,
		Examples: []string{"gharbor provision grant sightings-ro -as sightings-admin -access read -dry-run"},
		Flags: func(fs *base.FlagSet) {
			o.accessFlag(fs)
			o.tablesFlag(fs)
		},
	})
}

func provisionRevoke() *base.Command {
	var o options
	return command(&o, provision.Revoke, &base.Command{
		Args:    "PROFILE -as ADMIN",
		Summary: "remove the rights of a profile's account in its database",
		Long: `Rights that the account has as an owner, as a member of a role or as everybody stay, and
are shown.`,
		Examples: []string{"gharbor provision revoke sightings-ro -as sightings-admin -dry-run"},
		Flags:    o.tablesFlag,
	})
}

func provisionDrop() *base.Command {
	var o options
	return command(&o, provision.Drop, &base.Command{
		Args:    "PROFILE -as ADMIN",
		Summary: "drop a profile's database and account",
		Long: `Shows the size, who is connected and what depends on them, and asks for the name.
-account or -database drops only that. What the account owns in other databases goes to
the administrator. A thing that does not exist gets a line, and is no error. The profile
and its password on this machine stay.`,
		Examples: []string{"gharbor provision drop sightings-ro -account -as sightings-admin -dry-run"},
		Flags: func(fs *base.FlagSet) {
			fs.BoolVar(&o.account, "account", false, "only the account")
			fs.BoolVar(&o.database, "database", false, "only the database")
		},
	})
}

func provisionDatabase() *base.Command {
	var o options
	return command(&o, provision.Database, &base.Command{
		Args:    "NAME -as ADMIN",
		Summary: "make or drop a database",
		Long:    `NAME is a database at the server of the administrator's profile.`,
		Examples: []string{
			"gharbor provision database moulting -as sightings-admin -owner warden -dry-run",
			"gharbor provision database moulting -as sightings-admin -drop -dry-run",
		},
		Flags: func(fs *base.FlagSet) {
			fs.StringVar(&o.owner, "owner", "", "the account that owns it (default: the administrator)")
			fs.BoolVar(&o.drop, "drop", false, "drop it")
		},
	})
}

// conflict says what is wrong with the flags of a verb, before a connection is made.
func (c *call) conflict(verb provision.Verb, o *options) error {
	switch verb {
	case provision.Expire:
		if o.never == !o.until.IsZero() {
			return base.Usage("give -on DATE or -never")
		}
	case provision.Grant:
		if o.access == "" {
			return base.Usage("-access is missing: own, write or read")
		}
	case provision.Database:
		if o.drop && o.owner != "" {
			return base.Usage("give -owner or -drop, not both")
		}
		if name := c.Args[0]; name == "" || strings.ContainsRune(name, 0) || len(name) > maxName {
			return base.Usage("the name of a database has 1 to %d bytes", maxName)
		}
	}
	if verb != provision.Database && strings.TrimPrefix(c.Args[0], "project:") == o.as {
		return base.Usage("-as: the administrator's profile is the profile itself")
	}
	if !syntax.ValidName(strings.TrimPrefix(o.as, "project:")) {
		return base.Usage("-as: expected a profile's name")
	}
	return nil
}

// maxName bounds the name of a database, in bytes: more than any engine's.
const maxName = 255
