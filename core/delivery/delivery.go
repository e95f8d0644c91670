// Package delivery makes what is handed to a target: files of an asset in the
// target's format and folder layout, with a manifest of all that they came
// from, by which a delivery can be checked and made again.
package delivery

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/core/target"
)

// Options say what is made of an asset. The zero value is a GLB by itself.
type Options struct {
	// Format is the model's, by its writer's name; empty is the sheet's, or glb.
	Format string `json:"format,omitempty"`
	// Layout says where files go; nil is the sheet's, or all beside each other.
	Layout *target.Delivery `json:"layout,omitempty"`
	// Longest bounds the sides of pictures apart, in texels; 0 does not.
	Longest int `json:"longest,omitempty"`
	// Quality of pictures apart that are JPEG, 1 to 100; 0 is the usual one.
	Quality int `json:"quality,omitempty"`
	// Roles say it for pictures of some roles, before the above and the layout.
	Roles map[scene.Role]PictureOptions `json:"roles,omitempty"`
	// Levels are further levels of detail: shares of the triangles, each a model
	// of its own.
	Levels []float64 `json:"levels,omitempty"`
	// Show adds a picture of the asset.
	Show *Show `json:"show,omitempty"`
}

// PictureOptions say how pictures of a role are written apart.
type PictureOptions struct {
	Format  string `json:"format,omitempty"` // png, jpeg, dds, ktx2, tga; empty is the layout's
	Longest int    `json:"longest,omitempty"`
	Quality int    `json:"quality,omitempty"`
}

// Show is a picture of the asset for the page where it will be shown.
type Show struct {
	Width  int     `json:"width"`
	Height int     `json:"height"`
	Turn   float64 `json:"turn,omitempty"` // degrees about the up axis
	Tilt   float64 `json:"tilt,omitempty"` // degrees that the camera stands higher than usual
	// Background is paper, none, or a colour as #rrggbb; empty is paper.
	Background string `json:"background,omitempty"`
	Figure     bool   `json:"figure,omitempty"`
	// Frames makes it a turntable, an animated PNG of so many pictures round the
	// asset, 25 a second; 0 is one picture.
	Frames int `json:"frames,omitempty"`
}

// layout is the own one, else the sheet's.
func (o *Options) layout(sheet *target.Sheet) (out target.Delivery) {
	switch {
	case o.Layout != nil:
		out = *o.Layout
	case sheet != nil && sheet.Delivery != nil:
		out = *sheet.Delivery
	}
	return out
}

// Check refuses what cannot be made.
func (o *Options) Check() error {
	if o.Layout != nil {
		if err := o.Layout.Check(); err != nil {
			return fmt.Errorf("layout: %w", err)
		}
		if p := o.Layout.Picture; p != "" && pixel.Writable(p) == nil {
			return fmt.Errorf("layout: pictures cannot be written as %q", p)
		}
	}
	if len(o.Levels) > 8 {
		return fmt.Errorf("levels: %d, at most 8", len(o.Levels))
	}
	for _, l := range o.Levels {
		if !(l > 0 && l < 1) {
			return fmt.Errorf("levels: %g is no share of the triangles: 0.5 is half of them", l)
		}
	}
	if err := (PictureOptions{Longest: o.Longest, Quality: o.Quality}).check("pictures"); err != nil {
		return err
	}
	for role, p := range o.Roles {
		if !slices.Contains(scene.Roles, role) {
			return fmt.Errorf("roles: pictures have no role %q", role)
		}
		if err := p.check(string(role)); err != nil {
			return err
		}
	}
	if o.Show != nil {
		return o.Show.check()
	}
	return nil
}

func (s *Show) check() error {
	if s.Width < 1 || s.Height < 1 || s.Width > 8192 || s.Height > 8192 {
		return fmt.Errorf("picture of the asset: %d × %d; each side is 1 to 8192 px", s.Width, s.Height)
	}
	if s.Frames < 0 || s.Frames > mostFrames || s.Frames > 1 && s.Width*s.Height > frameTexels {
		return fmt.Errorf("turntable: %d pictures of %d × %d; at most %d of %d texels", s.Frames, s.Width,
			s.Height, mostFrames, frameTexels)
	}
	if _, err := render.ParseBackground(s.Background); err != nil {
		return fmt.Errorf("picture of the asset: %w", err)
	}
	return nil
}

// Bounds on a turntable.
const (
	mostFrames  = 240
	frameTexels = 1280 * 1280
)

