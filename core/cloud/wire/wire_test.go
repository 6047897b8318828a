package wire

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

const instance = `{"name":"estuary-members","engine":"mysql","state":"running","addresses":[{"kind":"public","host":"db.example","port":3306}],"login":"password","features":[{"name":"remote-access","on":false,"needed":true}],"access":{"address":"203.0.113.7","rule":"pending"},"branches":[{"name":"spring","state":"paused"}]}`

// TestRead: what keeps the bounds is read, and what does not is told of without being repeated.
func TestRead(t *testing.T) {
	long := strings.Repeat("knot", 2000)
	with := func(old, new string) string { return strings.Replace(instance, old, new, 1) }
	for name, c := range map[string]struct {
		into any
		text string
		want string // a part of what is wrong, "" for nothing
	}{
		"an instance":       {new(Instance), instance, ""},
		"more members":      {new(Instance), with(`"engine"`, `"later":{"a":1},"engine"`), ""},
		"no JSON":           {new(Instance), "knot", "not the JSON that was expected"},
		"a wrong type":      {new(Instance), with(`3306`, `"knot"`), "port is not int"},
		"a name":            {new(Instance), with("estuary-members", "estuary\\u001b]0;knot"), "its name"},
		"a slash":           {new(Instance), with("estuary-members", "../knot"), "its name"},
		"a state":           {new(Instance), with(`"running"`, `"knot"`), "state is none of"},
		"a kind":            {new(Instance), with(`"public"`, `"knot"`), "neither public nor private"},
		"a host":            {new(Instance), with("db.example", "knot/knot"), "no usable host"},
		"a port":            {new(Instance), with("3306", "70000"), "no usable port"},
		"a login":           {new(Instance), with(`"password"`, `"knot"`), "login is neither"},
		"a feature":         {new(Instance), with("remote-access", "-knot knot"), "a feature has no name"},
		"an access":         {new(Instance), with("203.0.113.7", "knot"), "access.address"},
		"an access's rule":  {new(Instance), with("pending", "knot"), "access.rule"},
		"a branch":          {new(Instance), with("spring", "knot knot"), "the name of a branch"},
		"a branch twice":    {new(Instance), with(`{"name":"spring","state":"paused"}`, `{"name":"a","state":"paused"},{"name":"a","state":"paused"}`), "there twice"},
		"a branch's state":  {new(Instance), with("paused", "knot"), "branch spring: state"},
		"an authority":      {new(Instance), with(`"login"`, fmt.Sprintf(`"authority":%q,"login"`, strings.Repeat("x", 70<<10))), "authority is larger"},
		"an engine":         {new(Instance), with("mysql", long), "engine, version or region"},
		"a database":        {new(Instance), with(`"login"`, `"database":"a\nb","login"`), "database"},
		"a page":            {new(Instances), `{"format":1,"instances":[` + instance + `]}`, ""},
		"a page's format":   {new(Instances), `{"format":2}`, "format is 2"},
		"a page's entry":    {new(Instances), `{"format":1,"instances":[` + instance + `,{"name":""}]}`, "instance number 2"},
		"an entry twice":    {new(Instances), `{"format":1,"instances":[` + instance + `,` + instance + `]}`, "estuary-members is there twice"},
		"a long page":       {new(Instances), `{"format":1,"instances":[` + strings.TrimSuffix(strings.Repeat(`{},`, 1001), ",") + `]}`, "1001 instances"},
		"too large":         {new(Instances), strings.Repeat(" ", MaxBody+1), "larger than 1 MiB"},
		"an account":        {new(Account), `{"format":1,"account":"warden","rights":["look"],"address":"::1"}`, ""},
		"no account":        {new(Account), `{"format":1}`, "account is not a name"},
		"an address":        {new(Account), `{"format":1,"account":"w","address":"knot"}`, "address is not"},
		"rights":            {new(Account), `{"format":1,"account":"w","rights":["knot knot"]}`, "rights are not"},
		"a rule":            {new(Rule), `{"id":"r1","range":"203.0.113.7/32","state":"pending"}`, ""},
		"a rule's range":    {new(Rule), `{"id":"r1","range":"knot","state":"pending"}`, "the range"},
		"a rule's id":       {new(Rule), `{"id":"../x","range":"203.0.113.7/32","state":"pending"}`, "the id"},
		"a rule's state":    {new(Rule), `{"id":"r1","range":"203.0.113.7/32","state":"none"}`, "the state of a rule"},
		"rules":             {new(Rules), `{"format":1,"rules":[{"id":"r1","range":"203.0.113.7/32","state":"pending"},{}]}`, "rule number 2"},
		"a login by both":   {new(Login), `{"user":"u","password":"p","certificate":"c","key":"k","until":"2026-01-01T00:00:00Z"}`, "or both"},
		"half a pair":       {new(Login), `{"user":"u","certificate":"c","until":"2026-01-01T00:00:00Z"}`, "has no key"},
		"an endless login":  {new(Login), `{"user":"u","password":"knot"}`, "when it ends"},
		"a nameless login":  {new(Login), `{"password":"knot","until":"2026-01-01T00:00:00Z"}`, "no usable user"},
		"a long password":   {new(Login), fmt.Sprintf(`{"user":"u","password":%q,"until":"2026-01-01T00:00:00Z"}`, long), "too long"},
		"a first password":  {new(First), `{"user":"u","password":"knot"}`, ""},
		"no first password": {new(First), `{"user":"u"}`, "no usable user or password"},
		"a feature alone":   {new(Feature), `{"name":"x","on":true}`, ""},
	} {
		err := Read([]byte(c.text), c.into)
		switch {
		case (err == nil) != (c.want == ""), err != nil && !strings.Contains(err.Error(), c.want):
			t.Errorf("%s: %v, want %q", name, err, c.want)
		case err != nil && strings.Contains(err.Error(), "knot"):
			t.Errorf("%s: the answer is repeated: %v", name, err)
		}
	}
}

