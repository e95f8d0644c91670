package e2e

import (
	"fmt"
	"path/filepath"
	"testing"

	"excavate/e2e/browser"

	"github.com/chromedp/chromedp/kb"
)

// TestStiltVillage does what docs/stilt-village.md says.
func TestStiltVillage(t *testing.T) {
	p := start(t)
	p.mountFile("village.zip")
	p.try(p.Go("/p/1/sources?q=stilt_village"))
	p.click(`[data-entry="stilt_village.glb"]`)
	p.drew(100)
	p.clickText("Make it a find")
	p.until(`location.pathname.startsWith('/p/1/finds/') && document.querySelector('[data-view="drawn"]')?.dataset.triangles === '3700'`)
	p.clickText("Start a chain")
	p.until(`location.pathname.startsWith('/p/1/chain/')`)
	p.until(`document.querySelector('[data-band="0"]')?.dataset.state === 'ready' && document.querySelector('[data-view="drawn"]')?.dataset.triangles === '3700'`)

	// What is in it: tool surfaces are chosen, and taken out by a rule.
	p.clickText("Inventory")
	p.click(`[data-tray] button[value="materials"]`)
	p.click(`[data-key="k5"]`)
	p.try(p.ClickWith(`[data-key="k6"]`, browser.Ctrl))
	p.until(`document.querySelector('[data-proposal="0"]')?.dataset.words === 'with material tool_*'`)
	p.clickText("Act on them")
	p.click(`[data-step="strip"]`)
	p.until(`document.querySelector('[data-trial="ready"]')?.innerText.includes('37 nodes, 37 parts removed')`)
	p.clickText("Keep it")
	p.until(`document.querySelector('[data-band="1"]')?.dataset.state === 'ready'`)

	// The rest as a document.
	p.try(p.Files(`input[aria-label="Chain document"]`, filepath.Join(p.demo, "village.yaml")))
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(`document.querySelectorAll('.band.ready').length === 10`)
	p.drew(100)
	for band, want := range map[string]string{
		"1": "1 camera, 7 helpers removed", "2": "triangles 3700", "3": "24 meshes of other states removed", "4": "materials 5",
		"9": "150 colliders made (box)",
	} {
		p.until(`(e => e.innerText.includes(` + "`" + want + "`" + `) || e.title.includes(` + "`" + want + "`" + `))(document.querySelector('[data-band="` + band + `"]'))`)
	}
	// Of ten bands those away from the chosen one are thin.
	p.until(`document.querySelector('[data-band="5"]').classList.contains('thin') && !document.querySelector('[data-band="9"]').classList.contains('thin')`)
	p.says(`[data-figure="colliders"]`, "150")
	p.click(`[data-band="6"]`)
	p.until(`!document.querySelector('[data-band="6"]').classList.contains('thin')`)
	// Groups of steps fold into one stratum that says what they come to, and the address keeps it.
	p.says(`[data-group="Take out"]`, "3 steps")
	p.click(`[data-group="Take out"]`)
	p.until(`!document.querySelector('[data-band="2"]') && document.querySelector('[data-group="Take out"]').innerText.includes('triangles 3,700 → ')`)
	p.until(`location.search.includes('folded=1')`)
	p.click(`[data-group="Take out"]`)
	p.wait(`[data-band="2"]`)
	p.click(`[data-band="9"]`)
	p.wait(`[data-evidence="Colliders"]`)
	p.try(p.Type(`input[aria-label="Group"]`, "To stand on"))
	p.try(p.Key("\r"))
	p.wait(`[data-group="To stand on"]`)
	p.click(`[data-band="6"]`)
	// The materials desk: a picture is given to one, and by a pattern to all that are named so.
	p.clickText("Materials desk")
	p.click(`[data-cell="plank_wall normal"]`)
	p.try(p.Type(`input[aria-label="Search pictures"]`, "reed_o"))
	p.click(`[data-picture="reed_o.png"]`)
	p.clickText("Put it in the table")
	p.until(`document.querySelector('[data-cell="plank_wall normal"]')?.innerText === 'reed_o.png'`)
	p.click(`[data-cell="reed_roof colour"]`)
	p.wait(`[data-give="reed_roof colour"]`)
	p.try(p.Type(`[data-give] input[aria-label="Materials named"]`, "[nothing"))
	p.try(p.Type(`[data-give] input[aria-label="Picture named"]`, "reed_*"))
	p.clickText("Put it in the table")
	p.until(`document.querySelector('[data-rows]').dataset.rows === '2' && document.querySelector('[role="dialog"] [role="status"]').innerText.length > 0`)
	p.clickText("Done")
	p.wait(`[data-trial="ready"]`)
	p.clickText("Let it go")
	// A band is dragged to another place.
	p.until(`(() => {
		const from = document.querySelector('[data-band="8"]'), to = document.querySelector('[data-band="7"]'), data = new DataTransfer()
		const tell = (e, kind) => e.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}))
		tell(from, 'dragstart'); tell(to, 'dragover'); tell(to, 'drop'); tell(from, 'dragend')
		return true
	})()`)
	p.until(`document.querySelector('[data-band="7"]').dataset.title === 'Surface' && document.querySelectorAll('.band.ready').length === 10`)
}

