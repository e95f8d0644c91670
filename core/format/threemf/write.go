package threemf

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"
	"time"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer() format.Writer {
	return format.Writer{Name: "3mf", Title: "3MF", Ending: ".3mf", Basis: millimetres, Write: Write}
}

// millimetres is what is written.
var millimetres = geom.Basis{Up: basis.Up, Front: basis.Front, Handed: basis.Handed, MetresPerUnit: 1e-3}

// Write writes a scene as 3MF: one object a part of a node, in the rest pose,
// in millimetres with z up, with its colour, colours or texture.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	if err := s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write 3MF of %q: %w", s.Name, err)
	}
	t, notes, err := s.TurnedTo(millimetres, "3MF")
	if err != nil {
		return nil, nil, fmt.Errorf("write 3MF of %q: %w", s.Name, err)
	}
	s, baked := flat.Baked(t)
	notes = append(notes, baked...)
	plain := *s
	plain.Basis = geom.Basis{} // what becomes of it is said above
	notes = append(notes, flat.Lost(&plain, flat.Has{Format: "3MF", Names: true, Materials: true, Pictures: true, UVs: 1, Colours: 1, VertexAlpha: true, Owner: true, Licence: true, Text: true,
		Surface: flat.Surface{Blend: true, Clamp: true, Mirror: true, Roles: []scene.Role{scene.RoleColour}, SaysRoles: true}})...)
	files := flat.PictureNames(s)
	used := make([]bool, len(s.Pictures))
	roles := 0
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			if t.Role != scene.RoleColour {
				roles++
			} else if !s.Pictures[t.Picture].Missing() {
				used[t.Picture] = true
			}
		}
	}
	if roles > 0 {
		notes = append(notes, scene.Note{Text: format.Counted(roles, "picture in another role than colour", "pictures in other roles than colour") + " not written: 3MF has no such role", Loss: true})
	}
	var b bytes.Buffer
	b.WriteString(xml.Header)
	b.WriteString(`<model unit="millimeter" xml:lang="en" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02" xmlns:m="http://schemas.microsoft.com/3dmanufacturing/material/2015/02">` + "\n")
	meta := func(name, v string) {
		if v != "" {
			fmt.Fprintf(&b, " <metadata name=%q>%s</metadata>\n", name, esc(v))
		}
	}
	meta("Title", s.Name)
	meta("Designer", s.Terms.Owner)
	meta("Copyright", s.Terms.Text)
	meta("LicenseTerms", s.Terms.Licence)
	b.WriteString(" <resources>\n")
	id := 0
	next := func() int { id++; return id }
	base := 0
	if len(s.Materials) > 0 {
		base = next()
		fmt.Fprintf(&b, "  <basematerials id=\"%d\">\n", base)
		for i := range s.Materials {
			m := &s.Materials[i]
			c := m.BaseColour
			fmt.Fprintf(&b, "   <base name=\"%s\" displaycolor=\"%s\"/>\n", esc(m.Name), colour(c))
		}
		b.WriteString("  </basematerials>\n")
	}
	texture := make([]int, len(s.Materials))
	for i := range s.Materials {
		t := s.Materials[i].Texture(scene.RoleColour)
		if t == nil || s.Pictures[t.Picture].Missing() {
			continue
		}
		texture[i] = next()
		wrap := func(w scene.Wrap) string {
			return map[scene.Wrap]string{scene.Repeat: "wrap", scene.Clamp: "clamp", scene.Mirror: "mirror"}[w]
		}
		mime := s.Pictures[t.Picture].MIME
		fmt.Fprintf(&b, "  <m:texture2d id=\"%d\" path=\"/3D/Textures/%s\" contenttype=\"%s\" tilestyleu=\"%s\" tilestylev=\"%s\"/>\n", texture[i], esc(files[t.Picture]), mime, wrap(t.WrapU), wrap(t.WrapV))
	}
	both := 0
	type placed struct{ id int }
	var items []placed
	for _, p := range flat.Pieces(s) {
		if len(p.Triangles) == 0 {
			continue
		}
		group, perCorner := base, false
		mat := p.Part.Material
		switch {
		case mat >= 0 && texture[mat] > 0 && len(p.Part.UVs) > 0:
			if len(p.Part.Colours) > 0 {
				both++
			}
			group, perCorner = next(), true
			uv := p.Part.UVs[0].Data
			fmt.Fprintf(&b, "  <m:texture2dgroup id=\"%d\" texid=\"%d\">\n", group, texture[mat])
			for i := 0; i+1 < len(uv); i += 2 {
				fmt.Fprintf(&b, "   <m:tex2coord u=\"%s\" v=\"%s\"/>\n", num(uv[i]), num(1-uv[i+1]))
			}
			b.WriteString("  </m:texture2dgroup>\n")
		case len(p.Part.Colours) > 0:
			group, perCorner = next(), true
			fmt.Fprintf(&b, "  <m:colorgroup id=\"%d\">\n", group)
			c := p.Part.Colours[0].Data
			for i := 0; i+3 < len(c); i += 4 {
				fmt.Fprintf(&b, "   <m:color color=\"%s\"/>\n", colour([4]float32(c[i:i+4])))
			}
			b.WriteString("  </m:colorgroup>\n")
		}
		o := next()
		items = append(items, placed{o})
		fmt.Fprintf(&b, "  <object id=\"%d\" name=\"%s\" type=\"model\"", o, esc(p.Name))
		if !perCorner && mat >= 0 {
			fmt.Fprintf(&b, " pid=\"%d\" pindex=\"%d\"", base, mat)
		} else if perCorner {
			fmt.Fprintf(&b, " pid=\"%d\" pindex=\"0\"", group)
		}
		b.WriteString(">\n   <mesh>\n    <vertices>\n")
		var line []byte
		for i := 0; i+2 < len(p.Positions); i += 3 {
			line = append(line[:0], `     <vertex x="`...)
			line = strconv.AppendFloat(line, float64(p.Positions[i]), 'g', -1, 32)
			line = append(line, `" y="`...)
			line = strconv.AppendFloat(line, float64(p.Positions[i+1]), 'g', -1, 32)
			line = append(line, `" z="`...)
			line = strconv.AppendFloat(line, float64(p.Positions[i+2]), 'g', -1, 32)
			b.Write(append(line, "\"/>\n"...))
		}
		b.WriteString("    </vertices>\n    <triangles>\n")
		for i := 0; i+2 < len(p.Triangles); i += 3 {
			line = append(line[:0], "     <triangle"...)
			for k := range 3 {
				line = append(line, ` v`...)
				line = append(line, byte('1'+k), '=', '"')
				line = strconv.AppendInt(line, int64(p.Triangles[i+k]), 10)
				line = append(line, '"')
			}
			if perCorner {
				line = append(line, ` pid="`...)
				line = strconv.AppendInt(line, int64(group), 10)
				line = append(line, '"')
				for k := range 3 {
					line = append(line, ` p`...)
					line = append(line, byte('1'+k), '=', '"')
					line = strconv.AppendInt(line, int64(p.Triangles[i+k]), 10)
					line = append(line, '"')
				}
			}
			b.Write(append(line, "/>\n"...))
		}
		b.WriteString("    </triangles>\n   </mesh>\n  </object>\n")
	}
	b.WriteString(" </resources>\n <build>\n")
	for _, o := range items {
		fmt.Fprintf(&b, "  <item objectid=\"%d\"/>\n", o.id)
	}
	b.WriteString(" </build>\n</model>\n")
	if len(items) == 0 {
		return nil, nil, fmt.Errorf("write 3MF of %q: it has no triangles", s.Name)
	}
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	put := func(name string, data []byte) error {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)})
		if err == nil {
			_, err = w.Write(data)
		}
		return err
	}
	parts := []struct {
		name string
		data []byte
	}{{"[Content_Types].xml", []byte(xml.Header + `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/><Default Extension="png" ContentType="image/png"/><Default Extension="jpg" ContentType="image/jpeg"/></Types>`)},
		{"_rels/.rels", []byte(xml.Header + `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/></Relationships>`)}}
	var rels strings.Builder
	for i := range s.Pictures {
		if used[i] {
			fmt.Fprintf(&rels, `<Relationship Target="/3D/Textures/%s" Id="tex%d" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dtexture"/>`, esc(files[i]), i)
		}
	}
	// The model stands early, so that the package is known by its first bytes.
	parts = append(parts, struct {
		name string
		data []byte
	}{"3D/_rels/3dmodel.model.rels", []byte(xml.Header + `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">` + rels.String() + `</Relationships>`)})
	if rels.Len() == 0 {
		parts = parts[:2]
	}
	parts = append([]struct {
		name string
		data []byte
	}{{"3D/3dmodel.model", b.Bytes()}}, parts...)
	for _, p := range parts {
		if err := put(p.name, p.data); err != nil {
			return nil, nil, err
		}
	}
	for i := range s.Pictures {
		if used[i] {
			if err := put("3D/Textures/"+files[i], s.Pictures[i].Data); err != nil {
				return nil, nil, err
			}
		}
	}
	if err := z.Close(); err != nil {
		return nil, nil, err
	}
	if both > 0 {
		notes = append(notes, scene.Note{Text: format.Counted(both, "part's colours", "parts' colours") + " not written: 3MF has a picture or colours, not both", Loss: true})
	}
	return []format.Written{{Name: flat.FileName(name) + ".3mf", Data: out.Bytes()}}, notes, nil
}

func num(v float32) string { return strconv.FormatFloat(float64(v), 'g', -1, 32) }

func colour(c [4]float32) string {
	a := byte(min(max(c[3], 0), 1)*255 + 0.5)
	return fmt.Sprintf("#%02X%02X%02X%02X", format.Display8(c[0]), format.Display8(c[1]), format.Display8(c[2]), a)
}

func esc(t string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(strings.ToValidUTF8(t, "_"))) //nolint:errcheck // a buffer takes all
	return b.String()
}
