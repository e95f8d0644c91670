package e2e

import (
	"os"
	"path/filepath"
	"testing"
)

// A name with a mark that turns text round shows the mark.
func TestNamesThatTurnTextRound(t *testing.T) {
	p := start(t)
	dir := filepath.Join(p.demo, "odd")
	p.try(os.MkdirAll(dir, 0o755))
	p.try(os.WriteFile(filepath.Join(dir, "sail\u202egpj.txt"), []byte("calm"), 0o644))
	p.mountFile("odd")
	p.try(p.Go("/p/1/sources?q=sail"))
	p.click(`[data-entry^="sail"]`)
	p.shows(`[data-entry^="sail"]`, "sail‹U+202E›gpj.txt")
	p.shows(`[data-preview^="sail"]`, "sail‹U+202E›gpj.txt")
	p.until(`![...document.querySelectorAll('main *')].some(e => [...e.childNodes].some(n => n.nodeType === 3 && n.data.includes('\u202e')))`)
}

// What is taken out is named with what went with it, and comes back; what is
// typed in a layout stays when one looks elsewhere.
func TestTakenOutAndDrafts(t *testing.T) {
	p := start(t)
	p.try(p.Go("/p/1/finds/1"))
	p.wait(`[data-find="ferry_keeper"][data-state="ready"]`)
	p.clickText("Take out")
	p.shows(`[data-taken-out]`, "Taken out: ferry_keeper, with 1 chain")
	p.try(p.Gone(`[data-find="ferry_keeper"]`))
	p.click(`[aria-label="Put back ferry_keeper"]`)
	p.wait(`[data-find="ferry_keeper"][data-state="ready"]`)
	p.try(p.Gone(`[data-taken-out]`))
	p.try(p.Go("/p/1/sources"))
	p.wait(`[data-source="hulls.tide"]`)
	p.until(`(document.querySelector('[aria-label="Take out hulls.tide"]').click(), true)`) // shown when the pointer is over it
	p.wait(`[data-taken-out="1"]`)
	p.click(`[aria-label="Put back hulls.tide"]`)
	p.wait(`[data-source="hulls.tide"]`)

	// A layout: half a line typed, then away and back.
	p.try(p.Go("/p/1/sources/layouts"))
	p.clickText("Copy to change it")
	p.wait(`[data-check="works"]`)
	p.click(`.cm-content`)
	p.try(p.Type(`.cm-content`, "# half a thought"))
	p.wait(`[data-draft]`)
	p.clickText("All layouts")
	p.clickText("Open")
	p.shows(`.cm-content`, "# half a thought")
	p.click(`[data-draft]`)
	p.try(p.Gone(`[data-draft]`))
	p.until(`!document.querySelector('.cm-content').innerText.includes('half a thought')`)
}
