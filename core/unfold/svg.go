package unfold

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"image"
	"math"
	"strings"

	"excavate/core/pixel"
)

// Print says what is put on pages besides lines.
type Print struct {
	Bare bool    // no pictures and colours
	DPI  float64 // of pictures; 0 is 150
}

func (p *Print) dpi() float64 {
	if p.DPI <= 0 {
		return 150
	}
	return min(p.DPI, 600)
}

// between is what pages in one SVG have between them, mm.
const between = 10

// SVG is all pages below each other: one unit is 1 mm. Faces are closed paths of
// class face, tabs of class tab; lines are of class cut, mountain or valley, each
// with its edge's key; a page is a rectangle of class page.
func (sh *Sheet) SVG(ctx context.Context, o Print) ([]byte, error) {
	w, h := sh.Options.Paper.Width, sh.Options.Paper.Height
	all := float64(sh.Pages)*(h+between) - between
	b := &bytes.Buffer{}
	fmt.Fprintf(b, `<svg xmlns="http://www.w3.org/2000/svg" width="%smm" height="%smm" viewBox="0 0 %s %s">`+"\n",
		num(w), num(all), num(w), num(all))
	fmt.Fprintf(b, "<title>%s</title>\n<style>%s</style>\n", escaped(sh.Name), style)
	grounds, err := sh.grounds(ctx, o, func(_ int, img *image.NRGBA) ([]byte, error) { return pixel.PNG(img) })
	if err != nil {
		return nil, err
	}
	for page := range sh.Pages {
		top := float64(page) * (h + between)
		fmt.Fprintf(b, `<g data-page="%d">`+"\n"+`<rect class="page" x="0" y="%s" width="%s" height="%s"/>`+"\n",
			page+1, num(top), num(w), num(h))
		if grounds != nil {
			fmt.Fprintf(b,
				`<image x="0" y="%s" width="%s" height="%s" preserveAspectRatio="none" href="data:image/png;base64,%s"/>`+"\n",
				num(top), num(w), num(h), base64.StdEncoding.EncodeToString(grounds[page]))
		}
		for i := range sh.Pieces {
			if sh.Pieces[i].Page == page {
				sh.svgPiece(b, i, top)
			}
		}
		sh.svgFoot(b, page, top)
		b.WriteString("</g>\n")
	}
	b.WriteString("</svg>\n")
	return b.Bytes(), nil
}

// Lines of mountains are dashes and dots, those of valleys dashes, as in the
// drawing of origami since Yoshizawa.
const style = `.page{fill:#fff;stroke:#999;stroke-width:.2}.face{fill:none;stroke:none}.tab{fill:none;stroke:#555;stroke-width:.15}` +
	`.cut{stroke:#000;stroke-width:.25}.mountain{stroke:#000;stroke-width:.2;stroke-dasharray:3 .8 .4 .8}` +
	`.valley{stroke:#000;stroke-width:.2;stroke-dasharray:1.6 1}text{font-family:sans-serif;fill:#333}` +
	`.number{text-anchor:middle;paint-order:stroke;stroke:#fff;stroke-width:.2em;stroke-linejoin:round}`

func (sh *Sheet) svgPiece(b *bytes.Buffer, i int, top float64) {
	p := &sh.Pieces[i]
	at := func(q Point) string { return num(q[0]) + " " + num(q[1]+top) }
	fmt.Fprintf(b, `<g data-piece="%d">`+"\n", i+1)
	for f := range p.Faces {
		fmt.Fprintf(b, `<path class="face" data-face="%d" d="%s"/>`+"\n", p.Faces[f].Facet+1, pathOf(p.Faces[f].Outlines, at))
	}
	for t := range p.Tabs {
		fmt.Fprintf(b, `<path class="tab" d="%s"/>`+"\n", pathOf([][]Point{p.Tabs[t].Corners[:]}, at))
	}
	for _, l := range p.Lines {
		if l.Kind == Flat {
			continue
		}
		fmt.Fprintf(b,
			`<line class="%s" data-edge="%s" data-number="%d" data-angle="%s" x1="%s" y1="%s" x2="%s" y2="%s"/>`+"\n",
			l.Kind, sh.Edges[l.Edge].Key, l.Number, num(l.Angle), num(l.A[0]), num(l.A[1]+top), num(l.B[0]), num(l.B[1]+top))
		if l.Number > 0 {
			m, size, angle := l.Label()
			fmt.Fprintf(b, `<text class="number" x="%s" y="%s" font-size="%s" transform="rotate(%s %s %s)">%d</text>`+"\n",
				num(m[0]), num(m[1]+top), num(size), num(angle), num(m[0]), num(m[1]+top), l.Number)
		}
	}
	b.WriteString("</g>\n")
}

