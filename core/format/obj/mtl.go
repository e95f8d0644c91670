package obj

import (
	"bytes"
	"math"
	"strings"

	"excavate/core/format"
	"excavate/core/scene"
)

// readMTL reads a material library. Materials that a file names before its
// library are filled in.
func (r *reader) readMTL(data []byte) {
	cur := -1
	rough := false
	data, _ = format.DecimalCommas(format.UTF8(data), false, "Ka", "Kd", "Ks", "Ke", "Tf", "Ns", "Ni", "d", "Tr", "Pr", "Pm")
	for line := range bytes.Lines(data) {
		word, rest, _ := strings.Cut(strings.TrimSpace(strings.ToValidUTF8(string(line), "\ufffd")), " ")
		rest = strings.TrimSpace(rest)
		if word == "newmtl" {
			k, ok := r.materials[rest]
			if !ok {
				k = len(r.s.Materials)
				r.materials[rest] = k
				r.s.Materials = append(r.s.Materials, scene.NewMaterial(rest))
			}
			delete(r.missing, rest)
			cur, rough = k, false
			continue
		}
		if cur < 0 || word == "" || word[0] == '#' {
			continue
		}
		m := &r.s.Materials[cur]
		var v [3]float64
		n := 0
		for b := []byte(rest); n < 3; n++ {
			x, after, ok := format.Float(b)
			if !ok {
				break
			}
			v[n], b = x, after
		}
		if n == 1 {
			v[1], v[2] = v[0], v[0]
		}
		switch strings.ToLower(word) {
		case "kd":
			for k := range 3 {
				m.BaseColour[k] = format.Linear(v[k])
			}
		case "d":
			opaque(m, v[0])
		case "tr":
			opaque(m, 1-v[0])
		case "ke":
			for k := range 3 {
				m.Emissive[k] = format.Linear(v[k])
			}
		case "pr":
			m.Roughness, rough = float32(clamp(v[0])), true
		case "pm":
			m.Metallic = float32(clamp(v[0]))
		case "ns": // the width of a Blinn-Phong highlight: roughness^4 = 2 / (Ns + 2)
			if !rough && n > 0 {
				m.Roughness = float32(math.Pow(2/(math.Max(v[0], 0)+2), 0.25))
			}
		case "illum":
			m.Unlit = rest == "0"
		case "map_kd":
			r.texture(m, scene.RoleColour, rest)
		case "map_ke":
			r.texture(m, scene.RoleEmission, rest)
		case "norm":
			r.texture(m, scene.RoleNormal, rest)
		case "map_d":
			if t := m.Texture(scene.RoleColour); t == nil || file(rest) != r.s.Pictures[t.Picture].Ref {
				r.unknown["map_d"]++
			}
			m.Alpha = scene.Cutout
		case "map_bump", "bump", "map_pr", "map_pm", "map_ks", "map_ka", "map_ns", "disp", "decal", "refl":
			r.unknown[word]++
		}
	}
}

func opaque(m *scene.Material, v float64) {
	if v = clamp(v); v < 1 {
		m.Alpha, m.BaseColour[3] = scene.Blend, float32(v)
	}
}

func clamp(v float64) float64 { return math.Max(0, math.Min(1, v)) }

// file is the name that a texture statement ends with, after its options.
func file(s string) string {
	f := strings.Fields(s)
	i := 0
	for i < len(f) && strings.HasPrefix(f[i], "-") {
		n := map[string]int{"-o": 3, "-s": 3, "-t": 3, "-mm": 2, "-blendu": 1, "-blendv": 1, "-boost": 1, "-texres": 1, "-clamp": 1, "-bm": 1, "-imfchan": 1, "-type": 1, "-cc": 1}[f[i]]
		i++
		for ; n > 0 && i < len(f); n-- {
			if _, _, ok := format.Float([]byte(f[i])); !ok && n < 3 && strings.Contains("-o-s-t", f[0]) {
				break // o, s and t take one to three numbers
			}
			i++
		}
	}
	if i == 0 {
		return s
	}
	return strings.Join(f[i:], " ")
}

func (r *reader) texture(m *scene.Material, role scene.Role, rest string) {
	ref := file(rest)
	if ref == "" || m.Texture(role) != nil {
		return
	}
	k, ok := r.pictures[ref]
	if !ok {
		k = len(r.s.Pictures)
		r.pictures[ref] = k
		name := ref[strings.LastIndexAny(ref, `/\`)+1:]
		r.s.Pictures = append(r.s.Pictures, scene.Picture{Name: name, Ref: ref})
	}
	t := scene.Texture{Role: role, Picture: k, Scale: 1}
	if strings.Contains(rest, "-clamp on") {
		t.WrapU, t.WrapV = scene.Clamp, scene.Clamp
	}
	m.Textures = append(m.Textures, t)
}
