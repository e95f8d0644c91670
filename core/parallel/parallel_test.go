package parallel

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// Every thing is done once, the runs stand in order, and none is too short.
func TestGather(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	for _, n := range []int{1, 3, 7, 8, 99, 4096} {
		for _, least := range []int{0, 1, 3, 50, 5000} {
			done := make([]int32, n)
			runs := Gather(n, least, func(from, to int) [2]int {
				for i := from; i < to; i++ {
					atomic.AddInt32(&done[i], 1)
				}
				return [2]int{from, to}
			})
			if i := slices.IndexFunc(done, func(v int32) bool { return v != 1 }); i >= 0 {
				t.Errorf("%d things: %d was done %d times", n, i, done[i])
			}
			at := 0
			for _, r := range runs {
				if r[0] != at || r[1]-r[0] < min(least, n) {
					t.Errorf("%d things, at least %d: a run from %d to %d after %d", n, least, r[0], r[1], at)
				}
				at = r[1]
			}
			if at != n || len(runs) > 4 {
				t.Errorf("%d things: %v", n, runs)
			}
			if least == 1 && n >= 4 && len(runs) != 4 {
				t.Errorf("%d things on 4 cores: %d runs", n, len(runs))
			}
		}
	}
}

// A panic comes to whoever waits, with the place where it happened, and only
// when the other runs have ended.
func TestPanics(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(4))
	var ended atomic.Int32
	defer func() {
		text := fmt.Sprint(recover())
		if !strings.HasPrefix(text, "the mast is broken\n") || !strings.Contains(text, "parallel_test.go") {
			t.Errorf("%.200s", text)
		}
		if n := ended.Load(); n != 3 {
			t.Errorf("%d runs of 3 have ended", n)
		}
	}()
	Share(4, 1, func(from, to int) {
		if from == 2 {
			panic("the mast is broken")
		}
		time.Sleep(time.Millisecond)
		ended.Add(1)
	})
	t.Error("no panic")
}

func TestNothingToShare(t *testing.T) {
	for _, n := range []int{0, -1} {
		Share(n, 1, func(from, to int) { t.Errorf("work from %d to %d", from, to) })
	}
}
