// Package browser drives Debian's Chromium without a screen, for the tests of
// the interface and for the pictures in the documentation.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/chromedp"
)

// Find returns the Chromium of this machine.
func Find() (string, error) {
	for _, n := range []string{"chromium", "/usr/bin/chromium"} {
		if p, err := exec.LookPath(n); err == nil {
			return p, nil
		}
	}
	return "", fmt.Errorf("chromium is not on this machine; install Debian's package chromium, or run: make setup")
}

// Open starts a browser with a window of w x h pixels. Downloads go to dir.
func Open(parent context.Context, w, h int) (context.Context, context.CancelFunc, error) {
	bin, err := Find()
	if err != nil {
		return nil, nil, err
	}
	profile, err := os.MkdirTemp("", "excavate-browser-*")
	if err != nil {
		return nil, nil, err
	}
	opts := append([]chromedp.ExecAllocatorOption{}, chromedp.DefaultExecAllocatorOptions[:]...)
	opts = append(opts, chromedp.ExecPath(bin), chromedp.UserDataDir(profile), chromedp.WindowSize(w, h), chromedp.NoSandbox,
		chromedp.Flag("use-angle", "swiftshader"), chromedp.Flag("enable-unsafe-swiftshader", true), chromedp.Flag("disable-gpu", false),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("hide-scrollbars", false), chromedp.Flag("force-color-profile", "srgb"),
		chromedp.WSURLReadTimeout(60*time.Second))
	actx, stopBrowser := chromedp.NewExecAllocator(parent, opts...)
	ctx, stopTab := chromedp.NewContext(actx)
	stop := func() { stopTab(); stopBrowser(); os.RemoveAll(profile) }
	if err := chromedp.Run(ctx, chromedp.EmulateViewport(int64(w), int64(h))); err != nil {
		stop()
		return nil, nil, fmt.Errorf("start chromium: %w", err)
	}
	return ctx, stop, nil
}

// Drawn waits until the 3D view shows its models.
func Drawn() chromedp.Action {
	return chromedp.WaitVisible(`[data-view="drawn"]`, chromedp.ByQuery)
}

// Settle gives the page a moment to load pictures and draw.
func Settle() chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		var ok bool
		for end := time.Now().Add(10 * time.Second); time.Now().Before(end); {
			if err := chromedp.Evaluate(`document.fonts.status === 'loaded' && [...document.images].every(i => i.complete) && !document.querySelector('[data-view="waiting"]')`, &ok).Do(ctx); err != nil {
				return err
			}
			if ok {
				return chromedp.Sleep(300 * time.Millisecond).Do(ctx)
			}
			if err := chromedp.Sleep(100 * time.Millisecond).Do(ctx); err != nil {
				return err
			}
		}
		return nil
	})
}
