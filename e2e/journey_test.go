// Package e2e drives the whole application as a porter does, in headless
// Chromium.
package e2e

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image/png"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/shipped"
	"excavate/internal/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

type porter struct {
	*browser.Page
	t    *testing.T
	app  *app.App
	data string // its folder
	demo string // the library folder
}

func (p *porter) try(err error) {
	p.t.Helper()
	if err != nil {
		if png, e := p.Shot(); e == nil {
			name := filepath.Join(os.TempDir(), "excavate-e2e-failure.png")
			os.WriteFile(name, png, 0o644)
			p.t.Logf("the page is in %s", name)
		}
		p.t.Fatal(err)
	}
}

func (p *porter) click(sel string) { p.t.Helper(); p.try(p.Click(sel)) }
func (p *porter) open(sel string)  { p.t.Helper(); p.try(p.Open(sel)) }
func (p *porter) wait(sel string)  { p.t.Helper(); p.try(p.Wait(sel)) }
func (p *porter) until(js string)  { p.t.Helper(); p.try(p.Until(js)) }
func (p *porter) text(sel string) string {
	p.t.Helper()
	s, err := p.Text(sel)
	p.try(err)
	return s
}

// says checks that an element holds a text, once what is under way has come to
// the screen.
func (p *porter) says(sel, want string) {
	p.t.Helper()
	got := p.text(sel)
	for end := time.Now().Add(10 * time.Second); !strings.Contains(got, want) && time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		got = p.text(sel)
	}
	if !strings.Contains(got, want) {
		p.t.Errorf("%s says %q, want %q", sel, got, want)
	}
}

// drew checks that the 3D view shows a model and no empty ground: its canvas
// must hold many colours.
func (p *porter) drew(least int) {
	p.t.Helper()
	p.wait(`[data-view="drawn"]`)
	p.try(p.Settled())
	n, err := browser.Eval[int](p.Page, `(() => { const c = document.querySelector('.view canvas'); const d = document.createElement('canvas'); d.width = c.width; d.height = c.height; const x = d.getContext('2d'); x.drawImage(c, 0, 0); const p = x.getImageData(0, 0, d.width, d.height).data; const s = new Set(); for (let i = 0; i < p.length; i += 16) s.add(p[i] << 16 | p[i + 1] << 8 | p[i + 2]); return s.size })()`)
	p.try(err)
	if n < least {
		p.t.Errorf("the 3D view shows %d colours, want at least %d", n, least)
	}
}

func start(t *testing.T) *porter {
	t.Helper()
	lib, err := shipped.Library(nil)
	if err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	demo := filepath.Join(data, "sedgewater")
	ctx, cancel := context.WithCancel(context.Background())
	a, err := app.Start(ctx, app.Config{Workers: 2, Data: data, Database: testdb.DSN(t),
		Library: []string{demo}, Lib: lib})
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Demo(ctx, demo); err != nil {
		t.Fatal(err)
	}
	page, err := browser.Open(ctx, a.Address, 1280, 800)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { page.Close(); a.Close(); cancel() })
	return &porter{page, t, a, data, demo}
}

// The journey of the demo, at each size of window, in light and dark.
func TestJourney(t *testing.T) {
	for _, w := range []struct {
		width, height int64
		mode          string
	}{{1280, 800, "light"}, {1024, 700, "dark"}, {1920, 1080, "dark"}} {
		t.Run(fmt.Sprintf("%dx%d %s", w.width, w.height, w.mode), func(t *testing.T) {
			p := start(t)
			p.try(p.Resize(w.width, w.height))
			p.try(p.Go("/projects"))
			mustEval(p, fmt.Sprintf(`(localStorage.setItem('mui-mode', %q), '')`, w.mode))
			p.journey()
			if dark := mustEval(p, `String(document.documentElement.matches('[data-dark]'))`); dark != fmt.Sprint(w.mode == "dark") {
				t.Errorf("dark is %s", dark)
			}
			if e := p.Complaints(); len(e) > 0 {
				t.Errorf("the console says:\n%s", strings.Join(e, "\n"))
			}
		})
	}
}

