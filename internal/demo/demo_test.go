package demo

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/chain"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/format/obj"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/core/terms"
)

func TestTheSameBytesEachTime(t *testing.T) {
	a, b := Files(nil), Files(nil)
	for name := range a {
		if !bytes.Equal(a[name], b[name]) {
			t.Errorf("%s differs from run to run", name)
		}
	}
	if len(a) == 0 || len(a) != len(b) {
		t.Errorf("%d files, then %d", len(a), len(b))
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

// The workshop's things come out of their chains as its page says.
func TestTheWorkshop(t *testing.T) {
	files := workshop()
	run := func(name string, document []byte) *scene.Scene {
		t.Helper()
		s, err := gltf.Read(t.Context(), format.File{Name: name, Data: files[name]})
		if err != nil {
			t.Fatal(err)
		}
		doc, err := chain.Parse(document)
		if err != nil {
			t.Fatal(err)
		}
		if order := doc.Order(); len(order) > 0 {
			t.Errorf("%s: its own chain is out of order: %+v", name, order)
		}
		bands, err := chain.Run(t.Context(), name, s, doc, beside(files), nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		if b := chain.Failed(bands); b != nil {
			t.Fatalf("%s: %v", name, b.Err)
		}
		return chain.Last(bands).Scene
	}
	punt := run("race_punt.glb", PuntRework)
	var names []string
	for _, p := range punt.Meshes[0].Parts {
		for _, u := range p.UVs {
			names = append(names, u.Name)
		}
	}
	// 17 by 29 vertices of the hull's grid, two rows of the deck.
	if v := punt.Stats().Vertices; v != 17*29+2*29 || len(punt.Meshes) != 1 || strings.Join(names, " ") != "surface dirt livery surface dirt livery" {
		t.Errorf("the punt has %d vertices, %d meshes, the sets %v", v, len(punt.Meshes), names)
	}
	for _, m := range punt.Materials {
		want := map[string][2]int{"race_hull": {2, 1}, "race_deck": {0, 1}}[m.Name]
		if c, o := m.Texture(scene.RoleColour), m.Texture(scene.RoleOcclusion); c.UVSet != want[0] || o.UVSet != want[1] {
			t.Errorf("%s: the colour lies on set %d, the dirt on %d", m.Name, c.UVSet, o.UVSet)
		}
	}
	heron := run("heron_shapes.glb", HeronBricks)
	triangles := map[string]int{}
	for i := range heron.Meshes {
		for _, p := range heron.Meshes[i].Parts {
			triangles[heron.Materials[p.Material].Name] += len(p.Triangles) / 3
		}
	}
	want := map[string]int{}
	for _, b := range heronOfBricks() {
		want[b.colour] += 12
	}
	if !maps.Equal(triangles, want) {
		t.Errorf("triangles by colour %v, want %v", triangles, want)
	}
	if h := heron.Stats().Height; h == nil || math.Abs(*h-1.1) > 1e-5 {
		t.Errorf("the heron is %v tall", h)
	}
}

// beside is where a chain finds the other files of an archive.
type beside map[string][]byte

func (b beside) Asset(ctx context.Context, from string) (*scene.Scene, error) {
	companion := func(ref string) ([]byte, string, error) { return b[ref], ref, nil }
	return obj.Read(ctx, format.File{Name: from, Data: b[from], Companion: companion})
}
func (b beside) Pictures(context.Context, string) ([]string, error) { return nil, nil }
func (b beside) Picture(_ context.Context, name string) (scene.Picture, error) {
	return scene.Picture{}, fmt.Errorf("no %s", name)
}
func (b beside) Mark(context.Context, step.Ask) (string, error) { return "", nil }