func (p PictureOptions) check(what string) error {
	if p.Longest < 0 || p.Longest > 16384 || p.Quality < 0 || p.Quality > 100 {
		return fmt.Errorf("%s: at most 16384 px, quality 1 to 100", what)
	}
	if p.Format != "" && pixel.Writable(p.Format) == nil {
		return fmt.Errorf("%s: the format %q cannot be written", what, p.Format)
	}
	return nil
}

// Maker makes deliveries.
type Maker struct {
	Writers format.Writers
	Version string // of Excavate
}

// File is one file of a delivery.
type File struct {
	Path string
	Kind string // model, level, motion, picture, shown
	Data []byte
}

// Made is what is handed over, but for its manifest.
type Made struct {
	Folder string // that all files lie in; empty is none
	Files  []File // the model first
	Notes  []scene.Note
	// Again are materials of the target that are used and not delivered.
	Again []string
	// SearchFile and SearchLine are the line that the target's search path needs.
	SearchFile, SearchLine string
}

// Size is the size of all files.
func (m *Made) Size() (sum int64) {
	for i := range m.Files {
		sum += int64(len(m.Files[i].Data))
	}
	return sum
}

// Generator is what written files name as their maker.
func Generator(version string) string { return "Excavate " + version }

// Make makes the files of an asset. sheet may be nil.
func (k *Maker) Make(ctx context.Context, s *scene.Scene, sheet *target.Sheet, o Options) (*Made, error) {
	if err := o.Check(); err != nil {
		return nil, err
	}
	c := &composer{Maker: k, ctx: ctx, sheet: sheet, o: o, asset: Name(s.Name), out: &Made{},
		taken: map[string]bool{}, numbers: distinct.Numbers{}}
	if err := c.settle(); err != nil {
		return nil, err
	}
	s = c.used(s)
	if err := c.model(s); err != nil {
		return nil, err
	}
	if err := c.levels(s); err != nil {
		return nil, err
	}
	if o.Show != nil {
		if err := c.show(s); err != nil {
			return nil, err
		}
	}
	return c.out, nil
}

// composer makes one delivery.
type composer struct {
	*Maker
	ctx    context.Context
	sheet  *target.Sheet
	o      Options
	asset  string
	layout target.Delivery
	writer *format.Writer
	out    *Made

	taken   map[string]bool // paths, in small letters
	numbers distinct.Numbers
}

// settle decides format and layout.
func (c *composer) settle() error {
	name := c.o.Format
	if name == "" && c.sheet != nil {
		name = c.sheet.Format
	}
	if name == "" {
		name = "glb"
	}
	named := name
	if named == "collada" {
		named = "dae"
	}
	if c.writer = c.Writers.Named(named); c.writer == nil {
		if c.writer = c.Writers.Named(name); c.writer == nil {
			return fmt.Errorf("format %q cannot be written", name)
		}
	}
	c.layout = c.o.layout(c.sheet)
	c.out.Folder = c.fill(c.layout.Folder)
	if c.layout.SearchLine != "" {
		c.out.SearchFile = c.layout.SearchFile
		c.out.SearchLine = c.fill(c.layout.SearchLine, "{folder}", c.out.Folder)
	}
	return nil
}

// assetWord stands for the asset's name in paths of a layout.
const assetWord = "{asset}"

// fill puts the asset's name, and other pairs, into a path of the layout.
func (c *composer) fill(text string, more ...string) string {
	return strings.NewReplacer(append([]string{assetWord, c.asset}, more...)...).Replace(text)
}

// add adds a file under a path that no other has, whatever the case of its
// letters.
func (c *composer) add(kind, p string, data []byte) string {
	if wanted := p; c.taken[strings.ToLower(p)] {
		ext := path.Ext(p)
		c.numbers.Next(wanted, func(k int) bool {
			p = fmt.Sprintf("%s_%d%s", strings.TrimSuffix(wanted, ext), k, ext)
			return !c.taken[strings.ToLower(p)]
		})
	}
	c.taken[strings.ToLower(p)] = true
	if c.out.Folder != "" {
		p = c.out.Folder + "/" + p
	}
	c.out.Files = append(c.out.Files, File{p, kind, data})
	return p
}

