package pixel

import (
	"fmt"
	"math/bits"
)

// Tiling is how texels, or blocks of a compressed format, lie in memory.
type Tiling struct {
	Kind TilingKind
	// Of Tiled: width and height of a tile, in texels or blocks.
	TileW, TileH int
	// Of Tiled: within a tile rows whose number has SwapRow set have their
	// units exchanged in pairs SwapUnit apart, as memory with two banks does.
	// Zero is none.
	SwapRow, SwapUnit int
}

// TilingKind names a tiling.
type TilingKind string

// The tilings.
const (
	Linear   TilingKind = ""         // row by row
	Morton   TilingKind = "morton"   // bits of x and y take turns, x first (G. M. Morton 1966)
	Tiled    TilingKind = "tiles"    // row by row of tiles, each row by row
	ByColumn TilingKind = "columns"  // column by column
	ZTiles   TilingKind = "zorder-8" // row by row of tiles of 8 x 8, each in Morton order
)

// Tilings lists the kinds by name.
var Tilings = []string{"linear", string(Morton), string(Tiled), string(ByColumn), string(ZTiles)}

// unit is what a tiling moves: a texel, or a block of a compressed format.
func unitOf(f Format, w, h int) (bytes, uw, uh int, err error) {
	if b := blockBytes[f]; b > 0 {
		return int(b), (w + 3) / 4, (h + 3) / 4, nil
	}
	if b := indexBits[f]; b > 0 {
		if b < 8 {
			return 0, 0, 0, fmt.Errorf("texels of %d bits are not tiled", b)
		}
		return 1, w, h, nil
	}
	return parse(f).bytes, w, h, nil
}

// untile puts data into rows.
func untile(f Format, data []byte, w, h int, t Tiling) ([]byte, error) {
	size, uw, uh, err := unitOf(f, w, h)
	if err != nil {
		return nil, err
	}
	place, span, err := t.place(uw, uh)
	if err != nil {
		return nil, err
	}
	if need := int64(span) * int64(size); int64(len(data)) < need {
		return nil, fmt.Errorf("%d x %d texels of %s in %s need %d bytes, %d are there", w, h, f, t.Kind, need, len(data))
	}
	out := make([]byte, uw*uh*size)
	for y := range uh {
		row := out[y*uw*size:]
		for x := range uw {
			copy(row[x*size:(x+1)*size], data[place(x, y)*size:])
		}
	}
	return out, nil
}

// Span is the number of bytes that a tiled picture takes, with the padding of
// its last tiles.
func (t Tiling) Span(f Format, w, h int) (int64, error) {
	n, err := f.Bytes(w, h)
	if err != nil || t.Kind == Linear {
		return n, err
	}
	size, uw, uh, err := unitOf(f, w, h)
	if err != nil {
		return 0, err
	}
	_, span, err := t.place(uw, uh)
	return int64(span) * int64(size), err
}

const mostTile = 4096

// place gives where a unit lies, and how many places there are.
func (t Tiling) place(w, h int) (func(x, y int) int, int, error) {
	round := func(n, to int) int { return (n + to - 1) / to * to }
	switch t.Kind {
	case Linear:
		return func(x, y int) int { return y*w + x }, w * h, nil
	case ByColumn:
		return func(x, y int) int { return x*h + y }, w * h, nil
	case Morton:
		// Of a picture that is not square the bits take turns as far as the
		// shorter side goes; then those of the longer one follow.
		bw, bh := bits.Len(uint(w-1)), bits.Len(uint(h-1))
		k := min(bw, bh)
		mask := 1<<k - 1
		if bw+bh > 30 {
			return nil, 0, fmt.Errorf("%d x %d is too large for Morton order", w, h)
		}
		return func(x, y int) int {
			z := spread(x&mask) | spread(y&mask)<<1
			return z | (x>>k|y>>k)<<(2*k)
		}, 1 << (bw + bh), nil
	case ZTiles:
		across := round(w, 8) / 8
		return func(x, y int) int {
			return (y/8*across+x/8)*64 + (spread(x&7) | spread(y&7)<<1)
		}, round(w, 8) * round(h, 8), nil
	case Tiled:
		tw, th := t.TileW, t.TileH
		if tw < 1 || th < 1 || tw > mostTile || th > mostTile {
			return nil, 0, fmt.Errorf("a tile of %d x %d; each side is 1 to %d", tw, th, mostTile)
		}
		if t.SwapUnit < 0 || t.SwapUnit > 0 && (t.SwapUnit&(t.SwapUnit-1) != 0 || tw%(2*t.SwapUnit) != 0) {
			return nil, 0, fmt.Errorf("units %d apart cannot be exchanged in a tile %d wide; a power of two that goes into half of it can", t.SwapUnit, tw)
		}
		across := round(w, tw) / tw
		return func(x, y int) int {
			ix, iy := x%tw, y%th
			if t.SwapUnit > 0 && iy&t.SwapRow != 0 {
				ix ^= t.SwapUnit
			}
			return (y/th*across+x/tw)*tw*th + iy*tw + ix
		}, round(w, tw) * round(h, th), nil
	}
	return nil, 0, fmt.Errorf("tiling %q is not known; there are %v", t.Kind, Tilings)
}

// spread puts a zero between the bits of v.
func spread(v int) int {
	v = (v | v<<8) & 0x00ff00ff
	v = (v | v<<4) & 0x0f0f0f0f
	v = (v | v<<2) & 0x33333333
	return (v | v<<1) & 0x55555555
}
