//go:build unix

package main

import (
	"encoding/json"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"gentleharbor/internal/testkit"
)

// documents are commands that write JSON, by the heading of docs/output.md that describes what they write.
var documents = []struct{ heading, command string }{
	{"test", "test -all -timeout 3s"}, {"test", "test sightings -override user=Warden -as sightings-admin"}, {"test", "test tides"}, {"test", "test archive"},
	{"test", "test sightings -override port=1"}, {"test", "test sightings -override user=nobody"},
	{"wait", "wait sightings starting -within 2s"},
	{"compare", "compare sightings tides"}, {"compare", "compare sightings sightings-ro"},
	{"list", "list"}, {"list", "@project list"},
	{"show", "show sightings-ro"}, {"show", "show tides"}, {"show", "show archive"}, {"show", "show ringing"}, {"show", "@project show reports"},
	{"nearby", "nearby"}, {"container scan", "container scan"},
	{"cloud list", "cloud list"}, {"cloud show", "cloud show station"}, {"cloud who", "cloud who station"}, {"cloud instances", "cloud instances station"},
	{"cloud allow -list", "cloud allow members -list"}, {"cloud check", "cloud check station"},
	{"certificate", "certificate tides"}, {"audit", "audit"}, {"audit", "audit -passphrase-file passphrase"},
	{"vouch -list", "@project vouch -list"}, {"wallet list", "wallet list -passphrase-file passphrase"}, {"wallet reader list", "wallet reader list"},
	{"alias list", "alias list"}, {"alias show", "alias show long-ago"}, {"alias resolve", "alias resolve archive"}, {"alias knock", "alias knock archive"},
	{"alias used", "alias used archive"}, {"alias check", "alias check"}, {"tunnel list", "tunnel list"}, {"tunnel show", "tunnel show tides"}, {"browse (the overview)", "browse sightings"},
	{"export", "export tides"}, {"export", "export archive"}, {"export", "export shared"},
}

// jsonKinds is the type of each key path of a document: "text", "number", "truth", "list", "object", or two of them.
func jsonKinds(value any, at string, into map[string]map[string]bool) {
	kind := ""
	switch v := value.(type) {
	case string:
		kind = "text"
	case float64:
		kind = "number"
	case bool:
		kind = "truth"
	case nil:
		kind = "null"
	case []any:
		kind = "list"
		for _, one := range v {
			jsonKinds(one, at+"[]", into)
		}
	case map[string]any:
		kind = "object"
		for k, one := range v {
			jsonKinds(one, strings.TrimPrefix(at+"."+k, "."), into)
		}
	}
	if at == "" {
		return
	}
	if into[at] == nil {
		into[at] = make(map[string]bool)
	}
	into[at][kind] = true
}

// described reads docs/output.md: the keys of each document and their types, by heading.
func described(t *testing.T) map[string]map[string]string {
	t.Helper()
	data, err := os.ReadFile("../../docs/output.md")
	if err != nil {
		t.Fatal(err)
	}
	all := make(map[string]map[string]string)
	heading := ""
	row := regexp.MustCompile("^\\| `([^`]+)` \\| ([a-z ,]+) \\|")
	for line := range strings.Lines(string(data)) {
		if name, ok := strings.CutPrefix(line, "### "); ok {
			heading = strings.Trim(strings.TrimSpace(name), "`")
			all[heading] = make(map[string]string)
		}
		if m := row.FindStringSubmatch(line); m != nil && heading != "" {
			all[heading][m[1]] = m[2]
		}
	}
	return all
}

// parts are objects that occur in several documents, which the page describes once: by the end of a key path.
var parts = map[string]string{"facts": "Facts", "server": "Facts", "stages[]": "A stage", "finding": "A finding", "certificate": "A certificate", "origin": "An origin"}

// TestOutputPage: each key that occurs in a JSON document is in docs/output.md with its type, and each key of the page occurs.
func TestOutputPage(t *testing.T) {
	if testkit.Alone(t) {
		return
	}
	p := testkit.NewProgram(t)
	home := keepDemo(t, p)
	p.Home = home
	p.Env = append(p.Env, "GHARBOR_HOME="+home, "GHARBOR_ENGINES="+home+"/engine.sock")
	seen := make(map[string]map[string]map[string]bool)
	p.Dir = home + "/samples"
	p.Run("tunnel", "open", "tides", "-background", "-lifetime", "2m", "-idle", "1m").Want(0)
	defer p.Run("tunnel", "close", "tides")
	p.OK("cloud", "allow", "members", "-note", "at the hide")
	p.OK("add", "shared", "-engine", "postgresql", "-host", "h", "-user", "warden", "-tls", "verified", "-database", "x")
	p.OK("set", "shared", "host=", "hosts=192.0.2.1,192.0.2.2:5433", "tls-ca=/ca.pem", "tls-cert=/c.pem", "tls-key=/c.key", "tls-crl=/crl.pem", "tls-start=direct",
		"tls-name=db.example", "target=writable")
	for _, d := range documents {
		one := *p
		command, project := strings.CutPrefix(d.command, "@project ")
		if project {
			one.Dir = home + "/field-reports"
		}
		flag := "-format"
		if strings.HasPrefix(command, "export ") {
			flag = "-as"
		}
		r := one.Run(append(strings.Fields(command), flag, "json")...)
		var document any
		if err := json.Unmarshal([]byte(r.Stdout), &document); err != nil {
			t.Errorf("%s: %v\n%s%s", d.command, err, r.Stdout, r.Stderr)
			continue
		}
		found := make(map[string]map[string]bool)
		jsonKinds(document, "", found)
		for path, kinds := range found {
			heading, key := d.heading, path
			if strings.HasPrefix(key, "may_at.") {
				key = "may_at.RIGHT"
			}
			for {
				moved := false
				for end, part := range parts {
					if end == "server" && d.heading != "browse (the overview)" {
						continue
					}
					if i := strings.Index(key, end+"."); i == 0 || i > 0 && key[i-1] == '.' {
						heading, key, moved = part, key[i+len(end)+1:], true
					}
				}
				if !moved {
					break
				}
			}
			if seen[heading] == nil {
				seen[heading] = make(map[string]map[string]bool)
			}
			if seen[heading][key] == nil {
				seen[heading][key] = make(map[string]bool)
			}
			maps.Copy(seen[heading][key], kinds)
		}
	}
	page := described(t)
	for _, heading := range slices.Sorted(maps.Keys(seen)) {
		for _, key := range slices.Sorted(maps.Keys(seen[heading])) {
			kinds := strings.Join(slices.Sorted(maps.Keys(seen[heading][key])), ", ")
			if page[heading][key] != kinds {
				t.Errorf("### %s: the key\n| `%s` | %s | \nis %q on the page", heading, key, kinds, page[heading][key])
			}
		}
	}
	for _, heading := range slices.Sorted(maps.Keys(page)) {
		for key := range page[heading] {
			if seen[heading][key] == nil && !rare[heading+" "+key] {
				t.Errorf("### %s: `%s` does not occur", heading, key)
			}
		}
	}
}

// rare are keys that no document of the demo has.
var rare = map[string]bool{
	"test profiles[].interrupted": true, "Facts replica_of": true, "container scan engines[].containers[].compose": true, "container scan engines[].finding": true,
	"container scan finding": true, "alias list aliases[].srv": true, "alias resolve addresses[].told": true, "alias resolve addresses[].problem": true,
	"audit issues[].fix": true, "tunnel show tunnel.last_error": true, "audit issues[].place.variable": true, "tunnel show tunnel.password_file": true, "tunnel list tunnels[].password_file": true,
}
