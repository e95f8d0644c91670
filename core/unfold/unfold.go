// Package unfold makes paper of surfaces: flat pieces on pages, to be cut out,
// folded and glued to the model they came from.
//
// Large flat faces are one facet each. Facets are joined along the edges that
// hold most, as long as a piece neither overlaps itself nor outgrows the page
// (Straub and Prautzsch, "Creating Optimized Cut-Out Sheets for Paper Models from
// Meshes", 2005, have the problem and this kind of answer); many orders are
// tried, and the one that takes the least work by hand is kept. All lengths are millimetres.
package unfold

import (
	"context"
	"fmt"
	"math"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Paper is a page.
type Paper struct {
	Name          string
	Width, Height float64
}

// Papers are those that can be named (ISO 216; ANSI/ASME Y14.1).
var Papers = []Paper{{"a4", 210, 297}, {"a3", 297, 420}, {"letter", 215.9, 279.4}}

// Options say what is made. The zero value of a field is the usual.
type Options struct {
	Height float64  // of the model along its up axis; 0 is 100
	Paper  Paper    // A4
	Margin float64  // round every page; 0 is 10, below 0 none
	Tab    float64  // depth of the tabs; 0 is 6, below 0 none
	Tries  int      // orders that are tried; 0 is 24
	Hidden bool     // faces that nobody can see are kept
	Cut    []string // edges, by their keys, that are cut
	Join   []string // edges, by their keys, that are folded before others
}

// Bounds on what is unfolded: beyond them nobody would cut it out.
const (
	mostTriangles = 20_000
	mostPages     = 250
	usualTries    = 24
	leastHeight   = 5
	mostHeight    = 5_000
)

func (o *Options) complete() error {
	usual := func(v *float64, to float64) {
		if *v == 0 {
			*v = to
		}
		*v = math.Max(*v, 0)
	}
	if o.Paper.Width == 0 {
		o.Paper = Papers[0]
	}
	usual(&o.Height, 100)
	usual(&o.Margin, 10)
	usual(&o.Tab, 6)
	w, h := o.inner()
	switch {
	case !(o.Height >= leastHeight && o.Height <= mostHeight):
		return fmt.Errorf("a height of %g mm: it is from %d to %d mm", o.Height, leastHeight, mostHeight)
	case !(w >= 20 && h >= 20):
		return fmt.Errorf("a margin of %g mm and tabs of %g mm leave %.0f × %.0f mm of a page: at least 20 × 20 are needed",
			o.Margin, o.Tab, w, h)
	case o.Tab > 30:
		return fmt.Errorf("tabs of %g mm: they are at most 30 mm deep", o.Tab)
	case o.Tries > 1000:
		return fmt.Errorf("%d tries: at most 1000", o.Tries)
	}
	return nil
}

// room is what a page has within its margins; the foot has a line of text.
func (o *Options) room() (w, h float64) {
	return o.Paper.Width - 2*o.Margin, o.Paper.Height - 2*o.Margin - footer
}

// inner is the room for the faces of a piece: tabs may stand all round them.
func (o *Options) inner() (w, h float64) {
	w, h = o.room()
	return w - 2*o.Tab - 2*cell, h - 2*o.Tab - 2*cell
}

// footer is the room at the foot of a page for its ruler and number.
const footer = 8

// Sheet is a model on pages.
type Sheet struct {
	Options Options
	Name    string
	Size    geom.Vec3 // of the model
	PerUnit float64   // mm that a unit of the scene has become
	Pages   int
	Pieces  []Piece
	Edges   []Edge
	Told    Told

	scene *scene.Scene
	model *model
}

// Told are the figures by which one decides whether it is worth doing.
type Told struct {
	Triangles int // of the model
	Facets    int
	Hidden    int      // triangles that nobody can see, left out
	Doubled   int      // triangles that lie on others, left out
	Odd       int      // edges at which more than two faces meet, or two that disagree on what is outside
	Rims      int      // open edges
	Blank     int      // pictures that are not there or cannot be read: their faces have the plain colour
	Folds     int      // edges that are folded
	Cuts      int      // edges that are cut and glued
	Untabbed  int      // of these without a tab, for want of room
	CutLength float64  // of all cuts
	Refused   []string // keys of edges that were to be joined and cannot be, or are none
	Split     int      // edges that were halved because they are longer than a page
	Hours     float64
}

// Piece is what is cut out as one. Its lines are those that are cut and folded,
// its faces the printed ground.
type Piece struct {
	Page  int // from 0
	Faces []Face
	Tabs  []Tab
	Lines []Line
}

// Face is a flat region: outlines counter-clockwise seen from the printed side,
// holes the other way round.
type Face struct {
	Facet     int
	Outlines  [][]Point
	triangles []flatTriangle
}

// Tab is glued under its mate. Corners are those of the edge, then the outer two.
type Tab struct {
	Edge    int
	Corners [4]Point
}

// Kind is what is done at a line.
type Kind string

// The kinds of lines. A mountain is folded away from who looks at the printed
// side, a valley towards them; what is flat is neither cut nor folded.
const (
	Cut      Kind = "cut"
	Mountain Kind = "mountain"
	Valley   Kind = "valley"
	Flat     Kind = "flat"
)

// Line is one side of an edge on a page.
type Line struct {
	Kind   Kind
	A, B   Point
	Edge   int     // index into Edges
	Number int     // printed at cuts, the same at its mate; 0 of an open edge
	Angle  float64 // degrees that it is folded by, above 0 for mountains
	Facet  int     // on whose side it is drawn
}

// Edge is where two facets meet.
type Edge struct {
	Facets [2]int // the second is -1 of an open edge
	Length float64
	Angle  float64 // degrees between the two, above 0 where they bulge
	Folded bool
	// Key names the edge by where its middle lies in the model's box, in
	// thousandths: the same at another height or on other paper.
	Key  string
	A, B geom.Vec3 // its ends in the model, of the longest stretch
}

// Point is a place on a page: to the right and down from its upper left corner.
type Point [2]float64

// Of unfolds what a scene shows.
func Of(ctx context.Context, s *scene.Scene, o Options) (*Sheet, error) {
	if err := o.complete(); err != nil {
		return nil, err
	}
	out := &Sheet{Options: o, Name: s.Name, scene: s}
	m, err := newModel(ctx, s, &out.Options, &out.Told)
	if err != nil {
		return nil, err
	}
	out.model = m
	for _, img := range out.pictures() {
		if img == nil {
			out.Told.Blank++
		}
	}
	out.Size, out.PerUnit = m.size, m.perUnit
	best, err := m.join(ctx, &out.Options, &out.Told)
	if err != nil {
		return nil, err
	}
	if err := out.lay(ctx, best); err != nil {
		return nil, err
	}
	out.tell()
	return out, nil
}

// Times by which the hours are told: what cutting, creasing and gluing by hand
// take a practised person.
const (
	cutSpeed     = 5.0  // mm a second
	foldSeconds  = 4.0  // an edge
	glueSeconds  = 25.0 // an edge
	pieceSeconds = 45.0 // a piece: to find it and where it goes
)

// tell counts edges and hours.
func (sh *Sheet) tell() {
	t := &sh.Told
	t.Facets = len(sh.model.facets)
	t.Folds, t.Cuts, t.CutLength = 0, 0, 0
	for _, e := range sh.Edges {
		switch {
		case e.Folded:
			t.Folds++
		case e.Facets[1] >= 0:
			t.Cuts++
		}
	}
	tabs := 0
	for i := range sh.Pieces {
		tabs += len(sh.Pieces[i].Tabs)
		for _, l := range sh.Pieces[i].Lines {
			if l.Kind == Cut {
				t.CutLength += l.B.sub(l.A).len()
			}
		}
	}
	seconds := t.CutLength/cutSpeed + foldSeconds*float64(t.Folds+tabs) + glueSeconds*float64(t.Cuts) +
		pieceSeconds*float64(len(sh.Pieces))
	t.Hours = seconds / 3600
}

func (p Point) sub(q Point) Point            { return Point{p[0] - q[0], p[1] - q[1]} }
func (p Point) add(q Point) Point            { return Point{p[0] + q[0], p[1] + q[1]} }
func (p Point) mul(s float64) Point          { return Point{p[0] * s, p[1] * s} }
func (p Point) len() float64                 { return math.Hypot(p[0], p[1]) }
func (p Point) cross(q Point) float64        { return p[0]*q[1] - p[1]*q[0] }
func (p Point) dot(q Point) float64          { return p[0]*q[0] + p[1]*q[1] }
func turn(a, b, c Point) float64             { return b.sub(a).cross(c.sub(a)) }
func (p Point) near(q Point, d float64) bool { return p.sub(q).len() <= d }

// PaperOf is a page by its name, or by width and height in mm, as in 200x300.
func PaperOf(text string) (Paper, error) {
	t := strings.ToLower(strings.TrimSpace(text))
	var names []string
	for _, p := range Papers {
		if p.Name == t {
			return p, nil
		}
		names = append(names, p.Name)
	}
	p := Paper{Name: t}
	if n, err := fmt.Sscanf(t, "%fx%f", &p.Width, &p.Height); err != nil || n != 2 ||
		!(p.Width >= 40 && p.Width <= 2000 && p.Height >= 40 && p.Height <= 2000) {
		return p, fmt.Errorf("%q: there are %s, and WIDTHxHEIGHT from 40x40 to 2000x2000 mm", text, strings.Join(names, ", "))
	}
	return p, nil
}

// Summary is what is told of a sheet, for other programs.
type Summary struct {
	Pages     int        `json:"pages"`
	Pieces    int        `json:"pieces"`
	Hours     float64    `json:"hours"`
	Size      [3]float64 `json:"size"`   // mm
	Height    float64    `json:"height"` // mm
	Triangles int        `json:"triangles"`
	Facets    int        `json:"facets"`
	Folds     int        `json:"folds"`
	Cuts      int        `json:"cuts"`
	CutLength float64    `json:"cutLength"` // mm
	Untabbed  int        `json:"untabbed"`
	Rims      int        `json:"rims"`
	Hidden    int        `json:"hidden"`
	Doubled   int        `json:"doubled"`
	Odd       int        `json:"odd"`
	Refused   []string   `json:"refused"`
	Notes     []string   `json:"notes"`
}

// Summary tells the figures.
func (sh *Sheet) Summary() Summary {
	t := &sh.Told
	refused := t.Refused
	if refused == nil {
		refused = []string{}
	}
	return Summary{Pages: sh.Pages, Pieces: len(sh.Pieces), Hours: math.Round(10*t.Hours) / 10, Size: sh.Size,
		Height:    sh.Options.Height,
		Triangles: t.Triangles, Facets: t.Facets, Folds: t.Folds, Cuts: t.Cuts, CutLength: math.Round(t.CutLength),
		Untabbed: t.Untabbed, Rims: t.Rims, Hidden: t.Hidden, Doubled: t.Doubled, Odd: t.Odd,
		Refused: refused, Notes: sh.Notes()}
}

// Notes say what was left out and what will not close.
func (sh *Sheet) Notes() []string {
	t := &sh.Told
	out := []string{}
	say := func(n int, one, many string) {
		switch {
		case n == 1:
			out = append(out, "1 "+one)
		case n > 1:
			out = append(out, fmt.Sprintf("%d %s", n, many))
		}
	}
	say(t.Hidden, "triangle is left out that nobody can see", "triangles are left out that nobody can see")
	say(t.Doubled, "triangle is left out that lies on another", "triangles are left out that lie on others")
	say(t.Rims, "edge is open: the model has a hole there", "edges are open: the model has holes there")
	say(t.Blank, "picture is missing: its faces have the plain colour",
		"pictures are missing: their faces have the plain colour")
	say(t.Odd, "edge has more than two faces, or two that disagree on what is outside: it is cut, and has no mate",
		"edges have more than two faces, or two that disagree on what is outside: they are cut, and have no mate")
	say(t.Split, "edge is longer than a page and was halved", "edges are longer than a page and were halved")
	say(t.Untabbed, "edge to glue has no tab, for want of room", "edges to glue have no tab, for want of room")
	say(len(t.Refused), "edge that was chosen by hand cannot be joined, or is none of this model",
		"edges that were chosen by hand cannot be joined, or are none of this model")
	return out
}
