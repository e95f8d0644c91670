// Package browser drives Debian's Chromium without a screen, for the tests of
// the interface and for the pictures in the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Page is one tab. Its methods wait up to Patience for what they name.
type Page struct {
	ctx  context.Context
	stop func()
	base string

	mu   sync.Mutex
	said []string // errors on the console
}

// Patience is how long a step waits.
const Patience = 30 * time.Second

// Find returns the Chromium of this machine.
func Find() (string, error) {
	for _, n := range []string{"chromium", "/usr/bin/chromium"} {
		if p, err := exec.LookPath(n); err == nil {
			return p, nil
		}
	}
	return "", fmt.Errorf("chromium is not on this machine; install Debian's package chromium, or run: make setup")
}

// Open starts a browser with a window of w x h pixels on the pages of base.
func Open(parent context.Context, base string, w, h int) (*Page, error) {
	bin, err := Find()
	if err != nil {
		return nil, err
	}
	profile, err := os.MkdirTemp("", "excavate-browser-*")
	if err != nil {
		return nil, err
	}
	opts := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	opts = append(opts, chromedp.ExecPath(bin), chromedp.UserDataDir(profile), chromedp.WindowSize(w, h), chromedp.NoSandbox, chromedp.Headless,
		chromedp.Flag("use-angle", "swiftshader"), chromedp.Flag("enable-unsafe-swiftshader", true),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("force-color-profile", "srgb"), chromedp.WSURLReadTimeout(60*time.Second))
	actx, stopBrowser := chromedp.NewExecAllocator(parent, opts...)
	p := &Page{base: base}
	ctx, stopTab := chromedp.NewContext(actx, chromedp.WithListener(p.hear))
	p.ctx, p.stop = ctx, func() { stopTab(); stopBrowser(); os.RemoveAll(profile) }
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(int64(w), int64(h))); err != nil {
		p.stop()
		return nil, fmt.Errorf("start chromium: %w", err)
	}
	return p, nil
}

// hear keeps what the page complains of: exceptions, errors on its console, and
// what the browser says of it.
func (p *Page) hear(ev any) {
	text := ""
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		text = e.ExceptionDetails.Text
		if x := e.ExceptionDetails.Exception; x != nil {
			text += " " + x.Description
		}
	case *runtime.EventConsoleAPICalled:
		if e.Type != runtime.ConsoleAPICalledTypeError {
			return
		}
		for _, a := range e.Args {
			text += " " + string(a.Value) + a.Description
		}
	case *log.EventEntryAdded:
		if e.Entry.Level != log.EntryLevelError {
			return
		}
		text = e.Entry.Text + " " + e.Entry.URL
	default:
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.said = append(p.said, text)
}

// Complaints are the errors on the console since the browser was opened.
func (p *Page) Complaints() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.said)
}

// Resize gives the window another size, in pixels.
func (p *Page) Resize(w, h int64) error {
	return p.do("resize", chromedp.EmulateViewport(w, h))
}

// Drag presses an element's middle and moves it by so many pixels.
func (p *Page) Drag(sel string, dx, dy float64) error {
	at, err := Eval[[2]float64](p, fmt.Sprintf(`(() => { const r = document.querySelector(%q).getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2] })()`, sel))
	if err != nil {
		return err
	}
	left := func(e *input.DispatchMouseEventParams) { chromedp.ButtonLeft(e); e.Buttons, e.ClickCount = 1, 1 }
	return p.do("drag "+sel,
		chromedp.MouseEvent(input.DispatchMouseEventTypeMousePressed, at[0], at[1], left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, at[0]+dx/2, at[1]+dy/2, left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, at[0]+dx, at[1]+dy, left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseReleased, at[0]+dx, at[1]+dy, left))
}

// DragWith drags from one place of the page to another with a key held.
func (p *Page) DragWith(x, y, toX, toY float64, held Modifier) error {
	left := func(e *input.DispatchMouseEventParams) {
		chromedp.ButtonLeft(e)
		e.Buttons, e.ClickCount, e.Modifiers = 1, 1, int64(held)
	}
	return p.do(fmt.Sprintf("drag from %.0f, %.0f", x, y),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMousePressed, x, y, left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, (x+toX)/2, (y+toY)/2, left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, toX, toY, left),
		chromedp.MouseEvent(input.DispatchMouseEventTypeMouseReleased, toX, toY, left))
}

// Close ends the browser.
func (p *Page) Close() { p.stop() }

func (p *Page) do(what string, a ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	if err := chromedp.Do(ctx, a...); err != nil {
		return fmt.Errorf("%s: %w; %s", what, err, p.state())
	}
	return nil
}

// state is what somebody who was not there needs to see what went wrong: where
// the page is, what has the focus, and how its text begins and ends.
func (p *Page) state() string {
	ctx, cancel := context.WithTimeout(p.ctx, 5*time.Second)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`(() => {
		const a = document.activeElement, text = document.body.innerText.replaceAll("\n", " | ")
		return location.pathname + location.search + ', focus on ' + (a?.id || a?.getAttribute('aria-label') || a?.tagName) +
			'; the page says:\n' + text.slice(0, 1500) + (text.length > 1500 ? '\n…\n' + text.slice(Math.max(1500, text.length - 1500)) : '')
	})()`))
	if err != nil {
		return "the page does not answer: " + err.Error()
	}
	return text
}

// Go opens an address below the base.
func (p *Page) Go(path string) error { return p.do("open "+path, chromedp.Navigate(p.base+path)) }

