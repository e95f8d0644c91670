// Command mutate tells how well a package is tested: it turns single operators
// round, one at a time and by chance, and lists those changes that no test of
// the package notices. Nothing is written: the compiler is given the changed
// file in place of the one on disk.
//
//	go run ./scripts/mutate [-n 30] [-seed 1] [-file GLOB] PACKAGE
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"sync"
	"time"
)

// turned is what an operator becomes.
var turned = map[token.Token]token.Token{
	token.LSS: token.GEQ, token.GEQ: token.LSS, token.GTR: token.LEQ, token.LEQ: token.GTR,
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LAND: token.LOR, token.LOR: token.LAND,
	token.ADD: token.SUB, token.SUB: token.ADD, token.MUL: token.QUO, token.QUO: token.MUL,
}

// edge is what a comparison becomes where only its edge moves.
var edge = map[token.Token]token.Token{token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR}

// place is an operator in a file.
type place struct {
	file     string
	offset   int
	line     int
	from, to token.Token
}

func main() {
	n := flag.Int("n", 30, "how many operators are turned")
	seed := flag.Uint64("seed", 1, "of the choice")
	only := flag.String("file", "*", "the files, by a `GLOB` of their names")
	edges := flag.Bool("edges", false, "also move only the edges of comparisons")
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "mutate: name one package, such as ./core/step")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), *only, *n, *seed, *edges); err != nil {
		fmt.Fprintln(os.Stderr, "mutate:", err)
		os.Exit(1)
	}
}

func run(pkg, only string, n int, seed uint64, edges bool) error {
	all, err := places(pkg, only, edges)
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return fmt.Errorf("no operators in %s", pkg)
	}
	r := rand.New(rand.NewPCG(seed, 0))
	r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	all = all[:min(n, len(all))]
	// The tests must pass as they are, and tell how long they may take.
	start := time.Now()
	if out, err := exec.Command("go", "test", "-count=1", pkg).CombinedOutput(); err != nil {
		return fmt.Errorf("its tests fail as they are: %s", out)
	}
	patience := 5*time.Since(start) + 30*time.Second
	var mu sync.Mutex
	var alive []place
	dead := 0
	work := make(chan place)
	var wg sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for p := range work {
				noticed, err := tried(pkg, p, patience)
				mu.Lock()
				switch {
				case err != nil:
					fmt.Fprintln(os.Stderr, "mutate:", err)
				case noticed:
					dead++
				default:
					alive = append(alive, p)
				}
				mu.Unlock()
			}
		})
	}
	for _, p := range all {
		work <- p
	}
	close(work)
	wg.Wait()
	sort.Slice(alive, func(i, j int) bool {
		return alive[i].file < alive[j].file || alive[i].file == alive[j].file && alive[i].offset < alive[j].offset
	})
	for _, p := range alive {
		fmt.Printf("%s:%d: %s as %s is not noticed: %s\n", p.file, p.line, p.from, p.to, lineOf(p))
	}
	fmt.Printf("%d of %d noticed, %d survive\n", dead, dead+len(alive), len(alive))
	return nil
}

// places lists the operators of a package's files but its tests.
func places(pkg, only string, edges bool) (out []place, err error) {
	files, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		name := filepath.Base(file)
		if ok, err := filepath.Match(only, name); err != nil {
			return nil, err
		} else if !ok || strings.HasSuffix(name, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			return nil, err
		}
		ast.Inspect(tree, func(x ast.Node) bool {
			b, ok := x.(*ast.BinaryExpr)
			if !ok {
				return true
			}
			at := set.Position(b.OpPos)
			for i, list := range []map[token.Token]token.Token{turned, edge} {
				if to, known := list[b.Op]; known && (i == 0 || edges) && !isText(b) {
					out = append(out, place{file, at.Offset, at.Line, b.Op, to})
				}
			}
			return true
		})
	}
	return out, nil
}

// isText tells whether an addition plainly joins texts.
func isText(b *ast.BinaryExpr) bool {
	for _, x := range []ast.Expr{b.X, b.Y} {
		if l, ok := x.(*ast.BasicLit); ok && l.Kind == token.STRING && b.Op == token.ADD {
			return true
		}
		if y, ok := x.(*ast.BinaryExpr); ok && isText(y) {
			return true
		}
	}
	return false
}

// tried runs the tests with one operator turned. What does not compile, or does
// not end, counts as noticed.
func tried(pkg string, p place, patience time.Duration) (noticed bool, err error) {
	text, err := os.ReadFile(p.file)
	if err != nil {
		return false, err
	}
	changed := append(append(append([]byte{}, text[:p.offset]...), p.to.String()...), text[p.offset+len(p.from.String()):]...)
	dir, err := os.MkdirTemp("", "mutate-*")
	if err != nil {
		return false, err
	}
	defer os.RemoveAll(dir)
	whole, err := filepath.Abs(p.file)
	if err != nil {
		return false, err
	}
	other, overlay := filepath.Join(dir, filepath.Base(p.file)), filepath.Join(dir, "overlay.json")
	list, err := json.Marshal(map[string]map[string]string{"Replace": {whole: other}})
	if err != nil {
		return false, err
	}
	if err := os.WriteFile(other, changed, 0o600); err != nil {
		return false, err
	}
	if err := os.WriteFile(overlay, list, 0o600); err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	err = exec.CommandContext(ctx, "go", "test", "-count=1", "-overlay", overlay, pkg).Run()
	return err != nil, nil
}

func lineOf(p place) string {
	text, err := os.ReadFile(p.file)
	if err != nil {
		return ""
	}
	start := bytes.LastIndexByte(text[:p.offset], '\n') + 1
	end := bytes.IndexByte(text[p.offset:], '\n')
	if end < 0 {
		end = len(text) - p.offset
	}
	return strings.TrimSpace(string(text[start : p.offset+end]))
}
