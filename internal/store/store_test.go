package store_test

import (
	"context"
	"errors"
	"fmt"
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
	src, err := st.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: "/x", Label: "x"})
	if err != nil {
		t.Fatal(err)
	}
	rows := make([]db.Entry, 2500)
	for i := range rows {
		rows[i] = db.Entry{Idx: int32(i), Path: fmt.Sprintf("Ä/%d.wash", i), Kind: "picture", Size: 1 << 40}
	}
	var told []int
	if err := st.ReplaceEntries(ctx, src, rows, func(n int) { told = append(told, n) }); err != nil {
		t.Fatal(err)
	}
	if fmt.Sprint(told) != "[1000 2000 2500]" {
		t.Errorf("progress %v", told)
	}
	got, err := st.SourceEntries(ctx, src)
	if err != nil || len(got) != 2500 || got[2499].Path != "Ä/2499.wash" || got[0].Size != 1<<40 {
		t.Fatalf("%d rows, %v", len(got), err)
	}
	// A place that stands twice breaks the second batch; the old rows stay.
	bad := append([]db.Entry{}, rows...)
	bad[1500].Idx = 3
	if err := st.ReplaceEntries(ctx, src, bad, nil); err == nil {
		t.Fatal("a place twice was accepted")
	}
	if got, _ = st.SourceEntries(ctx, src); len(got) != 2500 {
		t.Errorf("after a failure there are %d rows", len(got))
	}
	// Taking the source out takes its entries.
	if err := st.DeleteSource(ctx, src); err != nil {
		t.Fatal(err)
	}
	if got, _ = st.SourceEntries(ctx, src); len(got) != 0 {
		t.Errorf("%d rows of no source", len(got))
	}
}

func TestPositionsFollowEachOther(t *testing.T) {
	st, project := open(t)
	ctx := context.Background()
	for i := 1; i <= 3; i++ {
		id, err := st.CreateSource(ctx, db.CreateSourceParams{ProjectID: project, Path: fmt.Sprint(i), Label: "x"})
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
