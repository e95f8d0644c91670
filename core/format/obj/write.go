package obj

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/quad"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "obj", Title: "Wavefront OBJ", Ending: ".obj", Write: Write}
}

// Write writes a scene as OBJ, MTL and its pictures.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	s, notes := flat.Baked(s)
	notes = append(notes, flat.Lost(s, flat.Has{Format: "OBJ", Names: true, Materials: true, Pictures: true, Normals: true, UVs: 1, Colours: 1, Lines: true, Points: true,
		Surface: flat.Surface{Factor: true, Metal: true, MetalFactor: true, Emission: true, EmissionFactor: true, Blend: true, Cutout: true, Unlit: true, Roles: roles}})...)
	file := flat.FileName(name)
	var b bytes.Buffer
	if len(s.Materials) > 0 {
		fmt.Fprintf(&b, "mtllib %s.mtl\n", file)
	}
	names := unique(len(s.Materials), func(i int) string { return s.Materials[i].Name }, "material")
	var line []byte
	num := func(v float32) {
		line = append(line, ' ')
		line = strconv.AppendFloat(line, float64(v), 'g', -1, 32)
	}
	put := func(word string, values ...float32) {
		line = append(line[:0], word...)
		for _, v := range values {
			num(v)
		}
		b.Write(append(line, '\n'))
	}
	bounds := s.Bounds()
	at := format.Far(bounds.Min, bounds.Max)
	position := func(q []float32) {
		line = append(line[:0], 'v')
		for k, x := range q {
			if at == [3]float64{} {
				num(x)
			} else {
				line = strconv.AppendFloat(append(line, ' '), float64(x)+at[k], 'g', -1, 64)
			}
		}
	}
	v, t, n := 1, 1, 1
	var objects distinct.Names
	renamed := 0
	for _, p := range flat.PiecesAbout(s, at) {
		own := objects.Name(word(p.Name, "mesh"), " ")
		if own != p.Name {
			renamed++
		}
		fmt.Fprintf(&b, "o %s\n", own)
		count := len(p.Positions) / 3
		var colours []float32
		if len(p.Part.Colours) > 0 {
			colours = p.Part.Colours[0].Data
		}
		for i := range count {
			position(p.Positions[3*i : 3*i+3])
			if colours != nil {
				for _, c := range colours[4*i : 4*i+3] {
					num(float32(format.Display(c)))
				}
			}
			b.Write(append(line, '\n'))
		}
		var uvs []float32
		if len(p.Part.UVs) > 0 {
			uvs = p.Part.UVs[0].Data
			for i := range count {
				put("vt", uvs[2*i], 1-uvs[2*i+1]) // OBJ counts v from below
			}
		}
		for i := 0; i < len(p.Normals); i += 3 {
			put("vn", p.Normals[i:i+3]...)
		}
		if p.Part.Material >= 0 {
			fmt.Fprintf(&b, "usemtl %s\n", names[p.Part.Material])
		}
		sizes, corners := quad.Faces(p.Part.Quads, p.Positions, p.Triangles)
		for _, size := range sizes {
			line = append(line[:0], 'f')
			for _, i := range corners[:size] {
				line = strconv.AppendInt(append(line, ' '), int64(int(i)+v), 10)
				if uvs != nil {
					line = strconv.AppendInt(append(line, '/'), int64(int(i)+t), 10)
				} else if p.Normals != nil {
					line = append(line, '/')
				}
				if p.Normals != nil {
					line = strconv.AppendInt(append(line, '/'), int64(int(i)+n), 10)
				}
			}
			b.Write(append(line, '\n'))
			corners = corners[size:]
		}
		for k := 0; k+1 < len(p.Part.Lines); k += 2 {
			fmt.Fprintf(&b, "l %d %d\n", int(p.Part.Lines[k])+v, int(p.Part.Lines[k+1])+v)
		}
		for _, k := range p.Part.Points {
			fmt.Fprintf(&b, "p %d\n", int(k)+v)
		}
		v += count
		if uvs != nil {
			t += count
		}
		n += len(p.Normals) / 3
	}
	if renamed > 0 {
		notes = append(notes, scene.Note{Text: format.Counted(renamed, "object was", "objects were") + " given another name: OBJ joins objects of one name, and has none without"})
	}
	out := []format.Written{{Name: file + ".obj", Data: b.Bytes()}}
	if len(s.Materials) > 0 {
		pictures := flat.PictureNames(s)
		out = append(out, format.Written{Name: file + ".mtl", Data: library(s, names, pictures)})
		for i := range s.Pictures {
			if p := &s.Pictures[i]; !p.Missing() {
				out = append(out, format.Written{Name: pictures[i], Data: p.Data})
			}
		}
	}
	return out, notes, nil
}

// word is a name without what ends or breaks a statement.
func word(name, usual string) string {
	name = strings.Join(strings.FieldsFunc(name, func(r rune) bool { return r < ' ' }), " ")
	if name = strings.TrimRight(strings.TrimSpace(name), `\`); name == "" {
		return usual
	}
	return name
}

func unique(n int, name func(int) string, usual string) []string {
	var names distinct.Names
	out := make([]string, n)
	for i := range out {
		out[i] = names.Name(word(name(i), usual), " ")
	}
	return out
}

// roles are those for which MTL has a statement.
var roles = []scene.Role{scene.RoleColour, scene.RoleEmission, scene.RoleNormal}

func library(s *scene.Scene, names, pictures []string) []byte {
	var b bytes.Buffer
	for i := range s.Materials {
		m := &s.Materials[i]
		fmt.Fprintf(&b, "newmtl %s\nKd %.6g %.6g %.6g\nd %g\nPr %g\nPm %g\n", names[i], format.Display(m.BaseColour[0]), format.Display(m.BaseColour[1]), format.Display(m.BaseColour[2]), m.BaseColour[3], m.Roughness, m.Metallic)
		if m.Emissive != [3]float32{} {
			fmt.Fprintf(&b, "Ke %.6g %.6g %.6g\n", format.Display(m.Emissive[0]), format.Display(m.Emissive[1]), format.Display(m.Emissive[2]))
		}
		if m.Unlit {
			b.WriteString("illum 0\n")
		}
		for _, t := range m.Textures {
			key := map[scene.Role]string{scene.RoleColour: "map_Kd", scene.RoleEmission: "map_Ke", scene.RoleNormal: "norm"}[t.Role]
			if key == "" {
				continue
			}
			clamp := ""
			if t.WrapU == scene.Clamp && t.WrapV == scene.Clamp {
				clamp = "-clamp on "
			}
			fmt.Fprintf(&b, "%s %s%s\n", key, clamp, pictures[t.Picture])
			if t.Role == scene.RoleColour && m.Alpha == scene.Cutout {
				fmt.Fprintf(&b, "map_d %s\n", pictures[t.Picture])
			}
		}
	}
	return b.Bytes()
}
