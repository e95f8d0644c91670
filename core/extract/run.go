package extract

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"excavate/core/disk"
	"excavate/core/parallel"
	"excavate/core/source"
)

// Failure is an entry that could not be taken out.
type Failure struct {
	Entry  string `json:"entry"`
	Source string `json:"source"`
	Error  string `json:"error"`
}

// Summary is what a run did. It can be saved as it is.
type Summary struct {
	To       string    `json:"to"` // folder or ZIP
	Entries  int64     `json:"entries"`
	Bytes    int64     `json:"bytes"`
	Skipped  int64     `json:"skipped"`
	Failed   int64     `json:"failed"`
	Failures []Failure `json:"failures"` // the first of them
	Changes  []Change  `json:"changes"`
	Resumed  int64     `json:"resumed"` // of Entries, those that an earlier run had done
	Seconds  float64   `json:"seconds"`
	Complete bool      `json:"complete"`
	Stopped  string    `json:"stopped,omitempty"` // why it did not reach the end
}

const maxFailures = 1000

// Job runs a plan.
type Job struct {
	Plan    *Plan
	Sources []*source.Source
	Dir     string // write to this folder,
	Zip     string // or to this file
	Policy  Policy // for what is found there while writing
	// Journal is a file that notes what is done. If it is there, the run goes
	// on where it ends. Empty: no journal.
	Journal string
	// Progress may be nil. It is called from several goroutines with running
	// totals of entries (done or failed) and bytes.
	Progress func(entries, bytes int64)
}

type running struct {
	*Job
	root    *os.Root
	dirs    sync.Map // path to *os.Root
	mu      sync.Mutex
	sum     Summary
	journal *os.File
	done    []bool
	entries atomic.Int64
	bytes   atomic.Int64
	cancel  context.CancelCauseFunc
}

// Run takes the plan's entries out. An entry that cannot be read is a failure
// of the summary, and the rest goes on; a full disk or a cancelled context
// stops the run and is the error. The summary is valid either way.
func (j *Job) Run(ctx context.Context) (Summary, error) {
	start := time.Now()
	r := &running{Job: j, done: make([]bool, len(j.Plan.Items))}
	r.sum = Summary{To: j.Dir, Skipped: j.Plan.Skipped, Failures: []Failure{}, Changes: append([]Change{}, j.Plan.Changes...)}
	if j.Zip != "" {
		r.sum.To = j.Zip
	}
	err := r.run(ctx)
	r.sum.Entries, r.sum.Bytes = r.entries.Load()-r.sum.Failed, r.bytes.Load()
	r.sum.Seconds = time.Since(start).Seconds()
	r.sum.Complete = err == nil
	if err != nil {
		r.sum.Stopped = err.Error()
	}
	return r.sum, err
}

func (r *running) run(ctx context.Context) error {
	if err := r.openJournal(); err != nil {
		return err
	}
	if r.journal != nil {
		defer r.journal.Close()
	}
	where := r.Dir
	if r.Zip != "" {
		where = path.Dir(r.Zip)
	}
	if err := os.MkdirAll(where, 0o755); err != nil {
		return err
	}
	if r.Zip == "" { // packed size is not known beforehand
		if err := room(where, r.Plan.Bytes-r.bytes.Load()); err != nil {
			return err
		}
	}
	ctx, r.cancel = context.WithCancelCause(ctx)
	defer r.cancel(nil)
	var err error
	if r.Zip != "" {
		err = r.runZip(ctx)
	} else {
		err = r.runFolder(ctx)
	}
	if cause := context.Cause(ctx); err == nil && cause != nil {
		err = cause
	}
	return err
}

// room refuses what the disk cannot hold.
func room(dir string, need int64) error {
	// Where the file system does not say, writing will.
	if free, known := disk.Free(dir); known && need > free {
		return fmt.Errorf("the entries unpack to %d bytes and the disk of %s has %d bytes left; choose fewer entries or another disk", need, dir, free)
	}
	return nil
}

