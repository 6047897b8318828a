// Package defect takes a panic, with its stack, from a goroutine to the one place that ends the program. All
// goroutines of the product are started by it: any other that panics would end the program with a raw trace and a
// wrong exit code.
package defect

import (
	"fmt"
	"runtime/debug"
	"sync"
	"sync/atomic"
)

// Defect is a panic with the stack of the goroutine in which it happened.
type Defect struct {
	Value any
	Stack []byte
}

func (d *Defect) Error() string { return fmt.Sprint(d.Value) }

// FromPanic makes a Defect of recover's value. A Defect of another goroutine keeps its stack.
func FromPanic(value any) *Defect {
	if d, ok := value.(*Defect); ok {
		return d
	}
	return &Defect{Value: value, Stack: debug.Stack()}
}

// end handles a defect in a goroutine that nobody waits for. The program sets it once at its start; without it such a
// defect ends the program as any panic does.
var end atomic.Pointer[func(*Defect)]

// OnDefect sets the function for a defect in a goroutine that Go started. The function must not return.
func OnDefect(f func(*Defect)) { end.Store(&f) }

// Go starts a goroutine that nobody waits for.
func Go(f func()) {
	go func() {
		defer func() {
			if value := recover(); value != nil {
				report(FromPanic(value))
			}
		}()
		f()
	}()
}

func report(d *Defect) {
	if f := end.Load(); f != nil {
		(*f)(d)
	}
	panic(d)
}

// Group is a sync.WaitGroup whose Wait panics with the first defect of its goroutines, once all
// have ended. The zero Group is ready; it must not be copied.
type Group struct {
	wait  sync.WaitGroup
	first atomic.Pointer[Defect]
}

// Go starts a goroutine of the group.
func (g *Group) Go(f func()) {
	g.wait.Add(1)
	go func() {
		defer g.wait.Done()
		g.Do(f)
	}()
}

// Do runs a part of a goroutine's work and keeps its panic for Wait, so that the goroutine can
// go on with other parts.
func (g *Group) Do(part func()) {
	defer func() {
		if value := recover(); value != nil {
			g.first.CompareAndSwap(nil, FromPanic(value))
		}
	}()
	part()
}

// Wait waits for all of them.
func (g *Group) Wait() {
	g.wait.Wait()
	if d := g.first.Load(); d != nil {
		panic(d)
	}
}
