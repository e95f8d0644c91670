package chain

import (
	"fmt"
	"math"
	"slices"
	"sync"

	"excavate/core/scene"
)

// Many is a chain over many assets: what each step did to each of them. It may
// be told from several goroutines.
type Many struct {
	mu     sync.Mutex
	steps  []string // titles
	assets []manyAsset
}

type manyAsset struct {
	name  string
	cells []Cell
}

// Cell is what one step did to one asset.
type Cell struct {
	State  string // done, idle, off, lost, failed, waiting; empty if it was not reached
	Share  float64
	Lines  []string
	Losses []string
	Error  string
}

// Add tells of an asset whose chain has run.
func (m *Many) Add(name string, bands []Band) {
	m.mu.Lock()
	defer m.mu.Unlock()
	a := manyAsset{name: name}
	for i := 1; i < len(bands); i++ {
		b := &bands[i]
		if i > len(m.steps) {
			m.steps = append(m.steps, b.Kind.Title)
		}
		c := Cell{State: "done", Lines: b.Report.Lines, Losses: b.Report.Losses}
		switch {
		case b.Err != nil:
			c.State, c.Error = "failed", b.Err.Error()
		case b.Scene == nil:
			c.State = "off"
		case b.Report.Idle:
			c.State = "idle"
		case len(b.Report.Losses) > 0:
			c.State = "lost"
		}
		if b.Scene != nil {
			c.Share = Changed(&bands[i-1].Stats, &b.Stats)
		}
		a.cells = append(a.cells, c)
	}
	m.assets = append(m.assets, a)
}

// AddCells tells of an asset of which only the reports are at hand.
func (m *Many) AddCells(name string, steps []string, cells []Cell) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(steps) > len(m.steps) {
		m.steps = append(m.steps, steps[len(m.steps):]...)
	}
	m.assets = append(m.assets, manyAsset{name, cells})
}

// Changed is the share of vertices, triangles, nodes or materials that went or
// came, whichever changed most.
func Changed(before, after *scene.Stats) float64 {
	most := 0.0
	for _, pair := range [][2]int{
		{before.Vertices, after.Vertices}, {before.Triangles, after.Triangles},
		{before.Nodes, after.Nodes}, {before.Materials, after.Materials},
	} {
		if pair[0] > 0 {
			if s := float64(pair[1]-pair[0]) / float64(pair[0]); math.Abs(s) > math.Abs(most) {
				most = s
			}
		}
	}
	return most
}

// Row is a step over all assets.
type Row struct {
	Step   string
	States map[string]int
	Share  float64 // the median of what changed
}

// Rows lists the steps with what they did, in their order.
func (m *Many) Rows() (out []Row) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, title := range m.steps {
		r := Row{Step: title, States: map[string]int{}}
		var shares []float64
		for _, a := range m.assets {
			if i < len(a.cells) {
				r.States[a.cells[i].State]++
				shares = append(shares, a.cells[i].Share)
			}
		}
		r.Share = median(shares)
		out = append(out, r)
	}
	return out
}

// Odd is an asset to which a step did something else than to the others.
type Odd struct {
	Asset, Step string
	Says        string
	how         float64
}

const (
	oddLeast  = 0.1 // a share that differs by less from the median is as the others
	oddSpread = 6   // times the median distance from the median (Iglewicz and Hoaglin 1993 take 3.5 deviations, of which it is 0.67)
	rareShare = 0.1 // of the assets: what fewer do is odd
)

// Odd lists what is out of the ordinary, the oddest first: what failed, what
// changed far more or less than elsewhere, and what only few lost.
func (m *Many) Odd() (out []Odd) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, title := range m.steps {
		var shares []float64
		lost := 0
		for _, a := range m.assets {
			if i < len(a.cells) {
				shares = append(shares, a.cells[i].Share)
				if a.cells[i].State == "lost" {
					lost++
				}
			}
		}
		mid := median(shares)
		var off []float64
		for _, s := range shares {
			off = append(off, math.Abs(s-mid))
		}
		spread := median(off)
		for _, a := range m.assets {
			if i >= len(a.cells) {
				continue
			}
			c := &a.cells[i]
			d := math.Abs(c.Share - mid)
			switch {
			case c.State == "failed":
				out = append(out, Odd{a.name, title, c.Error, math.Inf(1)})
			case len(m.assets) > 2 && d > oddLeast && d > oddSpread*spread:
				out = append(out, Odd{a.name, title, fmt.Sprintf("%s here, %s elsewhere", percent(c.Share), percent(mid)), d})
			case c.State == "lost" && float64(lost) <= rareShare*float64(len(m.assets)):
				out = append(out, Odd{a.name, title, "lost: " + c.Losses[0], oddLeast})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Odd) int {
		switch {
		case a.how > b.how:
			return -1
		case a.how < b.how:
			return 1
		}
		return 0
	})
	return out
}

func percent(s float64) string { return fmt.Sprintf("%+.0f%%", 100*s) }

func median(v []float64) float64 {
	if len(v) == 0 {
		return 0
	}
	v = slices.Clone(v)
	slices.Sort(v)
	if n := len(v); n%2 == 0 {
		return (v[n/2-1] + v[n/2]) / 2
	}
	return v[len(v)/2]
}
