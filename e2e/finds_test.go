package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"

	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/e2e/browser"
	"excavate/internal/demo"
)

// clickAt clicks the 3D view, at parts of its width and height.
func (p *porter) clickAt(x, y float64) {
	p.t.Helper()
	p.until(fmt.Sprintf(`(() => { const c = document.querySelector('.view canvas'), r = c.getBoundingClientRect()
		for (const t of ['pointerdown', 'pointerup']) c.dispatchEvent(new PointerEvent(t, { bubbles: true, pointerId: 1, button: 0, clientX: r.left + r.width * %g, clientY: r.top + r.height * %g }))
		return true })()`, x, y))
}

// shows waits until an element holds a text.
func (p *porter) shows(sel, want string) {
	p.t.Helper()
	p.until(fmt.Sprintf(`document.querySelector(%q)?.innerText.includes(%q)`, sel, want))
}

// choose takes an option of a select.
func (p *porter) choose(label, value string) {
	p.t.Helper()
	p.open(fmt.Sprintf(`[role="combobox"][aria-label="%s"]`, label))
	p.click(fmt.Sprintf(`[role="option"][data-value="%s"]`, value))
	p.try(p.Gone(fmt.Sprintf(`[role="option"][data-value="%s"]`, value)))
}

// seen is a checksum of what the 3D view draws.
func (p *porter) seen() string {
	p.t.Helper()
	s, err := browser.Eval[string](p.Page, `new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(() => { const d = document.querySelector('.view canvas').toDataURL(); let h = 0; for (let i = 0; i < d.length; i++) h = (h * 31 + d.charCodeAt(i)) | 0; done(String(h)) })))`)
	p.try(err)
	return s
}

// changes does something and waits until the 3D view looks otherwise.
func (p *porter) changes(what string, f func()) {
	p.t.Helper()
	before := p.seen()
	f()
	for range 40 {
		if p.seen() != before {
			return
		}
	}
	p.t.Errorf("%s: the view stays as it was", what)
}