// used is the scene as it is delivered: colliders as the sheet tells them,
// nothing of materials that the target has itself.
func (c *composer) used(s *scene.Scene) *scene.Scene {
	out, notes := target.Told(s, c.sheet)
	c.out.Notes = append(c.out.Notes, notes...)
	if c.sheet == nil || c.sheet.Materials == nil || len(c.sheet.Materials.There) == 0 {
		return out
	}
	x := *out
	x.Materials = slices.Clone(out.Materials)
	for i := range x.Materials {
		if m := &x.Materials[i]; slices.Contains(c.sheet.Materials.There, m.Name) {
			c.out.Again = append(c.out.Again, m.Name)
			m.Textures = nil
		}
	}
	if c.out.Again == nil {
		return out
	}
	c.out.Notes = append(c.out.Notes, scene.Note{Text: "materials of the target are used and not delivered: " +
		strings.Join(c.out.Again, ", ")})
	return x.Sweep(out)
}

// model writes the model, with its motions and pictures where the layout wants
// them.
func (c *composer) model(s *scene.Scene) error {
	where := c.layout.Model
	if where == "" {
		where = assetWord
	}
	if c.layout.Motions == "" && (c.sheet == nil || c.sheet.Motions == nil || !c.sheet.Motions.Apart) ||
		len(s.Motions) == 0 {
		return c.write("model", c.fill(where), s)
	}
	still := *s
	still.Motions = nil
	if err := c.write("model", c.fill(where), &still); err != nil {
		return err
	}
	return c.motions(s)
}

// motions writes each motion as a file of its own: the skeleton, no mesh.
func (c *composer) motions(s *scene.Scene) error {
	where := c.layout.Motions
	if where == "" {
		where = "{asset}_{motion}"
	} else if !strings.Contains(where, "{motion}") {
		where += "/{asset}_{motion}"
	}
	kind, err := step.Get("motion-only")
	if err != nil {
		return err
	}
	for i := range s.Motions {
		one := *s
		one.Motions = s.Motions[i : i+1]
		alone, err := kind.Apply(c.ctx, &one, nil, nil, &step.Report{})
		if err != nil {
			return err
		}
		if err := c.write("motion", c.fill(where, "{motion}", Name(s.Motions[i].Name)), alone); err != nil {
			c.note([]scene.Note{{Text: fmt.Sprintf("the motion %s is not written: %v", s.Motions[i].Name, err),
				Loss: true}})
		}
	}
	return nil
}

// levels writes further levels of detail beside the model.
func (c *composer) levels(s *scene.Scene) error {
	if len(c.o.Levels) == 0 {
		return nil
	}
	kind, err := step.Get("reduce")
	if err != nil {
		return err
	}
	where := c.layout.Model
	if where == "" {
		where = assetWord
	}
	still := *s
	still.Motions = nil
	all := 0
	for i := range s.Meshes {
		for j := range s.Meshes[i].Parts {
			all += len(s.Meshes[i].Parts[j].Triangles) / 3
		}
	}
	for i, share := range c.o.Levels {
		with, err := json.Marshal(map[string]int{"triangles": max(int(share*float64(all)), 1)})
		if err != nil {
			return err
		}
		r := &step.Report{}
		fewer, err := kind.Apply(c.ctx, &still, with, nil, r)
		if err != nil {
			return err
		}
		if err := c.write("level", fmt.Sprintf("%s_lod%d", c.fill(where), i+1), fewer); err != nil {
			return err
		}
		for _, l := range r.Losses {
			c.out.Notes = append(c.out.Notes, scene.Note{Text: fmt.Sprintf("level %d: %s", i+1, l), Loss: true})
		}
	}
	return nil
}

// write writes a scene as the files of a model; where is its path without an
// ending.
func (c *composer) write(kind, where string, s *scene.Scene) error {
	if c.writer.Name == "glb" {
		return c.writeGLB(kind, where, s)
	}
	asStands := c.sheet != nil && c.sheet.Basis != nil
	if asStands {
		var notes []scene.Note
		s, notes = c.writer.AsIs(s)
		c.note(notes)
	}
	files, notes, err := c.writer.Write(s, path.Base(where))
	if err != nil {
		return err
	}
	c.note(notes)
	dir := path.Dir(where)
	for i, f := range files {
		k := kind
		if i > 0 {
			k = "picture"
			if path.Ext(f.Name) == ".mtl" {
				k = kind
			}
		}
		c.addOnce(k, path.Join(dir, f.Name), f.Data)
	}
	return nil
}

// addOnce adds a file unless one of this path and these bytes is there: levels
// of one asset share their pictures.
func (c *composer) addOnce(kind, p string, data []byte) {
	full := p
	if c.out.Folder != "" {
		full = c.out.Folder + "/" + p
	}
	for i := range c.out.Files {
		if c.out.Files[i].Path == full && bytes.Equal(c.out.Files[i].Data, data) {
			return
		}
	}
	c.add(kind, p, data)
}

