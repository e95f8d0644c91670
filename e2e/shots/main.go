// Command shots takes the pictures of docs/screenshots from the demo project
// of a fresh data folder.
package main

import (
	"context"
	"fmt"
	"net/http/httptest"
	"os"
	"path/filepath"
	"time"

	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/shipped"
	"excavate/standin/console"
	"excavate/standin/exchange"
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
	lib, err := shipped.Library()
	if err != nil {
		return err
	}
	demo := filepath.Join(data, "sedgewater")
	a, err := app.Start(ctx, app.Config{Data: data, Library: []string{demo}, Lib: lib})
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
	const drawn = `[data-view="drawn"]`
	for _, s := range []struct {
		name, path string
		click      []string
		wait       string
	}{
		{"finds", "/", nil, drawn},
		{"sources", "/p/1/sources", []string{`[data-entry="figures/ferry_keeper.hull"]`}, drawn},
		{"sources-sets", "/p/1/sources?view=sets", []string{`[aria-label="Keep _c"]`, `[data-set="heron"]`}, drawn},
		{"sources-picture", "/p/1/sources?view=tree&open=wash|wash/keeper", []string{`[data-entry="wash/keeper/keeper_cloth_c.wash"]`}, `.picture img`},
		{"devices", "/p/1/sources", []string{`.drop button:last-of-type`, `[data-device^="Sedgewater"]`, `[data-offer="corin.vrm"] input`}, `[data-offer="tamsin.vrm"]`},
		{"bytes", "/p/1/sources?q=punt_c", []string{`[data-entry="wash/boats/punt_c.wash"]`, `[data-bytes]`, `[data-byte="12"]`, `[data-follow]`, `[role="combobox"][aria-label="Texel format"]`, `[role="option"][data-value="a1b5g5r5_pack16"]`, `[data-guess="256"]`}, `[data-trial^="256"]`},
		{"chain", "/p/1/chain/1?band=4&with=0", nil, drawn},
		{"rehearsal", "/p/1/rehearsal/1", nil, drawn},
		{"delivery", "/p/1/delivery/1", []string{`main .MuiButton-contained:not(:disabled)`}, `[data-download]`},
		{"chain-dark", "/p/1/chain/1?band=2&bones=on", []string{`.foot .mini`}, drawn},
	} {
		if err := p.Go(s.path); err != nil {
			return err
		}
		for _, c := range s.click {
			if err := p.Click(c); err != nil {
				return err
			}
		}
		if err := p.Wait(s.wait); err != nil {
			return err
		}
		if err := p.Settled(); err != nil {
			return err
		}
		png, err := p.Shot()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, s.name+".png"), png, 0o644); err != nil {
			return err
		}
	}
	return nil
}