func (p *porter) journey() {
	t := p.t
	t.Helper()
	// First start: something is found and one thing is wrong.
	p.try(p.Go("/"))
	p.shows(`[data-find="ferry_keeper"]`, "1 picture missing")
	p.follow(`[data-find="ferry_keeper"] a`, "/p/1/finds/")
	p.drew(400)
	p.says(`[data-stage="finds"]`, "1 incomplete")
	p.says(`[data-figure="Triangles"]`, "6,752")
	p.says(`[data-figure="Bones"]`, "27")
	p.says(`[data-figure="Height"]`, "2.22 m")
	p.says(`[data-figure="Basis"]`, "left-handed")
	p.says(`[data-picture="keeper_gear_c.tga"]`, "not found")
	p.says(`[data-picture="keeper_gear_c.tga"]`, "in hulls.tide, washes.tide")
	p.says(`[data-picture="keeper_cloth_c.tga"]`, "washes.tide: wash/keeper/keeper_cloth_c.wash")
	// The motion plays and the skeleton shows.
	p.click(`.motion button`)
	p.until(`parseFloat(document.querySelector('[data-motion-time]').innerText) > 0.3`)
	p.click(`.motion button`)
	p.click(`button[value="skeleton"]`)
	p.drew(300)

	// Sources: search, preview a picture and a model, add the third archive.
	p.try(p.Key("1"))
	p.wait(`[data-source="hulls.tide"]`)
	p.try(p.Key("/"))
	p.until(`document.activeElement.id === 'search'`)
	// The driver sends a key's character by itself; a person's "/" is not typed.
	p.until(`(document.querySelector('#search').select(), true)`)
	p.try(p.Type(`#search`, "keeper"))
	p.until(`document.querySelector('[data-total]').dataset.total === '2'`)
	p.click(`[data-entry="wash/keeper/keeper_cloth_c.wash"]`)
	p.until(`document.querySelector('.picture img')?.naturalWidth === 512`)
	p.click(`[data-entry="figures/ferry_keeper.hull"]`)
	p.drew(300)
	p.until(`location.search.includes('q=keeper') && location.search.includes('entry=')`)
	p.clickText("Add by path")
	p.click(`[data-library="winter.tide"] button`)
	p.wait(`[data-source="winter.tide"][data-state="ready"]`)

	// The picture is found by itself.
	p.try(p.Key("2"))
	p.until(`document.querySelector('[data-picture="keeper_gear_c.tga"]')?.innerText.includes('winter.tide')`)
	p.until(`!document.querySelector('[data-stage="finds"]').innerText.includes('incomplete')`)

	// Chain: four bands and the find; compare two; edit, undo, redo.
	p.try(p.Key("3"))
	p.until(`document.querySelectorAll('.band.ready').length === 5`)
	p.drew(400)
	keys := func() string {
		s, err := browser.Eval[string](p.Page, `[...document.querySelectorAll('.band')].map(b => b.dataset.key).reverse().join(' ')`)
		p.try(err)
		return s
	}
	before := strings.Fields(keys())
	p.click(`[data-band="4"]`)
	p.says(`[data-band="4"]`, "vertices 7154 → 3840")
	p.says(`[data-evidence="Weld"] [data-figure="vertices"]`, "3,840")
	p.try(p.Key("\\"))
	p.until(`document.querySelector('.band.cmp')?.dataset.band === '3' && document.querySelector('.split')`)
	p.try(p.Key("\\"))
	p.until(`!document.querySelector('.split')`)
	p.try(p.Key(","))
	p.until(`document.querySelector('.band.on').dataset.band === '3'`)
	p.try(p.Key("."))
	p.until(`document.querySelector('.band.on').dataset.band === '4'`)
	p.until(`location.search.includes('band=4')`)
	p.try(p.setField("Weld within", "40"))
	p.until(`document.querySelector('[data-band="4"]').dataset.key !== '` + before[4] + `' && document.querySelector('[data-band="4"]').dataset.state === 'ready'`)
	after := strings.Fields(keys())
	for i := range before {
		if same := before[i] == after[i]; same != (i < 4) {
			t.Errorf("after changing step 4, band %d keeps its result: %v", i, same)
		}
	}
	p.clickText("Undo")
	p.until(`document.querySelector('[data-band="4"]').dataset.key === '` + before[4] + `'`)
	p.clickText("Redo")
	p.until(`document.querySelector('[data-band="4"]').dataset.key === '` + after[4] + `'`)
	p.clickText("Undo")
	p.until(`document.querySelector('[data-band="4"]').dataset.key === '` + before[4] + `'`)
	p.clickText("Switch off")
	p.wait(`[data-band="4"][data-state="off"]`)
	p.clickText("Switch on")
	p.wait(`[data-band="4"][data-state="ready"]`)
	p.clickText("Down")
	p.until(`document.querySelector('[data-band="3"]').dataset.title === 'Weld'`)
	p.clickText("Undo")
	p.until(`document.querySelector('[data-band="4"]').dataset.title === 'Weld'`)
	p.clickText("Add step")
	p.clickText("Rename")
	p.until(`document.querySelector('[data-title="Rename"]')`)
	p.clickText("Remove")
	p.until(`!document.querySelector('[data-title="Rename"]')`)

	// Rehearsal: one finding stops; one click adds the step that mends it.
	p.try(p.Key("4"))
	p.wait(`[data-rule="root bone"][data-severity="stops"]`)
	p.says(`[data-rule="root bone"]`, "_ROOT#keeper01")
	p.says(`[data-rule="pictures"]`, "2 of 2")
	p.click(`[data-rule="root bone"] [data-mend]`)
	p.wait(`[data-rule="root bone"][data-severity="holds"]`)
	p.until(`document.querySelector('[data-tally]').dataset.tally.startsWith('0 0 ')`)
	p.says(`[data-stage="rehearsal"]`, "all holds")
	p.drew(200)

	// Delivery: made, downloaded, and what it holds.
	p.try(p.Key("5"))
	p.clickText("Make delivery")
	p.wait(`[data-delivery][data-state="ready"] [data-download]`)
	href, err := browser.Eval[string](p.Page, `document.querySelector('[data-download]').href`)
	p.try(err)
	res, err := http.Get(href)
	p.try(err)
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	z, err := zip.NewReader(bytes.NewReader(body), int64(len(body)))
	p.try(err)
	r, err := z.Open("ferry_keeper.glb")
	p.try(err)
	glb, _ := io.ReadAll(r)
	s, err := gltf.Read(context.Background(), format.File{Name: "x.glb", Data: glb})
	p.try(err)
	if st := s.Stats(); st.Bones != 27 || st.Triangles != 6752 || st.Vertices != 3840 || st.Missing != 0 || s.Nodes[s.RootBone()].Name != "root" || st.Cameras != 0 || len(s.Motions) != 1 {
		t.Errorf("delivered is %+v", st)
	}
	var man struct {
		Chain struct{ Steps []struct{ Step string } }
	}
	m, err := z.Open("manifest.json")
	p.try(err)
	p.try(json.NewDecoder(m).Decode(&man))
	if len(man.Chain.Steps) != 5 {
		t.Errorf("the manifest's chain has %d steps", len(man.Chain.Steps))
	}
	// The address of a state opens that state.
	p.try(p.Go("/p/1/chain/1?band=0&with=5&view=normals"))
	p.until(`document.querySelector('.band.on')?.dataset.band === '0' && document.querySelector('.band.cmp')?.dataset.band === '5'`)
	p.drew(300)
}

