//go:build unix

package main

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
)

// soak keeps a tunnel and a local address behind a hop busy for a while, with sessions that come, go and break off,
// a hop that ends and comes back, tunnels that open and close, and a clock that jumps. What must hold: each session
// that began with the hop up gets its rows whole; memory and open files do not grow; a tunnel with -idle that is used
// stays.
func (b *bench) soak(length time.Duration) error {
	wall, err := b.buildWithClock()
	if err != nil {
		return err
	}
	b.env = append(b.env, wall.environment())
	gate, server, err := b.behindGate()
	if err != nil {
		return err
	}
	s := &soakRun{addressBench: &addressBench{bench: b}}
	defer s.stop()
	if err := s.trust(server); err != nil {
		return err
	}
	s.ways = []*benchPath{
		{profile: "far-tls", login: true},
		{profile: "plain-tls", tls: true},
		{profile: "far", login: true, flags: []string{"-idle", "2m"}},
	}
	for _, w := range s.ways {
		if err := s.open(w); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), length)
	defer cancel()
	var group sync.WaitGroup
	for i := range 8 {
		group.Go(func() { s.work(ctx, s.ways[i%2]) })
	}
	group.Go(func() { s.openNowAndThen(ctx, s.ways[2]) })
	group.Go(func() { s.churn(ctx) })
	for round := 1; ctx.Err() == nil; round++ {
		for range 5 {
			pause(ctx, 5*time.Second)
			if err := wall.jump(); err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			break
		}
		s.down.Store(true)
		gate.Stop()
		pause(ctx, 2*time.Second)
		if err := gate.Start(); err != nil {
			return err
		}
		pause(ctx, 8*time.Second)
		s.down.Store(false)
		if s.restarts++; s.restarts == warm {
			s.before = s.now()
		}
	}
	group.Wait()
	time.Sleep(2 * time.Second)
	return s.judge(length, wall)
}

// warm is after how many restarts of the hop the memory is looked at for the first time.
const warm = 3

// judge prints the figures, and fails where something did not hold.
func (s *soakRun) judge(length time.Duration, wall *clock) error {
	fmt.Printf("soak of %s: %d sessions, %d broken off, %d failures while the hop was up\n", length,
		s.done.Load(), s.broken.Load(), s.failed.Load())
	fmt.Printf("%d hop restarts, %d jumps of the clock, %d tunnels opened and closed\n", s.restarts, wall.jumps, s.opened)
	after := s.now()
	held := s.failed.Load() == 0
	for i, w := range s.ways {
		if i < len(s.before) {
			fmt.Printf("%s: open files %d, then %d; memory %.1f MB, then %.1f MB\n", w.profile,
				s.before[i].files, after[i].files, s.before[i].megabytes, after[i].megabytes)
			held = held && after[i].files <= s.before[i].files && after[i].megabytes <= 1.3*s.before[i].megabytes
		}
		if after[i].files == 0 {
			fmt.Printf("%s: it ended\n", w.profile)
			held = false
		}
	}
	if held {
		return nil
	}
	for _, w := range s.ways {
		fmt.Print(w.said.String())
	}
	return errors.New("the soak did not hold")
}

type soakRun struct {
	*addressBench
	down                 atomic.Bool // the hop is away, or was a moment ago
	done, broken, failed atomic.Int64
	restarts, opened     int
	before               []size
}

// size is how many files a process has open, and its memory.
type size struct {
	files     int
	megabytes float64
}

// work opens one session after the other.
func (s *soakRun) work(ctx context.Context, w *benchPath) {
	for ctx.Err() == nil {
		s.once(ctx, w)
		pause(ctx, time.Duration(rand.IntN(20))*time.Millisecond)
	}
}

// openNowAndThen opens a session now and then, oftener than the tunnel's -idle.
func (s *soakRun) openNowAndThen(ctx context.Context, w *benchPath) {
	for ctx.Err() == nil {
		s.once(ctx, w)
		pause(ctx, 20*time.Second)
	}
}

// once opens a session, and counts how it ended.
func (s *soakRun) once(ctx context.Context, w *benchPath) {
	down := s.down.Load()
	conn, err := s.connect(w)
	if err == nil {
		err = s.session(ctx, conn)
	}
	switch {
	case err == nil:
		s.done.Add(1)
	case !down && !s.down.Load() && ctx.Err() == nil:
		s.fail(err)
	}
}

func (s *soakRun) fail(err error) {
	s.failed.Add(1)
	fmt.Fprintln(os.Stderr, time.Now().Format(time.TimeOnly), err)
}

// churn opens tunnels that serve one session each, and closes them.
func (s *soakRun) churn(ctx context.Context) {
	for ctx.Err() == nil {
		if down := s.down.Load(); !down {
			w := &benchPath{profile: "plain"}
			err := s.open(w)
			if err == nil {
				s.once(ctx, w)
				w.process.Process.Signal(os.Interrupt)
				done := time.AfterFunc(5*time.Second, func() { w.process.Process.Kill() })
				w.process.Wait()
				if done.Stop(); w.process.ProcessState.ExitCode() == -1 {
					err = errors.New("a tunnel did not close within 5 s")
				}
				s.opened++
			}
			if err != nil && !s.down.Load() && ctx.Err() == nil {
				s.fail(err)
			}
		}
		pause(ctx, time.Second)
	}
}

// session reads rows, cancels a statement, or breaks off in the middle.
func (s *soakRun) session(ctx context.Context, conn *pgconn.PgConn) error {
	defer conn.Close(context.Background())
	switch rand.IntN(10) {
	case 0:
		s.broken.Add(1)
		conn.Conn().Close()
		return nil
	case 1:
		short, cancel := context.WithTimeout(ctx, 30*time.Millisecond)
		defer cancel()
		conn.Exec(short, "SELECT pg_sleep(5)").ReadAll()
		return nil
	}
	size := rand.IntN(400_000)
	results, err := conn.Exec(ctx, fmt.Sprintf("SELECT repeat('x', %d)", size)).ReadAll()
	if err != nil && len(results) > 0 {
		err = errors.Join(err, results[0].Err)
	}
	if err == nil && len(results[0].Rows[0][0]) != size {
		err = fmt.Errorf("%d bytes of %d", len(results[0].Rows[0][0]), size)
	}
	return err
}

// now is the size of each way's process.
func (s *soakRun) now() []size {
	var all []size
	for _, w := range s.ways {
		pid := w.process.Process.Pid
		entries, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
		all = append(all, size{len(entries), resident(pid)})
	}
	return all
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
