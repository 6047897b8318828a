package check

import (
	"context"
	"errors"
	"slices"
	"sync"

	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/nearby"
	"gentleharbor/core/profile/key"
	"gentleharbor/core/profile/resolve"
	"gentleharbor/core/secret"
)

// DefaultParallel is how many profiles are tested at once. A few servers that hang do not delay the others, and the
// load stays small.
const DefaultParallel = 16

// Watch follows a run of many; either may be nil. They are called
// from several goroutines.
type Watch struct {
	Begin func(name string)
	End   func(*Report)
}

// perTest is how many descriptors one test may need at a time: its connection, one for hints, one for a name server,
// a file, and the pipes of a command.
const perTest = 5

// affordable is parallel, or fewer where this process may not open enough descriptors: else good servers would look
// unreachable.
func affordable(parallel int) int {
	parallel = max(parallel, 1)
	if free, ok := freeDescriptors(); ok {
		const spare = 10 // for the wallet, the report and the terminal
		parallel = min(parallel, max((free-spare)/perTest, 1))
	}
	return parallel
}

// Many tests profiles, parallel of them at a time, and returns their reports in the order of the profiles. Time and
// memory are bounded by parallel. An interrupted ctx ends the running tests, and leaves the rest untested.
func (r *Runner) Many(ctx context.Context, profiles []*resolve.Profile, parallel int, watch Watch) []*Report {
	one := *r
	one.Progress = nil
	one.hints = &hintCache{}
	reports := make([]*Report, len(profiles))
	next := make(chan int)
	var group defect.Group
	for range min(affordable(parallel), len(profiles)) {
		group.Go(func() {
			for i := range next {
				group.Do(func() {
					if watch.Begin != nil {
						watch.Begin(profiles[i].Called)
					}
					reports[i] = one.Run(ctx, profiles[i])
					if watch.End != nil {
						watch.End(reports[i])
					}
				})
			}
		})
	}
	for i := range profiles {
		select {
		case next <- i:
		case <-ctx.Done():
		}
	}
	close(next)
	group.Wait()
	for i, report := range reports {
		if report == nil {
			reports[i] = untestedReport(profiles[i])
		}
	}
	return reports
}

// untestedReport is the report of a profile that was not tested before the run was stopped.
func untestedReport(p *resolve.Profile) *Report {
	report := &Report{
		Profile:     p.Called,
		Outcome:     finding.Skip,
		Interrupted: true,
		Stages:      []Stage{},
		Facts:       startFacts(p),
	}
	for _, name := range stages(len(p.Hops())) {
		report.Stages = append(report.Stages, Stage{Stage: name, Outcome: finding.Skip})
	}
	return report
}

// PromptFirst takes the passwords that a person must type, so that all questions
// come before the first dial. The answers are kept for the tests that follow.
func (r *Runner) PromptFirst(ctx context.Context, profiles []*resolve.Profile) error {
	for _, p := range profiles {
		if p.Problem() != nil || !p.Address().Known() || p.Text(key.User) == "" && !mints(p) {
			continue // its test will say so
		}
		candidates, found := r.Network.Candidates(ctx, p)
		if found != nil {
			continue
		}
		if err := r.askHops(ctx, p); err != nil {
			return err
		}
		var queries []secret.Query
		if p.Text(key.TLSKeySecret) != "" {
			queries = append(queries, keySecret(p))
		}
		for _, c := range candidates {
			queries = append(queries, secretQuery(p, c))
		}
		for _, q := range queries {
			located, _ := r.Finder.Locate(ctx, q)
			if located == nil || !located.Asks {
				continue
			}
			var failure *secret.Failure // its test will say so too
			if _, err := located.Take(ctx); err != nil && !errors.As(err, &failure) {
				return err
			}
		}
	}
	return nil
}

// hintCache remembers what answers nearby, so that many profiles that fail in the
// same way do not ask the same servers again and again.
type hintCache struct {
	mu    sync.Mutex
	known map[string][]nearby.Server
}

// answering are the servers that answer at an engine's usual places, without the address that refused.
func (r *Runner) answering(ctx context.Context, engine, avoid string) []nearby.Server {
	if r.hints == nil {
		return r.Places.Answering(ctx, engine, avoid)
	}
	r.hints.mu.Lock()
	defer r.hints.mu.Unlock()
	servers, ok := r.hints.known[engine]
	if !ok {
		servers = r.Places.Answering(ctx, engine, "")
		if ctx.Err() == nil {
			if r.hints.known == nil {
				r.hints.known = make(map[string][]nearby.Server)
			}
			r.hints.known[engine] = servers
		}
	}
	return slices.DeleteFunc(slices.Clone(servers),
		func(s nearby.Server) bool { return s.Address == avoid || s.Socket == avoid && avoid != "" })
}