// TestProblems: a problem is read by its type, else by the status, and nothing of it is odd.
func TestProblems(t *testing.T) {
	for _, c := range []struct {
		status int
		body   string
		want   Kind
	}{
		{409, `{"type":"urn:gentle-harbor:cloud:paused"}`, PausedProblem}, {401, "", NotSignedIn}, {403, "<html>", NoRight},
		{404, `{"type":"about:blank"}`, Unknown}, {429, "", TooMany}, {503, "", Unavailable}, {502, "", Unavailable},
		{418, "", ""}, {500, `{"type":"urn:gentle-harbor:cloud:knot"}`, ""},
	} {
		if p := ReadProblem(c.status, []byte(c.body)); p.Kind() != c.want || p.Status != c.status || p.Error() == "" {
			t.Errorf("%d %s: %q", c.status, c.body, p.Kind())
		}
	}
	p := ReadProblem(403, []byte(`{"type":"urn:gentle-harbor:cloud:not-allowed","title":"a\u001bb","detail":"c\nd","feature":"x y","right":"; rm","address":"knot"}`))
	if p.Feature+p.Right+p.Address != "" || strings.ContainsAny(p.Title+p.Detail, "\x1b\n") {
		t.Errorf("%+v", p)
	}
	if !Problems([]byte(`{"type":"urn:gentle-harbor:cloud:unknown"}`)) || Problems([]byte(`{"type":"about:blank"}`)) {
		t.Error("what is a problem of ours is wrong")
	}
}

// TestHidden: a login shows nothing of itself, however it is printed.
func TestHidden(t *testing.T) {
	for _, one := range []any{Login{User: "knot", Password: "knot", Key: "knot", Until: time.Now()}, First{User: "knot", Password: "knot"}} {
		for _, verb := range []string{"%v", "%+v", "%#v", "%s"} {
			if text := fmt.Sprintf(verb, one); strings.Contains(text, "knot") {
				t.Errorf("%s prints %s", verb, text)
			}
		}
	}
}

// FuzzRead: no answer makes a reader fail, and what it takes it takes again.
func FuzzRead(f *testing.F) {
	f.Add([]byte(instance))
	f.Add([]byte(`{"format":1,"rules":[]}`))
	f.Add([]byte(`{"user":"u","password":"p","until":"2026-01-01T00:00:00Z"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, into := range []any{new(Account), new(Instances), new(Instance), new(Rule), new(Rules), new(Login), new(First), new(Feature)} {
			if Read(data, into) != nil {
				continue
			}
			again, err := json.Marshal(into)
			if err != nil {
				t.Fatal(err)
			}
			if err := Read(again, into); err != nil && len(again) <= MaxBody {
				t.Errorf("%T was taken and is not taken again: %v", into, err)
			}
		}
		if p := ReadProblem(400, data); p.Status != 400 || p.Error() == "" {
			t.Error("a problem without a word")
		}
	})
}
