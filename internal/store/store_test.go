package store_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"excavate/internal/store"
	"excavate/internal/store/db"
	"excavate/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func open(t testing.TB) (*store.Store, int64) {
	t.Helper()
	st, err := store.Open(context.Background(), testdb.DSN(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	id, err := st.CreateProject(context.Background(), "p")
	if err != nil {
		t.Fatal(err)
	}
	return st, id
}

func TestSeveralProcessesBringTheSchemaUpToDate(t *testing.T) {
	dsn := testdb.DSN(t)
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			st, err := store.Open(context.Background(), dsn)
			if err != nil {
				t.Error(err)
				return
			}
			defer st.Close()
			if _, err := st.ListProjects(context.Background()); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
}

func TestEntriesAreReplacedWholeOrNotAtAll(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	src, err := st.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: "/x", Label: "x", Origin: "path", Rights: []byte("{}")})
	if err != nil {
		t.Fatal(err)
	}
	rows := entriesOf(src, 25_000)
	rows[24_999].Path, rows[7].Error = "Ä/'\\ 🪶.wash", "it's \\ broken\n"
	var told []int
	none := func(*db.Queries) error { return nil }
	if err := st.ReplaceEntries(ctx, src, rows, func(n int) { told = append(told, n) }, none); err != nil {
		t.Fatal(err)
	}
	if len(told) < 2 || told[len(told)-1] != len(rows) {
		t.Errorf("progress %v", told)
	}
	got := stored(t, st, src)
	if len(got) != len(rows) || got[24_999] != rows[24_999] || got[7] != rows[7] {
		t.Fatalf("%d rows, %+v", len(got), got[7])
	}
	// A slot that stands twice breaks the last batch; the old rows stay.
	bad := append([]db.Entry{}, rows...)
	bad[24_000].Slot = 3
	if err := st.ReplaceEntries(ctx, src, bad, nil, none); err == nil {
		t.Fatal("a slot twice was accepted")
	}
	boom := errors.New("boom")
	if err := st.ReplaceEntries(ctx, src, bad[:3], nil, func(*db.Queries) error { return boom }); err != boom {
		t.Fatal(err)
	}
	if got = stored(t, st, src); len(got) != len(rows) {
		t.Errorf("after failures there are %d rows", len(got))
	}
	// Kinds change nothing else.
	part := append([]db.Entry{}, rows[100:200]...)
	for i := range part {
		part[i].Kind, part[i].Format = "sound", "wav"
	}
	if err := st.EntryKinds(ctx, part); err != nil {
		t.Fatal(err)
	}
	if got = stored(t, st, src); got[150] != part[50] || got[99] != rows[99] || len(got) != len(rows) {
		t.Errorf("%+v", got[150])
	}
	if err := st.ReplaceRefs(ctx, src, []db.EntryRef{{SourceID: src, Slot: 3, Ref: "x"}}, none); err != nil {
		t.Fatal(err)
	}
	// Taking the source out takes its entries, and what they ask for.
	if err := st.DeleteSource(ctx, src); err != nil {
		t.Fatal(err)
	}
	if got = stored(t, st, src); len(got) != 0 {
		t.Errorf("%d rows of no source", len(got))
	}
	if refs, err := st.SourceRefs(ctx, src); err != nil || len(refs) != 0 {
		t.Errorf("%v %v", refs, err)
	}
}

func entriesOf(src int64, n int) []db.Entry {
	rows := make([]db.Entry, n)
	for i := range rows {
		rows[i] = db.Entry{SourceID: src, Slot: int32(i), Idx: int32(i), Path: fmt.Sprintf("wash/area_%03d/thing_%06d_c.wash", i%400, i), Kind: "picture", Size: 1 << 40, Packed: -1}
	}
	return rows
}

func stored(t *testing.T, st *store.Store, src int64) (out []db.Entry) {
	t.Helper()
	if err := st.ListEntries(context.Background(), src, func(e *db.Entry) { out = append(out, *e) }); err != nil {
		t.Fatal(err)
	}
	return out
}

