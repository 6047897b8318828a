package handover

import (
	"fmt"
	"strings"
	"testing"

	"gentleharbor/core/address"
	"gentleharbor/core/profile/key"
)

// kept are the keys that say nothing to another program, with the reason. A new key fails below until it is handed
// over, or is here.
var kept = map[key.Name]string{
	"like":           "its values are",
	"secret":         "the password is, by the wish of the user alone",
	"command":        "the password that it prints is",
	"endpoint":       "the container's address is",
	"tls-key-secret": "clients ask for it themselves",
	"server-key":     "clients fetch it themselves, or take it by an option of their own",
	"as":             "an administrator's right is asked for in the program",
	"guard":          "is kept here: another program has none (the command says so)",
	"tags":           "chooses profiles",
	"note":           "is for people",
}

// TestEveryKeyIsHandedOver: a change of a key changes what another program gets.
func TestEveryKeyIsHandedOver(t *testing.T) {
	changed := map[key.Name]string{
		"engine": "mysql", "host": "other.example", "port": "6000", "hosts": "c.example", "srv": "d.example", "sentinel": "e.example", "cloud": "f.example", "target": "writable", "socket": "/run/x",
		"alias": "counts", "container": "counts", "service": "SKEIN", "instance": "skein1", "database": "other", "user": "visitor",
		"tls": "off", "tls-ca": "/ca.pem", "tls-name": "other.example", "tls-cert": "/c.pem", "tls-key": "/k.pem",
		"tls-crl": "/crl.pem", "tls-start": "direct", "auth-database": "admin",
	}
	for _, f := range keys.Fields() {
		if strings.HasPrefix(string(f.Name), "expect.") {
			continue // what a test compares
		}
		value, ok := changed[f.Name]
		if why := kept[f.Name]; ok == (why != "") {
			t.Errorf("the key %s has a change: %v; a reason to keep it: %q", f.Name, ok, why)
		}
		if !ok {
			continue
		}
		engine := "postgresql"
		if f.Name == "service" || f.Name == "instance" {
			engine = "oracle"
		}
		if before, after := handed(t, engine, "", ""), handed(t, engine, f.Name, value); before == after {
			t.Errorf("the key %s = %s changes nothing of what is handed over:\n%s", f.Name, value, after)
		}
	}
}

// handed is all that a program gets of a profile that has a value for a key.
func handed(t *testing.T, engine string, k key.Name, value string) string {
	t.Helper()
	values := map[key.Name]string{"engine": engine, "host": "192.0.2.1", "port": "5432", "user": "warden", "database": "sightings", "tls": "verified"}
	if k == "service" || k == "instance" {
		delete(values, "database")
	}
	candidate := address.Candidate{Host: "192.0.2.1", Port: 5432}
	switch k {
	case "port":
		candidate.Port = 6000
	case "host", "hosts", "srv", "sentinel", "alias", "container", "cloud":
		candidate.Host = value // as its kind of address finds it
	case "socket":
		candidate = address.Candidate{Socket: value + "/.s.PGSQL.5432", Folder: value, Port: 5432}
	}
	if _, isKey := values[k]; isKey || k != "" && !keys.Field(k).Address {
		values[k] = value
	}
	var text strings.Builder
	for _, name := range []key.Name{"engine", "host", "port", "database", "user", "tls", "tls-ca", "tls-name", "tls-cert", "tls-key", "tls-crl", "tls-start", "target", "service", "instance", "auth-database"} {
		switch v := values[name]; {
		case v == "":
		case name == "port":
			fmt.Fprintf(&text, "port = %s\n", v)
		default:
			fmt.Fprintf(&text, "%s = %q\n", name, v)
		}
	}
	c, found := of(t, text.String(), []address.Candidate{candidate})
	if found != nil {
		t.Fatalf("%s: %s", text.String(), found.Cause)
	}
	return names(c.ExportVariables()) + names(c.Neutral()) + c.URL()
}