func TestAForeignGLBRunsTheSameJourney(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.clickText("Add by path")
	p.click(`[data-library="harbour.zip"] button`)
	p.wait(`[data-source="harbour.zip"][data-state="ready"]`)
	p.click(`[data-entry="pontoon.glb"]`)
	p.drew(100)
	p.clickText("Make it a find")
	p.wait(`[data-find="pontoon"][data-state="ready"]`)
	p.says(`[data-figure="Basis"]`, "Y up")
	p.clickText("Start a chain")
	p.wait(`[data-band="0"][data-state="ready"]`)
	p.clickText("Add step")
	p.clickText("Sit on the ground")
	p.wait(`[data-band="1"][data-state="ready"]`)
	p.says(`[data-band="1"]`, "lifted by")
	p.try(p.Key("4"))
	p.until(`document.querySelector('[data-tally]')?.dataset.tally.startsWith('0 0 ')`)
}

func TestWrongInputAndEmptyProject(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/sources"))
	p.clickText("Add by path")
	p.try(p.Type(`[role="dialog"] input`, "/etc/passwd"))
	p.try(p.Key("\r"))
	p.wait(`[role="dialog"] [role="alert"]`)
	p.says(`[role="dialog"] [role="alert"]`, "outside the library folders")
	p.try(p.Go("/p/1/chain/1?band=4"))
	p.wait(`[data-band="4"].on`)
	p.try(p.setField("Keep edges harder than", "400"))
	p.until(`document.body.innerText.includes('at most 180 degrees')`)
	// An empty project teaches.
	res, err := http.Post(p.app.Address+"/api/projects", "application/json", strings.NewReader(`{"name":"Empty"}`))
	p.try(err)
	res.Body.Close()
	for path, want := range map[string]string{"sources": "No sources yet", "finds": "Nothing found yet", "chain": "No chain yet", "rehearsal": "Nothing to rehearse yet", "delivery": "Nothing to deliver yet"} {
		p.try(p.Go("/p/2/" + path))
		p.until(fmt.Sprintf("document.body.innerText.includes(%q)", want))
	}
	p.try(p.Go("/p/99/finds"))
	p.until(`document.body.innerText.includes('there is no project 99')`)
	p.try(p.Go("/projects"))
	p.until(`document.body.innerText.includes('Sedgewater ferry') && document.body.innerText.includes('Empty')`)
	shot, err := p.Shot()
	p.try(err)
	if _, err := png.Decode(bytes.NewReader(shot)); err != nil {
		t.Error(err)
	}
}