// openJournal reads what an earlier run has done.
func (r *running) openJournal() error {
	if r.Journal == "" {
		return nil
	}
	f, err := os.OpenFile(r.Journal, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	r.journal = f
	in := bufio.NewScanner(f)
	in.Buffer(nil, 1<<20)
	for in.Scan() {
		var i int
		var state string
		if n, _ := fmt.Sscanf(in.Text(), "%d %s", &i, &state); n < 2 || i < 0 || i >= len(r.done) || r.done[i] {
			continue // the last line may be half written
		}
		switch state {
		case "ok":
			r.sum.Resumed++
			r.bytes.Add(max(0, r.entry(i).Size))
		case "failed":
			_, text, _ := strings.Cut(in.Text(), "failed ")
			var msg string
			if json.Unmarshal([]byte(text), &msg) != nil {
				continue
			}
			r.noteFailure(i, msg)
		default:
			continue
		}
		r.done[i] = true
		r.entries.Add(1)
	}
	return in.Err()
}

func (r *running) entry(i int) *source.Entry {
	it := &r.Plan.Items[i]
	return &r.Sources[it.Source].Entries()[it.Entry]
}

func (r *running) noteFailure(i int, msg string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.sum.Failed++
	if len(r.sum.Failures) < maxFailures {
		r.sum.Failures = append(r.sum.Failures, Failure{r.entry(i).Path, r.Sources[r.Plan.Items[i].Source].Label, msg})
	}
}

// finish notes an entry that is done, or has failed.
func (r *running) finish(i int, err error) {
	line := fmt.Sprintf("%d ok\n", i)
	if err != nil {
		msg, _ := json.Marshal(err.Error())
		line = fmt.Sprintf("%d failed %s\n", i, msg)
		r.noteFailure(i, err.Error())
	}
	if r.journal != nil {
		if _, err := r.journal.WriteString(line); err != nil {
			r.cancel(fmt.Errorf("the journal %s cannot be written: %w", r.Journal, err))
		}
	}
	r.progress(1, 0)
}

func (r *running) progress(entries, bytes int64) {
	e, b := r.entries.Add(entries), r.bytes.Add(bytes)
	if r.Progress != nil {
		r.Progress(e, b)
	}
}

// units groups the items that are left: those of one block must be read in
// order by one reader, others may be read by any.
func (r *running) units(ctx context.Context, send chan<- []int) {
	defer close(send)
	var unit []int
	flush := func() bool {
		if len(unit) == 0 {
			return true
		}
		select {
		case send <- unit:
			unit = nil
			return true
		case <-ctx.Done():
			return false
		}
	}
	for i := range r.Plan.Items {
		if r.done[i] {
			continue
		}
		if n := len(unit); n > 0 {
			a, b := &r.Plan.Items[unit[n-1]], &r.Plan.Items[i]
			x, y := r.entry(unit[n-1]).Block, r.entry(i).Block
			if a.Source != b.Source || x != y || x < 0 && n >= 16 || x < 0 && r.entry(i).Size > 1<<20 {
				if !flush() {
					return
				}
			}
		}
		unit = append(unit, i)
	}
	flush()
}

const bufferBytes = 1 << 20

var buffers = sync.Pool{New: func() any { b := make([]byte, bufferBytes); return &b }}

func (r *running) runFolder(ctx context.Context) error {
	root, err := os.OpenRoot(r.Dir)
	if err != nil {
		return err
	}
	defer root.Close()
	r.root = root
	defer r.dirs.Range(func(_, v any) bool { v.(*os.Root).Close(); return true })
	var wg sync.WaitGroup
	todo := make(chan []int, 8)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			buf := buffers.Get().(*[]byte)
			defer buffers.Put(buf)
			for unit := range todo {
				for _, i := range unit {
					if ctx.Err() != nil {
						break
					}
					n, err := r.place(ctx, i, *buf)
					if err != nil && ctx.Err() != nil {
						break
					}
					if disk.Full(err) {
						r.progress(0, -n)
						r.cancel(fmt.Errorf("the disk of %s is full; %d of %d entries are written. Make room and go on", r.Dir, r.entries.Load()-r.sum.Failed, len(r.Plan.Items)))
						break
					}
					if err != nil {
						r.progress(0, -n)
					}
					r.finish(i, err)
				}
			}
		})
	}
	r.units(ctx, todo)
	wg.Wait()
	for _, f := range r.Plan.Folders {
		if ctx.Err() != nil {
			break
		}
		if err := r.root.MkdirAll(f, 0o755); err != nil {
			return fmt.Errorf("the empty folder %s: %w", f, err)
		}
	}
	return disk.Flush(r.Dir) // one for all: they were only renamed so far
}

