// Package parallel shares work out among the machine's cores.
package parallel

import (
	"fmt"
	"runtime"
	"runtime/debug"
	"sync"
)

// Share splits n things, which stand in order, into runs of at least some, no
// more runs than there are cores, does each run's work at the same time as the
// others', and waits. Without things there is no work.
func Share(n, least int, work func(from, to int)) {
	Gather(n, least, func(from, to int) struct{} { work(from, to); return struct{}{} })
}

// Gather is Share, and returns what came of the runs, in their order.
func Gather[T any](n, least int, work func(from, to int) T) []T {
	if n <= 0 {
		return nil
	}
	out := make([]T, max(1, min(runtime.GOMAXPROCS(0), n/max(1, least))))
	if len(out) == 1 {
		out[0] = work(0, n)
		return out
	}
	var wg sync.WaitGroup
	var first Panic
	for k := range out {
		wg.Go(func() {
			defer first.Keep()
			out[k] = work(n*k/len(out), n*(k+1)/len(out))
		})
	}
	wg.Wait()
	first.Pass()
	return out
}

// Panic takes a panic from the goroutine in which it happens to the one that
// waits, whose caller may be ready for it.
type Panic struct {
	once  sync.Once
	value any
}

// Keep is to be deferred. The first panic is kept.
func (p *Panic) Keep() {
	if r := recover(); r != nil {
		p.once.Do(func() { p.value = fmt.Errorf("%v\n%s", r, debug.Stack()) })
	}
}

// Pass panics if one was kept, when its goroutines have ended.
func (p *Panic) Pass() {
	if p.value != nil {
		panic(p.value)
	}
}

// Group is a sync.WaitGroup whose Wait panics with what one of its goroutines
// panicked with, so that one bad file does not end the process.
type Group struct {
	wg sync.WaitGroup
	p  Panic
}

// Go calls f in a goroutine of its own.
func (g *Group) Go(f func()) {
	g.wg.Go(func() {
		defer g.p.Keep()
		f()
	})
}

// Wait returns when all have ended.
func (g *Group) Wait() {
	g.wg.Wait()
	g.p.Pass()
}

// Caught is to be deferred. It makes an error of a panic: what was being done
// has failed, the rest goes on.
func Caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("a fault in Excavate: %v\n%s", r, debug.Stack())
	}
}
