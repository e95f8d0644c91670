package step

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"math"
	"path"
	"slices"
	"strings"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// PicturesParams says how pictures are to be.
type PicturesParams struct {
	Where
	Longest int    `json:"longest,omitempty" jsonschema:"title=Longest side at most,minimum=1,maximum=16384" jsonschema_extras:"unit=px"`
	Powers  bool   `json:"powers_of_two" jsonschema:"title=Sides as powers of two,description=The next smaller one; what is no power is scaled"`
	Format  string `json:"format,omitempty" jsonschema:"title=Format,enum=,enum=png,enum=jpeg,description=JPEG has no alpha: pictures with any stay PNG" jsonschema_extras:"empty=as it is"`
	Quality int    `json:"quality" jsonschema:"title=Quality of JPEG,minimum=1,maximum=100"`
}

var _ = register(Kind{Name: "pictures", Title: "Size of pictures", Family: Material, On: Pictures, Version: 1,
	Purpose: "Make pictures smaller, of sides that are powers of two, or of another format. Colours are scaled as light, normals stay of length 1."},
	PicturesParams{Quality: 90}, pictures)

func pictures(ctx context.Context, s *scene.Scene, p PicturesParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	means := meanings(s)
	out := *s
	out.Pictures = slices.Clone(s.Pictures)
	var scaled, stored, kept int
	var before, after int64
	for i := range out.Pictures {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		pic := &out.Pictures[i]
		if !c.Pictures[i] || pic.Missing() {
			continue
		}
		img, err := pixels(pic)
		if err != nil {
			return nil, err
		}
		w, h := p.size(img.Rect.Dx(), img.Rect.Dy())
		resized := w != img.Rect.Dx() || h != img.Rect.Dy()
		mime := pic.MIME
		switch p.Format {
		case "png":
			mime = "image/png"
		case "jpeg":
			if mime = "image/jpeg"; !img.Opaque() {
				mime = pic.MIME
				kept++
			}
		}
		if !resized && mime == pic.MIME {
			continue
		}
		if resized {
			img = pixel.Resized(img, w, h, means[i])
			scaled++
		}
		data, err := encoded(img, mime, p.Quality)
		if err != nil {
			return nil, fmt.Errorf("picture %s: %w", pic.Name, err)
		}
		if mime != pic.MIME {
			stored++
			pic.Name = strings.TrimSuffix(pic.Name, path.Ext(pic.Name)) + map[string]string{"image/png": ".png", "image/jpeg": ".jpg"}[mime]
		}
		before, after = before+int64(len(pic.Data)), after+int64(len(data))
		pic.Data, pic.MIME, pic.Width, pic.Height = data, mime, w, h
	}
	if scaled+stored == 0 {
		r.Nothing("the chosen pictures are that way already%s",
			ifAny(kept, ", but for %s", count(kept, "one with alpha", "with alpha")))
		return s, nil
	}
	if scaled > 0 {
		r.Say("%s scaled", count(scaled, "picture", "pictures"))
	}
	if stored > 0 {
		r.Say("%s stored as %s", count(stored, "picture", "pictures"), p.Format)
	}
	r.Say("bytes %d → %d", before, after)
	if kept > 0 {
		r.Say("%s PNG: JPEG has no alpha", count(kept, "picture stays", "pictures stay"))
	}
	return &out, nil
}

// size is what a picture of w x h texels becomes; its sides keep their ratio as
// far as whole numbers and powers do.
func (p *PicturesParams) size(w, h int) (int, int) {
	if long := max(w, h); p.Longest > 0 && long > p.Longest {
		by := float64(p.Longest) / float64(long)
		w, h = max(1, int(math.Round(float64(w)*by))), max(1, int(math.Round(float64(h)*by)))
	}
	if p.Powers {
		w, h = lowerPower(w), lowerPower(h)
	}
	return w, h
}

func lowerPower(n int) int {
	p := 1
	for 2*p <= n {
		p *= 2
	}
	return p
}

func encoded(img image.Image, mime string, quality int) ([]byte, error) {
	if mime != "image/jpeg" {
		return pixel.PNG(img)
	}
	var b bytes.Buffer
	err := jpeg.Encode(&b, img, &jpeg.Options{Quality: quality})
	return b.Bytes(), err
}

// meanings tells of each picture what its texels are, by the jobs that it has.
func meanings(s *scene.Scene) []pixel.Meaning {
	out := slices.Repeat([]pixel.Meaning{pixel.Colour}, len(s.Pictures))
	told := make([]bool, len(s.Pictures))
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			m := pixel.Plain
			switch {
			case t.Role.Colour():
				m = pixel.Colour
			case t.Role == scene.RoleNormal || t.Role == scene.RoleClearcoatNormal:
				m = pixel.Normal
			}
			// A picture of two jobs is scaled as what is seen.
			if !told[t.Picture] || m == pixel.Colour {
				out[t.Picture], told[t.Picture] = m, true
			}
		}
	}
	return out
}
