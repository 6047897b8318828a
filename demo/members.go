package demo

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/defect"
	"gentleharbor/standin/cloud"
)

// startCloud starts the simulated provider with the members' instances: a paused one, with a branch, and one for the
// committee whose administrator has no password yet.
func (s *stage) startCloud() (err error) {
	members := func(tables ...string) func(*tls.Config) (cloud.Server, error) {
		return cloud.MySQL("members", append([]string{"member"}, tables...)...)
	}
	s.provider, err = cloud.Start(cloud.Config{
		Authority: s.authority,
		Interval:  1,
		RuleAfter: 2 * time.Second,
		WakeAfter: 2 * time.Second,
		LoginFor:  5 * time.Minute,
		TokenFor:  24 * time.Hour,
		Instances: []*cloud.Instance{
			{Name: "estuary-members", Engine: "mysql", Version: "8.4.0", Region: "north-1",
				Place: cloud.Place{State: wire.Paused, Access: true, Login: wire.ByPassword, Database: "members", Start: members(),
					Features: []wire.Feature{{Name: "remote-access", Needed: true, About: "connections from outside"}}},
				Branches: map[string]*cloud.Place{"renewals": {Login: wire.ByPassword, Database: "members",
					Start: members("renewal")}}},
			{Name: "estuary-committee", Engine: "postgresql", Version: "16.2", Region: "north-1",
				Place: cloud.Place{First: "steward", Database: "minutes", Start: cloud.PostgreSQL("minutes", "minute")}},
		},
	})
	return err
}

// cloudHosts are the provider's names, all on this machine.
func (s *stage) cloudHosts() string { return s.provider.Hosts() }

// cloudProfiles are the cloud account of a demo that stays up, with its token in a file, and a profile of a branch.
func (s *stage) cloudProfiles() (string, error) {
	text := fmt.Sprintf(`
[cloud.station]
token-file = "station.token"
service    = %[1]q
tls-ca     = "authority.pem"
note       = "where the members' records are"

[profile.members]
engine   = "mysql"
cloud    = "station/estuary-members"
database = "members"
secret   = "cloud"
tags     = ["cloud"]

[profile.renewals]
engine   = "mysql"
cloud    = "station/estuary-members/renewals"
database = "members"
secret   = "cloud"
tags     = ["cloud"]

[profile.committee]
engine   = "postgresql"
cloud    = "station/estuary-committee"
database = "minutes"
user     = "steward"
secret   = "wallet"
tags     = ["cloud"]

[cloud.club]
issuer  = %[2]q
client  = "gharbor"
service = %[1]q
tls-ca  = "authority.pem"
note    = "the same provider, for a person who signs in"
`, s.provider.Service(), s.provider.URL())
	return text, os.WriteFile(filepath.Join(s.home, "station.token"), []byte(s.provider.Grant()+"\n"), 0o600)
}

// confirmAll confirms every code after a while, as a person would, until ctx ends.
func (s *stage) confirmAll(ctx context.Context) {
	defect.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(8 * time.Second):
				s.provider.ConfirmAny()
			}
		}
	})
}

// members goes from a sign-in to a login that expires by itself.
func members(s *stage) {
	pass, ca := filepath.Join(s.home, "passphrase"), filepath.Join(s.home, "authority.pem")
	s.failed = errors.Join(os.WriteFile(pass, []byte(passphrase+"\n"), 0o600), os.WriteFile(ca, s.authority.PEM, 0o600),
		os.WriteFile(filepath.Join(s.home, "aliases.toml"), []byte("[hosts]\n"+s.cloudHosts()), 0o600),
		os.WriteFile(filepath.Join(s.home, "profiles.toml"), []byte("[settings]\nreader = \"members.pin\"\n"), 0o600))
	if s.failed != nil {
		return
	}
	open := []string{"-passphrase-file", pass}
	for _, words := range [][]string{{"wallet", "create", "-opening", "50ms"},
		{"wallet", "reader", "add", "members", "-out", filepath.Join(s.home, "members.pin")}} {
		step := Step{Home: s.home, Dir: s.home, Args: append(words, open...), Quiet: true}
		if code := s.Command(step); code != 0 {
			s.failed = fmt.Errorf("gharbor %s ended with %d", words[0], code)
			return
		}
	}
	s.step("The members' records are rented. Who signs people in, and who knows the instances?", 0, "cloud", "add",
		"station", "service="+s.provider.Service(), "issuer="+s.provider.URL(), "client="+cloud.Client, "tls-ca="+ca)
	s.confirming(func() {
		s.step("Sign in: the page opens in any browser, and shows the same code. The demo confirms it.", 0,
			append([]string{"cloud", "sign-in", "station"}, open...)...)
	})
	s.step("What is there?", 0, "cloud", "instances", "station")
	s.step("A profile of the members' instance: no host, no port, no password.", 0, "cloud", "adopt",
		"station/estuary-members", "members")
	s.step("It is not ready, and the service says why.", 1, "test", "members")
	s.step("Waking it may cost money: nothing else does it.", 0, "cloud", "wake", "members")
	s.step("A branch is an instance of its own, with an open network: ready, by a login that was made just now.", 0,
		"cloud", "adopt", "station/estuary-members/renewals", "renewals", "-test")
	s.step("The instance itself runs now. What is still in the way?", 1, "test", "members")
	s.step("Switched on.", 0, "cloud", "switch-on", "members", "remote-access")
	s.step("And the network lets nobody in.", 1, "test", "members")
	s.step("For ten minutes, only this machine.", 0, "cloud", "allow", "members", "-lifetime", "10m")
	s.step("Ready. The login expires by itself, and is in no file.", 0, "test", "members")
	s.step("The committee's instance makes no logins; its administrator has no password yet.", 0, "cloud", "adopt",
		"station/estuary-committee", "committee")
	s.step("Set once, shown once, into the wallet, only for this instance.", 0,
		append([]string{"cloud", "first-password", "committee"}, open...)...)
	s.step("Ready.", 0, "test", "committee", "-brief")
	s.step("The door is shut behind us.", 0, "cloud", "disallow", "members")
	s.step("The token is revoked and forgotten.", 0, "cloud", "sign-out", "station")
}

// confirming does something while a person confirms each code.
func (s *stage) confirming(do func()) {
	stop, ended := make(chan struct{}), make(chan struct{})
	defect.Go(func() {
		defer close(ended)
		for {
			select {
			case <-stop:
				return
			case <-time.After(300 * time.Millisecond):
				s.provider.ConfirmAny()
			}
		}
	})
	do()
	close(stop)
	<-ended
}
