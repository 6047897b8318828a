package binding

import (
	"context"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// rented says where instances are: all at one host, of a service.
type rented struct{ service string }

func (r rented) Place(context.Context, address.Profile) (*address.CloudAddress, *finding.Finding) {
	panic("a binding asks no service")
}

func (r rented) Service(address.Profile) (string, *finding.Finding) { return r.service, nil }

// TestCloudSecrets: what is bound to an instance goes to this instance or branch of this service alone, behind the same
// hops; what is bound to its host, or to another's, does not go there.
func TestCloudSecrets(t *testing.T) {
	const usual = "https://cloud.saltmarsh.example/v1"
	query := func(instance, service string) secret.Query {
		return secret.Query{Engine: "mysql", Instance: instance, Service: service, TLS: "verified",
			Address: "members.cloud.example:3306", Told: "the instance service of station", Profile: "members"}
	}
	f, err := profile.Parse(allKeys, "profiles.toml", []byte("[profile.members]\nengine = \"mysql\"\ncloud = \"station/estuary-members/spring\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	p := resolve.Resolve(f, f.Lookup("members"), nil, resolve.Environment{})
	b, err := New(t.Context(), address.Sources{Clouds: rented{usual}}, p)
	if err != nil || b.Instance != "estuary-members/spring" || b.Service != usual {
		t.Fatalf("%+v %v", b, err)
	}
	other := Binding{Engine: "mysql", Addresses: []string{"members.cloud.example:3306"}, TLS: "verified"}
	hops := query("estuary-members/spring", usual)
	hops.Hops = []string{"gate"}
	weak := query("estuary-members/spring", usual)
	weak.TLS = "required"
	host := query("", "")
	host.Told = ""
	for name, c := range map[string]struct {
		b    Binding
		q    secret.Query
		sent bool
	}{
		"this branch":     {b, query("estuary-members/spring", usual), true},
		"the instance":    {b, query("estuary-members", usual), false},
		"another branch":  {b, query("estuary-members/autumn", usual), false},
		"another service": {b, query("estuary-members/spring", "https://elsewhere.example"), false},
		"own authority":   {b, query("estuary-members/spring", usual+" 01ab"), false},
		"hops":            {b, hops, false},
		"less TLS":        {b, weak, false},
		"its host":        {b, host, false},
		"of its host":     {other, query("estuary-members/spring", usual), false},
	} {
		if why := c.b.Objection(c.q); (why == "") != c.sent {
			t.Errorf("%s: %q", name, why)
		}
	}
	key := secret.Query{Kind: secret.OfCloud, Address: "station 01ab", Profile: "station"}
	if why := (Binding{Account: "station 01ab"}).Objection(key); why != "" {
		t.Errorf("the account's key: %s", why)
	}
	for _, wrong := range []Binding{{Account: "station 02ab"}, {Hop: "station 01ab"}, {Key: "station 01ab"}, b} {
		if why := wrong.Objection(key); why == "" {
			t.Errorf("%s gives an account's key", wrong)
		}
	}
	if why := (Binding{Account: "station 01ab"}).Objection(query("estuary-members/spring", usual)); why == "" || !strings.Contains(why, "cloud account") {
		t.Errorf("an account's key goes to a database server: %q", why)
	}
	if text := b.String(); text != "mysql at instance:estuary-members/spring of "+usual+", tls verified" {
		t.Error(text)
	}
}
