package e2e

import (
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/demo"
	"excavate/internal/shipped"
	"excavate/internal/testdb"
	"excavate/standin/console"
	"excavate/standin/exchange"

	"github.com/chromedp/chromedp/kb"
)

func (p *porter) clickWith(sel string, held ...browser.Modifier) {
	p.t.Helper()
	p.try(p.ClickWith(sel, held...))
}

func (p *porter) keys(keys string, held ...browser.Modifier) {
	p.t.Helper()
	p.try(p.KeyWith(keys, held...))
}

// chosen waits until so many rows are marked.
func (p *porter) chosen(n int) {
	p.t.Helper()
	p.until(fmt.Sprintf(`document.querySelectorAll('[role="option"][aria-selected="true"]').length === %d`, n))
}

func TestChooseAndExtract(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.until(`document.querySelector('[data-total]').dataset.total === '14'`)
	// Mouse: one, a range, single ones more.
	p.click(`[data-entry="fauna/heron.hull"]`)
	p.chosen(1)
	p.clickWith(`[data-entry="houses/stilt_house.hull"]`, browser.Shift)
	p.chosen(3)
	p.clickWith(`[data-entry="wash/boats/punt_c.wash"]`, browser.Ctrl)
	p.chosen(4)
	p.clickWith(`[data-entry="boats/punt.hull"]`, browser.Ctrl)
	p.chosen(3)
	// The choice has an address, once the hand rests.
	p.until(`(() => { const s = new URLSearchParams(location.search).get('sel'); if (!s || window.lastSel !== s) { window.lastSel = s; window.lastAt = performance.now(); return false } return performance.now() - window.lastAt > 700 })()`)
	p.says(`.extract`, "3 entries")
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.chosen(3)
	// Keyboard: arrows, a range, all, none; the preview follows.
	p.click(`[data-entry="text/lines_01.txt"]`)
	p.until(`document.querySelector('[data-preview="text/lines_01.txt"]')?.innerText.includes('The tide mill')`)
	p.keys(kb.ArrowDown)
	p.until(`document.querySelector('[data-preview="text/lines_02.txt"]')?.innerText.includes('third plank')`)
	p.keys(kb.ArrowDown, browser.Shift)
	p.chosen(2)
	p.keys("a", browser.Ctrl)
	p.chosen(14)
	p.keys(kb.Escape)
	p.chosen(0)
	// A model with all that it needs, into a folder of its own.
	p.click(`[data-entry="figures/ferry_keeper.hull"]`)
	p.until(`document.querySelector('.extract').innerText.includes('1 name not found')`)
	p.until(`document.querySelector('.extract .MuiButton-contained').innerText.includes('(2)')`)
	p.click(`.extract .MuiButton-contained`)
	p.until(`document.querySelector('[data-extractions]')?.innerText === '2 entries extracted'`)
	for _, f := range []string{"figures/ferry_keeper.hull", "wash/keeper/keeper_cloth_c.wash"} {
		if _, err := os.Stat(filepath.Join(p.data, "extracted", "extracted", f)); err != nil {
			t.Error(err)
		}
	}
	// All that fits, to a ZIP that others read, under a target's folders.
	p.try(p.Type(`#search`, "*.wash"))
	p.until(`document.querySelector('[data-total]').dataset.total === '5'`)
	p.clickText("All 5")
	p.wait(`[role="dialog"]`)
	p.click(`button[value="zip"]`)
	p.try(p.setField("Name", "washes"))
	p.open(`[role="combobox"][aria-label="Paths"]`)
	p.click(`[role="option"][data-value="map"]`)
	p.try(p.Gone(`[role="option"][data-value="map"]`))
	p.try(p.setField("From", "wash/"))
	p.try(p.setField("To", "materials"))
	p.try(p.Settled())
	p.click(`[role="dialog"] .MuiButton-contained`)
	p.try(p.Gone(`[role="dialog"]`))
	p.until(`document.querySelector('[data-extractions="2"]')?.innerText === '5 entries extracted'`)
	out, err := exec.Command("unzip", "-Z1", filepath.Join(p.data, "extracted", "washes.zip")).CombinedOutput()
	if err != nil || strings.Count(string(out), "materials/") != 5 {
		t.Errorf("%v %s", err, out)
	}
	p.click(`[data-extractions]`)
	p.until(`document.querySelectorAll('[data-extraction][data-state="done"]').length === 2`)
}

func mustEval(p *porter, js string) string {
	p.t.Helper()
	s, err := browser.Eval[string](p.Page, js)
	p.try(err)
	return s
}

