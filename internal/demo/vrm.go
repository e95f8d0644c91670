package demo

import (
	"bytes"
	"encoding/json"
	"image"
	"math"
)

// Avatar is one person of the avatar exchange, before it is a file.
type Avatar struct {
	ID, Name, Author string
	Tint             [3]float64 // of the clothes
	Height           float64    // metres
	// Licence fields of VRM 1.0.
	Redistribution bool
	Modification   string // prohibited, allowModification, allowModificationRedistribution
	Commercial     string // personalNonProfit, personalProfit, corporation
	Credit         bool
	Strolls        bool // it has a motion
}

// Avatars are those of the exchange.
var Avatars = []Avatar{
	{"ottilie", "Ottilie, ferry keeper", "Wren Sallow", [3]float64{1, 1, 1}, 1.78, false, "prohibited", "personalNonProfit", true, false},
	{"corin", "Corin of the tide mill", "Millrace Workshop", [3]float64{0.86, 0.95, 1.12}, 1.69, true, "allowModificationRedistribution", "personalNonProfit", true, false},
	{"bede", "Bede, reed cutter", "Wren Sallow", [3]float64{0.95, 1.06, 0.86}, 1.84, true, "allowModification", "personalProfit", false, false},
	{"tamsin", "Tamsin with the lantern", "Causeway Circle", [3]float64{1.1, 0.97, 0.9}, 1.62, true, "allowModificationRedistribution", "corporation", false, true},
}

type m = map[string]any

// glbBuilder gathers the binary part of a GLB with its views and accessors.
type glbBuilder struct {
	bin              bytes.Buffer
	views, accessors []m
}

// view adds bytes and returns the number of their buffer view.
func (g *glbBuilder) view(data []byte, target int) int {
	for g.bin.Len()%4 != 0 {
		g.bin.WriteByte(0)
	}
	v := m{"buffer": 0, "byteOffset": g.bin.Len(), "byteLength": len(data)}
	if target > 0 {
		v["target"] = target
	}
	g.views = append(g.views, v)
	g.bin.Write(data)
	return len(g.views) - 1
}

func (g *glbBuilder) accessor(a m, data []byte, target int) int {
	a["bufferView"] = g.view(data, target)
	g.accessors = append(g.accessors, a)
	return len(g.accessors) - 1
}

const (
	vertexData = 34962 // glTF 2.0, bufferView.target
	indexData  = 34963
)

// vec adds float vectors of n numbers; with bounds where glTF asks for them.
func (g *glbBuilder) vec(values []float64, n int, bounds bool) int {
	data := make([]byte, 0, 4*len(values))
	lo, hi := make([]float64, n), make([]float64, n)
	for i, x := range values {
		data = le.AppendUint32(data, floatBits(x))
		k, x := i%n, float64(float32(x))
		if i < n {
			lo[k], hi[k] = x, x
		}
		lo[k], hi[k] = min(lo[k], x), max(hi[k], x)
	}
	a := m{"componentType": 5126, "count": len(values) / n, "type": map[int]string{2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}[n]}
	if bounds {
		a["min"], a["max"] = lo, hi
	}
	target := vertexData
	if n == 16 {
		target = 0
	}
	return g.accessor(a, data, target)
}

func (g *glbBuilder) indices(tris [][3]int) int {
	var data []byte
	for _, t := range tris {
		for _, i := range t {
			data = le.AppendUint16(data, uint16(i))
		}
	}
	return g.accessor(m{"componentType": 5123, "count": 3 * len(tris), "type": "SCALAR"}, data, indexData)
}

// surface adds the attributes of a surface.
func (g *glbBuilder) surface(s *surface) (attributes m, indices int) {
	var pos, nrm, uv []float64
	for _, v := range s.verts {
		pos = append(pos, v.p[0], v.p[1], v.p[2])
		nrm = append(nrm, v.n[0], v.n[1], v.n[2])
		uv = append(uv, v.u, v.v)
	}
	return m{"POSITION": g.vec(pos, 3, true), "NORMAL": g.vec(nrm, 3, false), "TEXCOORD_0": g.vec(uv, 2, false)}, g.indices(s.tris)
}

