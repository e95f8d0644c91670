package api

import (
	"cmp"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"excavate/core/format/gltf"
	"excavate/core/pixel"
	"excavate/core/trial"

	"github.com/gofiber/fiber/v3"
)

// fewest is how many bytes a part of a strip has, where the file has enough.
const fewest = 1024

func (s *Server) EntryStrip(c fiber.Ctx, id EntryID, p EntryStripParams) error {
	e, r, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return err
	}
	defer r.Close()
	from, to := min(value(p.From), r.Size()), r.Size()
	if p.To != nil {
		to = min(max(*p.To, from), r.Size())
	}
	n := 400
	if p.Cells != nil {
		n = min(max(*p.Cells, 1), 4096)
	}
	n = int(min(int64(n), max(24, (to-from)/fewest))) // small parts tell little
	cells, err := trial.Strip(c.Context(), r, from, to, n)
	if err != nil {
		return err
	}
	out, err := same[Strip](map[string]any{"from": from, "to": to, "size": r.Size(), "path": e.Path, "classes": trial.Classes, "cells": []any{}})
	if err != nil {
		return err
	}
	for _, x := range cells {
		out.Cells = append(out.Cells, struct {
			At       int64  `json:"at"`
			Class    string `json:"class"`
			Evidence string `json:"evidence"`
			Size     int64  `json:"size"`
			Stride   int    `json:"stride"`
		}{x.At, string(x.Class), x.Evidence, x.Size, x.Stride})
	}
	return c.JSON(out)
}

func (s *Server) FindBytes(c fiber.Ctx, id EntryID, p FindBytesParams) error {
	pattern, err := trial.ParsePattern(p.Pattern)
	if err != nil {
		return bad(400, "%v", err)
	}
	_, r, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return err
	}
	defer r.Close()
	at, err := pattern.Find(c.Context(), r, value(p.From), r.Size())
	if err != nil {
		return err
	}
	return c.JSON(map[string]int64{"at": at, "length": int64(pattern.Len())})
}

// mostTrial is how many bytes a trial looks at.
const mostTrial = 64 << 20

// read reads up to n bytes of an entry; fewer only at its end.
func (s *Server) read(c fiber.Ctx, id EntryID, at, n int64) ([]byte, error) {
	_, r, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	if at >= r.Size() {
		return nil, bad(400, "the entry has %d bytes; nothing begins at %d", r.Size(), at)
	}
	b := make([]byte, min(n, mostTrial, r.Size()-at))
	_, err = r.ReadAt(b, at)
	return b, err
}

func (s *Server) TryPicture(c fiber.Ctx, id EntryID, p TryPictureParams) error {
	f := pixel.Format(p.Format)
	o := pixel.Options{BigEndian: value(p.Order) == "big"}
	if t := value(p.Tiling); t != "" && t != "linear" {
		o.Tiling = pixel.Tiling{Kind: pixel.TilingKind(t), TileW: value(p.TileWidth), TileH: value(p.TileHeight)}
	}
	if p.Width > 16384 || p.Height > 16384 {
		return bad(400, "a picture on trial has sides up to 16384 texels")
	}
	need, err := o.Tiling.Span(f, p.Width, p.Height)
	if err != nil {
		return bad(400, "%v", err)
	}
	b, err := s.read(c, id, p.At, need)
	if err != nil {
		return err
	}
	if short := need - int64(len(b)); short > 0 { // the file ends: what is there is shown
		if need > mostTrial {
			return bad(400, "the picture takes %d bytes, at most %d are read", need, mostTrial)
		}
		b = append(b, make([]byte, short)...)
	}
	if f.Indexed() {
		o.Palette = greys()
		if p.PaletteAt != nil {
			pf := pixel.Format(value(p.PaletteFormat))
			size, err := pf.Bytes(256, 1)
			if err != nil {
				return bad(400, "%v", err)
			}
			from := id
			if p.PaletteEntry != nil {
				from = *p.PaletteEntry
			}
			raw, err := s.read(c, from, *p.PaletteAt, size)
			if err != nil {
				return err
			}
			raw = append(raw, make([]byte, size-int64(len(raw)))...)
			if o.Palette, err = pixel.PaletteWith(pf, raw, 256, o.BigEndian); err != nil {
				return bad(400, "%v", err)
			}
		}
	}
	img, err := pixel.DecodeWith(f, b, p.Width, p.Height, o)
	if err != nil {
		return bad(400, "%v", err)
	}
	if value(p.Rows) == "bottom-up" {
		pixel.FlipRows(img)
	}
	png, err := pixel.PNG(img)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "image/png")
	c.Set("Cache-Control", "private, max-age=60")
	return c.Send(png)
}