func TestBrokenConnectionsAreWorthAnotherTry(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	conn, err := st.DB.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	var id int64
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id); err != nil {
		t.Fatal(err)
	}
	if _, err := st.DB.ExecContext(ctx, fmt.Sprintf("KILL %d", id)); err != nil {
		t.Fatal(err)
	}
	_, err = conn.ExecContext(ctx, "UPDATE projects SET version = 2 WHERE id = ?", project)
	if err == nil || !store.Transient(err) {
		t.Errorf("a killed connection: %v", err)
	}
	if _, err = st.DB.ExecContext(ctx, "SELECT nonsense"); store.Transient(err) {
		t.Error("a mistake is taken for a broken connection")
	}
}

func BenchmarkEntries(b *testing.B) {
	st, project := open(b)
	ctx := context.Background()
	src, err := st.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: "/x", Label: "x", Origin: "path", Rights: []byte("{}")})
	if err != nil {
		b.Fatal(err)
	}
	rows := entriesOf(src, 200_000)
	b.Run("write", func(b *testing.B) {
		for range b.N {
			b.StopTimer()
			if err := st.DeleteEntries(ctx, src); err != nil {
				b.Fatal(err)
			}
			b.StartTimer()
			if err := st.ReplaceEntries(ctx, src, rows, nil, func(*db.Queries) error { return nil }); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(len(rows))*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
	})
	b.Run("kinds", func(b *testing.B) {
		for range b.N {
			if err := st.EntryKinds(ctx, rows); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(len(rows))*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
	})
	b.Run("read", func(b *testing.B) {
		for range b.N {
			if err := st.ListEntries(ctx, src, func(*db.Entry) {}); err != nil {
				b.Fatal(err)
			}
		}
		b.ReportMetric(float64(len(rows))*float64(b.N)/b.Elapsed().Seconds(), "rows/s")
	})
}

func TestPositionsFollowEachOther(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	for i := 1; i <= 3; i++ {
		id, err := st.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: fmt.Sprint(i), Label: "x", Rights: []byte("{}")})
		if err != nil {
			t.Fatal(err)
		}
		if s, _ := st.GetSource(ctx, id); int(s.Position) != i || s.State != "indexing" || string(s.Problems) != "[]" {
			t.Errorf("%+v", s)
		}
	}
}

func TestTxRollsBack(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	boom := errors.New("boom")
	err := st.Tx(ctx, func(q *db.Queries) error {
		if err := q.TouchProject(ctx, project); err != nil {
			return err
		}
		return boom
	})
	if p, _ := st.GetProject(ctx, project); err != boom || p.Version != 1 {
		t.Errorf("%v, version %d", err, p.Version)
	}
}

func TestResultsAreKeptByKey(t *testing.T) {
	st, _ := open(t)
	ctx := context.Background()
	key := fmt.Sprintf("%064d", 1)
	for _, scene := range []string{"a", "b"} {
		if err := st.PutResult(ctx, db.PutResultParams{CacheKey: key, Scene: scene, Report: []byte(`{"lines":["x"]}`), Stats: []byte("{}"), Basis: []byte("{}"), Seconds: 0.25}); err != nil {
			t.Fatal(err)
		}
	}
	r, err := st.GetResult(ctx, key)
	if err != nil || r.Scene != "b" || string(r.Report) != `{"lines":["x"]}` || r.Seconds != 0.25 {
		t.Errorf("%+v %v", r, err)
	}
}

// A decoding that began before another was asked for, and ends after it, must
// not replace what the newer one gave.
func TestAnOldDecodingCountsNoMore(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	id, err := st.CreateFind(ctx, db.CreateFindParams{ProjectID: project, SourceLabel: "a", EntryPath: "b", Name: "c"})
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := st.AskFind(ctx, id); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct{ asked, rows int64 }{{2, 1}, {1, 0}} {
		n, err := st.FindReady(ctx, db.FindReadyParams{Scene: strings.Repeat("a", 64), Missing: int32(c.asked), Model: []byte("{}"), Name: "c", ID: id, Asked: c.asked})
		if err != nil || n != c.rows {
			t.Errorf("asked %d: %d rows, %v", c.asked, n, err)
		}
	}
	if err := st.FindFailed(ctx, db.FindFailedParams{Error: []byte("{}"), ID: id, Asked: 1}); err != nil {
		t.Fatal(err)
	}
	if f, err := st.GetFind(ctx, id); err != nil || f.Missing != 2 || f.State != "ready" {
		t.Errorf("%+v, %v", f, err)
	}
}
