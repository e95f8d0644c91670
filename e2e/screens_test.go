package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/e2e/browser"

	"github.com/chromedp/chromedp/kb"
)

// screens are the addresses of every screen of the demo project, and what is
// there once each is ready.
var screens = []struct{ name, path, ready string }{
	{"projects", "/projects", `[data-project]`},
	{"parts", "/parts", `[data-parts]`},
	{"sources", "/p/1/sources", `[data-entry]`},
	{"an entry", "/p/1/sources?entry=16777218", `[data-preview]`},
	{"sets", "/p/1/sources?view=sets", `[data-total]`},
	{"tree", "/p/1/sources?view=tree&open=*", `[data-folder]`},
	{"bytes", "/p/1/sources/bytes/16777218?at=64&n=8", `[data-byte="64"]`},
	{"records", "/p/1/sources/bytes/16777218?at=64&as=records", `[data-byte="64"]`},
	{"layouts", "/p/1/sources/layouts", `[data-layout]`},
	{"finds", "/p/1/finds", `[data-card]`},
	{"a find", "/p/1/finds/1", `[data-rail] [data-figure]`},
	{"inventory", "/p/1/finds/1?tab=inventory", `[data-section]`},
	{"pictures", "/p/1/finds/1?tab=pictures", `[data-desk]`},
	{"basis", "/p/1/finds/1?tab=basis", `[data-tall]`},
	{"compare", "/p/1/finds/1?tab=compare", `[data-rail]`},
	{"chain", "/p/1/chain/1?band=4&with=0", `[data-band="4"]`},
	{"chain inventory", "/p/1/chain/1?band=1&tray=1&chosen=n0", `[data-proposal="0"]`},
	{"rehearsal", "/p/1/rehearsal/1", `[data-tally]`},
	{"delivery", "/p/1/delivery/1", `[data-origin]`},
	{"an address that leads nowhere", "/p/1/nothing", `main [role="alert"]`},
}

// axe is what axe-core objects to.
type axe struct {
	ID, Impact, Help string
	Nodes            []struct {
		Target []any
		HTML   string
	}
}

// judged runs axe-core on the page as it stands and returns what it calls
// serious or critical.
func (p *porter) judged(script string) []axe {
	p.t.Helper()
	mustEval(p, script+"; ''")
	text := mustEval(p, `axe.run(document, {resultTypes: ['violations'], rules: {'color-contrast-enhanced': {enabled: false}}}).then((r) => JSON.stringify(r.violations.filter((v) => v.impact === 'serious' || v.impact === 'critical')))`)
	var out []axe
	p.try(json.Unmarshal([]byte(text), &out))
	return out
}