// file joins a document and the binary part (glTF 2.0, section 4.4).
func (g *glbBuilder) file(doc m) []byte {
	doc["bufferViews"], doc["accessors"], doc["buffers"] = g.views, g.accessors, []m{{"byteLength": g.bin.Len()}}
	text, err := json.Marshal(doc)
	if err != nil {
		panic(err) // no value of ours can fail
	}
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	for g.bin.Len()%4 != 0 {
		g.bin.WriteByte(0)
	}
	out := append([]byte("glTF"), 2, 0, 0, 0)
	out = le.AppendUint32(out, uint32(12+8+len(text)+8+g.bin.Len()))
	out = le.AppendUint32(out, uint32(len(text)))
	out = append(append(out, "JSON"...), text...)
	out = le.AppendUint32(out, uint32(g.bin.Len()))
	out = append(out, "BIN\x00"...)
	return append(out, g.bin.Bytes()...)
}

// humanBones names our bones as VRM 1.0 does.
var humanBones = map[string]string{
	"hips": "hips", "spine": "spine", "chest": "chest", "neck": "neck", "head": "head",
	"collar_l": "leftShoulder", "upper_arm_l": "leftUpperArm", "forearm_l": "leftLowerArm", "hand_l": "leftHand",
	"thigh_l": "leftUpperLeg", "shin_l": "leftLowerLeg", "foot_l": "leftFoot", "toe_l": "leftToes",
	"collar_r": "rightShoulder", "upper_arm_r": "rightUpperArm", "forearm_r": "rightLowerArm", "hand_r": "rightHand",
	"thigh_r": "rightUpperLeg", "shin_r": "rightLowerLeg", "foot_r": "rightFoot", "toe_r": "rightToes",
}

