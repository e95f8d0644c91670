package meshopt_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"math/rand"
	"os/exec"
	"strings"
	"testing"

	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/format/gltf/meshopt"
)

type packed struct {
	Cases []struct {
		Mode, Filter  string
		Count, Stride int64
		Packed, Plain []byte
	}
	GLB []byte
}

// others packs with software that is not ours.
func others(t testing.TB) (p packed) {
	t.Helper()
	out, err := exec.Command("node", "../../../../e2e/pack.mjs").Output()
	if err != nil {
		t.Fatalf("node e2e/pack.mjs: %v", err)
	}
	if err := json.Unmarshal(out, &p); err != nil {
		t.Fatal(err)
	}
	return p
}

func TestWhatOthersPack(t *testing.T) {
	p := others(t)
	if len(p.Cases) < 70 {
		t.Fatalf("%d cases", len(p.Cases))
	}
	for _, c := range p.Cases {
		got, err := meshopt.Decode(meshopt.View{Mode: c.Mode, Filter: c.Filter, Count: c.Count, Stride: c.Stride}, c.Packed)
		if err != nil {
			t.Errorf("%s %s, %d of %d bytes: %v", c.Mode, c.Filter, c.Count, c.Stride, err)
			continue
		}
		if c.Filter == "NONE" && !bytes.Equal(got, c.Plain) || len(got) != len(c.Plain) {
			t.Errorf("%s, %d of %d bytes: other bytes", c.Mode, c.Count, c.Stride)
			continue
		}
		// Their filters compute with fewer digits: the last one may differ.
		for at := 0; at < len(got); at++ {
			switch {
			case c.Filter == "EXPONENTIAL" && got[at] != c.Plain[at]:
				t.Fatalf("%s: byte %d", c.Filter, at)
			case c.Stride == 4 && c.Filter == "OCTAHEDRAL":
				if d := int(int8(got[at])) - int(int8(c.Plain[at])); d < -1 || d > 1 {
					t.Fatalf("%s: byte %d is %d, want %d", c.Filter, at, int8(got[at]), int8(c.Plain[at]))
				}
			case c.Stride == 8 && at%2 == 0:
				a, b := int16(binary.LittleEndian.Uint16(got[at:])), int16(binary.LittleEndian.Uint16(c.Plain[at:]))
				if d := int(a) - int(b); d < -1 || d > 1 {
					t.Fatalf("%s: number %d is %d, want %d", c.Filter, at/2, a, b)
				}
			}
		}
		// Cut off anywhere, and changed anywhere, it ends with an error or with
		// other numbers.
		for _, cut := range []int{0, 1, len(c.Packed) / 2, len(c.Packed) - 1} {
			if _, err := meshopt.Decode(meshopt.View{Mode: c.Mode, Count: max(c.Count, 1), Stride: c.Stride}, c.Packed[:cut]); err == nil && c.Count > 0 {
				t.Errorf("%s, %d of %d bytes: cut at %d it is read", c.Mode, c.Count, c.Stride, cut)
			}
		}
	}
	for _, v := range []meshopt.View{{Mode: "ATTRIBUTES", Count: 1 << 40, Stride: 4}, {Mode: "ATTRIBUTES", Count: 1 << 27, Stride: 256}, {Mode: "ATTRIBUTES", Count: 4, Stride: 5}, {Mode: "TRIANGLES", Count: 4, Stride: 4}, {Mode: "TRIANGLES", Count: 3 << 25, Stride: 4}, {Mode: "INDICES", Count: -1, Stride: 4}, {Mode: "POINTS", Count: 1, Stride: 4}} {
		if _, err := meshopt.Decode(v, append([]byte{0xa0}, make([]byte, 100)...)); err == nil {
			t.Errorf("%+v is read", v)
		}
	}
}

func TestPackedGLB(t *testing.T) {
	p := others(t)
	s, err := gltf.Read(context.Background(), format.File{Name: "mudflat.glb", Data: p.GLB})
	if err != nil {
		t.Fatal(err)
	}
	st := s.Stats()
	if st.Triangles != 2*19*19 || st.Vertices != 400 || st.Max[0] != 19 || st.Max[2] != 19 || len(s.Notes) > 0 {
		t.Errorf("%+v %v", st, s.Notes)
	}
	if n := s.Meshes[0].Parts[0].Normals; n[1] < 0.99 {
		t.Errorf("%v", n[:3])
	}
	bad := bytes.Replace(p.GLB, []byte(`"mode":"TRIANGLES"`), []byte(`"mode":"TRIANGLER"`), 1)
	if _, err := gltf.Read(context.Background(), format.File{Data: bad}); err == nil || !strings.Contains(err.Error(), "bufferViews[2]") {
		t.Error(err)
	}
}

func FuzzDecode(f *testing.F) {
	for _, mode := range []string{"ATTRIBUTES", "TRIANGLES", "INDICES"} {
		f.Add(mode, "OCTAHEDRAL", int64(30), int64(4), append([]byte{map[string]byte{"ATTRIBUTES": 0xa0, "TRIANGLES": 0xe1, "INDICES": 0xd1}[mode]}, make([]byte, 64)...))
	}
	f.Fuzz(func(t *testing.T, mode, filter string, count, stride int64, data []byte) {
		out, err := meshopt.Decode(meshopt.View{Mode: mode, Filter: filter, Count: count, Stride: stride}, data)
		if err == nil && int64(len(out)) != count*stride {
			t.Errorf("%d bytes of %d elements of %d", len(out), count, stride)
		}
	})
}

func BenchmarkDecode(b *testing.B) {
	p := others(b)
	for _, mode := range []string{"ATTRIBUTES", "TRIANGLES"} {
		b.Run(strings.ToLower(mode), func(b *testing.B) {
			var list []int
			n := int64(0)
			for i, c := range p.Cases {
				if c.Mode == mode && c.Count > 900 {
					list = append(list, i)
					n += int64(len(c.Plain))
				}
			}
			rand.Shuffle(len(list), func(i, k int) { list[i], list[k] = list[k], list[i] })
			b.SetBytes(n)
			for b.Loop() {
				for _, i := range list {
					c := &p.Cases[i]
					if _, err := meshopt.Decode(meshopt.View{Mode: c.Mode, Filter: c.Filter, Count: c.Count, Stride: c.Stride}, c.Packed); err != nil {
						b.Fatal(err)
					}
				}
			}
		})
	}
}