// Label is where a number stands, how high it is, and how far it is turned
// clockwise: along its line, above its middle, where the face is.
func (l *Line) Label() (at Point, size, degrees float64) {
	d := l.B.sub(l.A)
	size = max(0.8, min(2.6, 0.3*d.len()))
	in := Point{d[1], -d[0]}.mul(0.25 * size / max(d.len(), 1e-9))
	return l.A.add(l.B).mul(0.5).add(in), size, math.Atan2(d[1], d[0]) * 180 / math.Pi
}

// svgFoot is the ruler and the page's number.
func (sh *Sheet) svgFoot(b *bytes.Buffer, page int, top float64) {
	for _, r := range sh.ruler() {
		fmt.Fprintf(b, `<line class="cut" x1="%s" y1="%s" x2="%s" y2="%s"/>`+"\n", num(r[0][0]),
			num(r[0][1]+top), num(r[1][0]), num(r[1][1]+top))
	}
	at := sh.footAt()
	fmt.Fprintf(b, `<text x="%s" y="%s" font-size="2.6">%s</text>`+"\n", num(at[0]), num(at[1]+top),
		escaped(sh.foot(page)))
}

// ruler are the strokes of one of 50 mm, as the printer should show it.
func (sh *Sheet) ruler() (out [][2]Point) {
	y := sh.Options.Paper.Height - sh.Options.Margin - 1
	x := max(sh.Options.Margin, 5)
	out = append(out, [2]Point{{x, y}, {x + 50, y}})
	for k := range 11 {
		long := 1.2
		if k%5 == 0 {
			long = 2.4
		}
		out = append(out, [2]Point{{x + 5*float64(k), y}, {x + 5*float64(k), y - long}})
	}
	return out
}

func (sh *Sheet) footAt() Point {
	return Point{max(sh.Options.Margin, 5) + 53, sh.Options.Paper.Height - sh.Options.Margin - 1}
}

func (sh *Sheet) foot(page int) string {
	return fmt.Sprintf("50 mm   %s, page %d of %d, %s tall", sh.Name, page+1, sh.Pages, lengthOf(sh.Options.Height))
}

func lengthOf(mm float64) string { return fmt.Sprintf("%.4g mm", mm) }

// FacePath and TabPath are a piece's faces and tabs as the data of SVG paths.
func (p *Piece) FacePath() string {
	var b strings.Builder
	for f := range p.Faces {
		b.WriteString(pathOf(p.Faces[f].Outlines, onPage))
	}
	return b.String()
}

// TabPath is FacePath for tabs.
func (p *Piece) TabPath() string {
	var b strings.Builder
	for t := range p.Tabs {
		b.WriteString(pathOf([][]Point{p.Tabs[t].Corners[:]}, onPage))
	}
	return b.String()
}

func onPage(q Point) string { return num(q[0]) + " " + num(q[1]) }

func pathOf(outlines [][]Point, at func(Point) string) string {
	var b strings.Builder
	for _, o := range outlines {
		for k, p := range o {
			if k == 0 {
				b.WriteString("M")
			} else {
				b.WriteString("L")
			}
			b.WriteString(at(p))
		}
		b.WriteString("Z")
	}
	return b.String()
}

// num is a length to a ten-thousandth of a millimetre.
func num(v float64) string {
	s := strings.TrimRight(strings.TrimRight(fmt.Sprintf("%.4f", v), "0"), ".")
	if s == "-0" {
		return "0"
	}
	return s
}

func escaped(s string) string {
	var b strings.Builder
	if err := xml.EscapeText(&b, []byte(s)); err != nil {
		return ""
	}
	return b.String()
}
