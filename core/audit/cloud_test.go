package audit

import (
	"slices"
	"testing"
	"time"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/vouch"
)

// TestClouds: what a service says of networks and logins is judged.
func TestClouds(t *testing.T) {
	file, err := profile.Parse(keys, "profiles.toml", []byte(`
[cloud.station]
service = "https://cloud.saltmarsh.example"
token-file = "/run/token"
[profile.members]
engine = "mysql"
cloud = "station/estuary-members"
user = "bander"
secret = "wallet"
[profile.brief]
engine = "mysql"
cloud = "station/estuary-members/spring"
secret = "cloud"
[profile.hidden]
engine = "mysql"
cloud = "station/estuary-hidden"
secret = "cloud"
[[profile.hidden.hop]]
host = "gate"
`))
	if err != nil {
		t.Fatal(err)
	}
	var profiles []*resolve.Profile
	for _, p := range file.All() {
		profiles = append(profiles, resolve.Resolve(file, p, nil, resolve.Environment{}))
	}
	public := []wire.Address{{Kind: wire.Public, Host: "h", Port: 1}}
	rule := func(id, ip string, until time.Duration) wire.Rule {
		r := wire.Rule{ID: id, Range: ip, State: wire.InForce}
		if until != 0 {
			r.Until = time.Now().Add(until)
		}
		return r
	}
	one := Cloud{
		Cloud: file.Clouds[0],
		Places: map[string]*wire.Place{
			"estuary-members":        {Login: wire.ByPassword, Addresses: public},
			"estuary-members/spring": {Login: wire.ByPassword, Addresses: public},
			"estuary-hidden":         {Login: wire.ByPassword, Addresses: public},
		},
		Rules: map[string][]wire.Rule{"estuary-members": {
			rule("all", "0.0.0.0/0", time.Hour), rule("wide", "203.0.0.0/8", time.Hour), rule("endless", "203.0.113.7/32", 0),
			rule("wide-six", "2001:db8::/32", time.Hour), rule("fine", "203.0.113.8/32", time.Hour), rule("site", "203.0.113.0/24", time.Hour),
		}},
	}
	issues := Run(t.Context(), Subject{Engines: keys.Engines(), Home: t.TempDir(), Folder: t.TempDir(), Profiles: profiles, Clouds: []Cloud{one},
		Lookup: func(string) (string, bool) { return "", false }, Book: vouch.NewBook("/nowhere")})
	var got []string
	for _, i := range issues {
		if i.Code != finding.AuditPermissions {
			got = append(got, string(i.Severity)+" "+string(i.Code)+" "+i.Place.Profile+" "+slices.Concat(i.Try, []string{""})[0])
		}
	}
	slices.Sort(got)
	want := []string{
		"high audit.rule-open  gharbor cloud disallow station/estuary-members all",
		"low audit.public-address hidden ",
		"low audit.rule-open  gharbor cloud disallow station/estuary-members endless",
		"low audit.token-file  ",
		"medium audit.rule-open  gharbor cloud disallow station/estuary-members wide",
		"medium audit.rule-open  gharbor cloud disallow station/estuary-members wide-six",
		"medium audit.stored-password members gharbor set members secret=cloud user=",
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%q\nwant\n%q", got, want)
	}
}