// follow clicks a link that leads below a path. On a machine that is very busy
// a list may be drawn anew between press and release: then it is clicked once
// more, as a person would.
func (p *porter) follow(sel, path string) {
	p.t.Helper()
	for range 3 {
		p.click(sel)
		for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			if mustEval(p, fmt.Sprintf(`String(location.pathname.startsWith(%q))`, path)) == "true" {
				return
			}
		}
	}
	p.t.Fatalf("%s leads nowhere below %s", sel, path)
}

// clickText clicks the button, link or menu item with exactly this text.
func (p *porter) clickText(text string) {
	p.t.Helper()
	js := fmt.Sprintf(`(() => { const b = [...document.querySelectorAll('button, a, [role="menuitem"]')].find(e => { const t = (e.querySelector('b') ?? e).innerText.trim(); return t === %q && !e.disabled && e.offsetParent }); if (!b) return false; document.querySelectorAll('[data-clicked]').forEach(e => e.removeAttribute('data-clicked')); b.setAttribute('data-clicked', ''); return true })()`, text)
	// What is drawn anew meanwhile loses its mark: it is found again.
	p.until(js)
	for end := time.Now().Add(browser.Patience); time.Now().Before(end); {
		time.Sleep(50 * time.Millisecond)
		if mustEval(p, `String(!!document.querySelector('[data-clicked]'))`) == "true" {
			break
		}
		p.until(js)
	}
	p.click(`[data-clicked]`)
}

// setField types into a field of a form and leaves it.
func (p *porter) setField(label, value string) error {
	sel := fmt.Sprintf(`input[aria-label=%q]`, label)
	if err := p.Click(sel); err != nil {
		return err
	}
	if _, err := browser.Eval[bool](p.Page, fmt.Sprintf(`(document.querySelector('input[aria-label="%s"]').select(), true)`, label)); err != nil {
		return err
	}
	if err := p.Type(sel, value); err != nil {
		return err
	}
	return p.Key("\r")
}