// Several finds become one, each in its place; a step brings another asset in.
func TestPutTogether(t *testing.T) {
	p := start(t)
	p.mountFile("village.zip")
	p.try(p.Go("/p/1/sources?q=stilt_village"))
	p.click(`[data-entry="stilt_village.glb"]`)
	p.clickText("Make it a find")
	p.until(`location.pathname.startsWith('/p/1/finds/') && document.querySelector('[data-view="drawn"]')?.dataset.triangles === '3700'`)
	p.try(p.Go("/p/1/finds"))
	p.until(`document.querySelectorAll('[data-card]').length === 2`)
	p.click(`[data-card="0"] a`)
	p.try(p.Go("/p/1/finds"))
	p.until(`document.querySelectorAll('[data-card]').length === 2`)
	p.try(p.ClickWith(`[data-card="0"]`, browser.Ctrl))
	p.try(p.ClickWith(`[data-card="1"]`, browser.Ctrl))
	p.until(`document.querySelector('[data-chosen="2"]')`)
	p.clickText("Put together…")
	p.wait(`input[aria-label="Name of the assembly"]`)
	p.try(p.setField("Name of the assembly", "keeper in the village"))
	p.keys(kb.Enter)
	p.until(`/finds\/[0-9]+$/.test(location.pathname) && document.querySelector('[data-view="drawn"]')?.dataset.triangles === '10452'`)
	p.says(`[data-figure="Triangles"]`, "10,452")
	p.says(`h1`, "keeper in the village")

	// The keeper's chain takes the village in, chosen among the finds.
	p.try(p.Go("/p/1/chain/1?band=2"))
	p.until(`document.querySelectorAll('.band.ready').length === 5`)
	p.clickText("Add step")
	p.try(p.Type(`input[aria-label="Search steps"]`, "bring in"))
	p.keys(kb.Enter)
	p.until(`document.querySelector('[data-band="3"]')?.innerText.includes('no asset is named')`)
	p.click(`input[aria-label="Asset"]`)
	p.until(`[...document.querySelectorAll('[role="option"]')].some((e) => e.innerText === 'stilt_village.glb')`)
	p.until(`([...document.querySelectorAll('[role="option"]')].find((e) => e.innerText === 'stilt_village.glb')?.click(), true)`)
	p.until(`document.querySelector('[data-band="3"]').innerText.includes('stilt_village brought in: 400 nodes') && document.querySelectorAll('.band.ready').length === 6`)
	p.says(`[data-figure="triangles"]`, "10,452")
}