// Click clicks the first visible element that a CSS selector names.
func (p *Page) Click(sel string) error {
	if err := p.Wait(sel); err != nil {
		return err
	}
	// What is above it may still be on its way and move it: it is clicked once it
	// stays where it is.
	if _, err := Eval[bool](p, fmt.Sprintf(`(async () => {
		for (let i = 0, was = ''; i < 30; i++) {
			const e = document.querySelector(%q)
			e?.scrollIntoViewIfNeeded?.()
			const r = e?.getBoundingClientRect(), is = r ? r.x + ' ' + r.y : ''
			if (is === was) break
			was = is
			await new Promise((done) => setTimeout(done, 25))
		}
		return true
	})()`, sel)); err != nil {
		return err
	}
	return p.do("click "+sel, chromedp.Click(chromedp.CSS(sel), chromedp.NodeVisible))
}

// Open clicks what opens a list. On a machine that is very busy the list takes
// the release of the button for a choice beside it and closes again: then it is
// clicked once more, as a person would.
func (p *Page) Open(sel string) error {
	open := fmt.Sprintf(`document.querySelector(%q)?.getAttribute('aria-expanded') === 'true'`, sel)
	for range 3 {
		if err := p.Click(sel); err != nil {
			return err
		}
		for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			if is, err := Eval[bool](p, open); err != nil {
				return err
			} else if is {
				return nil
			}
		}
	}
	return fmt.Errorf("%s does not open; %s", sel, p.state())
}

// Wait waits for a visible element.
func (p *Page) Wait(sel string) error {
	return p.do("wait for "+sel, chromedp.WaitVisible(chromedp.CSS(sel)))
}

// Gone waits until no element fits.
func (p *Page) Gone(sel string) error {
	return p.do("wait for the end of "+sel, chromedp.WaitNotPresent(chromedp.CSS(sel)))
}

// Type types into an element.
func (p *Page) Type(sel, text string) error {
	return p.do("type into "+sel, chromedp.SendKeys(chromedp.CSS(sel), text, chromedp.NodeVisible))
}

// Key presses keys on the page.
func (p *Page) Key(keys string) error { return p.do("press "+keys, chromedp.KeyEvent(keys)) }

// Modifier is a key that is held.
type Modifier = chromedp.Modifier

// The modifiers.
const (
	Shift = chromedp.ModifierShift
	Ctrl  = chromedp.ModifierCtrl
)

// KeyWith presses keys while others are held.
func (p *Page) KeyWith(keys string, held ...Modifier) error {
	return p.do("press "+keys, chromedp.KeyEvent(keys, chromedp.KeyModifiers(held...)))
}

// ClickWith clicks an element while keys are held.
func (p *Page) ClickWith(sel string, held ...Modifier) error {
	if err := p.Wait(sel); err != nil {
		return err
	}
	at, err := Eval[[2]float64](p, fmt.Sprintf(`(() => { const r = document.querySelector(%q).getBoundingClientRect(); return [r.x + Math.min(40, r.width / 2), r.y + r.height / 2] })()`, sel))
	if err != nil {
		return err
	}
	return p.do("click "+sel, chromedp.MouseClickXY(at[0], at[1], chromedp.ButtonModifiers(held...)))
}

// Wheel turns the wheel over an element's middle; up is towards.
func (p *Page) Wheel(sel string, up int) error {
	at, err := Eval[[2]float64](p, fmt.Sprintf(`(() => { const r = document.querySelector(%q).getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2] })()`, sel))
	if err != nil {
		return err
	}
	return p.do("turn the wheel over "+sel, chromedp.MouseEvent(input.DispatchMouseEventTypeMouseWheel, at[0], at[1], func(e *input.DispatchMouseEventParams) {
		e.DeltaX, e.DeltaY = 1e-9, float64(-100*up) // both must be there, and a zero is left out
	}), chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, at[0]+1, at[1]))
}

// Files puts files into a file chooser.
func (p *Page) Files(sel string, files ...string) error {
	return p.do("choose files", chromedp.SetUploadFiles(chromedp.CSS(sel), files, chromedp.NodeReady))
}

// Text is what an element shows.
func (p *Page) Text(sel string) (string, error) {
	if err := p.Wait(sel); err != nil {
		return "", err
	}
	s, err := Eval[string](p, fmt.Sprintf(`document.querySelector(%q).innerText`, sel))
	return strings.TrimSpace(s), err
}

// Until waits until a JavaScript expression is true.
func (p *Page) Until(expr string) error {
	end := time.Now().Add(Patience)
	for {
		ok, err := Eval[bool](p, "!!("+expr+")")
		if err == nil && ok {
			return nil
		}
		if time.Now().After(end) {
			return fmt.Errorf("%s did not become true (%v); %s", expr, err, p.state())
		}
		time.Sleep(60 * time.Millisecond)
	}
}

// Eval computes a JavaScript expression.
func Eval[T any](p *Page, expr string) (T, error) {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expr, chromedp.EvalAwaitPromise))
}

// Settled waits until fonts, pictures and 3D views are there.
func (p *Page) Settled() error {
	if err := p.Until(`document.fonts.status === 'loaded' && [...document.images].every(i => i.complete) && !document.querySelector('[data-view="waiting"] canvas')`); err != nil {
		return err
	}
	time.Sleep(300 * time.Millisecond)
	return nil
}

// Shot is a PNG of the page.
func (p *Page) Shot() ([]byte, error) {
	ctx, cancel := context.WithTimeout(p.ctx, Patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}

// Paste pastes a text into an element, as from the clipboard.
func (p *Page) Paste(sel, text string) error {
	_, err := Eval[bool](p, fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData('text/plain', %q); return document.querySelector(%q).dispatchEvent(new ClipboardEvent('paste', { clipboardData: d, bubbles: true, cancelable: true })) || true })()`, text, sel))
	return err
}