func TestJudgeAFind(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1?tab=inventory"))
	p.drew(400)
	p.wait(`[data-section="meshes"]`)
	// Rows show what they are in the model: one, two, these only.
	p.changes("a part is chosen", func() { p.click(`[data-row="p0.1"]`) })
	p.shows(`[data-chosen]`, "1 chosen")
	p.clickWith(`[data-row="k0"]`, browser.Ctrl)
	p.shows(`[data-chosen]`, "2 chosen")
	p.clickWith(`[data-row="k0"]`, browser.Ctrl)
	p.changes("the others are hidden", func() { p.clickText("Only these") })
	p.until(`location.search.includes('chosen=p0.1') && location.search.includes('alone=1')`)
	p.changes("fit to what is chosen", func() { p.try(p.Key("=")) })
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.drew(400)
	p.shows(`[data-chosen]`, "1 chosen")
	p.clickText("None")
	// What is not wanted is listed by kind.
	p.until(`[...document.querySelectorAll('.invrow.warn')].some((e) => e.innerText.includes('cam_portrait') && e.innerText.includes('camera'))`)
	// A bone's weights, by keyboard.
	p.until(`(document.querySelector('[data-row="b0.1"]').focus(), true)`)
	p.changes("the weights of a bone", func() { p.keys(kb.Enter) })
	p.until(`location.search.includes('view=weights')`)
	p.shows(`.legend`, "0.5")
	p.shows(`.turn`, "Turn hips")
	p.changes("a bone is turned", func() {
		p.until(`(document.querySelector('[aria-label="Turn about the bone\'s X"]').focus(), true)`)
		p.keys(kb.End)
	})
	p.until(`/turn=\d+%3A90%3A0%3A0/.test(location.search)`)
	p.clickText("Back to rest")
	for _, look := range []string{"normals", "checker", "facing", "plain"} {
		p.changes(look, func() { p.choose("Surface", look) })
	}
	p.changes("wires", func() { p.click(`button[value="wires"]`) })
	p.changes("no figure", func() { p.click(`button[value="figure"]`) })
	p.until(`location.search.includes('also=wires+nofigure')`)
	// A UV set over its picture.
	p.click(`[data-row="u0.0.0"]`)
	p.until(`document.querySelector('[data-uv="0.0.0"] img')?.naturalWidth > 400`)
	p.shows(`[data-uv]`, "covered twice")
	p.clickText("Back to the model")
	p.try(p.Gone(`[data-uv]`))
	// A click on the surface tells what it is.
	p.choose("Surface", "textured")
	p.clickAt(0.54, 0.44)
	p.shows(`[data-hit]`, "keeper_cloth_c.tga")
	at := p.text(`[data-texel-hit]`)
	for _, n := range strings.Split(at, ", ") {
		if v, err := strconv.Atoi(n); err != nil || v < 0 || v > 511 {
			t.Errorf("texel %q", at)
		}
	}
	p.shows(`[data-chosen]`, "1 chosen")
	p.clickAt(0.97, 0.15)
	p.try(p.Gone(`[data-hit]`))

	// The picture desk.
	p.clickText("Pictures")
	p.click(`[data-desk="keeper_cloth_c.tga"] .card`)
	p.until(`document.querySelector('.overlay .picture img')?.naturalWidth === 512 && document.querySelectorAll('.histogram path').length === 4`)
	p.shows(`[data-desk="keeper_cloth_c.tga"]`, "keeper_cloth as colour")
	p.click(`.overlay button[value="r"]`)
	p.until(`location.search.includes('channel=r') && document.querySelector('.overlay .picture img').src.includes('show=r')`)
	p.choose("Picture format", "ktx2")
	p.choose("Texels", "bc1")
	got := mustEval(p, `fetch(document.querySelector('[aria-label^="Save keeper_cloth"]').href).then((r) => r.arrayBuffer()).then((b) => [...new Uint8Array(b).slice(0, 7)].join() + ' ' + b.byteLength)`)
	if head, size, _ := strings.Cut(got, " "); head != "171,75,84,88,32,50,48" || size == "0" { // «KTX 20
		t.Errorf("the file begins with %s", got)
	}
	p.click(`[data-desk="keeper_cloth_c.tga"] button.MuiButtonBase-root`)
	p.until(`location.search.includes('tab=inventory') && location.search.includes('chosen=k0') && !document.querySelector('.overlay')`)

	// What the coordinates mean: evidence, a decision, the file's word again.
	p.clickText("Basis")
	p.shows(`[data-clue="up"]`, "head")
	p.shows(`[data-tall]`, "2.22 m tall")
	p.clickText("millimetres")
	p.shows(`[data-tall]`, "0.22 m tall")
	p.clickText("Decide")
	p.shows(`[data-rail]`, "decided otherwise")
	p.until(`document.querySelector('.view').dataset.height.startsWith('0.22')`)
	p.clickText("Take the file's word")
	p.until(`document.querySelector('.view').dataset.height.startsWith('2.22')`)
}

func TestCompareFindsAndBands(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1?tab=compare"))
	p.drew(400)
	p.click(`[aria-label="Compare with"]`)
	p.until(`(() => { const o = [...document.querySelectorAll('.MuiAutocomplete-option')].find((e) => e.innerText === '2 Change basis'); if (o) o.click(); return !!o })()`)
	// The change of basis moves nothing, and leaves out the camera.
	p.wait(`[data-verdict="differs"]`)
	p.until(`document.querySelector('.view').dataset.triangles === '6752 6752'`)
	p.shows(`.verdict`, "The same shape within 2.44 mm")
	p.shows(`[data-diff="cameras"]`, "1")
	p.shows(`[data-diff="camera cam_portrait"]`, "perspective")
	p.shows(`[data-not-compared]`, "names of nodes")
	p.try(p.Go("/p/1/finds/1?tab=compare&with=b1.4"))
	p.wait(`[data-verdict="differs"]`)
	p.shows(`.verdict`, "moved as a whole")
	p.shows(`[data-most]`, "67 mm")
	p.drew(300)
	p.changes("distance as colour", func() { p.click(`input[type="checkbox"]`) })
	p.shows(`[data-legend]`, "ten times")
	// A tolerance that lets it pass.
	p.try(p.setField("Tolerance", "80"))
	p.until(`location.search.includes('tol=0.08')`)
	p.shows(`.verdict`, "same shape within 80 mm")
	p.shows(`[data-diff="hips"]`, "0.960")
}

