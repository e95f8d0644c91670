package demo

// pontoonGLB writes a small binary glTF by hand, without the product's
// writer: a floating pontoon in glTF's own basis, with its picture embedded.
func pontoonGLB() []byte {
	var s surface
	b := bind{}
	s.box(v3{-2, 0.15, -1}, v3{2, 0.3, 1}, rect{0, 0, 1, 1}, b)
	for _, x := range []float64{-1.4, 1.4} {
		s.limb([]v3{{x, 0, -1}, {x, 0, 1}}, []float64{0.22, 0.22}, []bind{b, b}, 14, 5, rect{0, 0, 1, 1}, v3{1, 0, 0}, 0.7)
	}
	g := &glbBuilder{}
	attributes, indices := g.surface(&s)
	picture := g.view(pngBytes(planks(8, rgb{0.50, 0.44, 0.34}, 9)), 0)
	return g.file(m{
		"asset": m{"version": "2.0", "generator": "Sedgewater harbour office", "copyright": "Harbour office of Sedgewater, CC-BY-4.0"},
		"scene": 0, "scenes": []m{{"nodes": []int{0}}},
		"nodes":     []m{{"name": "pontoon", "mesh": 0}},
		"meshes":    []m{{"name": "pontoon", "primitives": []m{{"attributes": attributes, "indices": indices, "material": 0}}}},
		"materials": []m{{"name": "pontoon_planks", "pbrMetallicRoughness": m{"baseColorTexture": m{"index": 0}, "metallicFactor": 0, "roughnessFactor": 0.9}}},
		"textures":  []m{{"source": 0}},
		"images":    []m{{"name": "pontoon_c", "bufferView": picture, "mimeType": "image/png"}},
	})
}
