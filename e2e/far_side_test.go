package e2e

import (
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/e2e/browser"
	"excavate/internal/demo"
	"excavate/standin/receiver"
	"excavate/targets"

	"github.com/chromedp/chromedp/kb"
)

// farSide starts the demo with an engine and a film tool on the far side.
func farSide(t *testing.T) *porter {
	t.Helper()
	p := start(t)
	engine, film := httptest.NewServer(receiver.NewEngine().Handler()), httptest.NewServer(receiver.NewFilm().Handler())
	t.Cleanup(engine.Close)
	t.Cleanup(film.Close)
	p.app.Service.Deliveries.SetReceivers([]string{engine.URL, film.URL})
	return p
}

// pick chooses an option of a field that drops down, by its label.
func (p *porter) pick(label, option string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`(() => {
		const by = [...document.querySelectorAll('[role="combobox"]')].find(e => e.getAttribute('aria-label') === %[1]q || (e.getAttribute('aria-labelledby') ?? '').split(' ').some(i => document.getElementById(i)?.innerText === %[1]q) || e.closest('.MuiInputBase-root')?.querySelector('input')?.getAttribute('aria-label') === %[1]q)
		if (!by || by.getAttribute('aria-disabled') === 'true') return false
		by.dispatchEvent(new MouseEvent('mousedown', { bubbles: true, button: 0 }))
		return true })()`, label))
	p.until(fmt.Sprintf(`(() => {
		const o = [...document.querySelectorAll('[role="option"]')].find(e => e.innerText.trim() === %q)
		o?.click()
		return !!o })()`,
		option))
	p.until(`!document.querySelector('[role="listbox"]')`)
}

// TestPrint does what docs/print.md says.
func TestPrint(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/rehearsal/1"))
	p.wait(`[data-tally]`)
	p.pick("Target sheet", "Printer, millimetres")
	p.says(`main`, "It is not closed")
	p.clickText("Mend all")
	p.until(`document.querySelector('main').innerText.includes('It is closed all round')`)
	p.says(`main`, "It fits the bed")
	p.says(`main`, " cm³ in ")
	p.says(`main`, "It stands in its pose")
}

