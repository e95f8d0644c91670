package demo

import (
	"bytes"
	"encoding/json"
)

// pontoonGLB writes a small binary glTF by hand, without the product's
// writer: a floating pontoon in glTF's own basis, with its picture embedded.
func pontoonGLB() []byte {
	var s surface
	b := bind{}
	s.box(v3{-2, 0.15, -1}, v3{2, 0.3, 1}, rect{0, 0, 1, 1}, b)
	for _, x := range []float64{-1.4, 1.4} {
		s.limb([]v3{{x, 0, -1}, {x, 0, 1}}, []float64{0.22, 0.22}, []bind{b, b}, 14, 5, rect{0, 0, 1, 1}, v3{1, 0, 0}, 0.7)
	}
	var bin bytes.Buffer
	type m = map[string]any
	var views, accessors []m
	add := func(target int, accessor m, data []byte) {
		for bin.Len()%4 != 0 {
			bin.WriteByte(0)
		}
		view := m{"buffer": 0, "byteOffset": bin.Len(), "byteLength": len(data)}
		if target > 0 {
			view["target"] = target
			accessor["bufferView"] = len(views)
			accessors = append(accessors, accessor)
		}
		views = append(views, view)
		bin.Write(data)
	}
	var pos, nrm, uv, idx bytes.Buffer
	f32 := func(w *bytes.Buffer, v ...float64) {
		for _, x := range v {
			var b4 [4]byte
			le.PutUint32(b4[:], floatBits(x))
			w.Write(b4[:])
		}
	}
	lo, hi := v3{1e9, 1e9, 1e9}, v3{-1e9, -1e9, -1e9}
	for _, v := range s.verts {
		f32(&pos, v.p[0], v.p[1], v.p[2])
		f32(&nrm, v.n[0], v.n[1], v.n[2])
		f32(&uv, v.u, v.v)
		for k := range v.p {
			x := float64(float32(v.p[k]))
			lo[k], hi[k] = min(lo[k], x), max(hi[k], x)
		}
	}
	for _, t := range s.tris {
		for _, i := range t {
			idx.Write([]byte{byte(i), byte(i >> 8)})
		}
	}
	n := len(s.verts)
	add(34962, m{"componentType": 5126, "count": n, "type": "VEC3", "min": lo, "max": hi}, pos.Bytes())
	add(34962, m{"componentType": 5126, "count": n, "type": "VEC3"}, nrm.Bytes())
	add(34962, m{"componentType": 5126, "count": n, "type": "VEC2"}, uv.Bytes())
	add(34963, m{"componentType": 5123, "count": 3 * len(s.tris), "type": "SCALAR"}, idx.Bytes())
	add(0, nil, pngBytes(planks(8, rgb{0.50, 0.44, 0.34}, 9)))
	doc := m{
		"asset": m{"version": "2.0", "generator": "Sedgewater harbour office", "copyright": "Harbour office of Sedgewater, CC-BY-4.0"},
		"scene": 0, "scenes": []m{{"nodes": []int{0}}},
		"nodes":       []m{{"name": "pontoon", "mesh": 0}},
		"meshes":      []m{{"name": "pontoon", "primitives": []m{{"attributes": m{"POSITION": 0, "NORMAL": 1, "TEXCOORD_0": 2}, "indices": 3, "material": 0}}}},
		"materials":   []m{{"name": "pontoon_planks", "pbrMetallicRoughness": m{"baseColorTexture": m{"index": 0}, "metallicFactor": 0, "roughnessFactor": 0.9}}},
		"textures":    []m{{"source": 0}},
		"images":      []m{{"name": "pontoon_c", "bufferView": 4, "mimeType": "image/png"}},
		"bufferViews": views, "accessors": accessors, "buffers": []m{{"byteLength": bin.Len()}},
	}
	text, err := json.Marshal(doc)
	if err != nil {
		panic(err) // no value above can fail
	}
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	for bin.Len()%4 != 0 {
		bin.WriteByte(0)
	}
	var out bytes.Buffer
	u32 := func(v int) {
		var b4 [4]byte
		le.PutUint32(b4[:], uint32(v))
		out.Write(b4[:])
	}
	out.WriteString("glTF")
	u32(2)
	u32(12 + 8 + len(text) + 8 + bin.Len())
	u32(len(text))
	out.WriteString("JSON")
	out.Write(text)
	u32(bin.Len())
	out.WriteString("BIN\x00")
	out.Write(bin.Bytes())
	return out.Bytes()
}
