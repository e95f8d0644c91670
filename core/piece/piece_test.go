package piece_test

import (
	"math/rand"
	"reflect"
	"testing"

	"excavate/core/geom"
	"excavate/core/piece"
	"excavate/core/scene"
)

// Two triangles that share an edge by places only, one that touches them in a
// corner, one apart, and one that has a corner at -0.
func TestPieces(t *testing.T) {
	negative := float32(0)
	negative = -negative
	p := &scene.Part{Positions: []float32{
		0, 0, 0, 1, 0, 0, 0, 1, 0,
		1, 0, 0, 1, 1, 0, 0, 1, 0,
		1, 1, 0, 2, 1, 0, 2, 2, 0,
		9, 0, 0, 12, 0, 0, 9, 0.5, 0,
		negative, negative, 0, -1, 0, 0, 0, -1, 0,
	}, Triangles: []uint32{9, 10, 11, 0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 13, 14}}
	of, n := piece.Of(p)
	if n != 2 || !reflect.DeepEqual(of, []int32{0, 1, 1, 1, 1}) {
		t.Fatalf("%d pieces, %v", n, of)
	}
	m := geom.TRS(geom.Vec3{5, 5, 5}, geom.IdentityQuat, geom.Vec3{1, 8, 1})
	if s := piece.Sizes(p, of, n, &m); s[0] != 4 || s[1] != 24 {
		t.Errorf("longest sides %v, by hand 4 and 24", s)
	}
	if of, n := piece.Of(&scene.Part{}); n != 0 || len(of) != 0 {
		t.Error("nothing has no pieces")
	}
}

// The same pieces come out as by the plain way: spreading a mark until nothing
// changes.
func TestPiecesAgainstThePlainWay(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	for range 200 {
		p := &scene.Part{}
		for range 30 {
			p.Positions = append(p.Positions, float32(r.Intn(4)), float32(r.Intn(3)), float32(r.Intn(2)))
		}
		for range 3 * (1 + r.Intn(20)) {
			p.Triangles = append(p.Triangles, uint32(r.Intn(30)))
		}
		of, n := piece.Of(p)
		mark := make([]int, len(of))
		for i := range mark {
			mark[i] = i
		}
		touch := func(a, b int) bool {
			for _, v := range p.Triangles[3*a : 3*a+3] {
				for _, w := range p.Triangles[3*b : 3*b+3] {
					if reflect.DeepEqual(p.Positions[3*v:3*v+3], p.Positions[3*w:3*w+3]) {
						return true
					}
				}
			}
			return false
		}
		for again := true; again; {
			again = false
			for a := range mark {
				for b := range mark {
					if mark[b] < mark[a] && touch(a, b) {
						mark[a], again = mark[b], true
					}
				}
			}
		}
		different := map[int]bool{}
		for a := range mark {
			different[mark[a]] = true
			for b := range mark {
				if (mark[a] == mark[b]) != (of[a] == of[b]) {
					t.Fatalf("triangles %d and %d: %v %v", a, b, mark, of)
				}
			}
		}
		if len(different) != n {
			t.Fatalf("%d pieces, plainly %d", n, len(different))
		}
	}
}
