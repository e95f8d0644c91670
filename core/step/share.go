package step

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"math"
	"slices"

	"excavate/core/scene"
)

// ShareParams says whose meshes are compared.
type ShareParams struct{ Where }

var _ = register(Kind{Name: "share", Title: "Share equal meshes", Family: Geometry, On: Nodes, Version: 1,
	Purpose: "Let nodes whose meshes are equal in every number share one, so that it is stored once."},
	ShareParams{}, share)

func share(ctx context.Context, s *scene.Scene, p ShareParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	other := make([]bool, len(s.Meshes)) // shown by a node that is not chosen
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 && !c.Nodes[i] {
			other[m] = true
		}
	}
	to := make([]int, len(s.Meshes))
	first := map[[32]byte]int{}
	var list []scene.Mesh
	for i := range s.Meshes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if other[i] {
			to[i] = len(list)
			list = append(list, s.Meshes[i])
			continue
		}
		d, err := meshDigest(&s.Meshes[i])
		if err != nil {
			return nil, err
		}
		k, ok := first[d]
		if !ok {
			k = len(list)
			first[d] = k
			list = append(list, s.Meshes[i])
		}
		to[i] = k
	}
	if len(list) == len(s.Meshes) {
		r.Nothing("no two meshes are equal")
		return s, nil
	}
	out := *s
	out.Meshes, out.Nodes = list, slices.Clone(s.Nodes)
	for i := range out.Nodes {
		if m := out.Nodes[i].Mesh; m >= 0 {
			out.Nodes[i].Mesh = to[m]
		}
		out.Nodes[i].Collider = out.Nodes[i].Collider.WithMesh(to)
	}
	r.Say("meshes %d → %d", len(s.Meshes), len(list))
	return &out, nil
}

// meshDigest is that of all numbers and names of a mesh but its own name.
func meshDigest(m *scene.Mesh) (d [32]byte, err error) {
	h := sha256.New()
	plain := scene.Mesh{Parts: m.Parts}
	text, err := json.Marshal(plain) // all but the bulk, which JSON leaves out
	if err != nil {
		return d, err
	}
	h.Write(text)
	var buf []byte
	put := func(n int) {
		h.Write(binary.LittleEndian.AppendUint64(nil, uint64(n)))
	}
	floats := func(v []float32) {
		put(len(v))
		for len(v) > 0 {
			n := min(len(v), 1024)
			buf = buf[:0]
			for _, x := range v[:n] {
				buf = binary.LittleEndian.AppendUint32(buf, math.Float32bits(x))
			}
			h.Write(buf)
			v = v[n:]
		}
	}
	whole := func(v []uint32) {
		put(len(v))
		for len(v) > 0 {
			n := min(len(v), 1024)
			buf = buf[:0]
			for _, x := range v[:n] {
				buf = binary.LittleEndian.AppendUint32(buf, x)
			}
			h.Write(buf)
			v = v[n:]
		}
	}
	for i := range m.Parts {
		p := &m.Parts[i]
		for _, v := range [][]float32{p.Positions, p.Normals, p.Tangents, p.Weights} {
			floats(v)
		}
		put(len(p.Joints))
		for _, j := range p.Joints {
			h.Write([]byte{byte(j), byte(j >> 8)})
		}
		for _, v := range [][]uint32{p.Triangles, p.Lines, p.Points} {
			whole(v)
		}
		for _, set := range [][]scene.AttrSet{p.UVs, p.Colours} {
			for k := range set {
				floats(set[k].Data)
			}
		}
		for k := range p.Morphs {
			for _, v := range [][]float32{p.Morphs[k].Positions, p.Morphs[k].Normals, p.Morphs[k].Tangents} {
				floats(v)
			}
		}
	}
	return [32]byte(h.Sum(nil)), nil
}
