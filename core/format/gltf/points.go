package gltf

import (
	"encoding/binary"
	"encoding/json"
	"math"
)

// Points writes bare positions, three numbers each, as a GLB with one
// primitive of points (glTF 2.0 section 3.7.2.1, mode 0). Numbers that are not
// finite are left out.
func Points(positions []float32) []byte {
	lo, hi := [3]float32{math.MaxFloat32, math.MaxFloat32, math.MaxFloat32}, [3]float32{-math.MaxFloat32, -math.MaxFloat32, -math.MaxFloat32}
	data := make([]byte, 0, 4*len(positions))
	for i := 0; i+2 < len(positions); i += 3 {
		p := positions[i : i+3]
		if bad := p[0] - p[0] + p[1] - p[1] + p[2] - p[2]; bad != 0 {
			continue
		}
		for k, v := range p {
			lo[k], hi[k] = min(lo[k], v), max(hi[k], v)
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(v))
		}
	}
	doc := map[string]any{"asset": map[string]string{"version": "2.0"}}
	if len(data) > 0 {
		doc["scene"], doc["scenes"] = 0, []any{map[string]any{"nodes": []int{0}}}
		doc["nodes"] = []any{map[string]int{"mesh": 0}}
		doc["meshes"] = []any{map[string]any{"primitives": []any{map[string]any{"attributes": map[string]int{"POSITION": 0}, "mode": 0}}}}
		doc["accessors"] = []any{map[string]any{"bufferView": 0, "componentType": 5126, "count": len(data) / 12, "type": "VEC3", "min": lo, "max": hi}}
		doc["bufferViews"] = []any{map[string]int{"buffer": 0, "byteLength": len(data), "target": 34962}}
		doc["buffers"] = []any{map[string]int{"byteLength": len(data)}}
	}
	text, _ := json.Marshal(doc) // of numbers that are finite
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	out := binary.LittleEndian.AppendUint32([]byte("glTF\x02\x00\x00\x00"), 0)
	chunk := func(kind string, b []byte) {
		out = binary.LittleEndian.AppendUint32(out, uint32(len(b)))
		out = append(append(out, kind...), b...)
	}
	chunk("JSON", text)
	if len(data) > 0 {
		chunk("BIN\x00", data)
	}
	binary.LittleEndian.PutUint32(out[8:], uint32(len(out)))
	return out
}
