package e2e

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp/kb"
)

// TestPaper does what docs/paper.md says.
func TestPaper(t *testing.T) {
	p := start(t)
	script := axeScript(t)
	p.mountFile("harbour.zip")
	p.try(p.Go("/p/1/sources?q=pontoon"))
	p.click(`[data-entry="pontoon.glb"]`)
	p.drew(20)
	p.clickText("Make it a find")
	p.until(`location.pathname.startsWith('/p/1/finds/') && !!document.querySelector('[data-view="drawn"]')`)
	p.clickText("On paper")
	p.wait(`[data-paper="made"]`)
	p.until(`document.querySelector('[data-stage="delivery"]').getAttribute('aria-current') === 'page'`)

	// Smaller, on other paper: fewer pages, and the address says it.
	p.try(p.setField("Height of the model", "25"))
	p.until(`location.search.includes('height=25')`)
	p.until(`document.querySelector('[data-paper="made"] [data-figure="Size"]').innerText.includes('× 25 ×')`)
	p.until(`document.querySelectorAll('[data-page]').length === Number(document.querySelector('[data-figure="Pages"]').innerText)`)
	p.drew(20)
	for _, v := range p.judged(script) {
		t.Errorf("%s: %s, %v", v.Impact, v.Help, v.Nodes)
	}
	pages := p.text(`[data-figure="Pages"]`)

	// The first fold is cut by hand, and let go again.
	p.until(`(document.querySelector('[data-line="mountain"]').dispatchEvent(new MouseEvent('click', {bubbles: true})), true)`)
	p.until(`location.search.includes('cut=') && document.querySelectorAll('.by-hand.cut').length >= 2`)
	p.until(`!!document.querySelector('[data-paper="made"]')`)
	p.says(`main`, "1 edge cut, 0 joined by hand")
	p.try(p.Go(mustEval(p, `location.pathname + location.search`)))
	p.wait(`[data-paper="made"]`)
	p.says(`main`, "1 edge cut, 0 joined by hand")
	p.clickText("Let go")
	p.until(`!location.search.includes('cut=') && !document.querySelector('.by-hand')`)
	p.until(`!!document.querySelector('[data-paper="made"]')`)

	// By keyboard as well: the third line of the first page.
	p.until(`(document.querySelector('[data-page="1"]').focus(), document.activeElement?.dataset.page === '1')`)
	for range 3 {
		p.try(p.Key(kb.ArrowRight))
	}
	p.until(`document.querySelectorAll('.touch.at').length === 1`)
	p.try(p.Key(kb.Enter))
	p.until(`location.search.includes('cut=') || location.search.includes('join=')`)
	p.clickText("Let go")
	p.until(`!location.search.includes('cut=') && !location.search.includes('join=')`)

	// An edge is chosen in the model, too.
	p.drew(20)
	p.clickAt(0.5, 0.55)
	p.until(`location.search.includes('cut=') || location.search.includes('join=')`)
	p.clickText("Let go")
	p.until(`document.querySelector('[data-figure="Pages"]').innerText === ` + "`" + pages + "`")

	// What is typed and is no length stays out.
	p.try(p.setField("Margin", "-3"))
	p.until(`!location.search.includes('margin')`)
	p.try(p.setField("Margin", "95"))
	p.until(`document.querySelector('[role="alert"]')?.innerText.includes('a margin of 95 mm')`)
	p.try(p.setField("Margin", "8"))
	p.wait(`[data-paper="made"]`)
	if href := mustEval(p,
		`[...document.querySelectorAll('a')].find((a) => a.innerText === 'Save as PDF').getAttribute('href')`); !strings.Contains(href, "format=pdf") || !strings.Contains(href, "margin=8") {
		t.Errorf("the file is %s", href)
	}
	p.try(p.Resize(1024, 700))
	p.drew(20)
}