// VRM is the avatar as a file of VRM 1.0: a skinned figure in metres that
// looks along +Z, with three expressions and its licence fields.
func (a Avatar) VRM() []byte {
	k := ferryKeeper()
	scale := a.Height / 1.78
	g := &glbBuilder{}
	nodes := make([]m, len(k.bones))
	joints := make([]int, len(k.bones))
	var inverse []float64
	human := m{}
	for i, b := range k.bones {
		at := b.at.mul(scale)
		local := at
		if b.parent >= 0 {
			local = at.sub(k.bones[b.parent].at.mul(scale))
		}
		nodes[i] = m{"name": b.name, "translation": local}
		joints[i] = i
		inverse = append(inverse, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, -at[0], -at[1], -at[2], 1)
		if h := humanBones[b.name]; h != "" {
			human[h] = m{"node": i}
		}
	}
	for i, b := range k.bones {
		if b.parent >= 0 {
			list, _ := nodes[b.parent]["children"].([]int)
			nodes[b.parent]["children"] = append(list, i)
		}
	}
	named := map[string]int{}
	for i, b := range k.bones {
		named[b.name] = i
	}
	head := named["head"]
	var prims []m
	names := []string{"smile", "blink", "surprise"}
	for pi := range k.parts {
		p := &k.parts[pi]
		for i := range p.verts {
			p.verts[i].p = p.verts[i].p.mul(scale)
		}
		attr, idx := g.surface(&p.surface)
		var js []byte
		var ws []float64
		shift := [3][]float64{}
		for _, v := range p.verts {
			total := 0.0
			for _, w := range v.weight {
				total += w
			}
			face := 0.0 // expressions move the front of the head only
			for c, w := range v.weight {
				if w == 0 {
					v.joint[c] = 0
				} else if v.joint[c] == head && v.n[2] > 0 {
					face += w / total * v.n[2]
				}
				js = append(js, byte(v.joint[c]))
				ws = append(ws, w/total)
			}
			y := (v.p[1] - 1.62*scale) / (0.12 * scale)
			shift[0] = append(shift[0], 0, 0.008*face*math.Exp(-y*y), 0.004*face)
			shift[1] = append(shift[1], 0, -0.006*face*math.Exp(-(y-0.6)*(y-0.6)), 0)
			shift[2] = append(shift[2], 0, -0.010*face*math.Exp(-y*y), -0.003*face)
		}
		attr["JOINTS_0"] = g.accessor(m{"componentType": 5121, "count": len(p.verts), "type": "VEC4"}, js, vertexData)
		attr["WEIGHTS_0"] = g.vec(ws, 4, false)
		var targets []m
		for _, s := range shift {
			targets = append(targets, m{"POSITION": g.vec(s, 3, true)})
		}
		prims = append(prims, m{"attributes": attr, "indices": idx, "material": p.material, "targets": targets})
	}
	body := len(nodes)
	nodes = append(nodes, m{"name": "body", "mesh": 0, "skin": 0})
	var materials, textures, images []m
	pictures := []image.Image{tint(keeperCloth(), a.Tint), tint(keeperGear(), a.Tint)}
	for i, mat := range k.materials {
		x := m{"name": mat.name, "pbrMetallicRoughness": m{"baseColorTexture": m{"index": i}, "metallicFactor": 0, "roughnessFactor": 0.9}}
		if mat.alpha == 1 {
			x["alphaMode"], x["alphaCutoff"] = "MASK", mat.cutoff
		}
		materials = append(materials, x)
		textures = append(textures, m{"source": i})
		images = append(images, m{"name": mat.name + "_c", "bufferView": g.view(pngBytes(pictures[i]), 0), "mimeType": "image/png"})
	}
	ibm := g.vec(inverse, 16, false)
	expression := func(i int) m {
		return m{"morphTargetBinds": []m{{"node": body, "index": i, "weight": 1}}}
	}
	// What cloth and hair would stay outside of: the head, the chest down to
	// the hips, the thighs.
	ball := func(bone string, y, r float64) m {
		return m{"node": named[bone], "shape": m{"sphere": m{"offset": []float64{0, y * scale, 0}, "radius": r * scale}}}
	}
	capsule := func(bone string, from, to, r float64) m {
		return m{"node": named[bone], "shape": m{"capsule": m{"offset": []float64{0, from * scale, 0}, "tail": []float64{0, to * scale, 0}, "radius": r * scale}}}
	}
	colliders := []m{ball("head", 0.09, 0.13), capsule("chest", 0.06, -0.2, 0.17), capsule("thigh_l", -0.05, -0.36, 0.09), capsule("thigh_r", -0.05, -0.36, 0.09)}
	credit := "unnecessary"
	if a.Credit {
		credit = "required"
	}
	doc := m{
		"asset": m{"version": "2.0", "generator": "Sedgewater avatar exchange"},
		"scene": 0, "scenes": []m{{"nodes": []int{0, body}}}, "nodes": nodes,
		"meshes":    []m{{"name": "body", "primitives": prims, "extras": m{"targetNames": names}}},
		"skins":     []m{{"joints": joints, "inverseBindMatrices": ibm, "skeleton": 0}},
		"materials": materials, "textures": textures, "images": images,
		"extensionsUsed": []string{"VRMC_vrm", "VRMC_springBone"},
		"extensions": m{"VRMC_springBone": m{"specVersion": "1.0", "colliders": colliders, "colliderGroups": []m{{"name": "body", "colliders": []int{0, 1, 2, 3}}}}, "VRMC_vrm": m{
			"specVersion": "1.0",
			"meta": m{"name": a.Name, "version": "1", "authors": []string{a.Author}, "licenseUrl": "https://vrm.dev/licenses/1.0/",
				"avatarPermission": "onlyAuthor", "commercialUsage": a.Commercial, "creditNotation": credit,
				"allowRedistribution": a.Redistribution, "modification": a.Modification},
			"humanoid":    m{"humanBones": human},
			"expressions": m{"preset": m{"happy": expression(0), "blink": expression(1), "surprised": expression(2)}},
		}},
	}
	if a.Strolls {
		doc["animations"] = []m{g.animation(strolling(named), scale)}
	}
	return g.file(doc)
}

