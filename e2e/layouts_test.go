package e2e

import (
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/e2e/browser"
	"excavate/standin/console"

	"github.com/chromedp/chromedp/kb"
)

// tutorial is the layouts of docs/first-layout.md, in their order.
func tutorial(t *testing.T) []string {
	t.Helper()
	b, err := os.ReadFile("../docs/first-layout.md")
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, part := range strings.Split(string(b), "```yaml\n")[1:] {
		doc, _, _ := strings.Cut(part, "```")
		out = append(out, doc)
	}
	return out
}

// write replaces what the editor holds, as one pastes.
func (p *porter) write(doc string) {
	p.t.Helper()
	p.click(`.cm-content`)
	p.keys("a", browser.Ctrl)
	p.try(p.Paste(`.cm-content`, doc))
}

// keep keeps the version that the editor holds.
func (p *porter) keep(kind string) {
	p.t.Helper()
	p.until(`document.querySelector('[data-check="works"]') && document.querySelector('.stripe').innerText.includes('` + kind + ` layout')`)
	p.clickText("Keep this version")
	p.until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Keep this version').disabled`)
}

func (p *porter) mountFile(name string) {
	p.t.Helper()
	p.try(p.Go("/p/1/sources"))
	p.clickText("Add by path")
	p.wait(`[role="dialog"]`)
	p.try(p.setField("Path", filepath.Join(p.demo, name)))
	p.try(p.Key("\r"))
	p.wait(fmt.Sprintf(`[data-source=%q][data-known="true"]`, name))
}

// TestFirstLayout does what docs/first-layout.md says, with its own documents.
func TestFirstLayout(t *testing.T) {
	docs := tutorial(t)
	if len(docs) != 3 {
		t.Fatalf("the tutorial has %d layouts", len(docs))
	}
	p := start(t)
	// 1. The bytes.
	p.mountFile("sluice.bin")
	p.try(p.Go("/p/1/sources?q=sluice"))
	p.click(`[data-entry="sluice.bin"]`)
	p.clickText("Look at its bytes")
	p.click(`[data-byte="4"]`)
	p.until(`document.querySelector('[data-value="u32"]').innerText === '126,184'`)
	p.clickText("Follow u32")
	p.until(`new URLSearchParams(location.search).get('at') === '126184'`)
	p.click(`button[value="records"]`)
	p.wait(`[data-sheet="ascii24 u32 u32 u32 u32"]`)
	p.says(`[data-evidence]`, "40 bytes a record")
	p.until(`[...document.querySelectorAll('.sheet tbody tr')].map(r => r.innerText.split('\t')[1]).join() === 'mill.shp,mill.tex,gauge.shp,gauge.tex'`)
	// 2. The archive.
	p.clickText("Keep in a layout")
	p.clickText("Make it")
	p.wait(`[data-made-entry="mill.shp"]`)
	p.until(`document.querySelector('.stripband.thin .gap') !== null`)
	p.write(docs[0])
	p.until(`document.querySelector('[data-covered]')?.innerText === 'All 126,344 bytes are explained'`)
	// A field shows its bytes, a byte its field.
	p.click(`[data-piece="count"]`)
	p.until(`document.querySelector('[data-byte="8"]').classList.contains('on') && document.querySelector('[data-byte="11"]').classList.contains('on')`)
	p.click(`[data-byte="5"]`)
	p.until(`document.querySelector('.leaf.on')?.dataset.piece === 'directory_at'`)
	p.keep("container")
	p.try(p.Go("/p/1/sources?q=sluice"))
	p.until(`document.querySelector('[data-entry="sluice.bin"]').innerText.includes('archive')`)
	p.click(`[data-entry="sluice.bin"]`)
	p.clickText("Mount it here")
	p.try(p.Go("/p/1/sources?q=mill."))
	p.wait(`[data-entry="mill.tex"]`)
	// 3. The picture.
	p.click(`[data-entry="mill.tex"]`)
	p.clickText("Look at its bytes")
	p.click(`[data-byte="8"]`)
	p.until(`new URLSearchParams(location.search).get('at') === '8'`)
	p.click(`[data-guess="128"]`)
	p.try(p.setField("Height", "128"))
	p.until(`document.querySelector('[data-trial="128x128"]')?.naturalWidth === 128`)
	p.clickText("Keep in a layout")
	p.clickText("Make it")
	p.wait(`[data-made-picture="128x128"]`)
	p.write(docs[1])
	p.until(`document.querySelector('[data-covered]')?.innerText === 'All 32,776 bytes are explained'`)
	p.keep("picture")
	p.click(`button[value="coverage"]`)
	p.clickText("Run over all it recognises")
	p.wait(`[data-coverage="2"]`)
	p.says(`[data-coverage]`, "100 %")
	// 4. The model.
	p.try(p.Go("/p/1/sources?q=mill.shp"))
	p.click(`[data-entry="mill.shp"]`)
	p.clickText("Look at its bytes")
	p.click(`[data-byte="24"]`)
	p.until(`new URLSearchParams(location.search).get('at') === '24'`)
	p.click(`button[value="mesh"]`)
	p.wait(`[data-guess="20 f32x3"]`)
	p.wait(`[data-mesh="points"][data-shown="yes"]`)
	p.click(`[data-indices="26824"]`)
	p.wait(`[data-mesh="mesh"][data-shown="yes"]`)
	p.drew(20)
	p.clickText("Keep in a layout")
	p.clickText("Make it")
	p.wait(`[data-result="model"]`)
	p.write(docs[2])
	p.until(`document.querySelector('[data-made]')?.innerText.includes('1,176 triangles') || document.querySelector('[data-made]')?.innerText.includes('1176 triangles')`)
	p.until(`document.querySelector('[data-covered]')?.innerText === 'All 33,880 bytes are explained'`)
	p.keep("model")
	// 5. The find.
	p.try(p.Go("/p/1/sources?q=mill.shp"))
	p.until(`document.querySelector('[data-entry="mill.shp"]').innerText.includes('model')`)
	p.click(`[data-entry="mill.shp"]`)
	p.until(`document.querySelector('[data-need="mill.tex"]')?.innerText.includes('same path')`)
	p.clickText("Make it a find")
	p.wait(`[data-find="mill"][data-state="ready"]`)
	p.says(`[data-find="mill"]`, "complete")
	p.drew(300)
	p.says(`[data-figure="Height"]`, "6.48 m")
	// Saved as another format, which says what it does not carry.
	p.clickText("Save as…")
	p.wait(`[data-format="obj"]`)
	p.says(`[data-format="obj"]`, "declares no axes and no unit")
	p.says(`[data-format="stl"]`, "1 UV set not written")
}

