// Command shots takes the pictures of docs/screenshots from the demo project
// of a fresh data folder.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/internal/shipped"
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
	if err := a.Demo(ctx, demo); err != nil {
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
