// Command shots takes the pictures of docs/screenshots from the demo project
// of a fresh data folder.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"time"

	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/shipped"
	"excavate/standin/console"
	"excavate/standin/exchange"
	"excavate/standin/receiver"
)

func main() {
	out := "docs/screenshots"
	if len(os.Args) > 1 {
		out = os.Args[1]
	}
	if err := run(out); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(out string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	data, err := os.MkdirTemp("", "excavate-shots-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(data)
	lib, err := shipped.Library(nil)
	if err != nil {
		return err
	}
	demo := filepath.Join(data, "sedgewater")
	a, err := app.Start(ctx, app.Config{Workers: 2, Data: data, Library: []string{demo}, Lib: lib})
	if err != nil {
		return err
	}
	defer a.Close()
	con, ex := httptest.NewServer(console.New().Handler()), httptest.NewServer(exchange.New().Handler())
	defer con.Close()
	defer ex.Close()
	if err := a.Demo(ctx, demo, app.Device{Address: con.URL}, app.Device{Address: ex.URL, Token: exchange.Token}); err != nil {
		return err
	}
	p, err := browser.Open(ctx, a.Address, 1280, 800)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	if err := plain(p, out); err != nil {
		return err
	}
	engine := httptest.NewServer(receiver.NewEngine().Handler())
	defer engine.Close()
	a.Service.Deliveries.SetReceivers([]string{engine.URL})
	if err := farSide(p, a.Address, demo, out); err != nil {
		return err
	}
	return tutorial(p, a.Address, demo, out)
}

const drawn = `[data-view="drawn"]`

// shoot takes one picture when the page has settled.
func shoot(p *browser.Page, out, name, wait string) error {
	if err := p.Wait(wait); err != nil {
		return err
	}
	if err := p.Settled(); err != nil {
		return err
	}
	png, err := p.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
}

// plain takes the pictures of the demo project as it starts.
func plain(p *browser.Page, out string) error {
	for _, s := range []struct {
		name, path string
		click      []string
		wait       string
	}{
		{"finds", "/", nil, `[data-card]`},
		{"find", "/p/1/finds/1", nil, drawn},
		{"finds-bones", "/p/1/finds/1?tab=skeleton", []string{`[data-bone="upper_arm_l"]`}, `[data-bone="upper_arm_l"][aria-selected="true"]`},
		{"finds-pictures", "/p/1/finds/1?tab=pictures&pic=0", nil, `.histogram`},
		{"finds-compare", "/p/1/finds/1?tab=compare&with=b1.4&far=1", nil, `[data-legend]`},
		{"sources", "/p/1/sources", []string{`[data-entry="figures/ferry_keeper.hull"]`}, drawn},
		{"sources-picture", "/p/1/sources?view=tree&open=wash|wash/keeper", []string{`[data-entry="wash/keeper/keeper_cloth_c.wash"]`}, `.picture img`},
		{"devices", "/p/1/sources", []string{`[data-devices]`, `[data-device^="Sedgewater"]`, `[data-offer="corin.vrm"] input`}, `[data-offer="tamsin.vrm"]`},
		{"bytes", "/p/1/sources?q=punt_c", []string{`[data-entry="wash/boats/punt_c.wash"]`, `[data-bytes]`, `[data-byte="12"]`, `[data-follow]`, `[role="combobox"][aria-label="Texel format"]`, `[role="option"][data-value="a1b5g5r5_pack16"]`, `[data-guess="256"]`}, `[data-trial^="256"]`},
		{"chain", "/p/1/chain/1?band=4&tray=1&chosen=k0", []string{`[data-tray] button[value="materials"]`, `[data-key="k0"]`, `[data-key="k0"]`}, `[data-proposal="0"]`},
		{"paper", "/p/1/finds/1", []string{`a[href*="/paper?scene="]`}, `[data-paper="made"]`},
		{"targets", "/p/1/targets/tideworks", nil, `[data-check="works"]`},
	} {
		if err := p.Go(s.path); err != nil {
			return err
		}
		for _, c := range s.click {
			if err := p.Click(c); err != nil {
				return err
			}
		}
		if err := shoot(p, out, s.name, s.wait); err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
	}
	return nil
}

// api is a client that stops at the first failure.
type api struct {
	base string
	err  error
}

func (a *api) call(method, path string, body, to any) {
	if a.err != nil {
		return
	}
	b, err := json.Marshal(body)
	if err != nil {
		a.err = err
		return
	}
	req, err := http.NewRequest(method, a.base+path, bytes.NewReader(b))
	if err != nil {
		a.err = err
		return
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		a.err = err
		return
	}
	defer res.Body.Close()
	b, _ = io.ReadAll(res.Body)
	if res.StatusCode >= 300 {
		a.err = fmt.Errorf("%s %s: %s", method, path, b)
	} else if to != nil {
		a.err = json.Unmarshal(b, to)
	}
}

// entry waits until an entry is there and is of a kind; empty is any.
func (a *api) entry(name, kind string) int64 {
	for range 300 {
		var page struct {
			Entries []struct {
				ID   int64 `json:"id"`
				Kind string
			}
		}
		if a.call("GET", "/api/projects/1/entries?q="+name, nil, &page); a.err != nil {
			return 0
		}
		if len(page.Entries) > 0 && page.Entries[0].Kind != "" && (kind == "" || page.Entries[0].Kind == kind) {
			return page.Entries[0].ID
		}
		time.Sleep(100 * time.Millisecond)
	}
	a.err = fmt.Errorf("there is no %s %s", kind, name)
	return 0
}

// farSide takes the pictures of a village on its way to the engine.
func farSide(p *browser.Page, base, demo, out string) error {
	a := &api{base: base}
	a.call("POST", "/api/projects/1/sources", map[string]string{"path": filepath.Join(demo, "village.zip")}, nil)
	var find, chain struct{ ID int64 }
	a.call("POST", "/api/projects/1/finds", map[string]int64{"entry": a.entry("stilt_village.glb", "model")}, &find)
	a.call("POST", "/api/projects/1/chains", map[string]any{"find": find.ID, "name": "Village to engine"}, &chain)
	a.call("PATCH", fmt.Sprintf("/api/chains/%d", chain.ID), map[string]string{"target": "reedlight"}, nil)
	steps := []func() error{
		func() error { return a.err },
		func() error { return p.Go(fmt.Sprintf("/p/1/rehearsal/%d", chain.ID)) },
		func() error { return p.Click(`[data-show="tool surfaces"]`) },
		func() error { return shoot(p, out, "rehearsal", drawn) },
		func() error { return p.Click(`[data-mendable] button`) },
		func() error { return p.Wait(`[data-tally^="0 0 "]`) },
		func() error { return p.Go(fmt.Sprintf("/p/1/delivery/%d", chain.ID)) },
		func() error { return p.Click(`[data-send]:not(:disabled)`) },
		func() error { return p.Wait(`[data-sent="taken"]`) },
		func() error { return shoot(p, out, "delivery", `[data-held]`) },
	}
	for i, s := range steps {
		if err := s(); err != nil {
			return fmt.Errorf("the far side, step %d: %w", i, err)
		}
	}
	return nil
}

// tutorial takes the pictures of docs/first-layout.md, with its own layouts.
func tutorial(p *browser.Page, base, demo, out string) error {
	text, err := os.ReadFile("docs/first-layout.md")
	if err != nil {
		return err
	}
	var docs []string
	for _, part := range strings.Split(string(text), "```yaml\n")[1:] {
		doc, _, _ := strings.Cut(part, "```")
		docs = append(docs, doc)
	}
	a := &api{base: base}
	look := func(name, path, wait string, click ...string) {
		if a.err != nil {
			return
		}
		if a.err = p.Go(path); a.err != nil {
			return
		}
		for _, c := range click {
			if a.err = p.Click(c); a.err != nil {
				return
			}
		}
		a.err = shoot(p, out, name, wait)
	}
	keep := func(name, doc string) (l struct{ ID int64 }) {
		a.call("POST", "/api/projects/1/layouts", map[string]string{"name": name, "document": doc}, &l)
		return l
	}
	for _, f := range []string{"sluice.bin", "lantern.cart"} {
		a.call("POST", "/api/projects/1/sources", map[string]string{"path": filepath.Join(demo, f)}, nil)
	}
	if a.err == nil { // the last picture was taken in the dark
		if a.err = p.Go("/p/1/sources"); a.err == nil {
			a.err = p.Click(`[data-mode]`)
		}
	}
	box := a.entry("sluice.bin", "data")
	look("first-records", fmt.Sprintf("/p/1/sources/bytes/%d?as=records&at=126184", box), `[data-sheet^="ascii24"]`)
	l := keep("sluice archive", docs[0])
	a.entry("sluice.bin", "archive")
	look("first-archive", fmt.Sprintf("/p/1/sources/layout/%d?entry=%d", l.ID, box), `[data-made-entry="mill.tex"]`, `[data-piece="directory_at"]`)
	a.call("POST", fmt.Sprintf("/api/entries/%d/mount", box), nil, nil)
	look("first-picture", fmt.Sprintf("/p/1/sources/bytes/%d?as=picture&at=8", a.entry("mill.tex", "")), `[data-trial="128x64"]`, `[data-guess="128"]`)
	shape := a.entry("mill.shp", "")
	look("first-mesh", fmt.Sprintf("/p/1/sources/bytes/%d?as=mesh&at=24", shape), `[data-mesh="mesh"][data-shown="yes"] `+drawn, `[data-indices]`)
	keep("sluice picture", docs[1])
	keep("sluice model", docs[2])
	a.entry("mill.tex", "picture")
	a.entry("mill.shp", "model")
	a.call("POST", "/api/projects/1/finds", map[string]int64{"entry": shape}, nil)
	a.call("POST", "/api/projects/1/finds", map[string]int64{"entry": a.entry("walker.lmd", "model")}, nil)
	look("lantern", "/p/1/finds", drawn, `[data-find="walker"][data-state="ready"]`, `[data-bind="segments/bank.bin"]`)
	return a.err
}
