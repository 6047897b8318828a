package secret

import (
	"fmt"
	"slices"
	"strings"

	"gentleharbor/core/clean"
	"gentleharbor/core/finding"
)

// Link is an alias that an address is from.
type Link struct {
	Name string
	File string // the project's file that it stands in, "" for one of the user's

	// What it or one behind it says, "" for nothing.
	Engine       string
	TLS          string // the rule
	TLSAuthority string // the path of tls-ca
	TLSName      string
}

// SpeaksAs reports whether an engine is the connection's, or speaks the same protocol.
func (q Query) SpeaksAs(engine string) bool {
	return engine == q.Engine || slices.Contains(q.Family, engine)
}

// AddressText is the address that needs the secret.
func (q Query) AddressText() string {
	if q.Container != "" {
		return "container " + q.Container + " of " + q.Endpoint
	}
	if q.Instance != "" {
		return "instance " + q.Instance + " of " + q.Service
	}
	return q.Address
}

// SettingKey is the key that names the source, as set takes it.
func (q Query) SettingKey() string {
	if q.Setting == "" {
		return "secret"
	}
	return q.Setting
}

// suggest adds lines that name another source.
func (q Query) suggest(found *finding.Finding, sources ...string) *finding.Finding {
	for _, source := range sources {
		line := fmt.Sprintf("%s %s %s=%s", q.setCommand(), q.Profile, q.SettingKey(), source)
		if _, arg, _ := strings.Cut(source, ":"); arg != "" && arg == strings.ToUpper(arg) { // a word to fill in
			found.Advise("say where it is: %s", line)
			continue
		}
		found.Suggest("%s", line)
	}
	return found
}

// fileSource is a source that keeps the secret in a file, and needs no terminal.
func (q Query) fileSource() string {
	if q.Kind == OfDatabase {
		return "passfile"
	}
	return "wallet"
}

// describe names the secret in a sentence.
func (q Query) describe() string {
	switch q.Kind {
	case OfHop:
		return fmt.Sprintf("password of %s", clean.Line(q.Address, 120))
	case OfKey:
		return fmt.Sprintf("passphrase of the key %s", clean.Line(q.Address, 200))
	case OfCloud:
		return fmt.Sprintf("%s of the cloud account %s", q.SettingKey(), clean.Line(q.Profile, 80))
	}
	return "password"
}

// prompt is the question for a person.
func (q Query) prompt() string {
	if q.Kind == OfDatabase {
		return fmt.Sprintf("password of %s for %s", clean.Line(q.User, 80), q.Profile)
	}
	return q.describe()
}

// answerKey names what an answer is for: a profile, or a hop or a key for all profiles that use it.
func (q Query) answerKey() string {
	if q.Kind == OfDatabase {
		return q.Profile
	}
	return q.Kind + " " + q.Address
}

// KeepOrAsk suggests how to give a password where the source has none: to keep one, or to be asked each time.
func (q Query) KeepOrAsk(found *finding.Finding) *finding.Finding {
	if q.Kind == OfDatabase {
		found.Suggest("gharbor secret keep %s   # asks for the password, and keeps it", q.Profile)
	}
	return found.Suggest("%s %s %s=ask   # asks each time", q.setCommand(), q.Profile, q.SettingKey())
}

// setCommand is the command that sets another source.
func (q Query) setCommand() string {
	if q.Kind == OfCloud {
		return "gharbor cloud set"
	}
	return "gharbor set"
}
