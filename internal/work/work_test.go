package work_test

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/testdb"
	"excavate/internal/work"
)

func TestMain(m *testing.M) { testdb.Main(m) }

type fixture struct {
	dsn     string
	st      *store.Store
	project int64
}

func setup(t *testing.T) *fixture {
	t.Helper()
	f := &fixture{dsn: testdb.DSN(t)}
	var err error
	if f.st, err = store.Open(context.Background(), f.dsn); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.st.Close() })
	if f.project, err = f.st.CreateProject(context.Background(), "p"); err != nil {
		t.Fatal(err)
	}
	return f
}

func (f *fixture) until(t *testing.T, id int64, state string) db.Job {
	t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		j, err := f.st.GetJob(context.Background(), id)
		if err != nil {
			t.Fatal(err)
		}
		if j.State == state {
			return j
		}
		if time.Now().After(end) {
			t.Fatalf("job %d is %s (%s), want %s", id, j.State, j.Error, state)
		}
	}
}

func TestTwoProcessesShareTheQueue(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	const n = 60
	var mu sync.Mutex
	ran := map[string]int{}
	by := map[int]int{}
	var pools []*work.Pool
	for k := 0; k < 2; k++ {
		st, err := store.Open(context.Background(), f.dsn) // as another process has it
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		p := work.New(st, t.Logf)
		p.Handle("count", func(ctx context.Context, task *work.Task) error {
			var a struct{ N int }
			if err := task.Args(&a); err != nil {
				return err
			}
			mu.Lock()
			ran[fmt.Sprint(a.N)]++
			by[k]++
			mu.Unlock()
			time.Sleep(3 * time.Millisecond)
			return nil
		})
		pools = append(pools, p)
	}
	var last int64
	for i := 0; i < n; i++ {
		var err error
		if last, err = pools[0].Add(ctx, f.project, "count", "count", map[string]int{"N": i}); err != nil {
			t.Fatal(err)
		}
	}
	same, err := pools[1].Add(ctx, f.project, "count", "count", map[string]int{"N": n - 1})
	if err != nil || same != last {
		t.Errorf("work that waits already is queued again: %d, %v", same, err)
	}
	for _, p := range pools {
		p.Start(ctx, 2)
	}
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		mu.Lock()
		done := len(ran) == n
		mu.Unlock()
		if done {
			break
		}
	}
	f.until(t, last, "done")
	stop()
	for _, p := range pools {
		p.Wait()
	}
	for i := 0; i < n; i++ {
		if ran[fmt.Sprint(i)] != 1 {
			t.Errorf("job %d ran %d times", i, ran[fmt.Sprint(i)])
		}
	}
	if by[0] == 0 || by[1] == 0 {
		t.Errorf("one process did all the work: %v", by)
	}
}

func TestProgressCancelAndFailure(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	p.Handle("long", func(ctx context.Context, task *work.Task) error {
		task.Progress(7, 10, "entries")
		<-ctx.Done()
		return ctx.Err()
	})
	p.Handle("bad", func(context.Context, *work.Task) error { return errors.New("offset 12: broken") })
	p.Handle("panic", func(context.Context, *work.Task) error { panic("a fault") })
	p.Start(ctx, 2)
	defer func() { stop(); p.Wait() }()
	long, _ := p.Add(ctx, f.project, "long", "long", 1)
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		if j, _ := f.st.GetJob(ctx, long); j.Done == 7 && j.Total == 10 && j.Unit == "entries" {
			break
		} else if time.Now().After(end) {
			t.Fatalf("no progress: %+v", j)
		}
	}
	if err := f.st.CancelJob(ctx, long); err != nil {
		t.Fatal(err)
	}
	f.until(t, long, "cancelled")
	bad, _ := p.Add(ctx, f.project, "bad", "bad", 1)
	if j := f.until(t, bad, "failed"); j.Error != "offset 12: broken" {
		t.Errorf("says %q", j.Error)
	}
	boom, _ := p.Add(ctx, f.project, "panic", "panic", 1)
	if j := f.until(t, boom, "failed"); !strings.Contains(j.Error, "a fault") {
		t.Errorf("says %q", j.Error)
	}
	unknown, _ := p.Add(ctx, f.project, "nothing", "nothing", 1)
	f.until(t, unknown, "failed")
}