// TestAScreenThatIsLeftStaysLeft goes on before the address of the screen
// before has followed what was chosen there.
func TestAScreenThatIsLeftStaysLeft(t *testing.T) {
	p := start(t)
	for range 4 {
		p.try(p.Go("/p/1/sources?view=tree&open=figures"))
		p.wait(`[data-entry="figures/ferry_keeper.hull"]`)
		stays, err := browser.Eval[bool](p.Page, `(async () => {
			document.querySelector('[data-entry="figures/ferry_keeper.hull"]').click()
			for (let i = 0; i < 500 && !document.querySelector('[data-bytes]'); i++) await new Promise((r) => setTimeout(r, 5))
			document.querySelector('[data-bytes]').click()
			await new Promise((r) => setTimeout(r, 700))
			return location.pathname.includes('/sources/bytes/') && !location.search.includes('entry=')
		})()`)
		p.try(err)
		if !stays {
			t.Error("the address of the screen before came back")
		}
		p.wait(`[data-byte="0"]`)
	}
}

// TestTheLayoutEditor types wrong things, takes them back, and looks at old
// versions.
func TestTheLayoutEditor(t *testing.T) {
	docs := tutorial(t)
	p := start(t)
	p.mountFile("sluice.bin")
	p.try(p.Go("/p/1/sources?q=sluice"))
	p.click(`[data-entry="sluice.bin"]`)
	p.clickText("Look at its bytes")
	p.clickText("Describe it with a layout")
	p.until(`[...document.querySelectorAll('button')].filter(b => b.innerText === 'Describe it with a layout').length === 2`)
	p.until(`([...document.querySelectorAll('button')].filter(b => b.innerText === 'Describe it with a layout')[1].click(), true)`)
	p.wait(`input[aria-label="Name of the layout"]`)
	p.clickText("Make it")
	p.wait(`[data-piece="magic"]`)
	p.until(`document.querySelector('[data-result="container"]')?.innerText.includes('No entries yet')`)
	p.write(docs[0])
	p.wait(`[data-piece="items"]`)
	p.keep("container")
	// An error has its line and column, is marked, and can be gone to.
	p.write(strings.Replace(docs[0], "at: i.offset", "at: i.offsets", 1))
	p.wait(`[data-problem]`)
	p.says(`[data-problem]`, "record item has no field offsets")
	p.write(strings.Replace(docs[0], "kind: container", "kind: drawer", 1))
	p.until(`document.querySelector('[data-problem]')?.innerText.includes('Line 3, column 7')`)
	p.wait(`.cm-lintRange-error`)
	p.says(`[data-check]`, "does not compile")
	// A version that does not compile can be kept; files are read by the last that does.
	p.clickText("Keep this version")
	p.until(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Keep this version').disabled`)
	p.clickText("Undo")
	p.until(`document.querySelector('[data-check="error"]') || document.querySelector('[data-check="works"]')`)
	p.write(docs[0])
	p.wait(`[data-check="works"]`)
	// Completion offers what can stand there.
	p.write(strings.Replace(docs[0], "kind: container", "kind: ", 1))
	p.click(`.cm-line:nth-child(3)`)
	p.keys(kb.End)
	p.try(p.Key("c"))
	p.wait(`.cm-tooltip-autocomplete`)
	p.says(`.cm-tooltip-autocomplete`, "container")
	p.try(p.Key("\r"))
	p.wait(`[data-check="works"]`)
	// An old version can be had again.
	p.open(`[role="combobox"][aria-label="Version"]`)
	p.click(`[role="option"][data-value="1"]`)
	p.try(p.Gone(`[role="option"][data-value="1"]`))
	p.until(`document.querySelector('.cm-content').innerText.includes('each: "[]"')`)
	// The list of all layouts: one of ours, those that ship, which can be copied.
	p.try(p.Go("/p/1/sources/layouts"))
	p.wait(`[data-layout="slce container"]`)
	p.says(`[data-layout="slce container"]`, "3 versions")
	p.until(`([...document.querySelector('[data-layout="wash picture 2"]').querySelectorAll('button')][0].click(), true)`)
	p.until(`document.querySelector('.cm-content')?.innerText.includes('WASH')`)
}

// TestBookmarksRepeatsAndComparison notes places and holds one entry against
// another.
func TestBookmarksRepeatsAndComparison(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources?q=punt.hull"))
	p.click(`[data-entry="boats/punt.hull"]`)
	p.clickText("Look at its bytes")
	p.click(`button[value="notes"]`)
	p.click(`[data-byte="4"]`)
	p.keys(kb.ArrowRight, browser.Shift)
	p.until(`new URLSearchParams(location.search).get('n') === '2'`)
	p.try(p.setField("Note", "the version"))
	p.wait(`[data-bookmark="4"]`)
	p.says(`[data-bookmark="4"]`, "the version")
	p.clickText("Where else do the 2 chosen bytes stand?")
	p.wait(`[data-repeats]`)
	p.open(`[role="combobox"][aria-label="Compare with"]`)
	p.until(`([...document.querySelectorAll('[role="option"]')].find(o => o.innerText.includes('heron.hull')).setAttribute('data-heron', ''), true)`)
	p.click(`[data-heron]`)
	p.wait(`[data-differing]`)
	p.until(`[...document.querySelectorAll('b')].some(b => b.innerText.startsWith('part_list.count') || b.innerText.startsWith('material_list') || b.innerText.startsWith('bone_list'))`)
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.wait(`[data-bookmark="4"]`)
	p.clickText("Remove")
	p.try(p.Gone(`[data-bookmark="4"]`))
}

// TestTheConsolesModel opens a model whose pictures lie in a console's memory:
// both are missing by segment, the bank is bound, then the dump of the face.
func TestTheConsolesModel(t *testing.T) {
	p := start(t)
	con := httptest.NewServer(console.New().Handler())
	defer con.Close()
	p.mountFile("lantern.cart")
	p.try(p.Go("/p/1/sources?q=walker"))
	p.click(`[data-entry="models/walker.lmd"]`)
	p.until(`document.querySelector('[data-need="segments/bank.bin"]')?.innerText.includes('not found')`)
	p.clickText("Make it a find")
	p.wait(`[data-find="walker"][data-state="ready"]`)
	p.says(`[data-find="walker"]`, "2 pictures missing")
	p.says(`[data-picture="coat"]`, "the space bank")
	p.says(`[data-picture="face"]`, "the space faces")
	// The console is paused, and its bank is taken.
	p.try(p.Go("/p/1/sources"))
	p.clickText("Connect a device")
	p.try(p.Type(`input[aria-label="Address of the device"]`, con.URL))
	p.clickText("Connect")
	p.wait(`[data-device="Lantern console"]`)
	p.clickText("Pause")
	p.until(`document.querySelector('[data-device="Lantern console"]').innerText.includes('paused')`)
	// All is chosen at first; only the bank and the dump of the face are taken.
	p.wait(`[data-offer="segments/bank.bin"]`)
	p.until(`[...document.querySelectorAll('[data-offer]')].filter(r => r.querySelector('input').checked !== ['segments/bank.bin', 'pictures/05.bmp'].includes(r.dataset.offer)).map(r => r.querySelector('input').click()).length === 0`)
	p.until(`[...document.querySelectorAll('[role="dialog"] .MuiButton-contained')].some(b => b.innerText.startsWith('Pull in 2 files'))`)
	p.click(`[role="dialog"] [data-pull]`)
	p.wait(`[data-source^="Lantern console"][data-known="true"]`)
	// The bank is found by its name; the face is bound to the picture by hand.
	p.try(p.Go("/p/1/finds"))
	p.click(`[data-find="walker"]`)
	p.until(`document.querySelector('[data-find="walker"]').innerText.includes('1 picture missing')`)
	p.click(`[data-bind="segments/faces.bin"]`)
	p.try(p.setField("Entry for segments/faces.bin", "05.bmp"))
	p.click(`[data-use$="pictures/05.bmp"]`)
	p.until(`document.querySelector('[data-find="walker"]').innerText.includes('complete')`)
	p.drew(300)
	p.says(`[data-figure="Bones"]`, "7")
	// The last bytes of a vertex, read the other way.
	p.click(`[aria-label="last_bytes"] [value="colour"]`)
	p.until(`document.querySelector('[aria-label="last_bytes"] [value="colour"]')?.getAttribute('aria-pressed') === 'true'`)
}

// TestTheGallery finds every model at once, and filters and sorts what was
// found.
func TestTheGallery(t *testing.T) {
	p := start(t)
	p.mountFile("lantern.cart")
	p.try(p.Go("/p/1/finds"))
	p.wait(`[data-find="ferry_keeper"]`)
	p.clickText("Decode every model")
	p.until(`document.querySelector('[data-finds]').dataset.finds === '6' && document.querySelectorAll('[data-state="ready"]').length === 6`)
	names := `[...document.querySelectorAll('[data-card]')].sort((a, b) => a.dataset.card - b.dataset.card).map(e => e.dataset.find).join()`
	p.open(`[role="combobox"][aria-label="Sort finds"]`)
	p.click(`[role="option"][data-value="name"]`)
	p.try(p.Gone(`[role="option"][data-value="name"]`))
	p.until(names + ` === 'ferry_keeper,heron,lamp post,punt,stilt_house,walker'`)
	p.open(`[role="combobox"][aria-label="Show"]`)
	p.click(`[role="option"][data-value="incomplete"]`)
	p.try(p.Gone(`[role="option"][data-value="incomplete"]`))
	p.until(names + ` === 'ferry_keeper,lamp post,walker'`)
	p.says(`[data-finds]`, "3 of 6")
	p.try(p.Type(`input[aria-label="Filter finds"]`, "walk"))
	p.until(names + ` === 'walker' && location.search.includes('only=incomplete')`)
	p.click(`[data-find="walker"] a`)
	p.until(`document.querySelector('[data-rail] h2')?.innerText === 'walker'`)
	p.drew(100)
	// The list beside it has the same ones.
	p.until(`document.querySelectorAll('[role="listbox"] [data-find]').length === 1`)
	// A figure between bounds.
	p.try(p.Go("/p/1/finds?by=height"))
	p.wait(`[data-find="stilt_house"]`)
	p.choose("Bounded figure", "height")
	p.try(p.Type(`input[aria-label="At least"]`, "2"))
	p.try(p.Type(`input[aria-label="At most"]`, "5"))
	p.until(names + ` === 'ferry_keeper,lamp post,heron' && location.search.includes('from=2')`)
	// The address keeps it; the keyboard walks along.
	p.try(p.Go("/p/1/finds?only=incomplete&q=walk"))
	p.click(`[data-find="walker"] a`)
	p.wait(`[data-find="walker"][aria-selected="true"]`)
	p.try(p.Go(mustEval(p, `location.pathname + '?by=name'`)))
	p.wait(`[data-find="walker"][aria-selected="true"]`)
	p.until(`(document.querySelector('[role="listbox"]').focus(), true)`)
	p.keys(kb.ArrowUp)
	p.wait(`[data-find="stilt_house"][aria-selected="true"]`)
	p.until(`document.querySelector('[data-rail] h2').innerText === 'stilt_house'`)
}
