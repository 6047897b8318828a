package lastseen

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"gentleharbor/core/check"
	"gentleharbor/core/engine"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile"
	"gentleharbor/core/profile/resolve"
)

// TestKeep: what has not changed is not written again, and a login that did not
// come about changes nothing.
func TestKeep(t *testing.T) {
	ctx := context.Background()
	f, err := profile.Parse(keys, "/f/profiles.toml", []byte("[profile.a]\nengine = \"postgresql\"\nhost = \"h\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	p := []*resolve.Profile{resolve.Resolve(f, f.Lookup("a"), nil, resolve.Environment{})}
	s := Store{Path: filepath.Join(t.TempDir(), "seen.json")}
	report := func(version string, session finding.Outcome) []*check.Report {
		return []*check.Report{{Facts: &engine.Facts{User: "warden", Version: version}, Stages: []check.Stage{{Stage: "session", Outcome: session}}}}
	}
	for _, step := range []struct {
		version string
		session finding.Outcome
		want    string
		writes  bool
	}{{"15", finding.OK, "15", true}, {"15", finding.OK, "15", false}, {"16", finding.Fail, "15", false}, {"16", finding.Warn, "16", true}} {
		before, _ := os.Stat(s.Path)
		if err := s.Keep(ctx, p, report(step.version, step.session)); err != nil {
			t.Fatal(err)
		}
		after, err := os.Stat(s.Path)
		if err != nil || os.SameFile(before, after) == step.writes && before != nil {
			t.Errorf("%+v: %v", step, err)
		}
		if got := s.All()[Key(p[0])]; got.Version != step.want || got.User != "warden" {
			t.Errorf("%+v: %+v", step, got)
		}
	}
	os.WriteFile(s.Path, []byte("nonsense"), 0o600)
	if len(s.All()) != 0 {
		t.Error("nonsense was read")
	}
	if err := s.Keep(ctx, p, report("17", finding.OK)); err != nil || s.All()[Key(p[0])].Version != "17" {
		t.Errorf("%v", err)
	}
}
