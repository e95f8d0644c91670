package demo

import (
	"bytes"
	"context"
	"math"
	"os"
	"path/filepath"
	"testing"

	"excavate/core/chain"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/terms"
)

func TestTheSameBytesEachTime(t *testing.T) {
	a, b := Files(nil), Files(nil)
	for name := range a {
		if !bytes.Equal(a[name], b[name]) {
			t.Errorf("%s differs from run to run", name)
		}
	}
	if len(a) != 9 {
		t.Errorf("%d files", len(a))
	}
}

func TestWriteLeavesWhatIsThere(t *testing.T) {
	dir := t.TempDir()
	if err := Write(dir, []byte("target: x\n")); err != nil {
		t.Fatal(err)
	}
	p := filepath.Join(dir, "hulls.tide")
	before, _ := os.Stat(p)
	if err := Write(dir, []byte("target: x\n")); err != nil {
		t.Fatal(err)
	}
	if after, _ := os.Stat(p); after.ModTime() != before.ModTime() {
		t.Error("an unchanged file was written again")
	}
	left, _ := filepath.Glob(filepath.Join(dir, "*.part"))
	if len(left) != 0 {
		t.Errorf("left over: %v", left)
	}
}

func TestHalfFloatsRound(t *testing.T) {
	for _, c := range []struct {
		f    float32
		want uint16
	}{{0, 0}, {1, 0x3c00}, {0.5, 0x3800}, {-2, 0xc000}, {0.99999, 0x3c00}, {65504, 0x7bff}, {5.9604645e-08, 1}} {
		if got := half16(c.f); got != c.want {
			t.Errorf("%g: %04x, want %04x", c.f, got, c.want)
		}
	}
}

func TestTheKeeperIsAWholeFigure(t *testing.T) {
	m := ferryKeeper()
	if len(m.bones) < 24 || len(m.motions) != 1 || len(m.materials) != 2 {
		t.Fatalf("%d bones", len(m.bones))
	}
	tris, doubled := 0, 0
	for _, p := range m.parts {
		tris += len(p.tris)
		seen := map[v3]bool{}
		for i, v := range p.verts {
			if math.Abs(v.n.len()-1) > 1e-6 {
				t.Fatalf("vertex %d has a normal of length %g", i, v.n.len())
			}
			sum := 0.0
			for _, w := range v.weight {
				sum += w
			}
			if math.Abs(sum-1) > 1e-9 {
				t.Fatalf("vertex %d weighs %g", i, sum)
			}
			if seen[v.p] {
				doubled++
			}
			seen[v.p] = true
		}
	}
	if tris < 2000 || doubled < 1000 {
		t.Errorf("%d triangles, %d doubled vertices for the weld to find", tris, doubled)
	}
	for i, b := range m.bones {
		if b.parent >= i {
			t.Errorf("bone %s stands before its parent", b.name)
		}
	}
	first, last := m.motions[0].tracks[0].turns[0], m.motions[0].tracks[0].turns[12]
	for k := range first {
		if math.Abs(first[k]-last[k]) > 1e-9 {
			t.Error("the motion does not close")
		}
	}
}

func TestAvatarsAreFilesOfTheOpenStandard(t *testing.T) {
	for _, a := range Avatars {
		b := a.VRM()
		s, err := gltf.Read(context.Background(), format.File{Name: a.ID + ".vrm", Data: b})
		if err != nil {
			t.Fatalf("%s: %v", a.ID, err)
		}
		st := s.Stats()
		if st.Bones < 20 || st.Morphs != 3 || st.Missing != 0 || st.Pictures != 2 {
			t.Errorf("%s: %+v", a.ID, st)
		}
		// The punting pole stands a quarter higher than the person.
		if h := st.Max[1] - st.Min[1]; math.Abs(h/a.Height-1.25) > 0.02 {
			t.Errorf("%s is %.2f m high with the pole, want about %.2f", a.ID, h, 1.25*a.Height)
		}
		x, err := terms.GLTF(a.ID, bytes.NewReader(b))
		if err != nil || x.Owner != a.Author || (x.ShareUnchanged == terms.Yes) != a.Redistribution {
			t.Errorf("%s: %+v %v", a.ID, x, err)
		}
		if len(a.Thumb()) < 200 {
			t.Errorf("%s has no picture", a.ID)
		}
	}
}

// The village is a file of the open standard with all that its page speaks of.
func TestTheVillage(t *testing.T) {
	s, err := gltf.Read(context.Background(), format.File{Name: "stilt_village.glb", Data: villageGLB()})
	if err != nil {
		t.Fatal(err)
	}
	states := map[string]int{}
	for i := range s.Nodes {
		if v, ok := s.Nodes[i].Prop("state"); ok {
			states[v]++
		}
	}
	if st := s.Stats(); st.Nodes != 400 || st.Triangles != 3700 || st.Materials != 7 || st.Cameras != 1 || states["whole"] != 25 || states["broken"] != 3 {
		t.Errorf("%+v %v", st, states)
	}
	doc, err := chain.Parse(VillageChain)
	if err != nil {
		t.Fatal(err)
	}
	if order := doc.Order(); len(order) > 0 {
		t.Errorf("its own chain is out of order: %+v", order)
	}
}
