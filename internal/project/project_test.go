package project_test

import (
	"archive/zip"
	"context"
	"encoding/json"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"excavate/core/catalog"
	"excavate/core/chain"
	"excavate/core/extract"
	"excavate/core/naming"
	"excavate/internal/blob"
	"excavate/internal/demo"
	"excavate/internal/project"
	"excavate/internal/shipped"
	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/testdb"
	"excavate/internal/work"
	"excavate/standin/exchange"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// desk is a service with one project and a library folder.
type desk struct {
	*project.Service
	project.Config
	t   testing.TB
	lib string
	id  int64
	ctx context.Context
}

func open(t testing.TB) *desk {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	st, err := store.Open(ctx, testdb.DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	blobs, err := blob.Open(filepath.Join(data, "blobs"))
	if err != nil {
		t.Fatal(err)
	}
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	d := &desk{t: t, lib: filepath.Join(data, "games"), ctx: ctx}
	if err := demo.Write(d.lib, nil); err != nil {
		t.Fatal(err)
	}
	pool := work.New(st, t.Logf)
	d.Config = project.Config{Store: st, Blobs: blobs, Lib: lib, Pool: pool, Library: []string{d.lib}, Data: data,
		Outputs: []string{t.TempDir()}, Version: "test"}
	if d.Service, err = project.New(ctx, d.Config); err != nil {
		t.Fatal(err)
	}
	pool.Start(ctx, 2)
	t.Cleanup(func() { cancel(); pool.Wait(); st.Close() })
	if d.id, err = st.CreateProject(ctx, "p"); err != nil {
		t.Fatal(err)
	}
	return d
}

// again makes a second service on the same database and folders, as another
// process does.
func (d *desk) again() *project.Service {
	d.t.Helper()
	c := d.Config
	c.Pool = work.New(d.Store, d.t.Logf)
	s, err := project.New(d.ctx, c)
	d.try(err)
	return s
}

func (d *desk) try(err error) {
	d.t.Helper()
	if err != nil {
		d.t.Fatal(err)
	}
}

func (d *desk) until(what string, f func() bool) {
	d.t.Helper()
	for end := time.Now().Add(30 * time.Second); !f(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			d.t.Fatalf("%s did not happen", what)
		}
	}
}

// idle waits until no work is left.
func (d *desk) idle() {
	d.t.Helper()
	d.until("an end of the work", func() bool {
		var n int
		d.try(d.Store.DB.QueryRow("SELECT COUNT(*) FROM jobs WHERE state IN ('queued', 'running')").Scan(&n))
		return n == 0
	})
}

func (d *desk) add(name string) int64 {
	d.t.Helper()
	id, err := d.Sources.AddPath(d.ctx, d.id, filepath.Join(d.lib, name))
	d.try(err)
	d.idle()
	return id
}

func (d *desk) find(f project.Filter) []catalog.Row {
	d.t.Helper()
	c, q, err := d.Sources.Find(d.ctx, d.id, f, "order")
	d.try(err)
	p, err := c.Page(q, 0, 1000)
	d.try(err)
	return p.Rows
}

// fine is the kind of no error.
const fine project.Kind = -1

// is tells whether an error is of a kind.
func is(err error, want project.Kind) bool {
	k, ok := project.KindOf(err)
	return ok && k == want || err == nil && want == fine
}

func (d *desk) extraction(id int64) (db.Extraction, extract.Summary) {
	d.t.Helper()
	var x db.Extraction
	d.until("the extraction", func() bool {
		var err error
		x, err = d.Store.GetExtraction(d.ctx, id)
		d.try(err)
		return x.State != "waiting" && x.State != "running"
	})
	var sum extract.Summary
	json.Unmarshal(x.Summary, &sum)
	return x, sum
}

func TestOnlyTheLibraryIsRead(t *testing.T) {
	d := open(t)
	out := t.TempDir()
	os.WriteFile(filepath.Join(out, "secret.zip"), []byte("PK\x05\x06"+strings.Repeat("\x00", 18)), 0o644)
	os.Symlink(out, filepath.Join(d.lib, "way-out"))
	for path, want := range map[string]project.Kind{
		filepath.Join(out, "secret.zip"):              project.Forbidden,
		filepath.Join(d.lib, "way-out", "secret.zip"): project.Forbidden,
		filepath.Join(d.lib, "..", "..", "x"):         project.Invalid,
		"hulls.tide":                                  project.Invalid,
		filepath.Join(d.lib, "none"):                  project.Invalid,
		d.lib + "/../games/hulls.tide":                fine,
	} {
		_, err := d.Sources.AddPath(d.ctx, d.id, path)
		if !is(err, want) {
			t.Errorf("%s: %v, want kind %d", path, err, want)
		}
	}
	pasted := `"` + filepath.Join(d.lib, "hulls.tide") + `"` // with quotes, and mounted already
	if _, err := d.Sources.AddPath(d.ctx, d.id, pasted); !is(err, project.Conflict) {
		t.Errorf("twice: %v", err)
	}
}

func TestOutputsStayInTheirFolders(t *testing.T) {
	d := open(t)
	d.add("hulls.tide")
	allowed, out := d.Outputs[0], t.TempDir()
	os.Symlink(out, filepath.Join(allowed, "way-out"))
	ask := func(to, form string, policy extract.Policy) error {
		_, err := d.Extractions.Extract(d.ctx, d.id,
			project.Extraction{Title: "x", Selection: project.Selection{Filter: &project.Filter{Text: "licence"}},
				Form: form, To: to, Policy: policy})
		d.idle()
		return err
	}
	for _, c := range []struct {
		to, form string
		policy   extract.Policy
		want     project.Kind
	}{
		{filepath.Join(allowed, "new", "deep"), "folder", extract.Refuse, fine},
		{allowed, "folder", extract.KeepBoth, fine},
		{filepath.Join(allowed, "a.zip"), "zip", extract.Refuse, fine},
		{filepath.Join(allowed, "a.zip"), "zip", extract.Refuse, project.Conflict},
		{filepath.Join(allowed, "a.zip"), "zip", extract.Replace, fine},
		{filepath.Join(allowed, "way-out", "x"), "folder", extract.Refuse, project.Forbidden},
		{allowed + "/../x", "folder", extract.Refuse, project.Forbidden},
		{d.lib, "folder", extract.Replace, project.Forbidden},
		{allowed, "zip", extract.Refuse, project.Forbidden},
	} {
		if err := ask(c.to, c.form, c.policy); !is(err, c.want) {
			t.Errorf("%s to %s: %v, want kind %d", c.form, c.to, err, c.want)
		}
	}
	if left, _ := os.ReadDir(out); len(left) != 0 {
		t.Errorf("written outside: %v", left)
	}
	if _, err := os.Stat(filepath.Join(allowed, "new", "deep", "licence.txt")); err != nil {
		t.Error(err)
	}
}

func TestFoldersOfTheirOwn(t *testing.T) {
	d := open(t)
	d.add("hulls.tide")
	seen := map[string]bool{}
	for _, title := range []string{"heron", "heron", "a/b:c", "...", strings.Repeat("ä", 300)} {
		id, err := d.Extractions.Extract(d.ctx, d.id,
			project.Extraction{Title: title,
				Selection: project.Selection{Filter: &project.Filter{Text: "heron"}}, Form: "folder"})
		d.try(err)
		x, sum := d.extraction(id)
		if x.State != "done" || sum.Entries != 1 || seen[x.Dest] || filepath.Dir(x.Dest) != filepath.Join(d.Data, "extracted") {
			t.Errorf("%.20s: %+v", title, x)
		}
		seen[x.Dest] = true
		if _, err := os.Stat(filepath.Join(x.Dest, "fauna", "heron.hull")); err != nil {
			t.Error(err)
		}
	}
	// Plans and journals of what is done are gone.
	if left, _ := filepath.Glob(filepath.Join(d.Data, "cache", "extractions", "*")); len(left) != 0 {
		t.Errorf("left over: %q", left)
	}
}

func TestAnExtractionOfWhatIsGone(t *testing.T) {
	d := open(t)
	src := d.add("washes.tide")
	row := d.find(project.Filter{Text: "heron_c"})[0]
	// The file is cut short after it was indexed: its entries fail, and say why.
	file := filepath.Join(d.lib, "washes.tide")
	os.Truncate(file, 3000)
	id, err := d.Extractions.Extract(d.ctx, d.id,
		project.Extraction{Title: "cut", Selection: project.Selection{IDs: []int64{row.ID}}, Form: "folder"})
	d.try(err)
	x, sum := d.extraction(id)
	if x.State != "done" || sum.Failed != 1 || len(sum.Failures) != 1 || !strings.Contains(sum.Failures[0].Error, "index it again") {
		t.Errorf("%+v %+v", x, sum)
	}
	if left, _ := filepath.Glob(filepath.Join(x.Dest, "wash", "fauna", "*")); len(left) != 0 {
		t.Errorf("left over: %q", left)
	}
	d.try(d.Bin.TakeOutSource(d.ctx, src))
	one := project.Extraction{Selection: project.Selection{IDs: []int64{row.ID}}, Form: "folder"}
	if _, err := d.Extractions.Extract(d.ctx, d.id, one); !is(err, project.Invalid) {
		t.Errorf("from a source that was taken out: %v", err)
	}
	if _, err := os.Stat(file); err != nil {
		t.Error("taking a source out has removed the porter's file")
	}
}

func TestStoppedExtractionsGoOn(t *testing.T) {
	d := open(t)
	const n = 4000
	f, err := os.Create(filepath.Join(d.lib, "many.zip"))
	d.try(err)
	w := zip.NewWriter(f)
	for i := range n {
		x, _ := w.Create(fmt.Sprintf("d%02d/%05d.bin", i%50, i))
		x.Write(make([]byte, 9000+i))
	}
	d.try(w.Close())
	d.try(f.Close())
	d.add("many.zip")
	id, err := d.Extractions.Extract(d.ctx, d.id,
		project.Extraction{Title: "many", Selection: project.Selection{Filter: &project.Filter{}},
			Form: "folder"})
	d.try(err)
	// Stop it as soon as anything is written.
	x, _ := d.Store.GetExtraction(d.ctx, id)
	d.until("a first file", func() bool {
		l, _ := filepath.Glob(filepath.Join(x.Dest, "*", "*.bin"))
		return len(l) > 0
	})
	var job int64
	d.try(d.Store.DB.QueryRow("SELECT id FROM jobs WHERE kind = 'extract'").Scan(&job))
	d.try(d.Store.CancelJob(d.ctx, job))
	x, sum := d.extraction(id)
	if x.State == "done" || sum.Entries == n {
		t.Skip("it was done before it could be stopped")
	}
	if x.State != "cancelled" || sum.Complete || sum.Entries >= n {
		t.Fatalf("%s %+v", x.State, sum)
	}
	d.idle()
	d.try(d.Extractions.Resume(d.ctx, id))
	x, sum = d.extraction(id)
	if x.State != "done" || sum.Entries != n || sum.Resumed == 0 || sum.Failed != 0 {
		t.Errorf("%s %+v", x.State, sum)
	}
	for i := range n {
		if st, err := os.Stat(filepath.Join(x.Dest, fmt.Sprintf("d%02d/%05d.bin", i%50, i))); err != nil || st.Size() != int64(9000+i) {
			t.Fatalf("file %d: %v", i, err)
		}
	}
	if err := d.Extractions.Resume(d.ctx, id); !is(err, project.Conflict) {
		t.Errorf("going on with what is done: %v", err)
	}
}

// Stopping work that has not begun leaves nothing that waits for it.
func TestStoppingWhatHasNotBegun(t *testing.T) {
	d := open(t)
	src := d.add("hulls.tide")
	// The jobs are put in by hand, held by a worker that does nothing.
	x, err := d.Store.CreateExtraction(d.ctx, db.CreateExtractionParams{ProjectID: d.id, Title: "x", Dest: "/x", Form: "folder", Policy: "refuse"})
	d.try(err)
	_, err = d.Store.DB.Exec("UPDATE sources SET state = 'indexing' WHERE id = ?", src)
	d.try(err)
	for kind, id := range map[string]int64{"extract": x, "index": src} {
		r, err := d.Store.DB.Exec("INSERT INTO jobs (project_id, kind, title, args, error, state, lease_until) VALUES (?, ?, 'x', ?, '', 'running', CURRENT_TIMESTAMP(3) + INTERVAL 60 SECOND)", d.id, kind, fmt.Sprintf(`{"id":%d}`, id))
		d.try(err)
		job, _ := r.LastInsertId()
		d.try(d.Jobs.Cancel(d.ctx, job))
		_, err = d.Store.DB.Exec("DELETE FROM jobs WHERE id = ?", job)
		d.try(err)
	}
	if e, err := d.Store.GetExtraction(d.ctx, x); err != nil || e.State != "cancelled" || e.Error == "" {
		t.Errorf("%+v %v", e, err)
	}
	if s, err := d.Store.GetSource(d.ctx, src); err != nil || s.State != "failed" || !strings.Contains(s.Error, "try again") {
		t.Errorf("%+v %v", s, err)
	}
	d.try(d.Sources.Reindex(d.ctx, src))
	d.idle()
	if s, _ := d.Store.GetSource(d.ctx, src); s.State != "ready" {
		t.Errorf("the next try: %s", s.State)
	}
	if err := d.Jobs.Cancel(d.ctx, 99999); !is(err, project.NotFound) {
		t.Errorf("no such job: %v", err)
	}
}

func TestIdsStayWithTheirPaths(t *testing.T) {
	d := open(t)
	dir := filepath.Join(d.lib, "mine")
	os.MkdirAll(dir, 0o755)
	put := func(names ...string) {
		t.Helper()
		for _, n := range names {
			d.try(os.WriteFile(filepath.Join(dir, n), []byte(n), 0o644))
		}
	}
	put("b.txt", "d.txt", "f.txt")
	src := d.add("mine")
	ids := func() map[string]int64 {
		out := map[string]int64{}
		for _, r := range d.find(project.Filter{}) {
			out[r.Path] = r.ID
		}
		return out
	}
	before := ids()
	put("a.txt", "c.txt", "e.txt")
	os.Remove(filepath.Join(dir, "d.txt"))
	d.try(d.Sources.Reindex(d.ctx, src))
	d.idle()
	after := ids()
	if len(after) != 5 || after["b.txt"] != before["b.txt"] || after["f.txt"] != before["f.txt"] {
		t.Errorf("before %v, after %v", before, after)
	}
	for p, id := range after {
		if id == before["d.txt"] {
			t.Errorf("%s has the id of one that is gone", p)
		}
		if _, _, b, err := d.Sources.Bytes(d.ctx, id); err != nil || string(b) != p {
			t.Errorf("%s reads %q, %v", p, b, err)
		}
	}
	if _, _, _, _, err := d.Sources.Entry(d.ctx, before["d.txt"]); !is(err, project.NotFound) {
		t.Errorf("one that is gone: %v", err)
	}
}

// Whoever reads a source that was indexed this moment opens it for itself. The
// index goes on to read what its entries are.
func TestASourceThatOthersReadWhileItIsIndexed(t *testing.T) {
	d := open(t)
	src := d.add("washes.tide")
	ctx, stop := context.WithCancel(d.ctx)
	read := make(chan int)
	go func() {
		n := 0
		for ctx.Err() == nil {
			if st, err := d.Sources.Stack(ctx, d.id); err == nil {
				n += len(st)
			}
		}
		read <- n
	}()
	for range 12 {
		d.try(d.Sources.Reindex(d.ctx, src))
		d.idle()
		for _, r := range d.find(project.Filter{}) {
			if r.Error != "" {
				t.Fatalf("%s: %s", r.Path, r.Error)
			}
		}
	}
	stop()
	if n := <-read; n == 0 {
		t.Error("nobody read it meanwhile")
	}
}

func TestWhatASelectionComesTo(t *testing.T) {
	d := open(t)
	d.add("hulls.tide")
	d.add("washes.tide")
	id := func(text string) int64 { return d.find(project.Filter{Text: text})[0].ID }
	d.try(d.Sources.SetRules(d.ctx, d.id, naming.Rules{{Where: naming.Suffix, Affix: "_c", Means: naming.Role,
		Value: "colour"}}))
	for name, c := range map[string]struct {
		s    project.Selection
		want int
	}{
		"everything":            {project.Selection{Filter: &project.Filter{}}, 14},
		"without some":          {project.Selection{Filter: &project.Filter{}, Except: []int64{id("heron.hull"), id("punt.hull")}}, 12},
		"a folder":              {project.Selection{Folders: []string{"wash/houses"}}, 2},
		"folders and one":       {project.Selection{Folders: []string{"wash/houses", "text"}, IDs: []int64{id("heron.hull")}}, 6},
		"sets":                  {project.Selection{Sets: []string{"heron", "punt"}}, 4},
		"a model with needs":    {project.Selection{IDs: []int64{id("stilt_house")}, Needs: true}, 3},
		"needs of a set":        {project.Selection{Sets: []string{"heron"}, Needs: true}, 2},
		"those that win":        {project.Selection{Filter: &project.Filter{Text: "licence"}, Winners: true}, 1},
		"an id that is unknown": {project.Selection{IDs: []int64{1 << 40}}, 0},
		"nothing":               {project.Selection{}, 0},
		"a set by its filter":   {project.Selection{Filter: &project.Filter{Set: "heron"}}, 2},
		"by size":               {project.Selection{Filter: &project.Filter{MinSize: 100_000, MaxSize: 140_000}}, 4},
	} {
		got, err := d.Sources.Select(d.ctx, d.id, c.s)
		if err != nil || len(got.Rows) != c.want {
			t.Errorf("%s: %v, want %d (%v)", name, got, c.want, err)
			continue
		}
		// Its address gives the same again.
		digest, err := d.Sources.KeepSelection(d.ctx, d.id, c.s)
		d.try(err)
		again, err := d.Sources.SelectionAt(d.ctx, d.id, digest)
		d.try(err)
		if second, err := d.Sources.Select(d.ctx, d.id, again); err != nil || !slices.Equal(second.Rows, got.Rows) {
			t.Errorf("%s from its address: %v", name, err)
		}
	}
	far := project.Selection{IDs: make([]int64, 200_000)}
	if _, err := d.Sources.KeepSelection(d.ctx, d.id, far); !is(err, project.Invalid) {
		t.Errorf("a selection of 200,000 ids: %v", err)
	}
}

func TestOrderDecidesWhoWins(t *testing.T) {
	d := open(t)
	a, b := d.add("hulls.tide"), d.add("washes.tide")
	wins := func() int64 {
		for _, r := range d.find(project.Filter{Text: "licence"}) {
			if r.OverriddenBy == "" {
				return r.Source
			}
		}
		return 0
	}
	if wins() != a {
		t.Error("the first does not win")
	}
	d.try(d.Sources.Order(d.ctx, d.id, []int64{b, a}))
	if wins() != b {
		t.Error("the order has no effect")
	}
	for _, ids := range [][]int64{{a, a}, {a, 99}} {
		if err := d.Sources.Order(d.ctx, d.id, ids); !is(err, project.Invalid) {
			t.Errorf("%v: %v", ids, err)
		}
	}
	d.idle()
}

func TestASourceTakenOutWhileItIsIndexed(t *testing.T) {
	d := open(t)
	dir := filepath.Join(d.lib, "lots")
	os.MkdirAll(dir, 0o755)
	for i := range 3000 {
		os.WriteFile(filepath.Join(dir, fmt.Sprintf("%04d.txt", i)), []byte("x"), 0o644)
	}
	for range 3 {
		id, err := d.Sources.AddPath(d.ctx, d.id, dir)
		d.try(err)
		time.Sleep(20 * time.Millisecond)
		d.try(d.Bin.TakeOutSource(d.ctx, id))
		d.idle()
		var failed int
		d.try(d.Store.DB.QueryRow("SELECT COUNT(*) FROM jobs WHERE state = 'failed'").Scan(&failed))
		if found := d.find(project.Filter{}); failed != 0 || len(found) != 0 {
			t.Errorf("%d jobs failed, %d entries are found", failed, len(found))
		}
	}
	// Put back, it is indexed to its end.
	list, err := d.Bin.List(d.ctx, d.id)
	d.try(err)
	d.try(d.Bin.PutBack(d.ctx, d.id, list[0].ID))
	d.idle()
	rows, err := d.Store.ListSources(d.ctx, d.id)
	d.try(err)
	if len(rows) != 1 || rows[0].State != "ready" || !rows[0].KindsKnown || rows[0].EntryCount != 3000 {
		t.Errorf("%+v", rows)
	}
}

func TestUnusedCopiesAreTidied(t *testing.T) {
	d := open(t)
	spool := filepath.Join(d.Data, "cache", "spool")
	os.MkdirAll(spool, 0o755)
	old := time.Now().Add(-60 * 24 * time.Hour)
	for name, keep := range map[string]bool{"fresh": true, "stale": false, "part-17": false, "part-new": true, "part-held": true} {
		f := filepath.Join(spool, name)
		os.WriteFile(f, []byte("x"), 0o644)
		if name == "part-held" { // by somebody who unpacks, in this process or another
			h, err := os.Open(f)
			d.try(err)
			defer h.Close()
			d.try(syscall.Flock(int(h.Fd()), syscall.LOCK_EX))
		}
		if name == "stale" || name == "part-17" || name == "part-held" {
			os.Chtimes(f, old, old)
		}
		defer func() {
			if _, err := os.Stat(f); (err == nil) != keep {
				t.Errorf("%s: kept is %v", name, err == nil)
			}
		}()
	}
	d.again()
	for _, dir := range []string{"uploads", "extracted", "cache", "cache/spool", "devices"} {
		if st, err := os.Stat(filepath.Join(d.Data, dir)); err != nil || st.Mode().Perm() != 0o700 {
			t.Errorf("%s: %v %v", dir, st, err)
		}
	}
}

// Whatever ends a job leaves nothing that stands as under way: a worker that
// died too often, a process that is gone, work that was stopped half way.
func TestNothingStandsAsUnderWayWithoutWork(t *testing.T) {
	d := open(t)
	src := d.add("hulls.tide")
	st := d.Store
	exec := func(q string, args ...any) int64 {
		t.Helper()
		r, err := st.DB.Exec(q, args...)
		d.try(err)
		id, _ := r.LastInsertId()
		return id
	}
	chain := func(find int64) int64 {
		return exec("INSERT INTO chains (project_id, find_id, name, target) VALUES (?, ?, 'c', 'gltf-engine')", d.id, find)
	}
	find := func(name string) int64 {
		return exec("INSERT INTO finds (project_id, source_id, source_label, entry_path, name, state) VALUES (?, ?, 'hulls.tide', ?, ?, 'decoding')", d.id, src, name, name)
	}
	things := func() map[string]int64 {
		f := find("a.hull")
		x := map[string]int64{"decode": f, "index": src}
		x["extract"] = exec("INSERT INTO extractions (project_id, title, dest, form, policy, entries, bytes, error, state) VALUES (?, 'x', '/x', 'folder', 'refuse', 1, 1, '', 'running')", d.id)
		x["deliver"] = exec("INSERT INTO deliveries (project_id, chain_id, name, error) VALUES (?, ?, 'd', '')", d.id, chain(f))
		exec("UPDATE sources SET state = 'indexing' WHERE id = ?", src)
		return x
	}
	states := func(x map[string]int64) map[string][2]string {
		out := map[string][2]string{}
		for kind, q := range map[string]string{"decode": "finds", "index": "sources", "extract": "extractions", "deliver": "deliveries"} {
			var state, why string
			d.try(st.DB.QueryRow("SELECT state, error FROM "+q+" WHERE id = ?", x[kind]).Scan(&state, &why))
			out[kind] = [2]string{state, why}
		}
		return out
	}
	want := map[string]string{"decode": "stopped", "index": "failed", "extract": "failed", "deliver": "failed"}

	// Attempts used up: the worker died three times, and its leases have ended.
	x := things()
	for kind, id := range x {
		exec("INSERT INTO jobs (project_id, kind, title, args, error, state, attempts, worker, lease_until) VALUES (?, ?, 'x', ?, '', 'running', 3, 'gone', CURRENT_TIMESTAMP(3) - INTERVAL 1 SECOND)", d.id, kind, fmt.Sprintf(`{"id":%d}`, id))
	}
	d.until("the end of what died", func() bool {
		for kind, s := range states(x) {
			if s[0] != want[kind] {
				return false
			}
		}
		return true
	})
	for kind, s := range states(x) {
		if !strings.Contains(s[1], "begun 3 times") {
			t.Errorf("%s: %q", kind, s)
		}
	}

	// No job at all: a round sees it, and the next one acts.
	exec("DELETE FROM jobs")
	x = things()
	seen, err := d.Jobs.Round(d.ctx, nil)
	d.try(err)
	for kind, s := range states(x) {
		if s[0] == want[kind] {
			t.Errorf("%s was ended at first sight: %q", kind, s)
		}
	}
	if _, err := d.Jobs.Round(d.ctx, seen); err != nil {
		t.Fatal(err)
	}
	for kind, s := range states(x) {
		if s[0] != want[kind] || !strings.Contains(s[1], "ended with its process") {
			t.Errorf("%s: %q", kind, s)
		}
	}

	// The reason of a job that failed is what is said.
	exec("DELETE FROM jobs")
	x = things()
	for kind, id := range x {
		exec("INSERT INTO jobs (project_id, kind, title, args, error, state) VALUES (?, ?, 'x', ?, 'the disk is full', 'failed')", d.id, kind, fmt.Sprintf(`{"id":%d}`, id))
	}
	seen, _ = d.Jobs.Round(d.ctx, nil)
	if _, err := d.Jobs.Round(d.ctx, seen); err != nil {
		t.Fatal(err)
	}
	for kind, s := range states(x) {
		if !strings.Contains(s[1], "the disk is full") {
			t.Errorf("%s: %q", kind, s)
		}
	}

	// What is being worked on is left alone.
	exec("DELETE FROM jobs")
	x = things()
	for kind, id := range x {
		exec("INSERT INTO jobs (project_id, kind, title, args, error, state, worker, lease_until) VALUES (?, ?, 'x', ?, '', 'running', 'other', CURRENT_TIMESTAMP(3) + INTERVAL 60 SECOND)", d.id, kind, fmt.Sprintf(`{"id":%d}`, id))
	}
	seen, _ = d.Jobs.Round(d.ctx, nil)
	if _, err := d.Jobs.Round(d.ctx, seen); err != nil || len(seen) != 0 {
		t.Errorf("%v %v", seen, err)
	}
	exec("DELETE FROM jobs")
	exec("UPDATE finds SET state = 'ready'")

	// "Decode every model", stopped: its finds are not decoded, and can be.
	f := find("figures/ferry_keeper.hull")
	job := exec("INSERT INTO jobs (project_id, kind, title, args, error, state) VALUES (?, 'findall', 'x', ?, '', 'running')", d.id, fmt.Sprintf(`{"project":%d}`, d.id))
	d.try(d.Jobs.Cancel(d.ctx, job))
	exec("DELETE FROM jobs")
	row, err := st.GetFind(d.ctx, f)
	if err != nil || row.State != "stopped" || !strings.Contains(string(row.Error), "stopped") {
		t.Errorf("%+v %v", row.State, string(row.Error))
	}
	d.try(d.Sources.Reindex(d.ctx, src))
	d.idle()
	d.try(d.Jobs.DecodeAgain(d.ctx, f))
	d.until("decoding", func() bool { row, _ = st.GetFind(d.ctx, f); return row.State == "ready" })
}

// Tokens lie in a file that only its owner can read, not in the database, and
// those of earlier versions are taken out of it.
func TestTokensAreKeptApart(t *testing.T) {
	d := open(t)
	ex := httptest.NewServer(exchange.New().Handler())
	defer ex.Close()
	dev, err := d.Devices.Connect(d.ctx, d.id, ex.URL, exchange.Token)
	d.try(err)
	in := func() string {
		var token string
		d.try(d.Store.DB.QueryRow("SELECT token FROM devices WHERE id = ?", dev.ID).Scan(&token))
		return token
	}
	file := filepath.Join(d.Data, "tokens.json")
	look := func(want bool) {
		t.Helper()
		b, _ := os.ReadFile(file)
		if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 || strings.Contains(string(b), exchange.Token) != want || in() != "" {
			t.Errorf("%v %v, token in the file %v, in the database %q", st, err, strings.Contains(string(b), exchange.Token), in())
		}
	}
	look(true)
	// Another process has no client yet; it reads the token.
	other := d.again()
	if _, err := other.Devices.Offers(d.ctx, dev.ID); err != nil {
		t.Error(err)
	}
	os.Remove(file)
	_, err = d.Store.DB.Exec("UPDATE devices SET token = ? WHERE id = ?", exchange.Token, dev.ID)
	d.try(err)
	d.again()
	look(true)
	d.try(d.Devices.Disconnect(d.ctx, dev.ID))
	if b, _ := os.ReadFile(file); strings.Contains(string(b), exchange.Token) {
		t.Error("the token of a device that was forgotten is kept")
	}
}

// Models that are asked for while their source is being read anew are found once
// it is read: nothing is left out without a word.
func TestModelsOfASourceThatIsReadAnew(t *testing.T) {
	d := open(t)
	src := d.add("hulls.tide")
	exec := func(q string, args ...any) {
		t.Helper()
		_, err := d.Store.DB.Exec(q, args...)
		d.try(err)
	}
	if n := len(d.find(project.Filter{Kind: "model"})); n != 4 {
		t.Fatalf("%d models", n)
	}
	// The kinds of its entries are not known, and another process is at it.
	exec("UPDATE entries SET kind = CONCAT('x', kind) WHERE source_id = ?", src)
	exec("UPDATE sources SET generation = generation + 1 WHERE id = ?", src)
	d.try(d.Store.TouchProject(d.ctx, d.id))
	exec(`INSERT INTO jobs (project_id, kind, title, args, error, state, worker, lease_until)
		VALUES (?, 'index', 'x', ?, '', 'running', 'elsewhere', CURRENT_TIMESTAMP(3) + INTERVAL 1 HOUR)`,
		d.id, fmt.Sprintf(`{"id":%d}`, src))
	_, err := d.Pool.Add(d.ctx, d.id, "findall", "Decoding 4 models",
		map[string]any{"project": d.id, "filter": map[string]string{"kind": "model"}, "models": 4})
	d.try(err)
	time.Sleep(500 * time.Millisecond)
	finds, err := d.Finds.Gallery(d.ctx, d.id)
	d.try(err)
	var state string
	d.try(d.Store.DB.QueryRow("SELECT state FROM jobs WHERE kind = 'findall'").Scan(&state))
	if len(finds) != 0 || state != "running" {
		t.Errorf("%d finds, it is %s", len(finds), state)
	}
	exec("UPDATE entries SET kind = SUBSTR(kind, 2) WHERE source_id = ?", src)
	exec("UPDATE sources SET generation = generation + 1 WHERE id = ?", src)
	d.try(d.Store.TouchProject(d.ctx, d.id))
	exec("UPDATE jobs SET state = 'done' WHERE kind = 'index'")
	d.idle()
	finds, err = d.Finds.Gallery(d.ctx, d.id)
	d.try(err)
	if len(finds) != 4 {
		t.Errorf("%d finds", len(finds))
	}
}

// A delivery is sent again while the job of the sending before has not ended
// yet: its end says nothing of the new one.
func TestAnEarlierSendingEndsLate(t *testing.T) {
	d := open(t)
	d.add("hulls.tide")
	find, err := d.Finds.Create(d.ctx, d.id, d.find(project.Filter{Kind: "model"})[0].ID)
	d.try(err)
	d.idle()
	c, err := d.Chains.Create(d.ctx, d.id, find, &chain.Chain{Name: "c", Steps: []chain.Step{}})
	d.try(err)
	d.idle()
	_, err = d.Store.DB.Exec(`INSERT INTO deliveries (id, project_id, chain_id, name, state, error, sent)
		VALUES (1, ?, ?, 'x', 'ready', '', '{"receiver": "r", "try": 2, "state": "sending", "taken": []}')`, d.id, c)
	d.try(err)
	said := func() (s project.Sent) {
		x, err := d.Deliveries.Get(d.ctx, 1)
		d.try(err)
		d.try(json.Unmarshal(x.Sent, &s))
		return s
	}
	end := func(try int) {
		t.Helper()
		j := db.Job{ProjectID: d.id, Kind: "send", Args: fmt.Appendf(nil, `{"id":1,"try":%d}`, try)}
		d.try(d.Pool.Ended(d.ctx, j, "failed", fmt.Sprint("try ", try)))
	}
	end(1)
	if s := said(); s.State != "sending" || s.Error != "" {
		t.Errorf("after the end of an earlier one: %+v", s)
	}
	// A round leaves it alone as long as its job is there, and tells its end.
	_, err = d.Store.DB.Exec(`INSERT INTO jobs (project_id, kind, title, args, error, state, worker, lease_until)
		VALUES (?, 'send', 'x', '{"id":1,"try":2}', '', 'running', 'elsewhere', CURRENT_TIMESTAMP(3) + INTERVAL 1 HOUR)`, d.id)
	d.try(err)
	seen, err := d.Jobs.Round(d.ctx, nil)
	d.try(err)
	if _, err = d.Jobs.Round(d.ctx, seen); err != nil || said().State != "sending" {
		t.Errorf("%v, %+v", err, said())
	}
	_, err = d.Store.DB.Exec("UPDATE jobs SET state = 'failed', error = 'the cable' WHERE kind = 'send'")
	d.try(err)
	seen, err = d.Jobs.Round(d.ctx, nil)
	d.try(err)
	_, err = d.Jobs.Round(d.ctx, seen)
	d.try(err)
	if s := said(); s.State != "failed" || s.Error != "the cable" {
		t.Errorf("after its own end: %+v", s)
	}
}