// note keeps notes, each once.
func (c *composer) note(list []scene.Note) {
	for _, n := range list {
		if !slices.Contains(c.out.Notes, n) {
			c.out.Notes = append(c.out.Notes, n)
		}
	}
}

// writeGLB writes a GLB. A sheet that states a basis is held against the
// numbers as they stand, so they are written so; without one they become
// glTF's.
func (c *composer) writeGLB(kind, where string, s *scene.Scene) error {
	o := gltf.Options{Generator: Generator(c.Version), AsStands: c.sheet != nil && c.sheet.Basis != nil}
	if c.layout.Pictures != "" && len(s.Pictures) > 0 && kind != "motion" {
		uris, err := c.pictures(where, s)
		if err != nil {
			return err
		}
		o.Apart = func(i int) (string, string) { return uris[i].uri, uris[i].mime }
	} else if kind != "motion" {
		o.Apart = c.beside(s)
	}
	glb, notes, err := gltf.Write(s, o)
	if err != nil {
		return err
	}
	if b := s.Basis; o.AsStands && b.Known() && b != geom.GLTF {
		notes = append(notes,
			scene.Note{Text: fmt.Sprintf("the coordinates are %s and were written as they stand; "+
				"a glTF reader takes them for %s", b, geom.GLTF)})
	}
	c.note(notes)
	p := c.add(kind, where+".glb", glb)
	if kind == "model" { // the model stands first, whatever lies beside it
		last := len(c.out.Files) - 1
		c.out.Files = slices.Insert(slices.Delete(c.out.Files, last, last+1), 0, File{p, kind, glb})
	}
	return nil
}

type apart struct{ uri, mime string }

// Media types of picture files.
var mediaTypes = map[string]string{"png": "image/png", "jpeg": "image/jpeg", "dds": "image/vnd-ms.dds",
	"ktx2": "image/ktx2", "tga": "image/x-tga"}

// pictures writes pictures as files, each content once, and gives their
// addresses as the model at a path says them.
func (c *composer) pictures(model string, s *scene.Scene) ([]apart, error) {
	out := make([]apart, len(s.Pictures))
	where := c.layout.Pictures
	if !strings.Contains(where, "{picture}") {
		where += "/{picture}"
	}
	roles := roles(s)
	said := false
	for i := range s.Pictures {
		p := &s.Pictures[i]
		dir := path.Dir(model)
		if c.out.Folder != "" {
			dir = path.Join(c.out.Folder, dir)
		}
		if p.Missing() { // where it belongs, so that it is found once it is put there
			as := cmp.Or(c.options(roles[i]).Format, "png")
			to := c.fill(where, "{picture}", Name(strings.TrimSuffix(p.Name, path.Ext(p.Name)))) +
				pixel.Writable(as).Ending
			to = path.Join(c.out.Folder, to)
			out[i] = apart{relative(dir, to), mediaTypes[as]}
			c.note([]scene.Note{{Text: fmt.Sprintf("picture %s was not found; the model looks for it in %s",
				p.Name, to), Loss: true}})
			continue
		}
		data, name, err := c.encoded(p, roles[i])
		if err != nil {
			return nil, fmt.Errorf("picture %s: %w", p.Name, err)
		}
		to := c.fill(where, "{picture}", Name(strings.TrimSuffix(p.Name, path.Ext(p.Name)))) +
			pixel.Writable(name).Ending
		full := c.shared(to, data)
		out[i] = apart{relative(dir, full), mediaTypes[name]}
		if name != "png" && name != "jpeg" && !said {
			said = true
			c.note([]scene.Note{{Text: fmt.Sprintf("pictures are %s files beside the model; "+
				"readers of plain glTF take PNG and JPEG only", strings.ToUpper(name))}})
		}
	}
	return out, nil
}

// beside names where pictures that were not found belong: beside the model,
// which looks for them there. All others are within it.
func (c *composer) beside(s *scene.Scene) func(int) (string, string) {
	return func(i int) (string, string) {
		p := &s.Pictures[i]
		if !p.Missing() {
			return "", ""
		}
		name := Name(strings.TrimSuffix(p.Name, path.Ext(p.Name))) + ".png"
		c.note([]scene.Note{{Text: fmt.Sprintf("picture %s was not found; the model looks for %s beside itself",
			p.Name, name), Loss: true}})
		return name, "image/png"
	}
}

// shared adds a picture unless one of these bytes is there already.
func (c *composer) shared(p string, data []byte) string {
	for i := range c.out.Files {
		if f := &c.out.Files[i]; f.Kind == "picture" && bytes.Equal(f.Data, data) {
			return f.Path
		}
	}
	return c.add("picture", p, data)
}

