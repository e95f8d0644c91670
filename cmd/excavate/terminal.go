package main

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"
	"unicode"

	"excavate/core/step"
	"excavate/internal/shipped"

	"github.com/fatih/color"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// terminal tells whether somebody watches what is written.
func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Colours of words on a terminal.
const (
	fault     = color.FgRed
	attention = color.FgYellow
)

// tint colours a word on a terminal, unless NO_COLOR is set (no-color.org).
func tint(w io.Writer, a color.Attribute, text string) string {
	if _, no := os.LookupEnv("NO_COLOR"); no && os.Getenv("NO_COLOR") != "" || !terminal(w) || os.Getenv("TERM") == "dumb" {
		return text
	}
	c := color.New(a, color.Bold)
	c.EnableColor()
	return c.Sprint(text)
}

// harmless makes what comes out of a file safe to print: control characters,
// which a terminal obeys, and marks that turn text round are shown as such.
func harmless(s string) string {
	if !strings.ContainsFunc(s, harms) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if harms(r) {
			fmt.Fprintf(&b, "<%U>", r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

func harms(r rune) bool {
	return unicode.IsControl(r) && r != '\n' && r != '\t' || unicode.Is(unicode.Bidi_Control, r) && r != '\u200e' && r != '\u200f' && r != '\u061c'
}

// progress is a bar for work that takes longer than a second, with rate and
// time left; nothing where nobody watches.
type progress struct {
	mu    sync.Mutex
	bar   *progressbar.ProgressBar
	begun time.Time
	done  int64
	total int64
	w     io.Writer
	unit  string
}

func newProgress(w io.Writer, total int64, unit string) *progress {
	return &progress{begun: time.Now(), total: total, w: w, unit: unit}
}

// step says that more is done, with how many bytes of it.
func (p *progress) step(n, bytes int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done += n
	p.show()
}

// at says how much is done.
func (p *progress) at(n int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.done = n
	p.show()
}

func (p *progress) show() {
	if !terminal(p.w) || time.Since(p.begun) < time.Second {
		return
	}
	if p.bar == nil {
		p.bar = progressbar.NewOptions64(p.total, progressbar.OptionSetWriter(p.w), progressbar.OptionShowCount(), progressbar.OptionShowIts(), progressbar.OptionSetItsString(p.unit),
			progressbar.OptionSetPredictTime(true), progressbar.OptionSetElapsedTime(true), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(), progressbar.OptionFullWidth())
	}
	_ = p.bar.Set64(p.done)
}

// above writes lines above the bar.
func (p *progress) above(f func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bar != nil {
		_ = p.bar.Clear()
	}
	f()
}

// end takes the bar away.
func (p *progress) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bar != nil {
		_ = p.bar.Finish()
		_ = p.bar.Clear()
		p.bar = nil
	}
}

// counted lists names, each once, with how often it stands.
func counted(names []string) string {
	n := map[string]int{}
	var order []string
	for _, x := range names {
		if n[x]++; n[x] == 1 {
			order = append(order, x)
		}
	}
	for i, x := range order {
		if n[x] > 1 {
			order[i] = fmt.Sprintf("%s (%d times)", x, n[x])
		}
	}
	return harmless(strings.Join(order, ", "))
}

func completeFormats(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	var out []string
	for _, k := range shipped.All() {
		if k.Writes {
			out = append(out, strings.TrimPrefix(k.Ending, ".")+"\t"+k.Title)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func completeSteps(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	var out []string
	for _, k := range step.All() {
		out = append(out, k.Name+"\t"+k.Purpose)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// words completes a flag that takes one of some words.
func words(list ...string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}
