package main

import (
	"testing"

	"gentleharbor/internal/testkit"
)

// TestKeyring: the password is kept in and taken from a keyring; where there is
// none, that is the finding.
func TestKeyring(t *testing.T) {
	t.Parallel()
	p, _ := standin(t, birds())
	p.OK("set", "sightings", "secret=keyring")
	s := p.Test("sightings").Ends(t, "secret", "fail", "secret.no-keyring")
	if len(s.Finding.Try) != 2 {
		t.Errorf("%+v", s)
	}
	p.Feed("dunlin", "secret", "keep", "sightings", "-secret-stdin").Want(4).Has("secret.no-keyring", "there is no session bus here")
	p.Setenv("DBUS_SESSION_BUS_ADDRESS", testkit.Bus(t))
	p.Test("sightings").Ends(t, "login", "fail", "secret.no-keyring") // a bus, and no keyring on it
	p.Feed("dunlin", "secret", "keep", "sightings", "-secret-stdin").Want(4).Has("secret.no-keyring")

	k := testkit.StartKeyring(t)
	p.Setenv("DBUS_SESSION_BUS_ADDRESS", k.Address)
	p.Test("sightings").Ends(t, "login", "fail", "secret.missing")
	p.Feed("knot", "secret", "keep", "sightings", "-secret-stdin").Want(0).Has("the system's keyring, entry sightings")
	p.Test("sightings").Ends(t, "login", "fail", "login.password")
	p.Feed("dunlin", "secret", "keep", "sightings", "-secret-stdin").Want(0)
	p.OK("test", "sightings").Has("the system's keyring, entry sightings", "ready: ")
	p.OK("set", "sightings", "secret=keyring:birds")
	p.Test("sightings").Ends(t, "login", "fail", "secret.missing")
	p.Feed("dunlin", "secret", "keep", "sightings", "-secret-stdin").Want(0)
	p.OK("test", "sightings").Has("entry birds", "ready: ")
	if all := k.Secrets(); len(all) != 2 || all["birds"] != "dunlin" || all["sightings"] != "dunlin" {
		t.Errorf("%v", all)
	}
	r := p.OK("with", "sightings", "--", "sh", "-c", "cut -d: -f5 $PGPASSFILE")
	if r.Stdout != "dunlin\n" {
		t.Error(r.Stdout)
	}
}
