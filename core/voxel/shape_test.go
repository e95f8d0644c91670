package voxel

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"excavate/core/limit"
	"excavate/core/scene"
)

// plain is a volume as a map, on which everything is done one voxel after the
// other, as it is defined.
type plain map[[3]int]uint16

func (p plain) shows(at [3]int) bool {
	for _, s := range steps {
		if p[[3]int{at[0] + s[0], at[1] + s[1], at[2] + s[2]}] == 0 {
			return true
		}
	}
	return false
}

func plainOf(v *scene.Volume) plain {
	p := plain{}
	open(v).each(func(x, y, z int, c uint16) { p[[3]int{x, y, z}] = c })
	return p
}

// without is p without its outermost voxels.
func (p plain) without() plain {
	out := plain{}
	for at, c := range p {
		if !p.shows(at) {
			out[at] = c
		}
	}
	return out
}

// pieces are the voxels that hang together.
func (p plain) pieces() (out [][][3]int) {
	seen := map[[3]int]bool{}
	for at := range p {
		if seen[at] {
			continue
		}
		piece := [][3]int{at}
		seen[at] = true
		for k := 0; k < len(piece); k++ {
			for _, s := range steps {
				q := [3]int{piece[k][0] + s[0], piece[k][1] + s[1], piece[k][2] + s[2]}
				if p[q] != 0 && !seen[q] {
					seen[q] = true
					piece = append(piece, q)
				}
			}
		}
		out = append(out, piece)
	}
	return out
}

// same tells whether a volume holds just what a map does.
func same(t *testing.T, what string, v *scene.Volume, want plain) {
	t.Helper()
	if err := v.Validate(); err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	n, wrong := 0, 0
	open(v).each(func(x, y, z int, c uint16) {
		n++
		if want[[3]int{x, y, z}] != c {
			wrong++
		}
	})
	if n != len(want) || wrong > 0 || Count(v) != n {
		t.Errorf("%s: %d voxels, counted %d, not %d; %d are other ones", what, n, Count(v), len(want), wrong)
	}
}

// crowd is a volume of boxes of several colours with holes and loose bits, over
// several blocks of which some are wholly filled.
func crowd(r *rand.Rand) *scene.Volume {
	g := newGrid([3]int{40 + r.IntN(60), 33 + r.IntN(8), 36 + r.IntN(36)})
	fill := func(most int, c uint16) {
		var low, high [3]int
		for k := range 3 {
			low[k] = r.IntN(g.dims[k])
			high[k] = min(g.dims[k], low[k]+1+r.IntN(most))
		}
		for z := low[2]; z < high[2]; z++ {
			for y := low[1]; y < high[1]; y++ {
				for x := low[0]; x < high[0]; x++ {
					g.set(x, y, z, c)
				}
			}
		}
	}
	for range 4 {
		fill(70, uint16(1+r.IntN(3)))
	}
	for range 12 {
		fill(25, uint16(r.IntN(4)))
	}
	for range 60 {
		fill(3, uint16(r.IntN(4)))
	}
	for z := range 33 { // wholly filled blocks
		for y := range g.dims[1] {
			for x := range min(g.dims[0], 67) {
				g.set(x, y, z, 2)
			}
		}
	}
	g.set(0, 0, 0, 3)
	v := &scene.Volume{Size: 1, Dims: g.dims, Palette: make([]scene.Swatch, 3)}
	g.store(v)
	return v
}

