package blocks

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"time"

	"excavate/core/format"

	"codeberg.org/go-pdf/fpdf"
)

// What a page of plans holds at most, and how large a cell is.
const (
	pageWidth, pageHeight = 210.0, 297.0 // mm, A4
	margin                = 12.0
	head                  = 12.0 // above a plan
	mostCell              = 6.0  // mm
	leastCell             = 1.6  // mm; larger builds are cut into sheets
	ruled                 = 10   // every so many lines are strong
)

// Bounds on what is drawn: a square for each block, a sheet for each layer.
const (
	mostDrawn = 500_000
	mostSide  = 16384 // pixels of a picture
)

// PDF are plans to print: what is needed in all, then a page a layer, or
// several where it is larger than a page, each with its own counts. Blocks of the
// layer below show faintly where nothing is above them.
func (b *Build) PDF(ctx context.Context) ([]byte, error) {
	if n := b.Total(); n > mostDrawn {
		return nil, fmt.Errorf("%d blocks are too many for plans: at most %d are drawn; the text and JSON forms take them all", n, mostDrawn)
	}
	d := fpdf.New("P", "mm", "A4", "")
	d.SetCreationDate(time.Unix(0, 0).UTC())
	d.SetModificationDate(time.Unix(0, 0).UTC())
	d.SetCatalogSort(true)
	d.SetTitle(b.Name, true)
	d.SetMargins(margin, margin, margin)
	d.SetAutoPageBreak(false, 0)
	b.needs(d)
	for high := range b.Size[2] {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for _, s := range b.sheets() {
			b.plan(d, high, s)
		}
	}
	var out bytes.Buffer
	if err := d.Output(&out); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// needs lists all kinds with their counts, in columns.
func (b *Build) needs(d *fpdf.Fpdf) {
	d.AddPage()
	d.SetFont("Helvetica", "B", 14)
	d.Text(margin, margin+5, format.ASCII(b.Name))
	d.SetFont("Helvetica", "", 9)
	size := fmt.Sprintf("%d blocks, %d across, %d deep, %d high", b.Total(), b.Size[0], b.Size[1], b.Size[2])
	if b.Block > 0 {
		size += fmt.Sprintf("; a block is %.4g m", b.Block)
	}
	d.Text(margin, margin+11, size+". Rows of a plan run from the back to the front.")
	x, y := margin, margin+20
	for i := range b.Kinds {
		if y > pageHeight-margin {
			if x, y = x+62, margin+20; x > pageWidth-margin-60 {
				d.AddPage()
				x, y = margin, margin+20
			}
		}
		b.legend(d, i, b.Kinds[i].Count, x, y)
		y += 6
	}
}

// legend is a kind's colour, code, count and name.
func (b *Build) legend(d *fpdf.Fpdf, i, count int, x, y float64) {
	k := &b.Kinds[i]
	fill(d, k.Colour)
	d.SetDrawColor(90, 90, 90)
	d.SetLineWidth(0.15)
	d.Rect(x, y-3.4, 4.4, 4.4, "FD")
	d.SetFont("Helvetica", "B", 8)
	d.Text(x+6, y, k.Code)
	d.SetFont("Helvetica", "", 8)
	d.Text(x+13, y, fmt.Sprint(count))
	d.Text(x+26, y, format.ASCII(short(k.Name, 22)))
}

func short(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "."
	}
	return s
}

func fill(d *fpdf.Fpdf, c [3]uint8) { d.SetFillColor(int(c[0]), int(c[1]), int(c[2])) }

// sheet is a part of a layer that a page holds.
type sheet struct {
	x, y, w, h int
	cell       float64
	note       string
}

// sheets cut a layer into what pages hold.
func (b *Build) sheets() (out []sheet) {
	legend := 5 * float64((len(b.Kinds)+2)/3)
	wide, high := pageWidth-2*margin, max(pageHeight-2*margin-head-min(legend, 60)-6, 80)
	cell := min(mostCell, wide/float64(b.Size[0]), high/float64(b.Size[1]))
	if cell >= leastCell {
		return []sheet{{0, 0, b.Size[0], b.Size[1], cell, ""}}
	}
	nx, ny := int(wide/leastCell)/ruled*ruled, int(high/leastCell)/ruled*ruled
	for y := 0; y < b.Size[1]; y += ny {
		for x := 0; x < b.Size[0]; x += nx {
			s := sheet{x, y, min(nx, b.Size[0]-x), min(ny, b.Size[1]-y), leastCell, ""}
			s.note = fmt.Sprintf(", from %d across and %d deep", x+1, y+1)
			out = append(out, s)
		}
	}
	return out
}