// TestFarSide does what docs/far-side.md says: from the demo project to a walk
// in the receiver.
func TestFarSide(t *testing.T) {
	p := farSide(t)
	for _, a := range demo.Avatars {
		if a.ID == "corin" {
			if err := os.WriteFile(filepath.Join(p.demo, a.ID+".vrm"), a.VRM(), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	// A village, a chain, the engine's sheet.
	p.mountFile("village.zip")
	p.try(p.Go("/p/1/sources?q=stilt_village"))
	p.click(`[data-entry="stilt_village.glb"]`)
	p.clickText("Make it a find")
	p.until(`location.pathname.startsWith('/p/1/finds/') && !!document.querySelector('[data-view="drawn"]')`)
	p.clickText("Start a chain")
	p.until(`location.pathname.startsWith('/p/1/chain/') && document.querySelector('[data-band="0"]')?.dataset.state === 'ready'`)
	p.try(p.Key("4"))
	p.wait(`[data-rule="basis"]`)
	p.pick("Target sheet", "Reedlight engine")
	p.wait(`[data-rule="tool surfaces"][data-severity="stops"]`)
	p.says(`[data-rule="tool surfaces"]`, "since the asset as found")
	// What a finding is about is shown in the model.
	p.until(`!!document.querySelector('[data-view="drawn"]')`)
	p.changes("what the finding is about", func() {
		p.click(`[data-show="tool surfaces"]`)
		p.until(`document.querySelector('[data-show="tool surfaces"]').getAttribute('aria-pressed') === 'true'`)
	})
	// All at once, and one undo takes it back.
	p.click(`[data-mendable] button`)
	p.until(`Number(document.querySelector('[data-mended]')?.dataset.mended) >= 5`)
	p.until(`document.querySelector('[data-tally]').dataset.tally.startsWith('0 0 ')`)
	p.clickText("See the chain")
	p.until(`document.querySelectorAll('.band.ready').length >= 6 || document.querySelector('[data-group="mended for the target"]')`)
	p.clickText("Undo")
	p.until(`document.querySelectorAll('.band').length === 1`)
	p.clickText("Redo")
	p.try(p.Key("5"))

	// What is delivered, for what, and the files before they are made.
	p.until(`document.querySelector('[data-files="5"]')?.innerText.includes('stilt_village.glb')`)
	p.pick("Purpose", "to share it changed")
	p.wait(`[data-allowed]`)
	p.click(`[data-send]`)
	p.until(`document.querySelector('[data-sent="taken"]') && document.querySelector('[data-missed="0"]') && document.querySelector('[data-idle="0"]')`)
	walk, err := browser.Eval[string](p.Page, `document.querySelector('[data-stands]').innerText`)
	p.try(err)
	var stands, places int
	if n, _ := fmt.Sscanf(walk, "%d of %d", &stands, &places); n != 2 || stands != places || places < 20 {
		t.Errorf("the figure stands at %s places", walk)
	}
	p.until(`document.querySelector('img[data-seen]')?.naturalWidth === 720`)
	p.clickText("Verify")
	p.says(`[data-verified="same"]`, "every byte is the same")

	// The keeper merges with the engine's skeleton.
	p.mountFile("winter.tide")
	p.try(p.Go("/p/1/finds/1"))
	p.until(`document.querySelector('[data-find="ferry_keeper"][data-state="ready"]') && document.body.innerText.includes('all found')`)
	p.try(p.Go("/p/1/rehearsal/1"))
	p.wait(`[data-rule="root bone"]`)
	p.pick("Target sheet", "Tideworks engine")
	p.wait(`[data-rule="skeleton"][data-severity="stops"]`)
	p.until(`document.querySelector('[data-mendable] button') && !document.querySelector('[data-mendable] button').disabled`)
	p.click(`[data-mendable] button`)
	p.wait(`[data-rule="skeleton"][data-severity="holds"]`)
	p.until(`document.querySelector('[data-tally]').dataset.tally.startsWith('0 0 ')`)
	p.clickText("Go to the delivery")
	p.until(`document.querySelector('[data-files]')`)
	p.click(`[data-send]`)
	p.until(`document.querySelector('[data-delivery="2"]') && document.querySelector('[data-sent="taken"]')`)
	p.says(`[data-figure="Skeleton"]`, "merged")

	// The village and the keeper go to the film tool in one package, and lie there
	// after its update.
	for _, chain := range []int{2, 1} {
		p.try(p.Go(fmt.Sprintf("/p/1/rehearsal/%d", chain)))
		p.pick("Target sheet", "Millrace film")
		p.until(`document.body.innerText.includes('{asset}_custom')`)
	}
	p.try(p.Go("/p/1/delivery/1"))
	p.until(`document.querySelector('[data-files]')`)
	alone, err := browser.Eval[string](p.Page, `document.querySelector('[data-files]').dataset.files`)
	p.try(err)
	p.until(`(() => { const by = document.querySelector('[data-also] [role="combobox"]'); if (!by) return false
		by.dispatchEvent(new MouseEvent('mousedown', { bubbles: true, button: 0 })); return true })()`)
	p.until(`(() => {
		const o = document.querySelectorAll('[role="option"]')
		if (o.length !== 1) return false
		o[0].click()
		return true })()`)
	p.keys(kb.Escape)
	p.until(`!document.querySelector('[role="listbox"]')`)
	p.until(`document.querySelector('[data-files]')?.dataset.files > ` + alone)
	p.click(`[data-send]`)
	p.clickText("Make it all the same")
	p.until(`document.querySelector('[data-delivery="3"]') && document.querySelector('[data-sent="taken"]')`)
	p.until(`document.querySelectorAll('img[data-seen]').length === 2`)
	p.clickText("Update the receiver")
	p.says(`[data-gone="0"]`, "are still there")

	// An avatar is refused for sale, with the words that forbid it.
	p.mountFile("corin.vrm")
	p.try(p.Go("/p/1/sources?q=corin"))
	p.click(`[data-entry="corin.vrm"]`)
	p.clickText("Make it a find")
	p.until(`location.pathname === '/p/1/finds/3' && !!document.querySelector('[data-view="drawn"]')`)
	p.clickText("Start a chain")
	p.until(`location.pathname.startsWith('/p/1/chain/') && document.querySelector('[data-band="0"]')?.dataset.state === 'ready'`)
	p.try(p.Key("5"))
	p.wait(`[data-allowed]`)
	p.pick("Purpose", "to sell it")
	p.says(`[data-refused="corin.vrm"]`, "it may not be sold")
	p.until(`[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Make delivery')).disabled`)

	// All chains against three sheets, the worst first.
	p.try(p.Go("/p/1/rehearsals?sheets=reedlight,tideworks,stilttable"))
	p.until(`document.querySelector('[data-rehearsals="9"]') && document.querySelectorAll('[data-row]').length > 5`)
	first, err := browser.Eval[string](p.Page, `document.querySelector('[data-row]').innerText`)
	p.try(err)
	if !strings.HasPrefix(first, "stops") {
		t.Errorf("first comes %q", first)
	}
	if e := p.Complaints(); len(e) > 0 {
		t.Errorf("the console says:\n%s", strings.Join(e, "\n"))
	}
}

// Sheets are read, copied, written as text and as a form, proposed from an
// asset, taken out and put back.
func TestTargetSheetsOnScreen(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/targets"))
	sheets, err := targets.FS.ReadDir(".")
	p.try(err)
	listed := func(more int) string {
		return fmt.Sprintf(`document.querySelectorAll('[data-sheet]').length === %d`, len(sheets)+more)
	}
	p.until(listed(0))
	p.click(`[data-sheet="stilttable"]`)
	p.wait(`[data-check="works"]`)
	p.says(`.stripe`, "ships with Excavate")
	p.clickText("Copy to change it")
	p.until(`location.pathname.endsWith('/targets/stilt-table-of-mine')`)
	p.wait(`[data-check="works"]`)
	// A mistake is told with its place, and cannot be kept.
	p.click(`.cm-content`)
	p.try(p.KeyWith("a", browser.Ctrl))
	p.try(p.Paste(`.cm-content`, "target: Mine\nformat: glb\nlimits: {triangels: 5}\n"))
	p.says(`[data-problem]`, "Line 3, column 10")
	p.until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Keep this version').disabled`)
	p.try(p.KeyWith("a", browser.Ctrl))
	p.try(p.Paste(`.cm-content`, "target: Mine\nformat: glb\nlimits: {triangles: 500}\nground: true\n"))
	p.wait(`[data-check="works"]`)
	p.clickText("Keep this version")
	p.until(`document.querySelector('[data-sheet="stilt-table-of-mine"]').innerText.includes('Mine') && document.querySelector('.stripe').innerText.includes('version 2')`)
	// The same as a form.
	p.clickText("Form")
	p.try(p.setField("Triangles", "800"))
	p.try(p.Key("\r"))
	p.until(`document.body.innerText.includes('800 triangles')`)
	p.clickText("Keep this version")
	p.until(`document.querySelector('.stripe').innerText.includes('version 3')`)
	p.clickText("Take out")
	p.until(listed(0))
	p.clickText("Put it back")
	p.until(listed(1))
	// From an asset that the target takes.
	p.until(`(() => { const s = document.querySelector('select[aria-label="From an example"]'); const o = [...(s?.options ?? [])].find(o => o.text === 'ferry_keeper'); if (!o) return false; const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set; set.call(s, o.value); s.dispatchEvent(new Event('change', { bubbles: true })); return true })()`)
	p.until(`location.pathname.includes('/targets/target-of-ferry-keeper') && document.querySelector('[data-check="works"]')`)
	p.says(`.stripe`, "Target of ferry_keeper")
	p.until(`document.body.innerText.includes('27 bones by name')`)
	if e := p.Complaints(); len(e) > 0 {
		t.Errorf("the console says:\n%s", strings.Join(e, "\n"))
	}
}
