package obj

import (
	"bytes"
	"fmt"
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
	at := 0
	data, _ = format.DecimalCommas(format.UTF8(data), false, "Ka", "Kd", "Ks", "Ke", "Tf", "Ns", "Ni", "d", "Tr", "Pr", "Pm")
	for line := range bytes.Lines(data) {
		at++
		word, rest := statement(line)
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
		word = strings.ToLower(word)
		v, n := values(rest)
		if least, ok := wants[word]; ok && n < least {
			if r.odd++; r.odd == 1 {
				r.oddAt = fmt.Sprintf("line %d: %q", at, short(bytes.TrimSpace(line)))
			}
			continue
		}
		switch word {
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
			if !rough {
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
			if t := m.Texture(scene.RoleColour); t == nil || options(rest).file != r.s.Pictures[t.Picture].Ref {
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

// wants is how many numbers a statement has at the least.
var wants = map[string]int{"kd": 1, "ke": 1, "d": 1, "tr": 1, "pr": 1, "pm": 1, "ns": 1}

// statement parts a line into its first word and the rest.
func statement(line []byte) (word, rest string) {
	t := strings.TrimSpace(strings.ToValidUTF8(string(line), "\ufffd"))
	if i := strings.IndexAny(t, " \t"); i >= 0 {
		return t[:i], strings.TrimSpace(t[i:])
	}
	return t, ""
}

// values reads up to three numbers; one alone stands for all three.
func values(rest string) (v [3]float64, n int) {
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
	return v, n
}

// image is what a texture statement says: options, then the picture's name.
type image struct {
	file          string
	offset, scale [3]float64 // -o and -s
	clamp         bool
	strange       string // an option that is not read
}

// takes is how many values the options have at most; -o, -s and -t have one to
// three numbers.
var takes = map[string]int{"-o": 3, "-s": 3, "-t": 3, "-mm": 2, "-blendu": 1, "-blendv": 1, "-boost": 1, "-texres": 1, "-clamp": 1, "-bm": 1, "-imfchan": 1, "-type": 1, "-cc": 1}

func options(rest string) image {
	out := image{file: rest, scale: [3]float64{1, 1, 1}}
	f := strings.Fields(rest)
	i := 0
	for i < len(f) {
		name := strings.ToLower(f[i])
		most, ok := takes[name]
		if !ok {
			break
		}
		i++
		first := i
		var v [3]float64
		for ; i < len(f) && i-first < most; i++ {
			x, after, ok := format.Float([]byte(f[i]))
			if ok = ok && len(after) == 0; !ok && most == 3 && i > first {
				break
			} else if ok {
				v[i-first] = x
			}
		}
		switch name {
		case "-o":
			out.offset = v
		case "-s":
			copy(out.scale[:], v[:i-first])
		case "-clamp":
			out.clamp = i > first && strings.EqualFold(f[first], "on")
		default:
			out.strange = name
		}
	}
	if i > 0 {
		out.file = strings.Join(f[i:], " ")
	}
	return out
}

// transform is that of -o and -s, which OBJ applies with v counted from below:
// u' = s·u + o, so that v' = 1 - (s·(1 - v) + o) from above.
func (im image) transform() *scene.UVTransform {
	if im.offset[0] == 0 && im.offset[1] == 0 && im.scale[0] == 1 && im.scale[1] == 1 {
		return nil
	}
	return &scene.UVTransform{
		Offset: [2]float32{float32(im.offset[0]), float32(1 - im.scale[1] - im.offset[1])},
		Scale:  [2]float32{float32(im.scale[0]), float32(im.scale[1])},
	}
}

func (r *reader) texture(m *scene.Material, role scene.Role, rest string) {
	im := options(rest)
	ref := im.file
	if ref == "" || m.Texture(role) != nil {
		return
	}
	if im.strange != "" {
		r.unknown["option "+im.strange]++
	}
	k, ok := r.pictures[ref]
	if !ok {
		k = len(r.s.Pictures)
		r.pictures[ref] = k
		name := ref[strings.LastIndexAny(ref, `/\`)+1:]
		r.s.Pictures = append(r.s.Pictures, scene.Picture{Name: name, Ref: ref})
	}
	t := scene.Texture{Role: role, Picture: k, Scale: 1, Transform: im.transform()}
	if im.clamp {
		t.WrapU, t.WrapV = scene.Clamp, scene.Clamp
	}
	m.Textures = append(m.Textures, t)
}