// greys is the palette where none is named.
func greys() []byte {
	out := make([]byte, 0, 1024)
	for i := range 256 {
		out = append(out, byte(i), byte(i), byte(i), 255)
	}
	return out
}

func (s *Server) GuessWidth(c fiber.Ctx, id EntryID, p GuessWidthParams) error {
	f := pixel.Format(p.Format)
	if !f.Valid() {
		return bad(400, "texel format %q is not known; there are %s", f, strings.Join(pixel.Known(), "; "))
	}
	_, r, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return err
	}
	size := r.Size()
	r.Close()
	b, err := s.read(c, id, p.At, 1<<20)
	if err != nil {
		return err
	}
	grey, unit, err := pixel.Brightness(f, b, pixel.Options{BigEndian: value(p.Order) == "big", Palette: greys()})
	if err != nil {
		return bad(400, "%v", err)
	}
	guesses := trial.Widths(grey, 1, unit)
	if len(b) > 0 { // what is left, in texels
		left := int64(float64(len(grey)*unit*unit) / float64(len(b)) * float64(size-p.At))
		for _, g := range trial.Shapes(left) {
			if !slices.ContainsFunc(guesses, func(x trial.Guess) bool { return x.Value == g.Value }) {
				guesses = append(guesses, g)
			}
		}
	}
	slices.SortStableFunc(guesses, func(a, b trial.Guess) int { return cmp.Compare(b.Score, a.Score) })
	out := []Guess{}
	for _, g := range guesses[:min(len(guesses), 5)] {
		out = append(out, Guess{Value: g.Value, Score: g.Score, Evidence: g.Evidence})
	}
	return c.JSON(out)
}

func (s *Server) TryPacked(c fiber.Ctx, id EntryID, p TryPackedParams) error {
	n := int64(4 << 20)
	if p.Size != nil {
		n = min(n, *p.Size)
	}
	b, err := s.read(c, id, p.At, n)
	if err != nil {
		return err
	}
	out := []Unpacking{}
	for _, u := range trial.Unpack(b, 1<<20) {
		head := u.Bytes[:min(len(u.Bytes), 48)]
		out = append(out, Unpacking{Codec: u.Codec, Bytes: len(u.Bytes), Class: string(u.Class), Head: hex.EncodeToString(head), Stopped: u.Stopped,
			Text: strings.Map(func(r rune) rune {
				if r < 0x20 || r > 0x7e {
					return '\u00b7'
				}
				return r
			}, string(head))})
	}
	return c.JSON(out)
}

// sheet reads records from a place on: in the columns that are named, or in
// those that they look like.
func (s *Server) sheet(c fiber.Ctx, id EntryID, at int64, columns string, stride, count int, big bool) (*trial.Sheet, error) {
	b, err := s.read(c, id, at, int64(count+1)*4096)
	if err != nil {
		return nil, err
	}
	if columns = strings.TrimSpace(columns); columns == "" {
		return trial.Records(b, stride, count, big), nil
	}
	cols, size, err := trial.ParseColumns(columns)
	if err != nil {
		return nil, bad(400, "%v", err)
	}
	if stride == 0 {
		stride = size
	} else if stride < size {
		return nil, bad(400, "the columns take %d bytes and the records lie %d apart", size, stride)
	}
	return trial.Read(b, cols, stride, count, big), nil
}

