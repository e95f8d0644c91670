// Package work runs queued jobs. The queue is a table, so that several
// processes on one database share it: a job is taken with FOR UPDATE SKIP
// LOCKED and held by a lease that its worker renews. A job whose worker died
// is taken up again when the lease ends, at most three times.
package work

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"excavate/internal/process"
	"excavate/internal/store"
	"excavate/internal/store/db"
)

// MaxAttempts is how often a job is begun before it counts as failed.
const MaxAttempts = 3

// mostTitle is how many letters of a title are kept.
const mostTitle = 300

// Task is what a handler gets.
type Task struct {
	Job  db.Job
	done atomic.Int64
	tot  atomic.Int64
	unit atomic.Value
	byt  atomic.Int64
	bytT atomic.Int64
}

// Progress says how far the job is, in a unit that people count in.
func (t *Task) Progress(done, total int64, unit string) {
	t.done.Store(done)
	t.tot.Store(total)
	t.unit.Store(unit)
}

// Bytes says how many bytes are done, where the job counts them too.
func (t *Task) Bytes(done, total int64) {
	t.byt.Store(done)
	t.bytT.Store(total)
}

func (t *Task) beat(worker string) db.BeatJobParams {
	return db.BeatJobParams{Done: t.done.Load(), Total: t.tot.Load(), Unit: t.unit.Load().(string), Bytes: t.byt.Load(), BytesTotal: t.bytT.Load(), ID: t.Job.ID, Worker: worker}
}

// Args reads the job's arguments.
func (t *Task) Args(v any) error { return json.Unmarshal(t.Job.Args, v) }

// Handler does the work of one kind of job. It must end soon after ctx does.
type Handler func(ctx context.Context, t *Task) error

// Helper does a part of a job that another process runs, and returns when there
// is nothing left to help with. That process depends on none of it: a helper may
// end at any time. It must end soon after ctx does.
type Helper func(ctx context.Context, j db.Job) error

// Pool takes jobs from the queue.
type Pool struct {
	// Ended, if it is set, is told of every job that has ended otherwise than
	// well: state is failed or cancelled, why is the reason.
	Ended func(ctx context.Context, j db.Job, state, why string) error

	st       *store.Store
	handlers map[string]Handler
	helpers  map[string]Helper
	helping  atomic.Bool
	name     string
	wake     chan struct{}
	wg       sync.WaitGroup
	log      func(string, ...any)
}

// New makes a pool. Handlers must be set before Start.
func New(st *store.Store, log func(string, ...any)) *Pool {
	host, _ := os.Hostname()
	return &Pool{st: st, handlers: map[string]Handler{},
		helpers: map[string]Helper{},
		name:    fmt.Sprintf("%.20s-%d-%d", host, os.Getpid(), time.Now().UnixNano()),
		wake:    make(chan struct{}, 1), log: log}
}

// Handle sets the handler of a kind.
func (p *Pool) Handle(kind string, h Handler) { p.handlers[kind] = h }

// Help sets what an idle process does for jobs of a kind that another runs.
func (p *Pool) Help(kind string, h Helper) { p.helpers[kind] = h }

// Add queues a job and returns its id. Args must be a plain value. A job that
// waits already with the same arguments is not queued twice.
func (p *Pool) Add(ctx context.Context, project int64, kind, title string, args any) (int64, error) {
	b, err := json.Marshal(args)
	if err != nil {
		return 0, err
	}
	if id, err := p.st.PendingJob(ctx, db.PendingJobParams{ProjectID: project, Kind: kind, Args: b}); err == nil {
		return id, nil
	} else if !errors.Is(err, sql.ErrNoRows) {
		return 0, err
	}
	if r := []rune(title); len(r) > mostTitle {
		title = string(r[:mostTitle-1]) + "…"
	}
	id, err := p.st.AddJob(ctx, db.AddJobParams{ProjectID: project, Kind: kind, Title: title, Args: b})
	if err != nil {
		return 0, err
	}
	select {
	case p.wake <- struct{}{}:
	default:
	}
	return id, nil
}

// reclaim takes back the jobs of processes of this machine that are gone, so
// that they need not wait for their lease to end.
func (p *Pool) reclaim(ctx context.Context) {
	rows, err := p.st.RunningJobs(ctx)
	if err != nil {
		return
	}
	for _, j := range rows {
		// host-pid-start-number; the host may have dashes of its own
		parts := strings.Split(j.Worker, "-")
		if len(parts) < 4 || !strings.HasPrefix(p.name, strings.Join(parts[:len(parts)-3], "-")+"-") {
			continue
		}
		pid, err := strconv.Atoi(parts[len(parts)-3])
		if err != nil || pid == os.Getpid() || !process.Gone(pid) {
			continue
		}
		p.st.ReturnJob(ctx, db.ReturnJobParams{ID: j.ID, Worker: j.Worker})
	}
}

// Start runs n workers until ctx ends; Wait waits for them.
func (p *Pool) Start(ctx context.Context, n int) {
	p.reclaim(ctx)
	for i := 0; i < n; i++ {
		name := fmt.Sprintf("%s-%d", p.name, i)
		p.wg.Go(func() { p.loop(ctx, name) })
	}
}

// Wait returns when every worker has ended.
func (p *Pool) Wait() { p.wg.Wait() }

