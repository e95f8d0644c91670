package e2e

import (
	"excavate/e2e/browser"
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
	// One material, chosen from those that there are.
	p.click(`input[aria-label="Parts with material"]`)
	p.try(p.Type(`input[aria-label="Parts with material"]`, "keeper_cl"))
	p.click(`.MuiAutocomplete-option`)
	p.until(`document.querySelector('[data-takes]')?.innerText.includes('1 material ')`)
	p.try(p.setField("Roughness", "0.25"))
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('1 material changed')`)
	// A rule that takes nothing says why; one that is none says where.
	p.try(p.setField("And if", "triangles > 100000"))
	p.until(`document.querySelector('[data-takes="0"]')?.innerText.includes('nothing fulfils triangles > 100000')`)
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('nothing is chosen')`)
	p.try(p.setField("And if", "colour == 3"))
	p.until(`document.querySelector('[data-if="wrong"]')?.innerText.includes('there is no colour')`)
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('nothing is chosen')`)
	p.clickText("Undo")
	p.until(`document.querySelector('[data-band="2"]').innerText.includes('1 material changed')`)
}

// What is chosen in the inventory or the model is answered with rules that say
// the same; a step is tried on one, and kept or let go.
func TestChooseTryAndKeep(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/chain/1?band=1"))
	p.until(`document.querySelectorAll('.band.ready').length === 5`)
	p.until(`document.querySelector('[data-view="drawn"]')`)
	p.clickText("Inventory")
	p.until(`document.querySelectorAll('[data-tray] [data-key]').length > 3`)
	p.click(`[data-tray] button[value="materials"]`)
	p.until(`document.querySelector('[data-tray="materials"] [data-key="k0"]')`)
	p.click(`[data-key="k0"]`)
	p.until(`document.querySelector('[data-key="k0"]').getAttribute('aria-selected') === 'true'`)
	p.until(`document.querySelector('[data-proposal="0"]')?.dataset.words.startsWith('with material')`)
	p.clickText("Act on them")
	// Only steps that act on some things, with how much they would change.
	p.until(`document.querySelector('[data-acts="surface"]')?.innerText.includes('1 material here') && !document.querySelector('[data-step="ground"]')`)
	p.try(p.Type(`input[aria-label="Search steps"]`, "surface"))
	p.keys(kb.Enter)
	p.until(`document.querySelector('[data-evidence="trial"]') && document.querySelector('.band.trial')`)
	p.try(p.setField("Roughness", "0.25"))
	p.until(`document.querySelector('[data-trial="ready"]')?.innerText.includes('1 material changed')`)
	bands := `document.querySelectorAll('.band:not(.trial)').length`
	p.until(bands + ` === 5`)
	p.clickText("Let it go")
	p.until(`!document.querySelector('.band.trial')`)
	p.clickText("Act on them")
	p.until(`document.querySelector('[data-step="surface"]')`)
	p.click(`[data-step="surface"]`)
	p.try(p.setField("Roughness", "0.5"))
	p.until(`document.querySelector('[data-trial="ready"]')?.innerText.includes('1 material changed')`)
	p.clickText("Keep it")
	p.until(bands + ` === 6 && document.querySelector('[data-band="2"]').dataset.state === 'ready' && document.querySelector('[data-band="2"]').innerText.includes('1 material changed')`)
	// In the model: a box with Shift held takes what lies in it.
	p.until(`document.querySelector('[data-view="drawn"]') && document.querySelector('[data-tray]')`)
	at := mustEvalOf[[4]float64](p, `(() => { const r = document.querySelector('canvas').getBoundingClientRect(); return [r.left, r.top, r.width, r.height] })()`)
	taken := `document.querySelector('[data-tray] [aria-selected="true"]') !== null && location.search.includes('chosen=n')`
	for range 5 { // the model of the new band may only just be arriving
		p.try(p.DragWith(at[0]+8, at[1]+0.3*at[3], at[0]+at[2]-120, at[1]+at[3]-8, browser.Shift))
		p.try(p.Settled())
		if mustEvalOf[bool](p, taken) {
			break
		}
	}
	p.until(taken)
	// A copy for the same asset, and a branch from a band.
	p.clickText("More")
	p.clickText("Branch from this band…")
	p.wait(`input[aria-label="Name of the chain"]`)
	p.clickText("Make it")
	p.until(`/chain\/[0-9]+$/.test(location.pathname) && !location.pathname.endsWith('/1') && ` + bands + ` === 3`)
	p.says(`h2`, "branch")
}

func mustEvalOf[T any](p *porter, js string) T {
	v, err := browser.Eval[T](p.Page, js)
	p.try(err)
	return v
}