// rowsOnTrial is how many records are read where the asker does not say.
const rowsOnTrial = 256

func (s *Server) TryRecords(c fiber.Ctx, id EntryID, p TryRecordsParams) error {
	count := rowsOnTrial
	if p.Count != nil {
		count = *p.Count
	}
	sheet, err := s.sheet(c, id, p.At, value(p.Columns), value(p.Stride), count, value(p.Order) == "big")
	if err != nil {
		return err
	}
	out := Records{Spec: trial.Spec(sheet.Columns, sheet.Stride), Stride: sheet.Stride, Count: len(sheet.Rows), Evidence: sheet.Evidence, Rows: sheet.Rows}
	if out.Rows == nil {
		out.Rows = [][]string{}
	}
	for _, x := range sheet.Columns {
		out.Columns = append(out.Columns, struct {
			At    int    `json:"at"`
			High  string `json:"high"`
			Looks string `json:"looks"`
			Low   string `json:"low"`
			Type  string `json:"type"`
		}{x.At, x.High, x.Looks, x.Low, x.Type})
	}
	return c.JSON(out)
}

func (s *Server) GuessMesh(c fiber.Ctx, id EntryID, p GuessMeshParams) error {
	big := value(p.Order) == "big"
	b, err := s.read(c, id, p.At, 4<<20)
	if err != nil {
		return err
	}
	out, err := same[MeshGuess](map[string]any{"strides": []any{}, "indices": []any{}})
	if err != nil {
		return err
	}
	most := 0
	for _, g := range trial.GuessVertices(b, p.At, big) {
		most = max(most, g.Count)
		out.Strides = append(out.Strides, struct {
			At       int64   `json:"at"`
			Count    int     `json:"count"`
			Evidence string  `json:"evidence"`
			Format   string  `json:"format"`
			Score    float64 `json:"score"`
			Stride   int     `json:"stride"`
		}{g.At, g.Count, g.Evidence, g.Format, g.Score, g.Stride})
	}
	// Indices may stand before the vertices as well as after them.
	from := max(0, p.At-(1<<20))
	if b, err = s.read(c, id, from, 4<<20); err != nil {
		return err
	}
	for _, g := range trial.GuessIndices(b, from, most, big) {
		out.Indices = append(out.Indices, struct {
			At       int64                  `json:"at"`
			Count    int                    `json:"count"`
			Evidence string                 `json:"evidence"`
			Form     MeshGuessIndicesForm   `json:"form"`
			Format   MeshGuessIndicesFormat `json:"format"`
			Highest  int                    `json:"highest"`
		}{g.At, g.Count, g.Evidence, MeshGuessIndicesForm(g.Form), MeshGuessIndicesFormat(g.Format), g.Highest})
	}
	return c.JSON(out)
}

func (s *Server) TryMesh(c fiber.Ctx, id EntryID, p TryMeshParams) error {
	m := trial.Mesh{At: p.At, Stride: p.Stride, Count: p.Count, Format: p.Format, BigEndian: value(p.Order) == "big", Scale: 1,
		IndicesAt: value(p.IndicesAt), IndexCount: value(p.IndexCount), IndexFormat: string(value(p.IndexFormat)), Form: string(value(p.Form)), Restart: value(p.Restart)}
	if p.Scale != nil {
		m.Scale = *p.Scale
	}
	_, in, _, done, err := s.svc.Layouts.Around(c.Context(), id)
	if err != nil {
		return err
	}
	defer done()
	sc, err := m.Scene(c.Context(), in)
	if err != nil {
		return bad(422, "%v", err)
	}
	part := &sc.Meshes[0].Parts[0]
	var glb []byte
	if len(part.Triangles) == 0 {
		glb = gltf.Points(part.Positions)
	} else if glb, _, err = gltf.Write(sc, gltf.Options{AsStands: true}); err != nil {
		return bad(422, "%v", err)
	}
	c.Set("Content-Type", "model/gltf-binary")
	return c.Send(glb)
}

