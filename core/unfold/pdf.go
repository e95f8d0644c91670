package unfold

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/draw"
	"image/jpeg"
	"math"
	"time"

	"excavate/core/format"

	"codeberg.org/go-pdf/fpdf"
)

// PDF is a document of all pages at true scale.
func (sh *Sheet) PDF(ctx context.Context, o Print) ([]byte, error) {
	d := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm",
		Size: fpdf.SizeType{Wd: sh.Options.Paper.Width, Ht: sh.Options.Paper.Height}})
	// The same model gives the same bytes.
	d.SetCreationDate(time.Unix(0, 0).UTC())
	d.SetModificationDate(time.Unix(0, 0).UTC())
	d.SetCatalogSort(true)
	d.SetTitle(sh.Name, true)
	d.SetMargins(0, 0, 0)
	d.SetAutoPageBreak(false, 0)
	d.SetFont("Helvetica", "", 7)
	grounds, err := sh.grounds(ctx, o, func(page int, img *image.NRGBA) ([]byte, error) {
		var b bytes.Buffer
		err := jpeg.Encode(&b, wider(img, page), &jpeg.Options{Quality: 92})
		return b.Bytes(), err
	})
	if err != nil {
		return nil, err
	}
	for page := range sh.Pages {
		d.AddPage()
		if grounds != nil {
			sh.pdfGround(d, page, grounds[page], o.dpi())
		}
		for i := range sh.Pieces {
			if sh.Pieces[i].Page == page {
				pdfPiece(d, &sh.Pieces[i])
			}
		}
		sh.pdfFoot(d, page)
	}
	var b bytes.Buffer
	if err := d.Output(&b); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func (sh *Sheet) pdfGround(d *fpdf.Fpdf, page int, data []byte, dpi float64) {
	name, as := fmt.Sprintf("page %d", page), fpdf.ImageOptions{ImageType: "JPG"}
	d.RegisterImageOptionsReader(name, as, bytes.NewReader(data))
	// A dot more or less than the page has: the picture ends where its last dot does.
	dot := 25.4 / dpi
	w := (math.Ceil(sh.Options.Paper.Width/dot) + float64(page)) * dot
	h := math.Ceil(sh.Options.Paper.Height/dot) * dot
	d.ImageOptions(name, 0, 0, w, h, false, as, 0, "")
}

// wider is a page with some more columns, which lie beyond its edge: the writer
// puts pictures in the order of their widths, equal ones by chance.
func wider(img *image.NRGBA, by int) *image.NRGBA {
	out := image.NewNRGBA(image.Rect(0, 0, img.Rect.Dx()+by, img.Rect.Dy()))
	draw.Draw(out, out.Rect, image.White, image.Point{}, draw.Src)
	draw.Draw(out, img.Rect, img, image.Point{}, draw.Src)
	return out
}

// dashes of fold lines, mm; see style.
var dashes = map[Kind][]float64{Cut: {}, Mountain: {3, 0.8, 0.4, 0.8}, Valley: {1.6, 1}}

func pdfPiece(d *fpdf.Fpdf, p *Piece) {
	d.SetLineWidth(0.15)
	d.SetDrawColor(85, 85, 85)
	d.SetDashPattern(nil, 0)
	for i := range p.Tabs {
		var at []fpdf.PointType
		for _, c := range p.Tabs[i].Corners {
			at = append(at, fpdf.PointType{X: c[0], Y: c[1]})
		}
		d.Polygon(at, "D")
	}
	d.SetDrawColor(0, 0, 0)
	d.SetLineWidth(0.2)
	for _, l := range p.Lines {
		if l.Kind == Flat {
			continue
		}
		d.SetDashPattern(dashes[l.Kind], 0)
		d.Line(l.A[0], l.A[1], l.B[0], l.B[1])
	}
	d.SetDashPattern(nil, 0)
	for _, l := range p.Lines {
		if l.Number > 0 {
			at, size, angle := l.Label()
			d.SetFontUnitSize(size)
			text := fmt.Sprint(l.Number)
			d.TransformBegin()
			d.TransformRotate(-angle, at[0], at[1]) // it turns counter-clockwise
			d.Text(at[0]-d.GetStringWidth(text)/2, at[1], text)
			d.TransformEnd()
		}
	}
}

func (sh *Sheet) pdfFoot(d *fpdf.Fpdf, page int) {
	for _, r := range sh.ruler() {
		d.Line(r[0][0], r[0][1], r[1][0], r[1][1])
	}
	at := sh.footAt()
	d.SetFontUnitSize(2.6)
	d.Text(at[0], at[1], format.ASCII(sh.foot(page)))
}