func TestMorphsExpressionsAndColliders(t *testing.T) {
	p := start(t)
	file := filepath.Join(p.demo, "corin.vrm")
	if err := os.WriteFile(file, demo.Avatars[0].VRM(), 0o644); err != nil {
		t.Fatal(err)
	}
	p.mountFile("corin.vrm")
	p.try(p.Go("/p/1/finds"))
	p.clickText("Decode every model")
	name := mustEval(p, `(async () => { for (;;) { const e = [...document.querySelectorAll('[data-find][data-state="ready"]')].find((e) => e.querySelector('a')?.title.includes('corin.vrm')); if (e) { e.querySelector('a').click(); return e.dataset.find } await new Promise((d) => setTimeout(d, 100)) } })()`)
	p.shows(`[data-rail] h2`, name)
	p.clickText("Inventory")
	p.wait(`[data-section="skin0"]`)
	p.drew(400)
	p.changes("colliders", func() { p.click(`button[value="colliders"]`) })
	p.click(`[data-section="skin0"]`) // closed, the rows below come into reach
	p.wait(`[data-row="h0.0"]`)
	slide := func(row string) {
		p.until(fmt.Sprintf(`(document.querySelector('[data-row="%s"] input[type="range"]').focus(), true)`, row))
		p.keys(kb.End)
	}
	p.changes("a morph target", func() { slide("h0.0") })
	p.until(`location.search.includes('morphs=0.0%3A100')`)
	p.changes("an expression", func() { slide("e2") })
	p.until(`location.search.includes('0.2%3A100')`)
}

// Whatever an address says, the screen stands.
func TestOddAddresses(t *testing.T) {
	p := start(t)
	for _, q := range []string{
		"tab=inventory&chosen=zzz%20p9.9%20n999&morphs=9.9:5000%20x&bone=999&view=weights&uv=9.9.9&pic=99&set=7&motion=44&turn=1:NaN:2",
		"tab=nonsense&view=nonsense&also=x%20y&set=-3&bone=x",
		"tab=compare&with=b9.9&tol=-4&far=1&diff=7",
		"tab=compare&with=f1&tol=0.000000001",
		"tab=pictures&pic=1&channel=taste",
		"q=%25%5B&only=nobody&by=nothing&of=nothing&from=9&to=1",
	} {
		p.try(p.Go("/p/1/finds/1?" + q))
		p.drew(100)
		p.shows(`[data-rail] h2`, "ferry_keeper")
		p.until(`!document.querySelector('main [role="alert"]')`)
	}
	for path, says := range map[string]string{
		"/p/1/nowhere":     "/p/1/nowhere is no page of Excavate",
		"/projects/1":      "/projects/1 is no page of Excavate",
		"/p/1/finds/1/bow": "/p/1/finds/1/bow is no page of Excavate",
		"/p/99/finds":      "there is no project 99",
	} {
		p.try(p.Go(path))
		p.until(fmt.Sprintf(`document.body.innerText.includes(%q)`, says))
		p.click(`a[href="/projects"]`)
		p.until(`location.pathname === '/projects'`)
	}
}