// beginChain makes a find of an entry and opens a chain's document of the demo
// for it.
func (p *porter) beginChain(entry, document string, bands int) {
	p.t.Helper()
	p.try(p.Go("/p/1/sources?q=" + entry))
	p.click(`[data-entry="` + entry + `"]`)
	p.drew(20)
	p.clickText("Make it a find")
	p.until(`location.pathname.startsWith('/p/1/finds/') && !!document.querySelector('[data-view="drawn"]')`)
	p.clickText("Start a chain")
	p.until(`location.pathname.startsWith('/p/1/chain/') && document.querySelector('[data-band="0"]')?.dataset.state === 'ready'`)
	p.try(p.Files(`input[aria-label="Chain document"]`, filepath.Join(p.demo, document)))
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(fmt.Sprintf(`document.querySelectorAll('.band.ready').length === %d`, bands))
	p.drew(20)
}

// TestAHouseOfBlocks does what docs/voxels.md says.
func TestAHouseOfBlocks(t *testing.T) {
	p := start(t)
	p.mountFile("village.zip")
	p.beginChain("stilt_village.glb", "hut_blocks.yaml", 7)
	p.says(`[data-band="4"]`, "voxels of 0.125 m, 45 × 55 × 52")
	p.says(`[data-band="5"]`, "loose bits of fewer than 12 dropped")
	p.says(`[data-band="6"]`, "→ 6 of 8")

	// Another palette recolours what is there: only that step is computed.
	p.clickText("Add step")
	p.try(p.Type(`input[aria-label="Search steps"]`, "palette"))
	p.keys(kb.Enter)
	p.until(`document.querySelector('[data-band="7"]')?.dataset.state === 'ready'`)
	p.clickText("Undo")
	p.until(`!document.querySelector('[data-band="7"]')`)

	// Plans to build it by.
	p.clickText("More")
	p.wait(`[role="menuitem"][href*="/blocks?format=pdf"]`)
	n := mustEval(p,
		`fetch(document.querySelector('[role="menuitem"][href*="format=json"]').href).then((r) => r.json()).then((b) => String(b.layers.length + ' ' + b.kinds.length))`)
	if n != "55 6" {
		t.Errorf("layers and kinds: %s", n)
	}
	p.try(p.Key(kb.Escape))
	p.until(`!document.querySelector('[role="menu"]')`)

	// Surfaces of them have a material for each kind of block.
	p.clickText("Add step")
	p.click(`[data-step="surfaces"]`)
	p.until(`document.querySelector('[data-band="7"]')?.dataset.state === 'ready'`)
	p.says(`[data-band="7"]`, "1 volume made surfaces")
	p.says(`[data-band="7"]`, "the surfaces are hollow")
}

// TestAWeirHouse does what docs/levels.md says.
func TestAWeirHouse(t *testing.T) {
	p := start(t)
	p.mountFile("levels.zip")
	p.beginChain("maps/weir_house.map", "weir_house.yaml", 7)
	p.says(`[data-band="1"]`, "triangles 492 → 460")
	p.says(`[data-band="2"]`, "3 lights, 2 helpers removed")
	p.says(`[data-band="3"]`, "height 5.75 m")
	p.says(`[data-band="6"]`, "colliders made")
	p.clickText("Finds")
	p.until(`location.pathname.includes('/finds')`)
	p.says(`main`, "closed: none of 5 entities gets outside")
}

// The boat and the heron of the workshop, as their page says.
func TestWorkshop(t *testing.T) {
	p := start(t)
	p.mountFile("workshop.zip")
	p.beginChain("race_punt.glb", "punt_rework.yaml", 6)
	p.says(`[data-band="4"]`, "vertices 979 → 493")
	p.clickText("Add step")
	p.click(`[data-step="mirror"]`)
	p.until(`document.querySelector('[data-band="6"]')?.dataset.state === 'ready'`)
	p.says(`[data-band="6"]`, "of the half that went")
	p.clickText("Undo")
	p.until(`!document.querySelector('[data-band="6"]')`)

	p.beginChain("heron_shapes.glb", "heron_bricks.yaml", 6)
	p.says(`[data-band="2"]`, "360 faces of 30 parts")
	p.says(`[data-band="3"]`, "30 → 3")
	p.click(`[data-band="5"]`)
	p.says(`[data-figure="materials"]`, "3")
	p.says(`[data-band="5"]`, "→ 1.1 m")
}