func TestTreeSetsRulesAndPins(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.clickText("Tree")
	p.click(`[data-folder="wash"]`)
	p.wait(`[data-folder="wash/keeper"]`)
	p.keys(kb.ArrowLeft)
	p.try(p.Gone(`[data-folder="wash/keeper"]`))
	p.keys(kb.ArrowRight)
	p.click(`[data-folder="wash/keeper"]`)
	p.wait(`[data-entry="wash/keeper/keeper_cloth_c.wash"]`)
	p.until(`location.search.includes('view=tree') && location.search.includes('open=wash')`)
	// A rule that the names suggest makes sets.
	p.click(`[aria-label="Keep _c"]`)
	p.says(`[data-rule="_c"]`, "colour")
	p.clickText("Sets")
	p.click(`[data-set="heron"]`)
	p.drew(200)
	p.says(`.extract`, "2 entries")
	p.says(`[data-preview="fauna/heron.hull"]`, "heron, 2 entries")
	// What is missing is listed with the nearest name; pinned, the find is whole.
	p.clickText("Show")
	p.says(`[data-missing="wash/keeper/keeper_gear_c.tga"]`, "looked for")
	p.clickText("Use it")
	p.wait(`[data-pin="wash/keeper/keeper_gear_c.tga"]`)
	p.until(`!document.querySelector('[data-stage="finds"]').innerText.includes('incomplete')`)
	p.clickText("Let it be looked for again")
	p.until(`document.querySelector('[data-stage="finds"]').innerText.includes('incomplete')`)
}

func TestPicturesToTheTexel(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources?q=heron_c"))
	p.click(`[data-entry="wash/fauna/heron_c.wash"]`)
	p.until(`document.querySelector('.picture img')?.naturalWidth > 0`)
	for range 14 {
		p.try(p.Wheel(`.picture`, 1))
	}
	p.until(`parseFloat(document.querySelector('[data-texel]').previousSibling.innerText) >= 5`)
	p.until(`/^\d+,\d+$/.test(document.querySelector('[data-texel]').dataset.texel)`)
	for _, c := range []string{"r", "a"} {
		p.click(`[aria-label="Channels"] button[value="` + c + `"]`)
		p.until(`document.querySelector('.picture img').src.endsWith('show=` + c + `') && document.querySelector('.picture img').naturalWidth > 0`)
	}
}

func TestDropMountAndTerms(t *testing.T) {
	p := start(t)
	box := filepath.Join(t.TempDir(), "box.dat")
	if out, err := exec.Command("zip", "-qj", box, filepath.Join(p.demo, "winter.tide")).CombinedOutput(); err != nil {
		t.Fatalf("%s", out)
	}
	p.try(p.Go("/p/1/sources"))
	p.clickText("Add by path")
	p.try(p.Files(`input[aria-label="Files"]`, box))
	p.try(p.Gone(`[role="dialog"]`))
	p.try(p.Key("3")) // leaving the screen does not stop it
	p.wait(`.band`)
	p.try(p.Key("1"))
	p.wait(`[data-source="box.dat"][data-known="true"]`)
	p.click(`[data-entry="winter.tide"]`)
	p.clickText("Mount it here")
	p.wait(`[data-source="winter.tide"][data-known="true"]`)
	p.until(`!document.querySelector('[data-stage="finds"]').innerText.includes('incomplete')`)
	// Whose it is, stated by hand.
	p.click(`[data-source="box.dat"] small button`)
	p.try(p.setField("Owner", "Reed Press"))
	p.click(`[aria-label="Share changed"] button[value="yes"]`)
	p.click(`[aria-label="Share unchanged"] button[value="yes"]`)
	p.click(`[role="dialog"] .MuiButton-contained`)
	p.until(`document.querySelector('[data-source="box.dat"] small button').innerText === 'may be shared'`)
	// A source that changes on disk says so, and is indexed again.
	hulls := filepath.Join(p.demo, "hulls.tide")
	b, err := os.ReadFile(filepath.Join(p.demo, "washes.tide"))
	p.try(err)
	p.try(os.WriteFile(hulls, b, 0o644))
	p.try(p.Go("/p/1/sources"))
	p.until(`document.querySelector('[data-source="hulls.tide"]').innerText.includes('has changed on disk')`)
	p.clickText("Index again")
	p.until(`document.querySelector('[data-source="hulls.tide"]').innerText.includes('6 entries') && !document.querySelector('[data-source="hulls.tide"]').innerText.includes('changed')`)
}

