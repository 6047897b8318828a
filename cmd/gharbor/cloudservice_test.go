//go:build unix

package main

import (
	"bytes"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"gentleharbor/core/cloud/wire"
	"gentleharbor/standin/cloud"
)

// TestCloudServicePage: each example of the page fits its schema, and what gharbor reads of it.
func TestCloudServicePage(t *testing.T) {
	t.Parallel()
	page, err := os.ReadFile("../../docs/cloud-service.md")
	if err != nil {
		t.Fatal(err)
	}
	into := map[string]any{"account": new(wire.Account), "instances": new(wire.Instances), "rule": new(wire.Rule), "login": new(wire.Login),
		"feature": new(wire.Feature), "first": new(wire.First)}
	seen := 0
	for _, m := range regexp.MustCompile("(?s)```json ([a-z-]+)\n(.*?)```").FindAllSubmatch(page, -1) {
		name := string(m[1])
		if err := fits(t, name, m[2]); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if one := into[name]; one != nil {
			if err := wire.Read(m[2], one); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		seen++
	}
	if seen != 12 {
		t.Errorf("the page has %d examples", seen)
	}
	for name, wrong := range map[string]string{"instance": `{"name":"a/b","engine":"x","state":"running"}`, "rule": `{"id":"r","range":"x","state":"pending"}`,
		"login": `{"instance":"i","user":"u","until":"2026-01-01T00:00:00Z"}`, "problem": `{"type":"about:blank","status":404}`} {
		if fits(t, name, []byte(wrong)) == nil {
			t.Errorf("%s takes %s", name, wrong)
		}
	}
	for _, kind := range wire.Kinds() {
		if !bytes.Contains(page, []byte(wire.Prefix+string(kind)+"`")) || fits(t, "problem", []byte(`{"type":"`+wire.Prefix+string(kind)+`","status":400}`)) != nil {
			t.Errorf("the page or the schema has no %s", kind)
		}
	}
}

// fits reports whether a text fits a definition of the schema.
func fits(t *testing.T, name string, data []byte) error {
	t.Helper()
	path, err := filepath.Abs("../../docs/cloud-service.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	schema, err := c.Compile("file://" + path + "#/$defs/" + name)
	if err != nil {
		t.Fatal(err)
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	if err != nil {
		return err
	}
	return schema.Validate(value)
}

// TestCloudServiceAnswers: what the simulated service answers fits the schema, and passes the check with every change.
func TestCloudServiceAnswers(t *testing.T) {
	t.Parallel()
	s := newRental(t, cloud.Config{})
	token := s.Grant()
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM([]byte(s.Read(filepath.Join(s.Home, "ca.pem"))))
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	ask := func(method, path, body, schema string) {
		t.Helper()
		r, err := http.NewRequest(method, fmt.Sprintf("https://127.0.0.1:%d/v1%s", s.Port(), path), strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Idempotency-Key", rand.Text())
		answer, err := client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		data, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		if err := fits(t, schema, data); err != nil {
			t.Errorf("%s %s: %s\n%v", method, path, data, err)
		}
	}
	ask("GET", "/account", "", "account")
	ask("GET", "/instances", "", "instances")
	ask("GET", "/instances/estuary-members", "", "instance")
	ask("GET", "/instances/nowhere", "", "problem")
	ask("POST", "/instances/estuary-members/rules", `{"seconds":60}`, "rule")
	ask("GET", "/instances/estuary-members/rules", "", "rules")
	ask("PUT", "/instances/estuary-audit/features/remote-access", `{"on":true}`, "feature")
	ask("POST", "/instances/estuary-members/branches/spring/logins", `{}`, "login")
	ask("POST", "/instances/estuary-audit/logins", `{}`, "login")
	ask("POST", "/instances/estuary-counts/logins", `{}`, "problem")
	ask("POST", "/instances/estuary-new/first-password", `{}`, "first")
	ask("POST", "/instances/estuary-new/first-password", `{}`, "problem")
	token = "knot"
	ask("GET", "/account", "", "problem")
	s.signIn().Want(0)
	s.OK("cloud", "check", "station").Has("0 are wrong")
	s.OK("cloud", "check", "station", "-change", "estuary-members").Has("made once, read, removed", "0 are wrong")
	s.OK("cloud", "check", "station", "-change", "estuary-members/spring").Has("by password", "0 are wrong")
	s.OK("cloud", "check", "station", "-change", "estuary-audit").Has("remote-access, to what it was", "by certificate")
	broken := newRental(t, cloud.Config{Faults: []cloud.Fault{cloud.EndlessPages, cloud.OtherLogin, cloud.Loopback}})
	broken.signIn().Want(0)
	broken.Run("cloud", "check", "station", "-change", "estuary-members/spring").Want(1).
		Has("is listed twice", "an address of the machine that asks", "answers with another's")
}
