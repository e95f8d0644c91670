package render

import (
	"fmt"
	"image"
	"image/draw"
	"math"

	"excavate/core/scene"
)

// mostSheet is the longest side of a sheet of views, pixels.
const mostSheet = 16384

// Views draws n views from all round, evenly turned, in rows of a sheet that is
// about as wide as high. One is Draw.
func Views(s *scene.Scene, o Options, n int) (*image.NRGBA, error) {
	if n < 1 || n > 64 {
		return nil, fmt.Errorf("%d: from 1 to 64", n)
	}
	if n == 1 {
		return Draw(s, o), nil
	}
	across := int(math.Ceil(math.Sqrt(float64(n))))
	down := (n + across - 1) / across
	if across*o.Width > mostSheet || down*o.Height > mostSheet {
		return nil, fmt.Errorf("%d of %d × %d: the sheet would be %d × %d pixels, at most %d along a side",
			n, o.Width, o.Height, across*o.Width, down*o.Height, mostSheet)
	}
	out := image.NewNRGBA(image.Rect(0, 0, across*o.Width, down*o.Height))
	draw.Draw(out, out.Rect, image.NewUniform(o.Background), image.Point{}, draw.Src)
	for i := range n {
		one := o
		one.Turn += 360 * float64(i) / float64(n)
		at := image.Pt(i%across*o.Width, i/across*o.Height)
		draw.Draw(out, image.Rectangle{at, at.Add(image.Pt(o.Width, o.Height))}, Draw(s, one), image.Point{}, draw.Src)
	}
	return out, nil
}
