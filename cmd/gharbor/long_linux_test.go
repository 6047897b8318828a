package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"gentleharbor/internal/testkit"
	"gentleharbor/standin/postgresql"
)

// TestLongMany makes that many tests as GHARBOR_LONG_MANY says, of 1,000 profiles at 20 servers that come and go
// (scripts/long many): each ends as ready, or with a finding of a server that is away.
func TestLongMany(t *testing.T) {
	wanted, _ := strconv.Atoi(os.Getenv("GHARBOR_LONG_MANY"))
	if wanted == 0 {
		t.Skip("it takes long: scripts/long many")
	}
	const profiles, servers = 1000, 20
	var mu sync.Mutex
	running := make([]*postgresql.Server, servers)
	ports := make([]int, servers)
	start := func(i int) {
		config := birds()
		if ports[i] > 0 {
			config.Address = fmt.Sprintf("127.0.0.1:%d", ports[i])
		}
		if s, err := postgresql.Start(config); err == nil {
			running[i], ports[i] = s, s.Port()
		}
	}
	for i := range servers {
		start(i)
	}
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(50 * time.Millisecond):
			}
			mu.Lock()
			i := rand.IntN(servers)
			if s := running[i]; s != nil {
				s.Close()
				running[i] = nil
			} else {
				start(i)
			}
			mu.Unlock()
		}
	}()
	p := testkit.NewProgram(t)
	p.Setenv("DUNLIN", "dunlin")
	var b strings.Builder
	for i := range profiles {
		fmt.Fprintf(&b, "[profile.p%d]\nengine = \"postgresql\"\nhost = \"127.0.0.1\"\nport = %d\nuser = \"warden\"\ndatabase = \"sightings\"\nsecret = \"env:DUNLIN\"\n", i, ports[i%servers])
	}
	p.Profiles(b.String())
	began := time.Now()
	count := make(map[string]int)
	tests := 0
	for tests < wanted {
		r := p.Run("test", "-all", "-parallel", "32", "-timeout", "5s", "-format", "json")
		var report struct{ Profiles []testkit.Report }
		if err := json.Unmarshal([]byte(r.Stdout), &report); err != nil || r.Code > 1 || len(report.Profiles) != profiles {
			t.Fatalf("exit code %d, %d profiles, %v: %.2000s", r.Code, len(report.Profiles), err, r.Stderr)
		}
		for _, one := range report.Profiles {
			tests++
			code := one.Outcome
			for _, s := range one.Stages {
				if s.Outcome == "fail" && s.Finding != nil {
					code = s.Finding.Code
				}
			}
			count[code]++
		}
	}
	t.Logf("%d tests in %s: %v", tests, time.Since(began).Round(time.Second), count)
	for code := range count {
		switch code {
		case "ok", "warn", "reach.refused", "speak.closed", "speak.silent", "login.broken-off", "reach.reset", "session.lost":
		default:
			t.Errorf("%d tests ended with %s, which no server that is away explains", count[code], code)
		}
	}
}
