package threemf

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
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
	w := &writer{s: s, files: flat.PictureNames(s), texture: make([]int, len(s.Materials))}
	w.begin()
	w.materials()
	w.textures()
	for _, p := range flat.Pieces(s) {
		if len(p.Triangles) > 0 {
			w.object(p)
		}
	}
	w.end()
	if len(w.items) == 0 {
		return nil, nil, fmt.Errorf("write 3MF of %q: it has no triangles", s.Name)
	}
	data, err := w.pack(used)
	if err != nil {
		return nil, nil, err
	}
	if w.both > 0 {
		parts := format.Counted(w.both, "part's colours", "parts' colours")
		notes = append(notes, scene.Note{Text: parts + " not written: 3MF has a picture or colours, not both", Loss: true})
	}
	return []format.Written{{Name: flat.FileName(name) + ".3mf", Data: data}}, notes, nil
}

// writer is the model's XML as far as it is written (3MF Core Specification 1.3
// and Materials and Properties Extension 1.2).
type writer struct {
	bytes.Buffer
	s       *scene.Scene
	files   []string // names of the pictures
	id      int      // the last that was given to a resource
	base    int      // of the materials' colours
	texture []int    // of each material's picture; 0 for none
	items   []int    // objects of the build
	both    int      // parts that have colours beside a picture
	line    []byte
}

func (w *writer) next() int { w.id++; return w.id }

func (w *writer) printf(f string, a ...any) { fmt.Fprintf(&w.Buffer, f, a...) }

func (w *writer) begin() {
	w.WriteString(xml.Header)
	w.WriteString(`<model unit="millimeter" xml:lang="en" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02" ` +
		`xmlns:m="http://schemas.microsoft.com/3dmanufacturing/material/2015/02">` + "\n")
	for _, m := range [][2]string{
		{"Title", w.s.Name}, {"Designer", w.s.Terms.Owner},
		{"Copyright", w.s.Terms.Text}, {"LicenseTerms", w.s.Terms.Licence},
	} {
		if m[1] != "" {
			w.printf(" <metadata name=%q>%s</metadata>\n", m[0], esc(m[1]))
		}
	}
	w.WriteString(" <resources>\n")
}

// materials writes all materials' colours as one group (Core 5.1).
func (w *writer) materials() {
	if len(w.s.Materials) == 0 {
		return
	}
	w.base = w.next()
	w.printf("  <basematerials id=\"%d\">\n", w.base)
	for i := range w.s.Materials {
		m := &w.s.Materials[i]
		w.printf("   <base name=\"%s\" displaycolor=\"%s\"/>\n", esc(m.Name), colour(m.BaseColour))
	}
	w.WriteString("  </basematerials>\n")
}

// tileStyles are the ways in which a texture goes on beyond its edge (Materials 5).
var tileStyles = map[scene.Wrap]string{scene.Repeat: "wrap", scene.Clamp: "clamp", scene.Mirror: "mirror"}

func (w *writer) textures() {
	for i := range w.s.Materials {
		t := w.s.Materials[i].Texture(scene.RoleColour)
		if t == nil || w.s.Pictures[t.Picture].Missing() {
			continue
		}
		w.texture[i] = w.next()
		w.printf("  <m:texture2d id=\"%d\" path=\"/3D/Textures/%s\" contenttype=\"%s\" tilestyleu=\"%s\" tilestylev=\"%s\"/>\n",
			w.texture[i], esc(w.files[t.Picture]), w.s.Pictures[t.Picture].MIME, tileStyles[t.WrapU], tileStyles[t.WrapV])
	}
}

// corners writes what stands at the corners of a piece: places in its texture, or
// colours. It returns 0 where neither does.
func (w *writer) corners(p flat.Piece) (group int) {
	mat := p.Part.Material
	switch {
	case mat >= 0 && w.texture[mat] > 0 && len(p.Part.UVs) > 0:
		if len(p.Part.Colours) > 0 {
			w.both++
		}
		group = w.next()
		uv := p.Part.UVs[0].Data
		w.printf("  <m:texture2dgroup id=\"%d\" texid=\"%d\">\n", group, w.texture[mat])
		for i := 0; i+1 < len(uv); i += 2 {
			w.printf("   <m:tex2coord u=\"%s\" v=\"%s\"/>\n", num(uv[i]), num(1-uv[i+1]))
		}
		w.WriteString("  </m:texture2dgroup>\n")
	case len(p.Part.Colours) > 0:
		group = w.next()
		w.printf("  <m:colorgroup id=\"%d\">\n", group)
		c := p.Part.Colours[0].Data
		for i := 0; i+3 < len(c); i += 4 {
			w.printf("   <m:color color=\"%s\"/>\n", colour([4]float32(c[i:i+4])))
		}
		w.WriteString("  </m:colorgroup>\n")
	}
	return group
}

