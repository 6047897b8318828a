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

// soak keeps a local address by a hop busy for a while, with sessions that come, go, and break off, and a hop that ends
// and comes back. What must hold: every session that began with the hop up gets its rows whole, and memory and open
// files do not grow.
func (b *bench) soak(length time.Duration) error {
	gate, _, err := b.behindGate()
	if err != nil {
		return err
	}
	w := &passage{profile: "far-tls", login: true}
	a := &addressBench{bench: b, ways: []*passage{w}}
	defer a.stop()
	if err := a.open(w); err != nil {
		return err
	}
	s := &soaking{addressBench: a, way: w}
	ctx, cancel := context.WithTimeout(context.Background(), length)
	defer cancel()
	var group sync.WaitGroup
	for range 8 {
		group.Go(func() { s.work(ctx) })
	}
	for ctx.Err() == nil {
		if pause(ctx, 25*time.Second); ctx.Err() != nil {
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
		s.restarts++
		if s.restarts == 1 {
			s.files, s.megabytes = s.now()
		}
	}
	group.Wait()
	time.Sleep(2 * time.Second)
	files, megabytes := s.now()
	fmt.Printf("soak of %s: %d sessions, %d broken off, %d hop restarts, %d failures while the hop was up\n", length,
		s.done.Load(), s.broken.Load(), s.restarts, s.failed.Load())
	fmt.Printf("open files %d, then %d; memory %.1f MB, then %.1f MB\n", s.files, files, s.megabytes, megabytes)
	if s.failed.Load() > 0 || files > s.files || megabytes > 1.3*s.megabytes {
		fmt.Print(w.said.String())
		return errors.New("the soak did not hold")
	}
	return nil
}

type soaking struct {
	*addressBench
	way                  *passage
	down                 atomic.Bool
	done, broken, failed atomic.Int64
	restarts             int
	files                int
	megabytes            float64
}

// work opens one session after the other.
func (s *soaking) work(ctx context.Context) {
	for ctx.Err() == nil {
		down := s.down.Load()
		conn, err := s.connect(s.way)
		if err == nil {
			err = s.session(ctx, conn)
		}
		switch {
		case err == nil:
			s.done.Add(1)
		case !down && !s.down.Load() && ctx.Err() == nil:
			s.failed.Add(1)
			fmt.Fprintln(os.Stderr, time.Now().Format(time.TimeOnly), err)
		}
		pause(ctx, time.Duration(rand.IntN(20))*time.Millisecond)
	}
}

// session reads rows, cancels a statement, or breaks off in the middle.
func (s *soaking) session(ctx context.Context, conn *pgconn.PgConn) error {
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

// now is how many files the address has open, and its memory in megabytes.
func (s *soaking) now() (files int, megabytes float64) {
	pid := s.way.process.Process.Pid
	entries, _ := os.ReadDir(fmt.Sprintf("/proc/%d/fd", pid))
	return len(entries), resident(pid)
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