func (p *Pool) loop(ctx context.Context, name string) {
	for ctx.Err() == nil {
		ran, err := p.one(ctx, name)
		if err != nil && ctx.Err() == nil {
			p.log("work: %v", err)
			ran = false
		}
		if ran || p.help(ctx) {
			continue
		}
		select {
		case <-ctx.Done():
		case <-p.wake:
		case <-time.After(400 * time.Millisecond): // jobs of other processes
		}
	}
}

// help looks for a job of another process that this one can help with, and does.
// One of a process's workers at most helps: the others wait for jobs.
func (p *Pool) help(ctx context.Context) bool {
	if len(p.helpers) == 0 || !p.helping.CompareAndSwap(false, true) {
		return false
	}
	defer p.helping.Store(false)
	rows, err := p.st.RunningJobs(ctx)
	if err != nil {
		return false
	}
	for _, r := range rows {
		h := p.helpers[r.Kind]
		if h == nil || strings.HasPrefix(r.Worker, p.name+"-") {
			continue
		}
		j, err := p.st.GetJob(ctx, r.ID)
		if err != nil {
			continue
		}
		if err := p.beside(ctx, j, h); err != nil && ctx.Err() == nil {
			p.log("work: helping with %s: %v", j.Title, err)
		}
	}
	return false // what is left of it is not for this process: wait a little
}

// beside helps with a job for as long as it runs.
func (p *Pool) beside(ctx context.Context, j db.Job, h Helper) (err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var watch sync.WaitGroup
	watch.Go(func() {
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(250 * time.Millisecond):
				now, err := p.st.GetJob(ctx, j.ID)
				if err == nil && (now.State != "running" || now.Worker != j.Worker || now.Cancel) {
					cancel()
				}
			}
		}
	})
	defer watch.Wait()
	defer cancel()
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("a fault in Excavate: %v\n%s", r, debug.Stack())
		}
	}()
	if err := h(ctx, j); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// one takes and runs one job; it returns false if none waits.
func (p *Pool) one(ctx context.Context, name string) (bool, error) {
	var job db.Job
	err := p.st.Tx(ctx, func(q *db.Queries) error {
		var err error
		if job, err = q.NextJob(ctx); err != nil {
			return err
		}
		return q.StartJob(ctx, db.StartJobParams{Worker: name, ID: job.ID})
	})
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if job.Attempts >= MaxAttempts {
		return true, p.end(job, name, "failed", fmt.Sprintf("it was begun %d times and its worker died each time", job.Attempts))
	}
	t := &Task{Job: job}
	t.unit.Store("")
	jctx, cancel := context.WithCancel(ctx)
	defer cancel()
	stop := make(chan struct{})
	cancelled := atomic.Bool{}
	var beats sync.WaitGroup
	beats.Go(func() {
		tick := time.NewTicker(250 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				return
			case <-tick.C:
				n, err := p.st.BeatJob(context.WithoutCancel(ctx), t.beat(name))
				if err == nil && n == 0 { // cancelled, or another worker has it
					cancelled.Store(true)
					cancel()
					return
				}
			}
		}
	})
	err = p.handle(jctx, t)
	close(stop)
	beats.Wait()
	switch {
	case err == nil:
		p.st.BeatJob(context.WithoutCancel(ctx), t.beat(name))
		return true, p.end(job, name, "done", "")
	case cancelled.Load():
		return true, p.end(job, name, "cancelled", "")
	case ctx.Err() != nil:
		// We are stopping: give the job back at once.
		return true, p.st.GiveBackJob(context.WithoutCancel(ctx), db.GiveBackJobParams{ID: job.ID, Worker: name})
	case store.Transient(err) && job.Attempts < MaxAttempts-1:
		// The database went away under the job; it is begun again when it is back.
		p.log("work: %s: %v; it is tried again", job.Title, err)
		return true, p.giveBack(ctx, job, name)
	}
	return true, p.end(job, name, "failed", err.Error())
}

// giveBack waits for the database and returns a job to the queue; the try
// counts. Where even that fails, the lease ends by itself.
func (p *Pool) giveBack(ctx context.Context, job db.Job, name string) error {
	var err error
	for wait := 100 * time.Millisecond; wait < 10*time.Second; wait *= 2 {
		err = p.st.ReturnJob(ctx, db.ReturnJobParams{ID: job.ID, Worker: name})
		if err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
	}
	return err
}

// Log writes to the server's log.
func (p *Pool) Log(msg string, a ...any) { p.log(msg, a...) }

func (p *Pool) handle(ctx context.Context, t *Task) (err error) {
	h := p.handlers[t.Job.Kind]
	if h == nil {
		return fmt.Errorf("this version of Excavate does not know work of kind %q", t.Job.Kind)
	}
	defer func() { // one broken file must not end the server
		if r := recover(); r != nil {
			p.log("work: %s: %v\n%s", t.Job.Title, r, debug.Stack())
			err = fmt.Errorf("a fault in Excavate: %v; the server's log has the details", r)
		}
	}()
	return h(ctx, t)
}

func (p *Pool) end(job db.Job, name, state, msg string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	// What it was for first: a job that is still there is tried again.
	if state != "done" && p.Ended != nil {
		if err := p.Ended(ctx, job, state, msg); err != nil {
			p.log("work: %s: %v", job.Title, err)
		}
	}
	return p.st.EndJob(ctx, db.EndJobParams{State: state, Error: msg, ID: job.ID, Worker: name})
}