func axeScript(t *testing.T) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join("..", "web", "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// Every screen, light and dark, has nothing that axe-core calls serious or
// critical, one heading of the first rank and its landmarks, fits its window,
// and leaves the console free of errors.
func TestEveryScreenForEveryone(t *testing.T) {
	p := start(t)
	script := axeScript(t)
	for _, dark := range []bool{false, true} {
		p.try(p.Go("/projects"))
		mustEval(p, fmt.Sprintf(`(localStorage.setItem('mui-mode', %q), '')`, map[bool]string{false: "light", true: "dark"}[dark]))
		for _, s := range screens {
			p.try(p.Go(s.path))
			p.wait(s.ready)
			p.try(p.Settled())
			for _, v := range p.judged(script) {
				for i, n := range v.Nodes {
					if i < 3 {
						t.Errorf("%s, dark %v: %s: %s (%s)\n  %v %.200s",
							s.name, dark, v.Impact, v.Help, v.ID, n.Target, n.HTML)
					}
				}
			}
			if n := mustEval(p, `String(document.querySelectorAll('h1').length)`); n != "1" {
				t.Errorf("%s: %s headings of the first rank", s.name, n)
			}
			if s.path != "/parts" && mustEval(p, `String(document.querySelectorAll('main').length)`) != "1" {
				t.Errorf("%s: no main landmark", s.name)
			}
		}
	}
	if e := p.Complaints(); len(e) > 0 {
		t.Errorf("the console says:\n%s", strings.Join(e, "\n"))
	}
}

// At 1024 × 700 and 1920 × 1080 no page is wider than its window and no pane
// has shrunk to nothing.
func TestEveryScreenAtThreeSizes(t *testing.T) {
	p := start(t)
	for _, size := range [][2]int64{{1024, 700}, {1280, 800}, {1920, 1080}} {
		p.try(p.Resize(size[0], size[1]))
		for _, s := range screens {
			p.try(p.Go(s.path))
			p.wait(s.ready)
			said := mustEval(p, `(() => {
				const out = []
				const w = document.documentElement
				if (w.scrollWidth > innerWidth || document.body.scrollWidth > innerWidth) out.push('the page is ' + w.scrollWidth + ' wide')
				if (w.scrollHeight > innerHeight) out.push('the page is ' + w.scrollHeight + ' high')
				for (const e of document.querySelectorAll('main section:not(section section)')) {
					const r = e.getBoundingClientRect()
					if (r.width < 150 || r.height < 100) out.push('a pane of ' + Math.round(r.width) + ' by ' + Math.round(r.height))
					if (r.right > innerWidth + 1) out.push('a pane reaches to ' + Math.round(r.right))
				}
				for (const e of document.querySelectorAll('[data-value]')) if (e.parentElement.scrollWidth > e.parentElement.clientWidth + 1) out.push('a value is cut: ' + e.innerText)
				return out.join('; ')
			})()`)
			if said != "" {
				t.Errorf("%s at %d × %d: %s", s.name, size[0], size[1], said)
			}
		}
	}
}

// The asset at work is named and changed in one place, on every stage.
func TestTheAssetAtWork(t *testing.T) {
	p := start(t)
	p.mountFile("harbour.zip")
	p.try(p.Go("/p/1/sources"))
	p.click(`[data-entry="pontoon.glb"]`)
	p.clickText("Make it a find")
	p.wait(`[data-find="pontoon"][data-state="ready"]`)
	p.clickText("Start a chain")
	p.wait(`[data-band="0"][data-state="ready"]`)
	at := `document.querySelector('[aria-label="Asset at work"]')?.value`
	p.until(at + ` === 'pontoon'`)
	p.says(`[data-stage="chain"]`, "0 steps")
	for i, stage := range []string{"rehearsal", "delivery", "finds", "chain"} {
		p.try(p.Key([]string{"4", "5", "2", "3"}[i]))
		p.until(`location.pathname.startsWith('/p/1/` + stage + `/')`)
		p.until(at + ` === 'pontoon'`)
	}
	p.until(`document.title.startsWith('Chain of pontoon')`)
	// Changing it stays on the stage.
	p.try(p.Key("4"))
	p.click(`[aria-label="Asset at work"]`)
	p.click(`[data-asset="ferry_keeper"]`)
	p.until(`location.pathname === '/p/1/rehearsal/1' && ` + at + ` === 'ferry_keeper'`)
	p.says(`[data-stage="chain"]`, "4 steps")
	p.says(`[data-stage="rehearsal"]`, "stop")
	// One that is not there shows no other.
	p.try(p.Go("/p/1/chain/99"))
	p.shows(`main [role="alert"]`, "There is no chain 99")
	p.try(p.Go("/p/abc/finds"))
	p.shows(`[role="alert"]`, "no page of Excavate")
}

// From a missing picture to the source that holds it, and back.
func TestFromAMissingPictureAndBack(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1"))
	p.wait(`[data-missing="1"]`)
	p.clickText("Add the source that holds it")
	p.shows(`[data-wanted="1"]`, "keeper_gear_c.tga")
	p.until(`document.querySelector('[role="dialog"] [data-library]').dataset.library === 'winter.tide'`)
	p.says(`[data-library="winter.tide"]`, "holds wash/keeper/keeper_gear_c.wash")
	p.click(`[data-library="winter.tide"] button`)
	p.until(`document.querySelector('[data-found="1"]')?.innerText.includes('keeper_gear_c.tga was found')`)
	p.says(`[data-found="1"]`, "winter.tide")
	p.until(`location.pathname === '/p/1/finds/1'`)
}

// What the rehearsal stops is made only despite it, and says so for good; two
// deliveries never share a name.
func TestAStoppedDeliveryAsks(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/delivery/1"))
	p.clickText("Make delivery…")
	p.shows(`[role="dialog"]`, "carries that mark for good")
	p.clickText("Make it all the same")
	p.wait(`[data-delivery][data-state="ready"][data-stops="2"]`)
	p.says(`[data-delivery]`, "despite 2 stops")
	p.clickText("Make delivery…")
	p.clickText("Make it all the same")
	p.until(`document.querySelectorAll('[data-delivery][data-state="ready"]').length === 2`)
	if names := mustEval(p, `[...document.querySelectorAll('[data-delivery] td:first-child')].map((e) => e.innerText).join()`); names != "ferry_keeper-2.zip,ferry_keeper.zip" {
		t.Errorf("deliveries are called %s", names)
	}
}

func TestProjects(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds"))
	p.wait(`[data-card]`)
	p.try(p.Go("/projects"))
	p.try(p.Type(`input[aria-label="Name of a new project"]`, "Tide mill"))
	p.clickText("Make project")
	p.until(`location.pathname === '/p/2/sources'`)
	p.until(`document.body.innerText.includes('No sources yet')`)
	// The address alone leads to the one that was used last.
	p.try(p.Go("/"))
	p.until(`location.pathname === '/p/2/finds'`)
	p.try(p.Go("/projects"))
	p.click(`[aria-label="Rename Tide mill"]`)
	p.try(p.setField("New name of Tide mill", "Tide mill at night"))
	p.wait(`[data-project="Tide mill at night"]`)
	p.click(`[aria-label="Copy Sedgewater ferry"]`)
	p.wait(`[data-project="Sedgewater ferry, copy"]`)
	href := mustEval(p, `document.querySelector('[aria-label="Export Sedgewater ferry"]').href`)
	res, err := http.Get(href)
	p.try(err)
	defer res.Body.Close()
	var doc struct{ Name string }
	p.try(json.NewDecoder(res.Body).Decode(&doc))
	if doc.Name != "Sedgewater ferry" {
		t.Errorf("exported %q", doc.Name)
	}
	p.click(`[aria-label="Delete Sedgewater ferry, copy"]`)
	p.shows(`[role="dialog"]`, "1 find, 1 chain")
	p.clickText("Keep it")
	p.try(p.Gone(`[role="dialog"]`))
	p.click(`[aria-label="Delete Sedgewater ferry, copy"]`)
	p.clickText("Delete it")
	p.try(p.Gone(`[data-project="Sedgewater ferry, copy"]`))
	// Shortcuts work here too: they lead to the project that was used last.
	p.try(p.Key("2"))
	p.until(`location.pathname.endsWith('/finds') || location.pathname.includes('/finds/')`)
}

// Many finds are chosen with mouse and keyboard and acted on together.
func TestFindsTogether(t *testing.T) {
	p := start(t)
	p.mountFile("lantern.cart")
	p.try(p.Go("/p/1/finds?by=name"))
	p.clickText("Decode every model")
	p.until(`document.querySelectorAll('[data-card][data-state="ready"]').length === 6`)
	p.click(`[data-find="heron"] input`)
	p.wait(`[data-chosen="1"]`)
	p.try(p.ClickWith(`[data-find="punt"] a`, browser.Shift))
	p.wait(`[data-chosen="3"]`)
	p.clickText("Start 3 chains")
	p.shows(`[data-chosen="3"]`, "3 chains started")
	p.clickText("Choose none")
	p.until(`(document.querySelector('[data-card="0"] a').focus(), true)`)
	p.keys(kb.ArrowRight)
	p.until(`document.activeElement.closest('[data-card]')?.dataset.card === '1'`)
	p.keys(" ")
	p.wait(`[data-chosen="1"]`)
	p.clickText("Save as…")
	p.until(`document.querySelector('[role="dialog"] a')?.href.includes('/finds/file?format=glb&finds=')`)
	p.clickText("Not now")
	p.try(p.Gone(`[role="dialog"]`))
	p.clickText("Take out")
	p.until(`document.querySelector('[data-finds]').dataset.finds === '5'`)
	p.click(`[data-taken-out] button`)
	p.until(`document.querySelector('[data-finds]').dataset.finds === '6'`)
	// All at one scale: the stilt house is drawn larger than the punt.
	p.clickText("One scale")
	p.until(`new DOMMatrix(getComputedStyle(document.querySelector('[data-find="ferry_keeper"] img')).transform).a < new DOMMatrix(getComputedStyle(document.querySelector('[data-find="stilt_house"] img')).transform).a`)
	p.keys("\r")
}

// The edges of panes are dragged and moved by keyboard, and stay there.
func TestPanesKeepTheirWidths(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.wait(`[data-entry]`)
	width := func() string {
		return mustEval(p, `document.querySelector('[data-edge="0"]').getAttribute('aria-valuenow')`)
	}
	if w := width(); w != "268" {
		t.Errorf("the first pane is %s wide", w)
	}
	p.until(`Number(document.querySelector('[data-edge="0"]').getAttribute('aria-valuemax')) > 1000`)
	p.until(`(document.querySelector('[data-edge="0"]').focus(), true)`)
	p.keys(kb.ArrowRight)
	p.until(`document.querySelector('[data-edge="0"]').getAttribute('aria-valuenow') === '284'`)
	p.try(p.Drag(`[data-edge="1"]`, -60, 0))
	p.until(`Number(document.querySelector('[data-edge="1"]').getAttribute('aria-valuenow')) > 360`)
	kept := mustEval(p, `document.querySelector('[data-edge="1"]').getAttribute('aria-valuenow')`)
	p.try(p.Go("/p/1/sources"))
	p.wait(`[data-entry]`)
	if now := mustEval(p, `document.querySelector('[data-edge="1"]').getAttribute('aria-valuenow')`); width() != "284" || now != kept {
		t.Errorf("after coming back %s and %s, were 284 and %s", width(), now, kept)
	}
}