// object writes a piece as an object of its own. Its numbers are put together
// by hand: there are millions of them.
func (w *writer) object(p flat.Piece) {
	group := w.corners(p)
	o := w.next()
	w.items = append(w.items, o)
	w.printf("  <object id=\"%d\" name=\"%s\" type=\"model\"", o, esc(p.Name))
	switch mat := p.Part.Material; {
	case group > 0:
		w.printf(" pid=\"%d\" pindex=\"0\"", group)
	case mat >= 0:
		w.printf(" pid=\"%d\" pindex=\"%d\"", w.base, mat)
	}
	w.WriteString(">\n   <mesh>\n    <vertices>\n")
	for i := 0; i+2 < len(p.Positions); i += 3 {
		line := append(w.line[:0], `     <vertex x="`...)
		line = strconv.AppendFloat(line, float64(p.Positions[i]), 'g', -1, 32)
		line = append(line, `" y="`...)
		line = strconv.AppendFloat(line, float64(p.Positions[i+1]), 'g', -1, 32)
		line = append(line, `" z="`...)
		line = strconv.AppendFloat(line, float64(p.Positions[i+2]), 'g', -1, 32)
		w.line = append(line, "\"/>\n"...)
		w.Write(w.line)
	}
	w.WriteString("    </vertices>\n    <triangles>\n")
	for i := 0; i+2 < len(p.Triangles); i += 3 {
		line := append(w.line[:0], "     <triangle"...)
		line = numbered(line, 'v', p.Triangles[i:i+3])
		if group > 0 { // the corners' values stand in the order of the vertices
			line = append(line, ` pid="`...)
			line = append(strconv.AppendInt(line, int64(group), 10), '"')
			line = numbered(line, 'p', p.Triangles[i:i+3])
		}
		w.line = append(line, "/>\n"...)
		w.Write(w.line)
	}
	w.WriteString("    </triangles>\n   </mesh>\n  </object>\n")
}

// numbered adds attributes such as v1="7" v2="9".
func numbered(line []byte, name byte, list []uint32) []byte {
	for k, v := range list {
		line = append(line, ' ', name, byte('1'+k), '=', '"')
		line = append(strconv.AppendInt(line, int64(v), 10), '"')
	}
	return line
}

func (w *writer) end() {
	w.WriteString(" </resources>\n <build>\n")
	for _, o := range w.items {
		w.printf("  <item objectid=\"%d\"/>\n", o)
	}
	w.WriteString(" </build>\n</model>\n")
}

// What the package says of its files (Open Packaging Conventions).
const (
	contentTypes = xml.Header + `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">` +
		`<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>` +
		`<Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-3dmodel+xml"/>` +
		`<Default Extension="png" ContentType="image/png"/><Default Extension="jpg" ContentType="image/jpeg"/></Types>`
	relations     = xml.Header + `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">`
	modelRelation = `<Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dmodel"/>`
)

// pack puts the model and the pictures that are used into a package. The model
// stands first, so that the package is known by its first bytes.
func (w *writer) pack(used []bool) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	put := func(name string, data []byte) error {
		h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)}
		f, err := z.CreateHeader(h)
		if err == nil {
			_, err = f.Write(data)
		}
		return err
	}
	err := errors.Join(put("3D/3dmodel.model", w.Bytes()), put("[Content_Types].xml", []byte(contentTypes)),
		put("_rels/.rels", []byte(relations+modelRelation+`</Relationships>`)))
	var rels strings.Builder
	for i := range used {
		if used[i] {
			fmt.Fprintf(&rels,
				`<Relationship Target="/3D/Textures/%s" Id="tex%d" Type="http://schemas.microsoft.com/3dmanufacturing/2013/01/3dtexture"/>`,
				esc(w.files[i]), i)
		}
	}
	if rels.Len() > 0 {
		err = errors.Join(err, put("3D/_rels/3dmodel.model.rels", []byte(relations+rels.String()+`</Relationships>`)))
	}
	for i := range used {
		if used[i] {
			err = errors.Join(err, put("3D/Textures/"+w.files[i], w.s.Pictures[i].Data))
		}
	}
	if err = errors.Join(err, z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
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
