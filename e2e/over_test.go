package e2e

import (
	"fmt"
	"testing"

	"excavate/e2e/browser"
)

// One chain over several finds: a table of what each step did, the odd ones
// first; one is changed for itself, then for all.
func TestAChainOverMany(t *testing.T) {
	p := start(t)
	p.mountFile("harbour.zip")
	p.try(p.Go("/p/1/finds"))
	p.clickText("Decode every model")
	p.until(`document.querySelectorAll('[data-card]').length >= 5 && [...document.querySelectorAll('[data-card]')].every((e) => e.querySelector('[data-find]')?.dataset.state !== 'decoding' && e.dataset.state !== 'decoding')`)
	n := mustEvalOf[int](p, `document.querySelectorAll('[data-card]').length`)
	p.try(p.Click(`[data-card="0"] a`))
	p.try(p.Go("/p/1/finds"))
	p.until(`document.querySelectorAll('[data-card]').length >= 5`)
	for i := range n {
		p.try(p.ClickWith(fmt.Sprintf(`[data-card="%d"]`, i), browser.Ctrl))
	}
	p.until(fmt.Sprintf(`document.querySelector('[data-chosen="%d"]')`, n))
	p.clickText("Run a chain over them…")
	p.until(`[...document.querySelectorAll('[role="menuitem"]')].some((e) => e.innerText === 'Sedgewater to engine')`)
	p.clickText("Sedgewater to engine")
	p.until(fmt.Sprintf(`location.pathname === '/p/1/over' && document.querySelector('[data-over="%d"]')`, n))
	p.until(`document.querySelectorAll('[data-step]').length === 4 && !document.querySelector('.cell.waiting')`)
	p.says(`[data-step="Weld"]`, "4 Weld")
	p.until(fmt.Sprintf(`document.querySelectorAll('[data-asset-row]').length === %d`, n))
	// One is changed for itself.
	p.click(`[data-asset-row] a`)
	p.until(`location.pathname.startsWith('/p/1/chain/') && document.querySelectorAll('.band.ready').length === 5`)
	p.click(`[data-band="4"]`)
	p.clickText("Remove")
	p.until(`document.querySelectorAll('.band.ready').length === 4`)
	p.clickText("More")
	p.clickText("Over all of its assets")
	p.until(`document.querySelector('main').innerText.includes('have steps of their own') || document.querySelector('main').innerText.includes('has steps of their own')`)
	// And then for all.
	p.until(`(document.querySelectorAll('[data-over] button').forEach((b) => b.innerText.startsWith('Steps of ') && b.click()), true)`)
	p.until(`document.querySelectorAll('[data-step]').length === 3 && !document.querySelector('main').innerText.includes('of their own')`)
}
