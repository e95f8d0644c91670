package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// A step is found by its words, acts on what a rule takes, and says what that
// is before anything runs.
func TestAStepWithARule(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/chain/1?band=1"))
	p.until(`document.querySelectorAll('.band.ready').length === 5`)
	p.clickText("Add step")
	p.try(p.Type(`input[aria-label="Search steps"]`, "surface"))
	p.until(`[...document.querySelectorAll('[data-step]')].some((e) => e.dataset.step === 'surface') && !document.querySelector('[data-step="weld"]')`)
	p.keys(kb.Enter)
	p.until(`document.querySelector('[data-band="2"]')?.dataset.title === 'Surface'`)
	p.click(`[data-pick] input[type="checkbox"]`)
	p.until(`document.querySelector('[data-takes]')?.innerText.includes('2 materials')`)
	p.try(func() error { b, err := p.Shot(); os.WriteFile("/tmp/"+"rule-all"+".png", b, 0o644); return err }())
	// One material, chosen from those that there are.
	p.click(`input[aria-label="Parts with material"]`)
	p.try(p.Type(`input[aria-label="Parts with material"]`, "keeper_cl"))
	p.click(`.MuiAutocomplete-option`)
	p.until(`document.querySelector('[data-takes]')?.innerText.includes('1 material ')`)
	p.try(p.setField("Roughness", "0.25"))
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('1 material changed')`)
	p.try(func() error { b, err := p.Shot(); os.WriteFile("/tmp/"+"rule-one"+".png", b, 0o644); return err }())
	// A rule that takes nothing says why; one that is none says where.
	p.try(p.setField("And if", "triangles > 100000"))
	p.until(`document.querySelector('[data-takes="0"]')?.innerText.includes('nothing fulfils triangles > 100000')`)
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('nothing is chosen')`)
	p.try(p.setField("And if", "colour == 3"))
	p.until(`document.querySelector('[data-if="wrong"]')?.innerText.includes('there is no colour')`)
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('nothing is chosen')`)
	p.try(func() error { b, err := p.Shot(); os.WriteFile("/tmp/"+"rule-wrong"+".png", b, 0o644); return err }())
	p.clickText("Undo")
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('1 material changed')`)
}