// animation adds a motion; places are by so many times as large.
func (g *glbBuilder) animation(mo motion, by float64) m {
	var channels, samplers []m
	add := func(t *track, path string, values []float64, n int) {
		var times []byte
		for _, f := range t.frames {
			times = le.AppendUint32(times, floatBits(float64(f)/30))
		}
		last := float64(float32(float64(t.frames[len(t.frames)-1]) / 30))
		input := g.accessor(m{"componentType": 5126, "count": len(t.frames), "type": "SCALAR", "min": []float64{0}, "max": []float64{last}}, times, 0)
		channels = append(channels, m{"sampler": len(samplers), "target": m{"node": t.bone, "path": path}})
		samplers = append(samplers, m{"input": input, "output": g.vec(values, n, false)})
	}
	for i := range mo.tracks {
		t := &mo.tracks[i]
		var turns, moves []float64
		for _, q := range t.turns {
			turns = append(turns, q[0], q[1], q[2], q[3])
		}
		for _, p := range t.moves {
			moves = append(moves, p[0]*by, p[1]*by, p[2]*by)
		}
		if turns != nil {
			add(t, "rotation", turns, 4)
		}
		if moves != nil {
			add(t, "translation", moves, 3)
		}
	}
	return m{"name": mo.name, "channels": channels, "samplers": samplers}
}

// strolling is two steps of a slow walk, 1.6 seconds; its last frame is its
// first, 1.15 m on.
func strolling(index map[string]int) motion {
	mo := motion{name: "strolling"}
	const length = 48
	var frames []int
	for f := 0; f <= length; f += 2 {
		frames = append(frames, f)
	}
	spin := func(bone string, f func(phase float64) quat) {
		t := track{bone: index[bone], frames: frames}
		for _, fr := range frames {
			t.turns = append(t.turns, f(2*math.Pi*float64(fr)/length))
		}
		mo.tracks = append(mo.tracks, t)
	}
	x, y, z := v3{1, 0, 0}, v3{0, 1, 0}, v3{0, 0, 1}
	for _, side := range []struct {
		name  string
		shift float64
		way   float64
	}{{"l", 0, 1}, {"r", math.Pi, -1}} {
		at := side.shift
		spin("thigh_"+side.name, func(p float64) quat { return turn(x, -4-21*math.Sin(p+at)) })
		spin("shin_"+side.name, func(p float64) quat { return turn(x, 6+24*math.Max(0, math.Cos(p+at))) })
		spin("foot_"+side.name, func(p float64) quat { return turn(x, 2+10*math.Sin(p+at)) })
		spin("upper_arm_"+side.name, func(p float64) quat { return turn(x, 16*math.Sin(p+at)).times(turn(z, 4*side.way)) })
		spin("forearm_"+side.name, func(p float64) quat { return turn(x, -16-6*math.Sin(p+at)) })
	}
	spin("spine", func(p float64) quat { return turn(y, 5*math.Sin(p)).times(turn(x, 3)) })
	spin("head", func(p float64) quat { return turn(y, -4*math.Sin(p)) })
	hips := track{bone: index["hips"], frames: frames}
	for _, fr := range frames {
		p := 2 * math.Pi * float64(fr) / length
		hips.moves = append(hips.moves, v3{0.012 * math.Sin(p), 0.93 + 0.014*math.Cos(2*p), 1.15 * float64(fr) / length})
	}
	mo.tracks = append(mo.tracks, hips)
	return mo
}

// Thumb is a small picture of the avatar's face.
func (a Avatar) Thumb() []byte {
	src := tint(keeperCloth(), a.Tint)
	const n = 96
	out := image.NewNRGBA(image.Rect(0, 0, n, n))
	b := src.Bounds()
	for y := range n {
		for x := range n {
			// The picture's part with the head, which stands upside down in it.
			u, v := 0.31+0.28*float64(x)/n, 0.85-0.28*float64(y)/n
			out.Set(x, y, src.At(b.Min.X+int(u*float64(b.Dx())), b.Min.Y+int(v*float64(b.Dy()))))
		}
	}
	return pngBytes(out)
}

func tint(p *image.NRGBA, by [3]float64) *image.NRGBA {
	out := image.NewNRGBA(p.Rect)
	copy(out.Pix, p.Pix)
	for i := range out.Pix {
		if k := i % 4; k < 3 {
			out.Pix[i] = to8(float64(out.Pix[i]) / 255 * by[k])
		}
	}
	return out
}