func TestDropAnywhere(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds"))
	p.wait(`[data-find="ferry_keeper"]`)
	p.until(`(() => { const d = new DataTransfer(); d.items.add(new File(['The tide waits for nobody.\n'.repeat(9)], 'saying.txt')); window.dispatchEvent(new DragEvent('drop', { dataTransfer: d, bubbles: true, cancelable: true })); return true })()`)
	p.until(`document.querySelector('[data-stage="sources"]').innerText.includes('3 mounted')`)
	p.try(p.Key("1"))
	p.wait(`[data-source="saying.txt"][data-known="true"]`)
	p.click(`[data-entry="saying.txt"]`)
	p.until(`document.querySelector('[data-preview="saying.txt"]')?.innerText.includes('waits for nobody')`)
	p.says(`[data-source="saying.txt"]`, "terms not stated")
	p.until(`(document.querySelector('[data-source="saying.txt"] .choose').focus(), true)`)
	p.click(`[aria-label="Take out saying.txt"]`)
	p.try(p.Gone(`[data-source="saying.txt"]`))
}

func TestConnectADevice(t *testing.T) {
	p := start(t)
	con := httptest.NewServer(console.New().Handler())
	defer con.Close()
	ex := httptest.NewServer(exchange.New().Handler())
	p.try(p.Go("/p/1/sources"))
	p.clickText("Connect a device")
	p.try(p.Type(`input[aria-label="Address of the device"]`, con.URL))
	p.clickText("Connect")
	p.wait(`[data-device="Lantern console"]`)
	p.clickText("Pause")
	p.until(`document.querySelector('[data-device="Lantern console"]').innerText.includes('paused')`)
	p.clickText("30 frames on")
	p.click(`[data-offer="segments/lists.bin"] input`)
	p.until(`[...document.querySelectorAll('[role="dialog"] .MuiButton-contained')].some(b => b.innerText.startsWith('Pull in 12 files'))`)
	p.click(`[role="dialog"] [data-pull]`)
	p.wait(`[data-source^="Lantern console"][data-known="true"]`)
	p.says(`[data-source^="Lantern console"]`, "private use only")
	p.try(p.Go("/p/1/sources?q=05.bmp"))
	p.click(`[data-entry="pictures/05.bmp"]`)
	p.until(`document.querySelector('.picture img')?.naturalWidth === 32`)
	// An exchange wants a token; it vanishes without harm.
	p.clickText("Connect a device")
	p.try(p.Type(`input[aria-label="Address of the device"]`, ex.URL))
	p.clickText("Connect")
	p.says(`[role="dialog"] [role="alert"]`, "token")
	p.try(p.Type(`input[aria-label="Token"]`, exchange.Token))
	p.clickText("Connect")
	p.wait(`[data-offer="corin.vrm"]`)
	p.click(`[data-offer="corin.vrm"] input`)
	p.click(`[role="dialog"] [data-pull]`)
	p.wait(`[data-source^="Sedgewater avatar exchange"][data-known="true"]`)
	ex.CloseClientConnections()
	ex.Close()
	p.clickText("Connect a device")
	p.until(`document.querySelector('[data-device^="Sedgewater"]').innerText.includes('gone')`)
	p.try(p.Go("/p/1/sources?q=corin"))
	p.click(`[data-entry="corin.vrm"]`)
	p.drew(300)
	p.says(`[data-preview="corin.vrm"]`, "Millrace Workshop")
}

