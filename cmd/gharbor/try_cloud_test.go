//go:build linux

package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/standin/authority"
	"gentleharbor/standin/cloud"
)

// leftToSignIn are lines of clouds that need a person, or a service that a test of another package has.
var leftToSignIn = map[string]string{
	"gharbor cloud sign-in %s":             "a person confirms a code; TestCloud has it",
	"keep a token: gharbor cloud sign-in":  "asks for a passphrase; TestCloudForget gives a token",
	"sign in as the program":               "the program is somebody's own; TestCloudScript has one",
	"ask the account's administrator":      "it is somebody else's to do",
	"ask the person who has it":            "of cloud first-password; core/cloud comes upon it",
	"reach its private one":                "needs a jump host; TestCloudHops has one",
	"gharbor cloud allow %s -list":         "of a command about an instance that no profile names",
	"gharbor cloud who %s   # in":          "needs an issuer that goes on to refuse; core/cloud/oauth has it",
	"gharbor cloud instances %s   # late":  "needs a service that goes on to refuse; core/cloud has it",
	"gharbor cloud instances %s   # its f": "needs a service that does not name the feature; core/cloud has it",
}

// rentedAccount is an account of the case's provider, with a token file but where keys says how a token is had.
func rentedAccount(w *tryWorld, p *cloud.Provider, root *authority.Authority, keys string) {
	w.Write(filepath.Join(w.Home, "ca.pem"), string(root.PEM))
	w.Write(filepath.Join(w.Home, "token"), p.Grant()+"\n")
	w.Setenv("CA", filepath.Join(w.Home, "ca.pem"))
	w.Setenv("TOKEN", filepath.Join(w.Home, "token"))
	w.Setenv("SERVICE", p.Service())
	w.Setenv("ISSUER", p.URL())
	w.Setenv("STATION", cloud.JobSecret)
	if keys == "" {
		keys = "token-file = \"token\"\ntls-ca = \"ca.pem\"\n"
	}
	w.Profiles(fmt.Sprintf("[cloud.station]\nservice = %q\n%s", p.Service(), keys) +
		"[profile.x]\nengine = \"mysql\"\ncloud = \"station/estuary-members\"\ndatabase = \"members\"\nsecret = \"cloud\"\n")
	w.Aliases("[hosts]\n" + p.Hosts())
}