func (s *Server) FindRepeats(c fiber.Ctx, id EntryID, p FindRepeatsParams) error {
	what, err := s.read(c, id, p.At, p.Size)
	if err != nil {
		return err
	}
	_, r, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return err
	}
	defer r.Close()
	places, more, step, err := trial.Repeats(c.Context(), r, r.Size(), what, 1000)
	if err != nil {
		return err
	}
	says := "nothing else in this entry has these bytes"
	if n := len(places); n > 1 {
		says = fmt.Sprintf("%d places", n)
		if more {
			says = fmt.Sprintf("more than %d places", n)
		}
		if step > 0 {
			says += fmt.Sprintf(", most of them %d bytes apart", step)
		}
	}
	return c.JSON(map[string]any{"places": append([]int64{}, places...), "more": more, "step": step, "evidence": says})
}

func (s *Server) CompareEntries(c fiber.Ctx, id EntryID, p CompareEntriesParams) error {
	_, a, err := s.svc.Sources.Random(c.Context(), id)
	if err != nil {
		return err
	}
	defer a.Close()
	_, b, err := s.svc.Sources.Random(c.Context(), p.With)
	if err != nil {
		return err
	}
	defer b.Close()
	ranges, n, more, err := trial.Compare(c.Context(), a, b, a.Size(), b.Size(), 2000)
	if err != nil {
		return err
	}
	fields, err := s.fieldsAt(c.Context(), id, ranges)
	if err != nil {
		return err
	}
	out := Comparison{Same: n == 0, Sizes: []int64{a.Size(), b.Size()}, Differing: n, More: more}
	out.Ranges = make([]struct {
		At    int64   `json:"at"`
		Field *string `json:"field,omitempty"`
		Size  int64   `json:"size"`
	}, len(ranges))
	for i, r := range ranges {
		out.Ranges[i].At, out.Ranges[i].Size, out.Ranges[i].Field = r.At, r.Size, optional(fields[i])
	}
	return c.JSON(out)
}

// TrialFragment says what is kept of a trial.
func (s *Server) TrialFragment(c fiber.Ctx, id EntryID) error {
	t, err := body[Trial](c)
	if err != nil {
		return err
	}
	head, err := s.read(c, id, 0, 8)
	if err != nil {
		return err
	}
	f := trial.Undescribed()
	switch {
	case t.Picture != nil:
		p := t.Picture
		f = (&trial.Image{At: p.At, Width: p.Width, Height: p.Height, Format: p.Format, Big: value(p.Order) == "big", Rows: string(value(p.Rows)),
			Tiling: string(value(p.Tiling)), TileW: value(p.TileWidth), TileH: value(p.TileHeight), PaletteAt: p.PaletteAt, PaletteFormat: value(p.PaletteFormat)}).Fragment()
	case t.Mesh != nil:
		m := t.Mesh
		f = (&trial.Mesh{At: m.At, Stride: m.Stride, Count: m.Count, Format: m.Format, Scale: value(m.Scale), BigEndian: value(m.Order) == "big",
			IndicesAt: value(m.IndicesAt), IndexCount: value(m.IndexCount), IndexFormat: string(value(m.IndexFormat)), Form: string(value(m.Form)), Restart: value(m.Restart)}).Fragment()
	case t.Records != nil:
		r := t.Records
		count := rowsOnTrial
		if r.Count != nil {
			count = *r.Count
		}
		big := value(r.Order) == "big"
		sheet, err := s.sheet(c, id, r.At, value(r.Columns), value(r.Stride), count, big)
		if err != nil {
			return err
		}
		f = sheet.Fragment(r.At, value(r.Size), big)
	}
	name := strings.TrimSpace(value(t.Name))
	if name == "" {
		name = trial.Word(head) + " " + f.Kind
	}
	lines := f.Text
	if len(f.Fields) > 0 {
		lines = "fields:\n" + strings.Join(f.Fields, "\n") + "\n\n" + lines
	}
	return c.JSON(Fragment{Kind: FragmentKind(f.Kind), Name: name, Lines: lines, Insert: f.Insert(), Document: f.Document(name, head)})
}
