package api

import (
	"math"
	"strings"

	"excavate/core/delivery"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/unfold"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

// unfolded unfolds a scene as the three calls about paper ask for it alike.
func (s *Server) unfolded(c fiber.Ctx, digest Digest, height *float64, paper *string, margin, tab *float64,
	cut, join *string) (sheet *unfold.Sheet, err error) {
	o := unfold.Options{Height: value(height), Cut: keys(cut), Join: keys(join)}
	if paper != nil {
		if o.Paper, err = unfold.PaperOf(*paper); err != nil {
			return nil, bad(400, "paper %v", err)
		}
	}
	// 0 is none here, and the usual there.
	for _, x := range []struct {
		to   *float64
		from *float64
	}{{&o.Margin, margin}, {&o.Tab, tab}} {
		if x.from != nil {
			if *x.to = *x.from; *x.to == 0 {
				*x.to = -1
			}
		}
	}
	return s.svc.Scenes.Paper(c.Context(), digest, o)
}

func keys(list *string) []string {
	return strings.FieldsFunc(value(list), func(r rune) bool { return r == ',' })
}

func (s *Server) ScenePaper(c fiber.Ctx, digest Digest, p ScenePaperParams) error {
	sheet, err := s.unfolded(c, digest, p.Height, p.Paper, p.Margin, p.Tab, p.Cut, p.Join)
	if err != nil {
		return err
	}
	return c.JSON(paperSheet(sheet))
}

func paperSheet(s *unfold.Sheet) PaperSheet {
	t := s.Summary()
	out := PaperSheet{
		Name: s.Name, Width: s.Options.Paper.Width, Height: s.Options.Paper.Height, Margin: s.Options.Margin,
		Pages: t.Pages, Hours: t.Hours, Size: s.Size[:], Coloured: s.Coloured(),
		Triangles: t.Triangles, Facets: t.Facets, Folds: t.Folds, Cuts: t.Cuts, CutLength: t.CutLength,
		Notes: t.Notes, Refused: t.Refused, Pieces: []PaperPiece{}, Edges: []PaperEdge{},
	}
	for i := range s.Edges {
		e := &s.Edges[i]
		out.Edges = append(out.Edges,
			PaperEdge{Key: e.Key, Folded: e.Folded, Open: e.Facets[1] < 0, Angle: rounded(e.Angle),
				Length: rounded(e.Length),
				A:      metres(e.A, s.PerUnit), B: metres(e.B, s.PerUnit)})
	}
	for i := range s.Pieces {
		p := &s.Pieces[i]
		piece := PaperPiece{Page: p.Page, Faces: p.FacePath(), Tabs: p.TabPath(), Lines: []PaperLine{}}
		for k := range p.Lines {
			l := &p.Lines[k]
			if l.Kind == unfold.Flat {
				continue
			}
			at, size, turn := l.Label()
			piece.Lines = append(piece.Lines, PaperLine{Kind: PaperLineKind(l.Kind), A: place(l.A), B: place(l.B), Edge: l.Edge,
				Number: l.Number, At: place(at), Size: rounded(size), Turn: rounded(turn)})
		}
		out.Pieces = append(out.Pieces, piece)
	}
	return out
}

func rounded(v float64) float64 { return math.Round(v*1e4) / 1e4 }

func place(p unfold.Point) []float64 { return []float64{rounded(p[0]), rounded(p[1])} }

func metres(p geom.Vec3, perUnit float64) []float64 {
	return []float64{p[0] / perUnit, p[1] / perUnit, p[2] / perUnit}
}

func (s *Server) ScenePaperGround(c fiber.Ctx, digest Digest, p ScenePaperGroundParams) error {
	sheet, err := s.unfolded(c, digest, p.Height, p.Paper, p.Margin, p.Tab, p.Cut, p.Join)
	if err != nil {
		return err
	}
	if p.Page >= sheet.Pages {
		return bad(404, "page %d: there are %d, counted from 0", p.Page, sheet.Pages)
	}
	img, err := sheet.Paint(c.Context(), p.Page, 100)
	if err != nil {
		return project.Unreadable(err)
	}
	b, err := pixel.PNG(img)
	if err != nil {
		return err
	}
	return keep(c, "image/png", b)
}

func (s *Server) ScenePaperFile(c fiber.Ctx, digest Digest, p ScenePaperFileParams) error {
	sheet, err := s.unfolded(c, digest, p.Height, p.Paper, p.Margin, p.Tab, p.Cut, p.Join)
	if err != nil {
		return err
	}
	write := sheet.PDF
	if p.Format == "svg" {
		write = sheet.SVG
	}
	b, err := write(c.Context(), unfold.Print{Bare: value(p.Bare)})
	if err != nil {
		return err
	}
	return attach(c, delivery.FileName(sheet.Name, "."+string(p.Format)), b)
}
