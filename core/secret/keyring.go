package secret

import (
	"context"
	"errors"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
	"gentleharbor/core/secret/keyring"
)

// KeyringEntry is the entry of a profile's source: the one that it names, else the profile's name.
func (q Query) KeyringEntry() string {
	if q.Source.Arg != "" {
		return q.Source.Arg
	}
	if q.Kind != OfDatabase {
		return q.Address
	}
	return q.Profile
}

// keyring finds out whether there is a keyring, and asks it nothing yet.
func (f *Finder) keyring(q Query) (*Location, *finding.Finding) {
	if why := keyring.Problem(f.Lookup); why != "" {
		return nil, noKeyring(q, why)
	}
	entry := q.KeyringEntry()
	return &Location{
		Place: "the system's keyring, entry " + clean.Line(entry, 80),
		Read: func(ctx context.Context) (Value, error) {
			f.mu.Lock()
			defer f.mu.Unlock()
			if value, ok := f.ringed[entry]; ok {
				return value, nil // one question serves a whole run
			}
			text, err := keyring.Get(ctx, entry)
			switch {
			case errors.Is(err, keyring.ErrNoEntry):
				found := finding.New(finding.SecretMissing, "the system's keyring has no entry %s of gharbor's",
					clean.Quote(entry))
				if q.Kind != OfDatabase {
					return Value{}, &Failure{q.suggest(found, "wallet", "ask")}
				}
				return Value{}, &Failure{found.Suggest("gharbor secret keep %s", q.Profile)}
			case errors.Is(err, keyring.ErrNone):
				return Value{}, &Failure{noKeyring(q, keyring.Reason(err))}
			case err != nil:
				return Value{}, err
			}
			if f.ringed == nil {
				f.ringed = make(map[string]Value)
			}
			f.ringed[entry] = NewValue(text)
			return f.ringed[entry], nil
		},
	}, nil
}

func noKeyring(q Query, why string) *finding.Finding {
	return finding.New(finding.SecretNoKeyring,
		"the password is in the system's keyring, and no keyring can be reached").
		Saw("%s", clean.Line(why, 300)).
		Suggest("%s %s %s=wallet   # needs no desktop", q.setCommand(), q.Profile, q.SettingKey()).
		Suggest("%s %s %s=ask", q.setCommand(), q.Profile, q.SettingKey())
}
