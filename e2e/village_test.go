package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"excavate/e2e/browser"
)

func shoot(p *porter, name string) {
	b, err := p.Shot()
	p.try(err)
	p.try(os.WriteFile("/tmp/shot-"+name+".png", b, 0o644))
}

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
	shoot(p, "village-tools")
	p.clickText("Act on them")
	p.click(`[data-step="strip"]`)
	p.until(`document.querySelector('[data-trial="ready"]')?.innerText.includes('37 nodes, 37 parts removed')`)
	shoot(p, "village-trial")
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
	shoot(p, "village-chain")
	p.says(`[data-figure="colliders"]`, "150")
	p.click(`[data-band="6"]`)
	p.until(`!document.querySelector('[data-band="6"]').classList.contains('thin')`)
	// A band is dragged to another place.
	p.until(`(() => {
		const from = document.querySelector('[data-band="8"]'), to = document.querySelector('[data-band="7"]'), data = new DataTransfer()
		const tell = (e, kind) => e.dispatchEvent(new DragEvent(kind, {bubbles: true, cancelable: true, dataTransfer: data}))
		tell(from, 'dragstart'); tell(to, 'dragover'); tell(to, 'drop'); tell(from, 'dragend')
		return true
	})()`)
	p.until(`document.querySelector('[data-band="7"]').dataset.title === 'Surface' && document.querySelectorAll('.band.ready').length === 10`)
	shoot(p, "village-moved")
}