// Whatever is done by blocks and rows of bits is what comes of doing it voxel by
// voxel.
func TestShapesAreAsDefined(t *testing.T) {
	ctx := t.Context()
	r := rand.New(rand.NewPCG(11, 12))
	whole := 0
	for range 2 {
		v := crowd(r)
		p := plainOf(v)
		for _, m := range open(v).masks() {
			if m == &everything {
				whole++
			}
		}
		depth := 1 + r.IntN(4)
		inner := p
		for range depth {
			inner = inner.without()
		}
		shrunk, err := Shrink(ctx, v, depth)
		if err != nil {
			t.Fatal(err)
		}
		same(t, "shrunk", shrunk, inner)
		hollow, n, err := Hollow(ctx, v, depth)
		if err != nil || n != len(inner) {
			t.Errorf("%d hollowed out, not %d: %v", n, len(inner), err)
		}
		shell := plain{}
		for at, c := range p {
			if inner[at] == 0 {
				shell[at] = c
			}
		}
		same(t, "hollow", hollow, shell)
		checkFill(t, hollow)

		fewer := 1 + r.IntN(40)
		kept, bits, gone := plain{}, 0, 0
		for _, piece := range p.pieces() {
			if len(piece) < fewer {
				bits, gone = bits+1, gone+len(piece)
				continue
			}
			for _, at := range piece {
				kept[at] = p[at]
			}
		}
		left, b, n, err := DropLoose(ctx, v, fewer)
		if err != nil || b != bits || n != gone {
			t.Errorf("%d bits of %d voxels dropped, not %d of %d: %v", b, n, bits, gone, err)
		}
		same(t, "without loose bits", left, kept)

		checkGrow(t, v, p, depth)
		for axis := range 3 {
			for _, high := range []bool{false, true} {
				image := plain{}
				for at, c := range p {
					twice, n := 2*at[axis]+1, v.Dims[axis]
					if twice == n || high == (twice > n) {
						image[at] = c
						at[axis] = n - 1 - at[axis]
						image[at] = c
					}
				}
				m, err := Mirror(ctx, v, axis, high)
				if err != nil {
					t.Fatal(err)
				}
				same(t, "mirrored", m, image)
			}
		}
		checkErase(t, r, v, p)
	}
	if whole < 2 {
		t.Errorf("%d whole blocks: too few to tell anything of them", whole)
	}
}

// checkFill fills a volume and compares with a flood through every voxel.
func checkFill(t *testing.T, v *scene.Volume) {
	t.Helper()
	p := plainOf(v)
	d := v.Dims
	out := map[[3]int]bool{}
	queue := [][3]int{{-1, -1, -1}}
	out[queue[0]] = true
	for len(queue) > 0 {
		at := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		for _, s := range steps {
			q := [3]int{at[0] + s[0], at[1] + s[1], at[2] + s[2]}
			in := true
			for k := range 3 {
				in = in && q[k] >= -1 && q[k] <= d[k]
			}
			if in && !out[q] && p[q] == 0 {
				out[q] = true
				queue = append(queue, q)
			}
		}
	}
	want := 0
	for z := range d[2] {
		for y := range d[1] {
			for x := range d[0] {
				if at := [3]int{x, y, z}; p[at] == 0 && !out[at] {
					want++
				}
			}
		}
	}
	filled, n, err := Fill(t.Context(), v)
	if err != nil || n != want || Count(filled) != len(p)+want {
		t.Errorf("%d voxels filled to %d, not %d to %d: %v", n, Count(filled), want, len(p)+want, err)
	}
	for at, c := range plainOf(filled) {
		if was := p[at]; was != 0 && was != c || was == 0 && out[at] {
			t.Fatalf("%v is %d, was %d", at, c, was)
		}
	}
}

// checkGrow compares with adding, to each empty voxel beside one that is filled,
// a colour of those beside it.
func checkGrow(t *testing.T, v *scene.Volume, p plain, depth int) {
	t.Helper()
	w, err := Grow(t.Context(), v, depth)
	if err != nil {
		t.Fatal(err)
	}
	now := plain{}
	for at, c := range p {
		now[[3]int{at[0] + depth, at[1] + depth, at[2] + depth}] = c
	}
	got := plainOf(w)
	for at, c := range now {
		if got[at] != c {
			t.Fatalf("grown: %v was %d and is %d", at, c, got[at])
		}
	}
	for range depth {
		next := plain{}
		for at, c := range now {
			next[at] = c
			for _, s := range steps {
				if q := [3]int{at[0] + s[0], at[1] + s[1], at[2] + s[2]}; now[q] == 0 {
					next[q] = got[q]
				}
			}
		}
		now = next
	}
	same(t, "grown", w, now)
	for at := range now {
		if got[at] == 0 || int(got[at]) > len(v.Palette) {
			t.Fatalf("%v is of colour %d", at, got[at])
		}
	}
}