// folder opens the folder of a path below the root, made if it is missing.
func (r *running) folder(dir string) (*os.Root, error) {
	if dir == "." {
		return r.root, nil
	}
	if d, ok := r.dirs.Load(dir); ok {
		return d.(*os.Root), nil
	}
	if err := r.root.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	d, err := r.root.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	if old, loaded := r.dirs.LoadOrStore(dir, d); loaded {
		d.Close()
		return old.(*os.Root), nil
	}
	return d, nil
}

// place writes one entry aside and renames it. It returns the bytes that were
// counted as progress.
func (r *running) place(ctx context.Context, i int, buf []byte) (counted int64, err error) {
	defer parallel.Caught(&err)
	it := &r.Plan.Items[i]
	src := r.Sources[it.Source]
	in, err := src.Stream(it.Entry)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	dir, err := r.folder(path.Dir(it.To))
	if err != nil {
		return 0, err
	}
	name := path.Base(it.To)
	part := name + ".part"
	if len(part) > 250 {
		sum := sha256.Sum256([]byte(name))
		part = hex.EncodeToString(sum[:8]) + ".part"
	}
	if r.Policy == Refuse || r.Policy == "" {
		st, err := dir.Lstat(name)
		switch {
		case err == nil:
			return 0, r.same(dir, name, st, in, it.To)
		case !errors.Is(err, fs.ErrNotExist):
			return 0, err
		}
	}
	dir.Remove(part) // left by a run that was killed; never a link that is followed
	out, err := dir.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return 0, err
	}
	defer func() {
		out.Close()
		if err != nil {
			dir.Remove(part)
		}
	}()
	for {
		k, rerr := fill(in, buf)
		if k > 0 {
			if _, err := out.Write(buf[:k]); err != nil {
				return counted, err
			}
			counted += int64(k)
			r.progress(0, int64(k))
		}
		if rerr == io.EOF {
			break
		}
		if rerr != nil {
			return counted, rerr
		}
		if err := ctx.Err(); err != nil {
			return counted, err
		}
	}
	if err := out.Close(); err != nil {
		return counted, err
	}
	return counted, dir.Rename(part, name)
}

// fill reads until the buffer is full or the stream ends.
func fill(r io.Reader, buf []byte) (n int, err error) {
	for n < len(buf) && err == nil {
		var k int
		k, err = r.Read(buf[n:])
		n += k
	}
	return n, err
}

// same accepts a file that is there with the entry's content.
func (r *running) same(dir *os.Root, name string, st fs.FileInfo, in io.Reader, to string) error {
	other := fmt.Errorf("%s is there already with other content; extract to an empty folder or choose to skip, replace or keep both", to)
	if !st.Mode().IsRegular() {
		return other
	}
	f, err := dir.Open(name)
	if err != nil {
		return other
	}
	defer f.Close()
	a, b := make([]byte, 64<<10), make([]byte, 64<<10)
	var n int64
	for {
		k, err1 := fill(in, a)
		m, err2 := fill(f, b)
		if err1 != nil && err1 != io.EOF {
			return err1
		}
		if err2 != nil && err2 != io.EOF {
			return err2
		}
		if k != m || !bytes.Equal(a[:k], b[:m]) {
			return other
		}
		n += int64(k)
		if err1 == io.EOF {
			r.progress(0, n)
			return nil
		}
	}
}

// Unpack takes all entries of one source that match pattern (all, if it is
// empty) out to dir, under their own paths.
func Unpack(ctx context.Context, s *source.Source, dir, pattern string, progress func(entries, bytes int64)) (Summary, error) {
	refs, err := Matching([]*source.Source{s}, pattern)
	if err != nil {
		return Summary{}, err
	}
	plan, err := NewPlan([]*source.Source{s}, refs, Options{Dir: dir, Policy: Refuse, Empty: pattern == ""})
	if err != nil {
		return Summary{}, err
	}
	j := &Job{Plan: plan, Sources: []*source.Source{s}, Dir: dir, Policy: Refuse, Progress: progress}
	return j.Run(ctx)
}

// Matching lists the entries whose path fits a glob; an empty one fits all.
func Matching(sources []*source.Source, pattern string) ([]Ref, error) {
	if !source.ValidPattern(pattern) {
		return nil, fmt.Errorf("pattern %q is not a sound glob", pattern)
	}
	var refs []Ref
	for si, s := range sources {
		for i := range s.Entries() {
			if pattern == "" || source.Match(pattern, s.Entries()[i].Path) {
				refs = append(refs, Ref{si, i})
			}
		}
	}
	return refs, nil
}