// Weights show however many bones move a vertex: here five of six do, one as
// much as another, and the sixth none.
func TestWeightsOfManyBones(t *testing.T) {
	p := start(t)
	s := &scene.Scene{Name: "reed", Basis: geom.GLTF}
	part := scene.Part{Material: scene.None, Positions: []float32{-1, 0, 0, 1, 0, 0, 1, 2, 0, -1, 2, 0}, Triangles: []uint32{0, 1, 2, 0, 2, 3}, Influences: 5}
	for range 4 {
		part.Joints = append(part.Joints, 0, 1, 2, 3, 4)
		part.Weights = append(part.Weights, 0.2, 0.2, 0.2, 0.2, 0.2)
	}
	body := scene.NewNode("reed")
	body.Mesh, body.Skin = 0, 0
	s.Nodes, s.Meshes = []scene.Node{body}, []scene.Mesh{{Name: "reed", Parts: []scene.Part{part}}}
	skin := scene.Skin{Name: "reed", Root: 1}
	for b := range 6 {
		n := scene.NewNode(fmt.Sprintf("stalk %d", b))
		if b > 0 {
			n.Parent = 1
		}
		s.Nodes = append(s.Nodes, n)
		skin.Joints = append(skin.Joints, b+1)
		skin.InverseBind = append(skin.InverseBind, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
	}
	s.Skins = []scene.Skin{skin}
	data, _, err := gltf.Write(s, gltf.Options{})
	p.try(err)
	p.try(os.WriteFile(filepath.Join(p.demo, "reed.glb"), data, 0o644))
	p.mountFile("reed.glb")
	p.click(`[data-entry="reed.glb"]`)
	p.clickText("Make it a find")
	p.wait(`[role="combobox"][aria-label="Surface"]`)
	p.drew(100)
	p.choose("Surface", "weights")
	// The scene's own numbers of the nodes: bones follow the body.
	p.choose("Bone", "6")
	p.until(`location.search.includes('bone=6')`)
	p.changes("the fifth bone after one that moves nothing", func() { p.choose("Bone", "5") })
	p.changes("one that moves nothing after the fifth", func() { p.choose("Bone", "6") })
}

// What a file leaves to its reader is chosen on the find, and shown at once.
func TestReadingsOfAFile(t *testing.T) {
	p := start(t)
	p.try(os.WriteFile(filepath.Join(p.demo, "lamp.wrl"), []byte(`#VRML V2.0 utf8
DEF lamp Switch { whichChoice 0 choice [ DEF lit Shape { geometry Sphere { } } DEF broken Shape { geometry Box { } } ] }
Transform { translation 3 0 0 children LOD { level [ Shape { geometry Sphere { radius 0.5 } } Shape { geometry Cone { } } Shape { geometry Box { } } ] } }`), 0o644))
	p.mountFile("lamp.wrl")
	p.click(`[data-entry="lamp.wrl"]`)
	p.clickText("Make it a find")
	p.wait(`[data-reading="switch lamp"]`)
	p.drew(100)
	p.changes("another choice", func() {
		p.click(`[data-reading="switch lamp"] button[value="broken"]`)
		p.wait(`[data-reading="switch lamp"] button[value="broken"][aria-pressed="true"]`)
	})
	p.changes("another level of detail", func() {
		p.click(`[data-reading="level of detail"] button[value="level 2"]`)
		p.wait(`[data-reading="level of detail"] button[value="level 2"][aria-pressed="true"]`)
		p.shows("[data-figure=\"Triangles\"]", "24") // two boxes
	})
	p.wait(`[data-reading="switch lamp"] button[value="broken"][aria-pressed="true"]`)
}

// A scene of very many nodes is not drawn unasked.
func TestVeryManyNodes(t *testing.T) {
	p := start(t)
	s := &scene.Scene{Name: "reeds", Basis: geom.GLTF, Meshes: []scene.Mesh{{Name: "reed", Parts: []scene.Part{{Material: scene.None, Positions: []float32{0, 0, 0, 1, 0, 0, 0, 2, 0}, Triangles: []uint32{0, 1, 2}}}}}}
	for i := range 50_001 {
		s.Nodes = append(s.Nodes, scene.NewNode(fmt.Sprintf("place %d", i)))
	}
	s.Nodes[7].Mesh = 0
	data, _, err := gltf.Write(s, gltf.Options{})
	p.try(err)
	p.try(os.WriteFile(filepath.Join(p.demo, "reeds.glb"), data, 0o644))
	p.mountFile("reeds.glb")
	p.click(`[data-entry="reeds.glb"]`)
	p.clickText("Make it a find")
	p.until(`location.pathname.includes('/finds/')`)
	p.shows(".view .ask", "50,001 nodes")
	p.wait(`[data-view="waiting"]`)
	p.clickText("Draw it all the same")
	p.wait(`[data-view="drawn"]`)
	p.shows("[data-rail]", "50,000")
}

// Rows are chosen by keyboard too; a range with Shift; the choice is kept.
func TestInventoryByKeyboard(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1?tab=inventory"))
	p.drew(400)
	p.wait(`[data-row="m0"]`)
	press := func(row string, held ...browser.Modifier) {
		p.until(fmt.Sprintf(`(document.querySelector('[data-row="%s"]').focus(), document.activeElement.dataset.row === '%s')`, row, row))
		p.keys(kb.Enter, held...)
	}
	p.changes("one row", func() { press("p0.0") })
	p.shows(`[data-chosen]`, "1 chosen")
	press("p0.0") // again: nothing
	p.until(`document.querySelector('[data-chosen]').dataset.chosen === '0'`)
	p.click(`[data-row="m0"]`)
	p.clickWith(`[data-row="k1"]`, browser.Shift) // mesh, two parts, two materials
	p.until(`document.querySelector('[data-chosen]').dataset.chosen === '5'`)
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.until(`document.querySelector('[data-chosen]')?.dataset.chosen === '5'`)
	// Sections close and open.
	p.click(`[data-section="materials"]`)
	p.try(p.Gone(`[data-row="k0"]`))
	p.click(`[data-section="materials"]`)
	p.wait(`[data-row="k0"]`)
	// A texture leads to the picture desk, a picture back to its material.
	p.click(`[data-row="k0t0"]`)
	p.wait(`[data-picture-desk="keeper_cloth_c.tga"]`)
	p.until(`document.querySelector('.overlay .picture img')?.naturalWidth === 512`)
	p.clickText("Back to the model")
	p.try(p.Gone(`.overlay`))
}

// Every format says what it cannot carry before anything is saved.
func TestSaveAs(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1"))
	p.drew(400)
	p.clickText("Save as…")
	p.until(`document.querySelectorAll('[role="dialog"] [data-format]').length >= 12`)
	p.until(`![...document.querySelectorAll('[role="dialog"] [data-format]')].some((e) => e.innerText.includes('asking'))`)
	for format, says := range map[string]string{"glb": "not found are not in the file", "stl": "joint weights not written", "vrm": "needs the bones", "x3d": "skin not written", "bvh": "2 materials not written"} {
		p.shows(fmt.Sprintf(`[data-format="%s"]`, format), says)
	}
	p.until(`document.querySelector('[data-format="vrm"] a').getAttribute('aria-disabled') === 'true' || document.querySelector('[data-format="vrm"] a').classList.contains('Mui-disabled')`)
	if got := mustEval(p, `fetch(document.querySelector('[data-format="x3d"] a').href).then((r) => r.arrayBuffer()).then((b) => String.fromCharCode(...new Uint8Array(b).slice(0, 2)))`); got != "PK" { // with its pictures
		t.Errorf("X3D comes as %q", got)
	}
}

// The chain's bands are looked at in the same ways as finds.
func TestBandsInEveryLook(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/chain/1?band=4&with=0"))
	p.drew(400)
	for _, look := range []string{"normals", "checker", "facing", "plain", "textured"} {
		p.changes(look, func() { p.choose("Surface", look) })
	}
	p.changes("skeleton", func() { p.click(`button[value="skeleton"]`) })
	p.until(`location.search.includes('also=skeleton')`)
	p.choose("Surface", "weights")
	p.choose("Bone", "1")
	p.until(`location.search.includes('bone=1') && location.search.includes('view=weights')`)
	p.drew(300)
	// The motion plays at another speed, for both.
	p.choose("Speed", "2")
	p.click(`.motion button`)
	p.until(`document.querySelector('.view').dataset.speed === '2' && parseFloat(document.querySelector('[data-motion-time]').innerText) > 0.2`)
	p.click(`.motion button`)
}
