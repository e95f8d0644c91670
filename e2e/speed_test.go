package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/demo"
	"excavate/internal/shipped"
	"excavate/internal/testdb"
)

// BenchmarkFirstRows opens a project of 100,000 entries: the time from the
// page's load event to the first rows on screen, and from a key typed into
// the search to its answer on screen.
func BenchmarkFirstRows(b *testing.B) {
	library, err := shipped.Library(nil)
	if err != nil {
		b.Fatal(err)
	}
	lib := b.TempDir()
	list := make([]demo.PackEntry, 100_000)
	for i := range list {
		list[i] = demo.PackEntry{Name: fmt.Sprintf("wash/region_%02d/%06d_tile_c.wash", i%40, i), Data: []byte("0123456789abcdef")}
	}
	os.WriteFile(filepath.Join(lib, "big.tide"), demo.Pack(list), 0o644)
	ctx := context.Background()
	a, err := app.Start(ctx, app.Config{Workers: 2, Data: b.TempDir(), Database: testdb.DSN(b),
		Library: []string{lib}, Lib: library})
	if err != nil {
		b.Fatal(err)
	}
	defer a.Close()
	id, err := a.Service.Projects.Create(ctx, "big")
	if err != nil {
		b.Fatal(err)
	}
	src, err := a.Service.Sources.AddPath(ctx, id, filepath.Join(lib, "big.tide"))
	if err != nil {
		b.Fatal(err)
	}
	for state := ""; state != "ready"; time.Sleep(50 * time.Millisecond) {
		row, err := a.Store.GetSource(ctx, src)
		if err != nil || row.State == "failed" {
			b.Fatal(err, row.Error)
		}
		state = row.State
	}
	page, err := browser.Open(ctx, a.Address, 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer page.Close()
	rows, search, n := 0.0, 0.0, 0.0
	for b.Loop() {
		if err := page.Go("/p/1/sources"); err != nil {
			b.Fatal(err)
		}
		if err := page.Until(`document.querySelector('[data-entry]')`); err != nil {
			b.Fatal(err)
		}
		// The browser's own record of the answer that the rows were drawn from,
		// and a frame to draw them.
		ms, err := browser.Eval[float64](page, `(() => { const e = performance.getEntriesByType('resource').find(r => r.name.includes('/entries')); return Math.max(0, e.responseEnd + 17 - performance.timing.loadEventEnd + performance.timing.navigationStart) })()`)
		if err != nil {
			b.Fatal(err)
		}
		rows += ms
		begin := time.Now()
		if err := page.Type(`#search`, "0071"); err != nil {
			b.Fatal(err)
		}
		if err := page.Until(`document.querySelector('[data-total]').dataset.total === '120'`); err != nil {
			b.Fatal(err)
		}
		search += float64(time.Since(begin).Milliseconds())
		n++
	}
	b.ReportMetric(rows/n, "ms-to-first-rows")
	b.ReportMetric(search/n, "ms-four-keys-to-answer")
}
