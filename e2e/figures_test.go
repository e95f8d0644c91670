package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"excavate/e2e/browser"
	"excavate/internal/demo"
)

// TestFigures does what docs/figures.md says.
func TestFigures(t *testing.T) {
	p := start(t)
	for _, a := range demo.Avatars {
		if a.ID == "corin" || a.ID == "tamsin" {
			if err := os.WriteFile(filepath.Join(p.demo, a.ID+".vrm"), a.VRM(), 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	// The keeper's skeleton: limbs are told, a bone shows its weights and is turned.
	p.try(p.Go("/p/1/finds/1"))
	p.drew(100)
	p.clickText("Bones")
	p.wait(`[data-rig="27"] [data-bone="hips"][data-limb="hips"]`)
	p.click(`[data-bone="upper_arm_l"]`)
	p.until(`location.search.includes('view=weights') && document.querySelector('[data-bone="upper_arm_l"]').getAttribute('aria-selected') === 'true'`)
	p.wait(`[aria-label="Turn about the bone's X"]`)
	p.says(`[data-bone="collar_l"]`, "without weight")

	// Corin does not fit it, and what differs is said.
	p.mountFile("corin.vrm")
	p.try(p.Go("/p/1/sources?q=corin"))
	p.click(`[data-entry="corin.vrm"]`)
	p.drew(100)
	p.clickText("Make it a find")
	p.until(`location.pathname === '/p/1/finds/2' && !!document.querySelector('[data-view="drawn"]')`)
	p.clickText("Bones")
	p.click(`input[aria-label="Must fit the skeleton of"]`)
	p.click(`.MuiAutocomplete-option`)
	p.until(`Number(document.querySelector('[data-against]')?.dataset.against) > 0`)
	p.says(`[data-against]`, "times as tall")
	p.clickText("Fit it in a chain")
	p.until(`location.pathname.startsWith('/p/1/chain/') && document.querySelector('[data-band="1"]')?.dataset.state === 'ready'`)
	p.says(`[data-band="1"]`, "to the skeleton of the reference")
	// The bones of a band stand below its model.
	p.clickText("Bones")
	p.click(`[data-bone="upper_arm_r"]`)
	p.until(`location.search.includes('view=weights')`)
	p.clickText("Close the bones")

	// The keeper's motion for Corin, by the document.
	p.try(p.Files(`input[aria-label="Chain document"]`, filepath.Join(p.demo, "corin.yaml")))
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(`document.querySelectorAll('.band.ready').length === 3`)
	p.says(`[data-band="1"]`, "carried over, on 21 limbs")
	p.click(`[data-band="2"]`)
	p.says(`[data-figure="motions"]`, "1")

	// The motion along its time, below the model: a part of it is chosen and cut.
	p.clickText("Motion")
	p.wait(`[data-strip="punting"]`)
	p.says(`[data-strip]`, "left foot")
	p.until(`!!document.querySelector('[data-view="drawn"]')`)
	box, err := browser.Eval[[]float64](p.Page, `(() => { const b = document.querySelector('[data-strip] svg').getBoundingClientRect(); return [b.left, b.top, b.width] })()`)
	p.try(err)
	p.try(p.DragWith(box[0]+box[2]/4, box[1]+20, box[0]+box[2]/2, box[1]+22, 0))
	p.says(`[data-strip-says]`, "0.60 s to 1.20 s")
	p.clickText("Cut to it")
	p.until(`document.querySelector('[data-trial="ready"]')?.innerText.includes('2.4 s → 0.6 s')`)
	p.clickText("Let it go")
	p.clickText("Close the motion")

	// The keeper back on its own skeleton.
	p.try(p.Go("/p/1/chain/1"))
	p.until(`document.querySelector('[data-band="0"]')?.dataset.state === 'ready'`)
	p.try(p.Files(`input[aria-label="Chain document"]`, filepath.Join(p.demo, "keeper_back.yaml")))
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(`document.querySelector('[data-band="4"]')?.dataset.state === 'ready'`)
	p.says(`[data-band="4"]`, "1 root name, 1 missing bone, 1 additional bone")

	// The keeper walks as Tamsin does, who is an entry and no find.
	p.mountFile("tamsin.vrm")
	p.try(p.Go("/p/1/chain/1"))
	p.until(`document.querySelector('[data-band="0"]')?.dataset.state === 'ready'`)
	p.try(p.Files(`input[aria-label="Chain document"]`, filepath.Join(p.demo, "keeper_strolls.yaml")))
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(`document.querySelector('[data-band="1"]')?.dataset.state === 'ready'`)
	p.says(`[data-band="1"]`, "1 motion carried over")
	p.says(`[data-figure="motions"]`, "2")
}
