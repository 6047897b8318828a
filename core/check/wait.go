package check

import (
	"context"
	"math/rand/v2"
	"time"

	"gentleharbor/core/defect"
	"gentleharbor/core/finding"
	"gentleharbor/core/profile/resolve"
)

// Bounds of the pauses between two tries. A local server starts within a second or two. One that replays its log
// takes minutes, and many clients that wait for it must not all come at once.
const (
	firstPause = 200 * time.Millisecond
	lastPause  = 5 * time.Second
	pauseGrows = 1.6
	jitter     = 0.25 // of the pause, either way
)

// WaitEnd is how a wait ended.
type WaitEnd string

// The ends of a wait.
const (
	WaitReady   WaitEnd = "ready"
	WaitGaveUp  WaitEnd = "gave-up"   // what was found does not pass by itself
	WaitTimeOut WaitEnd = "timed-out" // the time for waiting ran out
	WaitStopped WaitEnd = "stopped"   // by Ctrl-C, or because another profile gave up
)

// WaitResult is how the wait for one profile ended.
type WaitResult struct {
	Profile string  `json:"profile"`
	Outcome WaitEnd `json:"outcome"`
	Tries   int     `json:"tries"`
	MS      float64 `json:"ms"`
	Report  *Report `json:"report"` // the last try's
}

// Waiting says how to wait.
type Waiting struct {
	Within   time.Duration
	Persist  bool // go on also where waiting can't fix it
	Parallel int  // tries at a time

	// Wake asks for a paused cloud instance to be started, once for each profile; nil where that is not allowed.
	Wake func(context.Context, *resolve.Profile) *finding.Finding

	// Tried is called with each try that failed and will be repeated, from several goroutines. It may be nil.
	Tried func(*WaitResult)
}

// Wait tests the profiles until all are ready. Where one can't become ready, the whole wait can't succeed: the others
// are stopped.
func (r *Runner) Wait(ctx context.Context, profiles []*resolve.Profile, w Waiting) []*WaitResult {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	slots := make(chan struct{}, affordable(w.Parallel))
	all := make([]*WaitResult, len(profiles))
	var group defect.Group
	for i, p := range profiles {
		group.Go(func() {
			group.Do(func() {
				all[i] = r.waitFor(ctx, p, w, slots)
			})
			if all[i] == nil || all[i].Outcome == WaitGaveUp {
				stop()
			}
		})
	}
	group.Wait()
	return all
}

// waitFor tests one profile until it is ready or there is no hope.
func (r *Runner) waitFor(ctx context.Context, p *resolve.Profile, w Waiting, slots chan struct{}) *WaitResult {
	start := time.Now()
	end := start.Add(w.Within)
	waited := &WaitResult{Profile: p.Called, Outcome: WaitStopped, Report: untestedReport(p)}
	pause, woken := firstPause, false
	for {
		report := r.try(ctx, p, time.Until(end), waited.Tries == 0, slots)
		waited.MS = milliseconds(time.Since(start))
		if report == nil || report.Interrupted {
			return waited
		}
		waited.Tries++
		if waited.Tries == 1 || !cut(report, r.timeout()) {
			waited.Report = report
		}
		asleep := w.Wake != nil && report.firstFailure().code() == finding.CloudPaused
		if asleep && !woken {
			woken = true
			if found := w.Wake(ctx, p); found != nil {
				report.refuse(found)
				waited.Outcome = WaitGaveUp
				return waited
			}
		}
		switch {
		case report.Outcome != finding.Fail:
			waited.Outcome = WaitReady
			return waited
		case asleep: // until it has begun to start
		case !w.Persist && !report.MayPass(): // of this very try
			waited.Outcome = WaitGaveUp
			return waited
		}
		next := time.Duration(float64(pause) * (1 - jitter + 2*jitter*rand.Float64()))
		if time.Until(end) <= next {
			// Less time is left than the pause takes: one more try, and one at the very end.
			left := time.Until(end)
			if next = left - min(lastTry, w.Within/4); next <= 0 {
				next = left - 2*shortest
			}
		}
		if next <= 0 {
			waited.Outcome = WaitTimeOut
			return waited
		}
		if w.Tried != nil {
			told := *waited
			w.Tried(&told)
		}
		select {
		case <-time.After(next):
		case <-ctx.Done():
			return waited
		}
		pause = min(time.Duration(float64(pause)*pauseGrows), lastPause)
	}
}

// refuse replaces the finding of the stage that failed.
func (r *Report) refuse(found *finding.Finding) {
	for i := range r.Stages {
		if r.Stages[i].Outcome == finding.Fail {
			r.Stages[i].Finding = found
			return
		}
	}
}

// lastTry is the time kept for a try at the end.
const lastTry = time.Second

// shortest is the least time for a try; less is not worth a connection.
const shortest = 100 * time.Millisecond

// cut reports whether a try failed only because the whole time was over: the try before says more.
func cut(report *Report, whole time.Duration) bool {
	switch report.firstFailure().code() {
	case finding.NameTimeout, finding.ReachTimeout, finding.SpeakSilent, finding.TLSUnfinished, finding.LoginTimeout,
		finding.SessionTimeout:
		return time.Duration(report.MS*float64(time.Millisecond)) < whole*9/10
	}
	return false
}

// timeout is the bound of one test.
func (r *Runner) timeout() time.Duration {
	if r.Timeout <= 0 {
		return DefaultTimeout
	}
	return r.Timeout
}

// try tests once, within the time that is left. The first try may open more connections for hints; later ones do not:
// a starting server might count them.
func (r *Runner) try(ctx context.Context, p *resolve.Profile, left time.Duration, first bool,
	slots chan struct{}) *Report {
	select {
	case slots <- struct{}{}:
		defer func() { <-slots }()
	case <-ctx.Done():
		return nil
	}
	one := *r
	one.Progress, one.single = nil, !first
	one.Timeout = max(min(one.timeout(), left), shortest)
	return one.Run(ctx, p)
}

// MayPass reports whether waiting may fix what made the test fail.
func (r *Report) MayPass() bool {
	s, ok := r.First()
	page, known := finding.PageOf(s.code())
	return ok && known && page.Passing
}