// options are how pictures of a role are written.
func (c *composer) options(role scene.Role) PictureOptions {
	o := c.o.Roles[role]
	return PictureOptions{cmp.Or(o.Format, c.layout.Picture), cmp.Or(o.Longest, c.o.Longest),
		cmp.Or(o.Quality, c.o.Quality)}
}

// encoded is a picture as the layout wants it: its own bytes where those will
// do.
func (c *composer) encoded(p *scene.Picture, role scene.Role) (data []byte, name string, err error) {
	o := c.options(role)
	as := o.Format
	own := map[string]string{"image/png": "png", "image/jpeg": "jpeg"}[p.MIME]
	if as == "" {
		if as = own; as == "" {
			as = "png"
		}
	}
	small := o.Longest == 0 || max(p.Width, p.Height) <= o.Longest
	if as == own && small {
		return p.Data, as, nil
	}
	img, err := pixel.DecodePicture(p.Data, p.MIME)
	if err != nil {
		return nil, "", err
	}
	n := pixel.ToNRGBA(img)
	meaning := pixel.Plain
	switch {
	case role == scene.RoleNormal:
		meaning = pixel.Normal
	case role.Colour():
		meaning = pixel.Colour
	}
	if !small {
		b := n.Bounds()
		f := float64(o.Longest) / float64(max(b.Dx(), b.Dy()))
		n = pixel.Resized(n, max(int(float64(b.Dx())*f+0.5), 1), max(int(float64(b.Dy())*f+0.5), 1), meaning)
	}
	data, lost, err := pixel.Write(as, n, pixel.WriteOptions{Meaning: meaning, Quality: o.Quality,
		Mips: as == "dds" || as == "ktx2"})
	for _, l := range lost {
		c.note([]scene.Note{{Text: fmt.Sprintf("picture %s: not written: %s", p.Name, l), Loss: true}})
	}
	return data, as, err
}

// roles tells what each picture is first used for.
func roles(s *scene.Scene) []scene.Role {
	out := make([]scene.Role, len(s.Pictures))
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			if out[t.Picture] == "" {
				out[t.Picture] = t.Role
			}
		}
	}
	return out
}

// relative is a path as seen from a folder; both are within the delivery.
func relative(dir, to string) string {
	from := strings.Split(dir, "/")
	if dir == "." {
		from = nil
	}
	parts := strings.Split(to, "/")
	k := 0
	for k < len(from) && k < len(parts)-1 && from[k] == parts[k] {
		k++
	}
	return strings.Repeat("../", len(from)-k) + strings.Join(parts[k:], "/")
}

// show draws the asset, from one side or all round it.
func (c *composer) show(s *scene.Scene) error {
	o := c.o.Show
	background, err := render.ParseBackground(o.Background)
	if err != nil {
		return err
	}
	n := max(o.Frames, 1)
	frames, errs := make([][]byte, n), make([]error, n)
	parallel.Share(n, 1, func(from, to int) {
		for i := from; i < to && c.ctx.Err() == nil; i++ {
			img := render.Draw(s, render.Options{Width: o.Width, Height: o.Height,
				Turn: o.Turn + 360*float64(i)/float64(n), Tilt: o.Tilt, Figure: o.Figure,
				Background: background, Ground: background.A > 0})
			frames[i], errs[i] = pixel.PNG(img)
		}
	})
	if err := errors.Join(append(errs, c.ctx.Err())...); err != nil {
		return err
	}
	data := frames[0]
	if n > 1 {
		var err error
		if data, err = pixel.AnimatedPNG(frames, 25); err != nil {
			return err
		}
	}
	c.add("shown", c.asset+".png", data)
	return nil
}

// Name makes of an asset's name one that any file system takes.
func Name(name string) string { return FileName(name, "") }

// FileName makes a file name of an asset's name.
func FileName(name, ending string) string {
	s := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '_', r == '.':
			return r
		}
		return '_'
	}, name)
	s = strings.Trim(s, "._")
	if s == "" {
		s = "asset"
	}
	if len(s) > 100 {
		s = s[:100]
	}
	return s + ending
}

// Package puts files into a zip, which has the same bytes for the same files.
func Package(files []File) ([]byte, error) {
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, f := range files {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.Path, Method: zip.Deflate})
		if err != nil {
			return nil, fmt.Errorf("package %s: %w", f.Path, err)
		}
		if _, err := w.Write(f.Data); err != nil {
			return nil, fmt.Errorf("package %s: %w", f.Path, err)
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}
