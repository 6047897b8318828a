package check

import (
	"context"
	"testing"

	"gentleharbor/core/finding"
)

// TestServing: a program is led to the server at which the test ends, and a connection is made only to find it.
func TestServing(t *testing.T) {
	const (
		known = "secret = \"env:X\"\n"
		one   = "host = \"10.0.0.1\"\n"
		two   = "hosts = [\"10.0.0.1\", \"10.0.0.2\"]\n"
	)
	refuses := map[string]finding.Result{"login": failing(finding.LoginPasswordWanted)}
	for name, c := range map[string]struct {
		text    string
		ends    map[string]map[string]finding.Result // of the servers that are there
		first   string                               // "" for none
		code    finding.Code
		trouble finding.Code
		logins  int
	}{
		"one, known":         {known + one, nil, "10.0.0.1:5432", "", "", 0},
		"none wanted":        {one, map[string]map[string]finding.Result{"10.0.0.1:5432": nil}, "10.0.0.1:5432", "", "", 1},
		"one wanted":         {one, map[string]map[string]finding.Result{"10.0.0.1:5432": refuses}, "", finding.LoginPasswordWanted, "", 1},
		"nobody there":       {one, nil, "10.0.0.1:5432", "", finding.ReachRefused, 0},
		"none, by the file":  {"secret = \"none\"\n" + one, nil, "10.0.0.1:5432", "", "", 0},
		"the first is down":  {known + two, map[string]map[string]finding.Result{"10.0.0.2:5432": nil}, "10.0.0.2:5432", "", finding.ReachPassedOver, 1},
		"the second is down": {known + two, map[string]map[string]finding.Result{"10.0.0.1:5432": nil}, "10.0.0.1:5432", "", "", 1},
		"both are down":      {known + two, nil, "10.0.0.1:5432", "", finding.ReachRefused, 0},
		"not the wanted one": {
			known + two + "target = \"writable\"\n",
			map[string]map[string]finding.Result{
				"10.0.0.1:5432": {"session": failing(finding.SessionTarget)}, "10.0.0.2:5432": nil,
			}, "10.0.0.2:5432", "", "", 2,
		},
	} {
		fakes := make(map[string]*fake)
		for at, ends := range c.ends {
			fakes[at] = &fake{ends: ends}
		}
		runner, p, took := against(t, c.text, fakes, nil)
		s, found := runner.FindServing(context.Background(), p)
		if (found == nil) != (c.code == "") || found != nil && found.Code != c.code {
			t.Errorf("%s: refused with %+v", name, found)
			continue
		}
		if *took != c.logins {
			t.Errorf("%s: %d logins", name, *took)
		}
		if found != nil {
			continue
		}
		if got := s.Servers[0].String(); got != c.first {
			t.Errorf("%s: %s is first", name, got)
		}
		if (s.Trouble == nil) != (c.trouble == "") || s.Trouble != nil && s.Trouble.Code != c.trouble {
			t.Errorf("%s: the trouble is %+v", name, s.Trouble)
		}
	}
}