// atCloud writes the profile x for an instance of a simulated provider. keys are those of the account, in which ISSUER
// is the provider's; pairs are set in the profile.
func atCloud(c cloud.Config, keys string, pairs ...string) func(*tryWorld) {
	return func(w *tryWorld) {
		w.t.Helper()
		root, err := authority.New()
		if err != nil {
			w.t.Fatal(err)
		}
		c := c
		c.Authority, c.Interval = root, 1
		c.Instances = []*cloud.Instance{
			{Name: "estuary-members", Engine: "mysql", Place: cloud.Place{Access: true, Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members")},
				Branches: map[string]*cloud.Place{"spring": {Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members")}}},
			{Name: "estuary-asleep", Engine: "mysql", Place: cloud.Place{State: wire.Paused, Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members")}},
			{Name: "estuary-rising", Engine: "mysql", Place: cloud.Place{State: wire.Starting, Login: wire.ByPassword, Start: cloud.MySQL("members")}},
			{Name: "estuary-failed", Engine: "mysql", Place: cloud.Place{State: wire.Failed, Login: wire.ByPassword, Start: cloud.MySQL("members")}},
			{Name: "estuary-shut", Engine: "mysql", Place: cloud.Place{Login: wire.ByPassword, Database: "members", Start: cloud.MySQL("members"), Features: []wire.Feature{{Name: "remote", Needed: true}}}},
			{Name: "estuary-deep", Engine: "mysql", Place: cloud.Place{NoPublic: true, Private: true, Login: wire.ByPassword, Start: cloud.MySQL("members")}},
		}
		p, err := cloud.Start(c)
		if err != nil {
			w.t.Fatal(err)
		}
		w.t.Cleanup(p.Close)
		rentedAccount(w, p, root, os.Expand(keys, func(name string) string {
			return map[string]string{"ISSUER": p.URL()}[name]
		}))
		w.set(pairs)
	}
}

func cloudCases() []tryCase {
	same := fills{"gharbor cloud": "same", "ls -l": "same", "gharbor wait": "same", "gharbor certificate": "same"}
	at := func(place string) string { return "cloud=station/estuary-" + place }
	job := "issuer = \"$ISSUER\"\nclient = \"" + cloud.Job + "\"\nclient-secret = \"env:STATION\"\ntls-ca = \"ca.pem\"\n"
	with := func(faults ...cloud.Fault) cloud.Config {
		return cloud.Config{Faults: faults, WakeAfter: 200 * time.Millisecond}
	}
	pathCA, pathToken := fills{"PATH": "$CA"}, fills{"PATH": "$TOKEN"}
	return []tryCase{
		{name: "not allowed", code: "cloud.not-allowed", setUp: atCloud(with(), ""), after: fills{"gharbor cloud allow": "ready"}},
		{name: "a rule that is pending", code: "cloud.rule-pending", setUp: func(w *tryWorld) {
			c := with()
			c.RuleAfter = time.Hour
			atCloud(c, "")(w)
			w.Run("cloud", "allow", "x", "-within", "100ms").Want(5)
		}, after: same},
		{name: "a paused instance", code: "cloud.paused", setUp: atCloud(with(), "", at("asleep")), after: fills{"gharbor cloud wake": "ready", "gharbor wait": "ready"}},
		{name: "an instance that starts", code: "cloud.starting", setUp: atCloud(with(), "", at("rising")), after: same},
		{name: "an instance that failed", code: "cloud.failed", setUp: atCloud(with(), "", at("failed")), after: same},
		{name: "a feature that is off", code: "cloud.feature-off", setUp: atCloud(with(), "", at("shut")), after: fills{"gharbor cloud switch-on": "ready"}},
		{name: "an instance that is not known", code: "cloud.unknown-instance", setUp: atCloud(with(), "", at("member")), after: fills{"gharbor set": "cloud.not-allowed", "gharbor cloud instances": "same"}},
		{name: "a branch that is not known", code: "cloud.unknown-instance", setUp: atCloud(with(), "", at("members/sprint")), after: fills{"gharbor cloud instances": "same"}},
		{name: "an account that is not known", code: "cloud.unknown-account", setUp: atCloud(with(), "", "cloud=statio/estuary-members"),
			fill: fills{"service=URL": "service=$SERVICE tls-ca=$CA", "issuer=URL": "issuer=$ISSUER", "=ID": "=" + cloud.Client}, after: fills{"gharbor cloud add": "cloud.not-signed-in", "gharbor cloud list": "same"}},
		{name: "nobody signed in", code: "cloud.not-signed-in", setUp: atCloud(with(), "issuer = \"$ISSUER\"\nclient = \"gharbor\"\ntls-ca = \"ca.pem\"\n"), after: same},
		{name: "nobody signs in", code: "cloud.not-signed-in", setUp: atCloud(with(), "tls-ca = \"ca.pem\"\n"), fill: fills{"=URL": "=$ISSUER", "=ID": "=" + cloud.Client}, after: same},
		{name: "a client that is not known", code: "cloud.not-signed-in", setUp: func(w *tryWorld) { atCloud(with(), job)(w); w.Setenv("STATION", "wrong") }, after: same},
		{name: "a job that is refused", code: "cloud.sign-in-expired", setUp: atCloud(with(cloud.Refuses), job), after: same},
		{name: "a token that has ended", code: "cloud.sign-in-expired", setUp: func(w *tryWorld) { atCloud(with(), "")(w); w.Write(filepath.Join(w.Home, "token"), "old\n") }, after: same},
		{name: "no token file", code: "secret.missing", setUp: atCloud(with(), "tls-ca = \"ca.pem\"\ntoken-file = \"nowhere\"\n", at("members/spring")), fill: pathToken, after: fills{"gharbor cloud set": "ready"}},
		{name: "a certificate that is not trusted", code: "cloud.unreachable", setUp: atCloud(with(), "token-file = \"token\"\n", at("members/spring")), fill: pathCA, after: fills{"gharbor cloud set": "ready", "gharbor cloud show": "same"}},
		{name: "an authority that is not there", code: "cloud.broken", setUp: atCloud(with(), "token-file = \"token\"\ntls-ca = \"nowhere\"\n", at("members/spring")), fill: pathCA, after: fills{"gharbor cloud set": "ready"}},
		{name: "a service that is not there", code: "cloud.unreachable", setUp: atCloud(with(cloud.Gone), ""), after: same},
		{name: "a service that answers garbage", code: "cloud.broken", setUp: atCloud(with(cloud.Garbage), ""), after: same},
		{name: "an issuer that is another", code: "cloud.broken", setUp: atCloud(with(cloud.OtherIssuer), job), after: same},
		{name: "no public address", code: "cloud.no-address", setUp: atCloud(with(), "", at("deep")), after: same},
		{name: "no private address", code: "cloud.no-address", setUp: func(w *tryWorld) {
			atCloud(with(), "", at("members/spring"))(w)
			w.OK("hop", "add", "x", "host=192.0.2.1", "user=keeper")
		}, after: same},
		{name: "an instance on this machine", code: "cloud.no-address", setUp: atCloud(with(cloud.Loopback), "", at("members/spring")), after: same},
		{name: "no right", code: "cloud.no-right", setUp: atCloud(cloud.Config{Rights: []string{"look"}}, "", at("members/spring")), after: same},
		{name: "another authority", code: "tls.untrusted", setUp: atCloud(with(cloud.OtherAuthority), "", at("members/spring")), after: same},
		{name: "a port beside a cloud", code: "profile.conflict", setUp: atCloud(with(), "", at("members/spring"), "port=3306"), after: fills{"gharbor set": "ready"}},
		{name: "a cloud's login elsewhere", code: "secret.missing", setUp: func(w *tryWorld) {
			w.Profiles(fmt.Sprintf("[profile.x]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\ndatabase = \"sightings\"\nuser = \"warden\"\nsecret = \"cloud\"\n", w.pg.Port))
		}, typed: "knot"},
	}
}