func TestWorkOfADeadProcessIsTakenUpAgain(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	var ran atomic.Int32
	p.Handle("x", func(context.Context, *work.Task) error { ran.Add(1); return nil })
	id, _ := p.Add(ctx, f.project, "x", "x", 1)
	tired, _ := p.Add(ctx, f.project, "x", "x", 2)
	// As a worker that was killed leaves them: running, the lease over.
	for job, attempts := range map[int64]int{id: 1, tired: work.MaxAttempts} {
		if _, err := f.st.DB.Exec("UPDATE jobs SET state='running', worker='gone', attempts=?, lease_until=CURRENT_TIMESTAMP(3) - INTERVAL 1 SECOND WHERE id=?", attempts, job); err != nil {
			t.Fatal(err)
		}
	}
	p.Start(ctx, 1)
	defer func() { stop(); p.Wait() }()
	f.until(t, id, "done")
	if j := f.until(t, tired, "failed"); !strings.Contains(j.Error, "3 times") {
		t.Errorf("says %q", j.Error)
	}
	if ran.Load() != 1 {
		t.Errorf("ran %d times", ran.Load())
	}
}

func TestStoppingGivesWorkBack(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	begun := make(chan struct{})
	p.Handle("x", func(ctx context.Context, _ *work.Task) error { close(begun); <-ctx.Done(); return ctx.Err() })
	id, _ := p.Add(ctx, f.project, "x", "x", 1)
	p.Start(ctx, 1)
	<-begun
	stop()
	p.Wait()
	if j, err := f.st.GetJob(context.Background(), id); err != nil || j.State != "queued" || j.Attempts != 0 {
		t.Errorf("after a stop the job is %+v, %v", j, err)
	}
}

func TestADatabaseThatIsNotThere(t *testing.T) {
	_, err := store.Open(context.Background(), "x:y@tcp(127.0.0.1:1)/none?timeout=1s")
	if err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("says %v", err)
	}
}

// A job under which the database went away is begun again; one that fails for
// a reason of its own is not.
func TestABrokenConnectionIsTriedAgain(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	var tries, wrong atomic.Int32
	p.Handle("flaky", func(context.Context, *work.Task) error {
		if tries.Add(1) < 3 {
			return fmt.Errorf("store entries: %w", driver.ErrBadConn)
		}
		return nil
	})
	p.Handle("wrong", func(context.Context, *work.Task) error { wrong.Add(1); return errors.New("the file is empty") })
	p.Handle("never", func(context.Context, *work.Task) error { return driver.ErrBadConn })
	flaky, _ := p.Add(ctx, f.project, "flaky", "flaky", 1)
	bad, _ := p.Add(ctx, f.project, "wrong", "wrong", 1)
	never, _ := p.Add(ctx, f.project, "never", "never", 1)
	p.Start(ctx, 2)
	defer func() { stop(); p.Wait() }()
	f.until(t, flaky, "done")
	f.until(t, bad, "failed")
	f.until(t, never, "failed")
	if tries.Load() != 3 || wrong.Load() != 1 {
		t.Errorf("%d tries of the flaky one, %d of the wrong one", tries.Load(), wrong.Load())
	}
}

// Work of a process of this machine that is gone is taken at once, before its
// lease ends; that of one that lives, or of another machine, is left.
func TestWorkOfAKilledProcessNeedNotWait(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	p.Handle("x", func(context.Context, *work.Task) error { return nil })
	host, _ := os.Hostname()
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Fatal(err)
	}
	jobs := map[string]int64{}
	for name, worker := range map[string]string{
		"dead":      fmt.Sprintf("%.20s-%d-17-0", host, dead.Process.Pid),
		"alive":     fmt.Sprintf("%.20s-%d-17-0", host, os.Getppid()),
		"elsewhere": fmt.Sprintf("another-host-%d-17-0", dead.Process.Pid),
		"odd":       "nobody",
	} {
		id, err := p.Add(ctx, f.project, "x", name, name)
		if err != nil {
			t.Fatal(err)
		}
		jobs[name] = id
		if _, err := f.st.DB.Exec("UPDATE jobs SET state='running', worker=?, attempts=1, lease_until=CURRENT_TIMESTAMP(3) + INTERVAL 60 SECOND WHERE id=?", worker, id); err != nil {
			t.Fatal(err)
		}
	}
	p.Start(ctx, 1)
	defer func() { stop(); p.Wait() }()
	f.until(t, jobs["dead"], "done")
	for _, name := range []string{"alive", "elsewhere", "odd"} {
		if j, err := f.st.GetJob(ctx, jobs[name]); err != nil || j.State != "running" {
			t.Errorf("%s: %s, %v", name, j.State, err)
		}
	}
}

func TestBytesAreCountedToo(t *testing.T) {
	f := setup(t)
	ctx, stop := context.WithCancel(context.Background())
	p := work.New(f.st, t.Logf)
	p.Handle("x", func(_ context.Context, task *work.Task) error {
		task.Progress(2, 2, "files")
		task.Bytes(3<<32, 4<<32)
		return nil
	})
	id, _ := p.Add(ctx, f.project, "x", "x", 1)
	p.Start(ctx, 1)
	defer func() { stop(); p.Wait() }()
	if j := f.until(t, id, "done"); j.Bytes != 3<<32 || j.BytesTotal != 4<<32 || j.Unit != "files" {
		t.Errorf("%+v", j)
	}
}
