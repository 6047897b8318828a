package intake

import (
	"fmt"
	"strings"
	"testing"

	"gentleharbor/internal/testkit/allkeys"
)

// said is what was found, as key=value words.
func said(found []Connection) string {
	var words []string
	for _, one := range found {
		words = append(words, one.Name+":")
		for _, s := range one.Sets {
			words = append(words, fmt.Sprintf("%s=%s", s.Field.Name, s.Value.Text()))
		}
	}
	return strings.Join(words, " ")
}

// TestDocument: what export writes as JSON is read; anything else is refused with the key.
func TestDocument(t *testing.T) {
	r := Reader{Schema: allkeys.Keys}
	for text, want := range map[string]string{
		`{"format":1,"profile":"tides","connection":{"engine":"postgresql","servers":["db.example:5433"],"user":"a$b","tls_ca":"/ca.pem","tls":"verified"}}`: "tides: engine=postgresql host=db.example port=5433 tls=verified tls-ca=/ca.pem user=a$$b",
		`{"format":1,"profile":"x","connection":{"servers":["/run/my sqld.sock"]}}`:                                                                          "x: socket=/run/my sqld.sock",
		`{"format":1,"profile":"x","connection":{"servers":["a:1","[::1]:2"]}}`:                                                                              "x: hosts=a:1,[::1]:2",
	} {
		found, err := r.Document([]byte(text), "f.json")
		if got := said(found); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		`[]`:                                                   "not the JSON that export writes",
		`{"connection":{}}`:                                    `expected "format": 1`,
		`{"format":2,"connection":{}}`:                         `expected "format": 1`,
		`{"format":1}`:                                         `a table "connection"`,
		`{"format":1,"connection":{"usr":"x"}}`:                `unknown key "usr"; did you mean "user"?`,
		`{"format":1,"connection":{"user":5}}`:                 `unknown key "user"`,
		`{"format":1,"connection":{"host":"x"}}`:               `unknown key "host"`,
		`{"format":1,"connection":{"servers":[]}}`:             "servers: expected a list",
		`{"format":1,"connection":{"servers":["a b"]}}`:        "servers: hosts: expected",
		`{"format":1,"connection":{"tls":"sometimes"}}`:        "connection: tls: expected",
		`{"format":1,"connection":{"password":"avocet"}}`:      "unknown key",
		`{"format":1,"connection":{"command":"touch /tmp/x"}}`: "unknown key",
	} {
		if _, err := r.Document([]byte(text), "f.json"); err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "avocet") {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// TestNeutral: the variables that are the same for every engine make a profile, where an engine's own do not.
func TestNeutral(t *testing.T) {
	r := Reader{Schema: allkeys.Keys}
	all := func(pairs ...string) (list []Variable) {
		for _, pair := range pairs {
			name, value, _ := strings.Cut(pair, "=")
			list = append(list, Variable{Name: name, Value: value})
		}
		return list
	}
	for _, c := range []struct {
		given []Variable
		want  string
	}{
		{all("GHARBOR_ENGINE=oracle", "GHARBOR_PROFILE=archive", "GHARBOR_HOST=h", "GHARBOR_PORT=1521", "GHARBOR_SERVICE=SKEIN", "GHARBOR_USER=curator", "GHARBOR_SOCKET="), "archive: engine=oracle host=h port=1521 user=curator service=SKEIN"},
		{all("GHARBOR_ENGINE=mysql", "GHARBOR_PROFILE=m", "GHARBOR_HOST=localhost", "GHARBOR_PORT=3306", "GHARBOR_SOCKET=/s"), "m: engine=mysql socket=/s"},
		{all("GHARBOR_HOST=h"), ""},
		{all("GHARBOR_ENGINE=postgresql", "GHARBOR_HOST=h", "PGHOST=g", "PGUSER=w"), "profile: engine=postgresql host=g user=w"},
	} {
		found, err := r.Variables(c.given, "here")
		if got := said(found); err != nil || !strings.HasSuffix(got, strings.TrimPrefix(c.want, "profile:")) || c.want == "" && got != "" {
			t.Errorf("%v: %q %v, want %q", c.given, got, err, c.want)
		}
	}
	if _, err := r.Variables(all("GHARBOR_ENGINE=postgresql", "GHARBOR_PORT=x"), "here"); err == nil || !strings.Contains(err.Error(), "GHARBOR_PORT") {
		t.Error(err)
	}
}