func checkErase(t *testing.T, r *rand.Rand, v *scene.Volume, p plain) {
	t.Helper()
	var from, to [3]int
	for k := range 3 {
		from[k] = r.IntN(v.Dims[k])
		to[k] = from[k] + r.IntN(50)
	}
	meant := []bool{r.IntN(2) == 0, true, r.IntN(2) == 0}
	want, n := plain{}, 0
	for at, c := range p {
		in := meant[c-1]
		for k := range 3 {
			in = in && at[k] >= from[k] && at[k] < to[k]
		}
		if in {
			n++
		} else {
			want[at] = c
		}
	}
	left, erased, err := Erase(t.Context(), v, from, to, meant)
	if err != nil || erased != n {
		t.Errorf("%d erased, not %d: %v", erased, n, err)
	}
	same(t, "erased", left, want)
}

// The outermost blocks, of which a part lies beyond the grid, never hold anything
// there, and equal blocks are stored once.
func TestBlocksAreKeptOnce(t *testing.T) {
	v, _ := volume(t, &Input{Positions: box(0, 0, 0, 200, 100, 70)}, [3]int{200, 100, 70})
	if n := len(v.Blocks) / blockVoxels; n > 10 {
		t.Errorf("%d blocks of a box of one colour", n)
	}
	grown, err := Grow(t.Context(), v, 3)
	if err != nil {
		t.Fatal(err)
	}
	if n := len(grown.Blocks) / blockVoxels; n > 100 {
		t.Errorf("%d blocks of a box that has grown", n)
	}
	for i, k := range v.Index {
		if k == 0 {
			continue
		}
		x, y, z := open(v).corner(i)
		for w, c := range v.Blocks[(k-1)*blockVoxels : k*blockVoxels] {
			if c != 0 && (x+w%Side >= 200 || y+w/Side%Side >= 100 || z+w/(Side*Side) >= 70) {
				t.Fatalf("block %d holds something beyond the grid", i)
			}
		}
	}
	first := v.Blocks[:blockVoxels]
	for k := 1; k < len(v.Blocks)/blockVoxels; k++ {
		if slices.Equal(first, v.Blocks[k*blockVoxels:(k+1)*blockVoxels]) {
			t.Errorf("block %d is the first once more", k)
		}
	}
}

// Everything that may take long is stopped when it is asked to.
func TestShapesAreStopped(t *testing.T) {
	v := crowd(rand.New(rand.NewPCG(1, 1)))
	ctx, stop := context.WithCancel(t.Context())
	stop()
	meant := []bool{true, true, true}
	for what, do := range map[string]func() error{
		"hollow": func() error { _, _, err := Hollow(ctx, v, 2); return err },
		"shrink": func() error { _, err := Shrink(ctx, v, 2); return err },
		"fill":   func() error { _, _, err := Fill(ctx, v); return err },
		"loose":  func() error { _, _, _, err := DropLoose(ctx, v, 2); return err },
		"grow":   func() error { _, err := Grow(ctx, v, 2); return err },
		"mirror": func() error { _, err := Mirror(ctx, v, 0, true); return err },
		"erase":  func() error { _, _, err := Erase(ctx, v, [3]int{}, v.Dims, meant); return err },
		"match":  func() error { _, _, err := Match(ctx, v, v.Palette, true); return err },
		"touch": func() error {
			_, _, err := Make(ctx, &Input{Positions: box(1, 1, 1, 5, 5, 5), Touch: true}, [3]int{9, 9, 9})
			return err
		},
	} {
		if err := do(); !errors.Is(err, context.Canceled) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// What shows more faces than can be drawn is refused in words, not begun.
func TestTooManyFaces(t *testing.T) {
	// A board of three dimensions: every other voxel, 32 of 96 to a side.
	c := make([]uint16, blockVoxels)
	for i := range c {
		if (i+i/Side+i/(Side*Side))%2 == 0 {
			c[i] = 1
		}
	}
	v := &scene.Volume{Size: 1, Dims: [3]int{160, 160, 160}, Palette: make([]scene.Swatch, 1),
		Index: make([]uint32, 125), Blocks: c}
	for i := range v.Index {
		v.Index[i] = 1
	}
	if err := v.Validate(); err != nil {
		t.Fatal(err)
	}
	for _, f := range []func() error{
		func() error { _, err := Faces(v); return err },
		func() error { _, err := Surface(v, 0); return err },
		func() error { _, err := Smooth(v, 0, 2); return err },
	} {
		if err := f(); err == nil || !strings.Contains(err.Error(), "choose larger voxels") {
			t.Errorf("%d voxels of which each shows six sides, at most %d: %v", Count(v), limit.VolumeFaces, err)
		}
	}
}