func (b *Build) plan(d *fpdf.Fpdf, high int, s sheet) {
	d.AddPage()
	d.SetFont("Helvetica", "B", 11)
	d.Text(margin, margin+4, fmt.Sprintf("Layer %d of %d%s", high+1, b.Size[2], s.note))
	x0, y0 := margin+4, margin+head
	layer := b.Layer(high)
	var below []uint16
	if high > 0 {
		below = b.Layer(high - 1)
	}
	d.SetFont("Helvetica", "", min(7, s.cell*1.9))
	for y := range s.h {
		for x := range s.w {
			i := (s.y+y)*b.Size[0] + s.x + x
			c, faint := layer[i], false
			if c == 0 && below != nil {
				c, faint = below[i], true
			}
			if c == 0 {
				continue
			}
			k := &b.Kinds[c-1]
			colour := k.Colour
			if faint {
				for m := range colour {
					colour[m] = uint8(230 + int(colour[m])/10)
				}
			}
			fill(d, colour)
			px, py := x0+float64(x)*s.cell, y0+float64(y)*s.cell
			d.Rect(px, py, s.cell, s.cell, "F")
			if !faint && s.cell >= 3 {
				ink(d, colour)
				d.Text(px+s.cell*0.3, py+s.cell*0.72, k.Code)
			}
		}
	}
	d.SetTextColor(0, 0, 0)
	b.ruling(d, s, x0, y0)
	d.SetFont("Helvetica", "", 8)
	x, y := margin, y0+float64(s.h)*s.cell+9
	for i, n := range b.Counts(high) {
		if n == 0 {
			continue
		}
		if y > pageHeight-6 {
			break // of very many kinds the first page has all
		}
		b.legend(d, i, n, x, y)
		if x += 62; x > pageWidth-margin-50 {
			x, y = margin, y+5
		}
	}
}

// ink writes dark on light and light on dark.
func ink(d *fpdf.Fpdf, c [3]uint8) {
	if 3*int(c[0])+6*int(c[1])+int(c[2]) > 1200 {
		d.SetTextColor(0, 0, 0)
	} else {
		d.SetTextColor(255, 255, 255)
	}
}

// ruling are the lines between cells, every tenth strong and numbered.
func (b *Build) ruling(d *fpdf.Fpdf, s sheet, x0, y0 float64) {
	d.SetFont("Helvetica", "", 5)
	line := func(i int) {
		d.SetDrawColor(170, 170, 170)
		d.SetLineWidth(0.08)
		if i%ruled == 0 {
			d.SetDrawColor(70, 70, 70)
			d.SetLineWidth(0.25)
		}
	}
	for x := range s.w + 1 {
		line(s.x + x)
		at := x0 + float64(x)*s.cell
		d.Line(at, y0, at, y0+float64(s.h)*s.cell)
		if (s.x+x)%ruled == 0 && x < s.w {
			d.Text(at, y0-1, fmt.Sprint(s.x+x+1))
		}
	}
	for y := range s.h + 1 {
		line(s.y + y)
		at := y0 + float64(y)*s.cell
		d.Line(x0, at, x0+float64(s.w)*s.cell, at)
		if (s.y+y)%ruled == 0 && y < s.h {
			d.Text(x0-4, at+2, fmt.Sprint(s.y+y+1))
		}
	}
}

// Picture is a layer's plan as a picture, so many pixels a block: lines between
// blocks, every tenth dark.
func (b *Build) Picture(high, cell int) (*image.NRGBA, error) {
	w, h := b.Size[0]*cell+1, b.Size[1]*cell+1
	if max(w, h) > mostSide {
		return nil, fmt.Errorf("a picture of %d × %d pixels: at most %d along a side, which fewer than %d a block give",
			w, h, mostSide, cell)
	}
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	layer := b.Layer(high)
	for y := range h {
		for x := range w {
			c := color.NRGBA{255, 255, 255, 255}
			switch {
			case x%(ruled*cell) == 0 || y%(ruled*cell) == 0:
				c = color.NRGBA{70, 70, 70, 255}
			case x%cell == 0 || y%cell == 0:
				c = color.NRGBA{190, 190, 190, 255}
			default:
				if k := layer[y/cell*b.Size[0]+x/cell]; k > 0 {
					p := b.Kinds[k-1].Colour
					c = color.NRGBA{p[0], p[1], p[2], 255}
				}
			}
			img.SetNRGBA(x, y, c)
		}
	}
	return img, nil
}
