// Command shots takes the pictures of docs/screenshots from the demo project
// of a fresh data folder.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/layout"
	"excavate/e2e/browser"
	"excavate/internal/app"
	"excavate/layouts"

	"github.com/chromedp/chromedp"
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
	set, err := layout.LoadFS(layouts.FS)
	if err != nil {
		return err
	}
	demo := filepath.Join(data, "sedgewater")
	a, err := app.Start(ctx, app.Config{Data: data, Library: []string{demo}, Lib: &find.Library{Layouts: set, Formats: format.Registry(gltf.Readers())}})
	if err != nil {
		return err
	}
	defer a.Close()
	if err := a.Demo(ctx, demo); err != nil {
		return err
	}
	tab, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	shot := func(name string, actions ...chromedp.Action) error {
		var png []byte
		if err := chromedp.Run(tab, append(actions, browser.Settle(), chromedp.CaptureScreenshot(&png))...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
	}
	click := func(sel string) chromedp.Action { return chromedp.Click(sel, chromedp.ByQuery, chromedp.NodeVisible) }
	at := func(path string) chromedp.Action { return chromedp.Navigate(a.Address + path) }
	steps := []struct {
		name    string
		actions []chromedp.Action
	}{
		{"finds", []chromedp.Action{at("/"), browser.Drawn()}},
		{"sources", []chromedp.Action{at("/p/1/sources"), click(`[data-entry="figures/ferry_keeper.hull"]`), browser.Drawn()}},
		{"chain", []chromedp.Action{at("/p/1/chain/1?band=4&with=0"), browser.Drawn()}},
		{"rehearsal", []chromedp.Action{at("/p/1/rehearsal/1"), browser.Drawn(), chromedp.WaitVisible(`[data-rule="root bone"]`, chromedp.ByQuery)}},
		{"delivery", []chromedp.Action{at("/p/1/delivery/1"), chromedp.WaitVisible(`main h2`, chromedp.ByQuery), chromedp.Sleep(500 * time.Millisecond), click(`main .MuiButton-contained`), chromedp.WaitVisible(`[data-download]`, chromedp.ByQuery)}},
		{"chain-dark", []chromedp.Action{at("/p/1/chain/1?band=2&bones=on"), browser.Drawn(), click(`.foot .mini`)}},
	}
	for _, s := range steps {
		if err := shot(s.name, s.actions...); err != nil {
			return err
		}
	}
	return nil
}