// BenchmarkArrow walks the entries with the arrow key and reports how long
// the preview takes to follow.
func BenchmarkArrow(b *testing.B) {
	lib := b.TempDir()
	if err := demo.Write(lib, nil); err != nil {
		b.Fatal(err)
	}
	library, err := shipped.Library(nil)
	if err != nil {
		b.Fatal(err)
	}
	ctx := b.Context()
	a, err := app.Start(ctx, app.Config{Workers: 2, Data: b.TempDir(), Database: testdb.DSN(b),
		Library: []string{lib}, Lib: library})
	if err != nil {
		b.Fatal(err)
	}
	defer a.Close()
	if err := a.Demo(ctx, lib); err != nil {
		b.Fatal(err)
	}
	page, err := browser.Open(ctx, a.Address, 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer page.Close()
	if err := page.Go("/p/1/sources"); err != nil {
		b.Fatal(err)
	}
	if err := page.Click(`[data-entry="licence.txt"]`); err != nil {
		b.Fatal(err)
	}
	worst, total, n := 0.0, 0.0, 0
	for b.Loop() {
		for range 12 {
			time.Sleep(250 * time.Millisecond) // a person looks; the neighbours are fetched meanwhile
			// Timed in the page: from the key to a preview of the chosen row.
			ms, err := browser.Eval[float64](page, `new Promise((done, fail) => {
				const was = document.querySelector('[data-preview]')?.dataset.preview, start = performance.now()
				document.querySelector('[role="listbox"]').dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowDown', bubbles: true }))
				const look = () => {
					const e = document.querySelector('[data-preview]'), now = e?.dataset.preview
					const drawn = !e?.querySelector('.picture img') || e.querySelector('.picture img').complete
					if (now && now !== was && drawn) done(performance.now() - start)
					else if (performance.now() - start > 5000) fail(new Error('no preview of ' + was))
					else requestAnimationFrame(look)
				}
				requestAnimationFrame(look)
			})`)
			if err != nil {
				b.Fatal(err)
			}
			worst, total, n = max(worst, ms), total+ms, n+1
		}
		if err := page.Click(`[data-entry="licence.txt"]`); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(total/float64(n), "ms-to-preview")
	b.ReportMetric(worst, "ms-worst")
}

func TestLookAtUnknownBytes(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources?q=punt_c"))
	p.click(`[data-entry="wash/boats/punt_c.wash"]`)
	p.clickText("Look at its bytes")
	p.wait(`[data-byte="0"]`)
	p.says(`.hexrow`, "57\n41")
	p.until(`document.querySelectorAll('.stripband [data-class]').length > 3`)
	// The header says where the texels are: follow the pointer, as the porter would.
	p.click(`[data-byte="12"]`)
	p.until(`document.querySelector('[data-value="u32"]').innerText === '24'`)
	p.clickText("Follow u32")
	p.until(`new URLSearchParams(location.search).get('at') === '24'`)
	// As a picture: the right format, the width that is proposed.
	p.open(`[role="combobox"][aria-label="Texel format"]`)
	p.click(`[role="option"][data-value="a1b5g5r5_pack16"]`)
	p.try(p.Gone(`[role="option"][data-value="bc1"]`))
	p.click(`[data-guess="256"]`)
	p.try(p.setField("Height", "256"))
	p.until(`document.querySelector('[data-trial="256x256"]')?.naturalWidth === 256`)
	p.clickText("Keep in a layout")
	p.wait(`[data-kept]`)
	p.says(`[data-kept]`, "format: a1b5g5r5_pack16")
	// Back where one was; search with a gap; a wrong place is said.
	p.click(`[aria-label="Back"]`)
	p.until(`new URLSearchParams(location.search).get('at') === '12'`)
	p.try(p.Type(`input[aria-label="Find bytes"]`, "85 ?? 85"))
	p.try(p.Key("\r"))
	p.until(`new URLSearchParams(location.search).get('n') === '3'`)
	p.try(p.Type(`input[aria-label="Go to"]`, "0xffffff"))
	p.try(p.Key("\r"))
	p.says(`[role="alert"]`, "131,096 bytes")
	// The keyboard walks and chooses.
	p.click(`[data-byte="0"]`)
	p.keys(kb.ArrowDown)
	p.keys(kb.ArrowRight, browser.Shift)
	p.until(`location.search.includes('at=16') && location.search.includes('n=2')`)
	p.click(`button[value="text"]`)
	p.until(`document.body.innerText.includes('Shift-JIS')`)
}

func TestFiltersAndOrderHaveAnAddress(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.until(`document.querySelector('[data-total]').dataset.total === '14'`)
	// Kind, source and size narrow the table; the address keeps them.
	p.clickText("pictures 5")
	p.until(`document.querySelector('[data-total]').dataset.total === '5'`)
	p.open(`[role="combobox"][aria-label="Size"]`)
	p.click(`[role="option"][data-value="m"]`)
	p.try(p.Gone(`[role="option"][data-value="m"]`))
	p.until(`location.search.includes('min=10000') && document.querySelector('[data-total]').dataset.total === '5'`)
	p.click(`[aria-label="Sort by Size"]`)
	p.until(`location.search.includes('sort=size')`)
	p.until(`[...document.querySelectorAll('[data-entry]')].map(e => e.dataset.entry)[0] === 'wash/fauna/heron_c.wash'`)
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.until(`document.querySelector('[data-total]').dataset.total === '5' && [...document.querySelectorAll('[data-entry]')][0].dataset.entry === 'wash/fauna/heron_c.wash'`)
	p.click(`[data-source="hulls.tide"]`)
	p.until(`document.body.innerText.includes('Nothing fits')`)
	p.click(`[data-source="hulls.tide"]`)
	// Another order of the sources lets another one win.
	p.try(p.Go("/p/1/sources?q=licence"))
	p.until(`[...document.querySelectorAll('.line')].some((e) => e.innerText.includes('wins'))`)
	p.says(`[role="listbox"]`, "overridden by hulls.tide")
	p.until(`(document.querySelector('[data-source="washes.tide"] .choose').focus(), true)`) // its buttons show
	p.click(`[aria-label="Move washes.tide up"]`)
	p.until(`document.querySelector('[role="listbox"]').innerText.includes('overridden by washes.tide')`)
	// A pattern that is not sound is said where it is written.
	p.try(p.Go("/p/1/sources?q=%5Ba"))
	p.until(`document.querySelector('main [role="alert"]')?.innerText.includes('close its brackets')`)
}

// A page that has much to draw learns late of its new address; what was chosen
// meanwhile stays chosen. The list keeps the keyboard when the row that was
// clicked has left the page.
func TestWalkingFastOnABusyPage(t *testing.T) {
	p := start(t)
	many := filepath.Join(p.demo, "many")
	p.try(os.Mkdir(many, 0o755))
	for i := range 1500 {
		p.try(os.WriteFile(filepath.Join(many, fmt.Sprintf("%04d.txt", i)), fmt.Appendf(nil, "line %d", i), 0o644))
	}
	p.mountFile("many")
	p.try(p.Go("/p/1/sources?q=0"))
	p.until(`document.querySelector('[data-entry="0000.txt"]')`)
	p.click(`[data-entry="0000.txt"]`)
	p.until(`document.querySelector('[data-preview="0000.txt"]')?.innerText.includes('line 0')`)
	p.until(`location.search.includes('entry=')`)
	// Busy: three quarters of the time, by 180 ms.
	p.until(`(window.busy = setInterval(() => { for (const end = performance.now() + 180; performance.now() < end; );}, 240), true)`)
	for range 8 {
		p.keys(kb.ArrowDown)
		time.Sleep(170 * time.Millisecond)
	}
	p.until(`document.querySelector('[data-preview="0008.txt"]')?.innerText.includes('line 8')`)
	p.until(`(clearInterval(window.busy), true)`)
	time.Sleep(time.Second) // for what comes late
	if at := mustEval(p, `document.querySelector('[data-preview]').dataset.preview`); at != "0008.txt" {
		t.Errorf("after the walk %s is shown", at)
	}
	for range 12 {
		p.keys(kb.PageDown)
	}
	p.until(`document.querySelector('[data-preview="0188.txt"]')`)
}

func TestPackedBytesAndWrongTrials(t *testing.T) {
	p := start(t)
	// The demo's own archive, as if nothing were known of it.
	p.try(p.Go("/p/1/sources"))
	b, err := os.ReadFile(filepath.Join(p.demo, "hulls.tide"))
	p.try(err)
	unknown := filepath.Join(p.demo, "unknown")
	p.try(os.MkdirAll(unknown, 0o755))
	p.try(os.WriteFile(filepath.Join(unknown, "what.bin"), append([]byte{9, 9, 9, 9}, b...), 0o644))
	p.clickText("Add by path")
	p.try(p.Type(`[role="dialog"] input[aria-label="Path"]`, unknown))
	p.try(p.Key("\r"))
	p.wait(`[data-source="unknown"][data-known="true"]`)
	p.click(`[data-entry="what.bin"]`)
	p.until(`document.querySelector('[data-hex]')?.innerText.includes('TIDE')`)
	p.clickText("Look at its bytes")
	p.try(p.Type(`input[aria-label="Find bytes"]`, "78 9c"))
	p.try(p.Key("\r"))
	p.until(`new URLSearchParams(location.search).get('n') === '2'`)
	p.click(`[data-value="u8"]`)
	p.click(`[aria-label="Read as"] button[value="packed"]`)
	p.until(`document.querySelector('.hexrow .b.on')`)
	at := mustEval(p, `new URLSearchParams(location.search).get('at')`)
	p.try(p.Go(strings.Split(mustEval(p, `location.pathname`), "?")[0] + "?at=" + at))
	p.click(`[aria-label="Read as"] button[value="packed"]`)
	p.until(`document.querySelector('[data-codec="zlib"]')?.innerText.includes('that look like')`)
	// A trial that cannot be says why.
	p.click(`[aria-label="Read as"] button[value="picture"]`)
	p.open(`[role="combobox"][aria-label="Texel format"]`)
	p.click(`[role="option"][data-value="indexed4"]`)
	p.try(p.Gone(`[role="option"][data-value="bc1"]`))
	p.open(`[role="combobox"][aria-label="Tiling"]`)
	p.click(`[role="option"][data-value="morton"]`)
	p.until(`document.querySelector('.trial [role="alert"]')?.innerText.includes('are not tiled')`)
}
