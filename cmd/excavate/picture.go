package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"excavate/core/appraise"
	"excavate/core/pixel"

	"github.com/spf13/cobra"
)

// pictureOptions say how pictures are written.
type pictureOptions struct {
	texels, meaning string
	mips            bool
}

func (p *pictureOptions) flags(c *cobra.Command) {
	c.Flags().StringVar(&p.texels, "texels", "", "of a picture in DDS or KTX 2: the `FORMAT` of its texels: bc7, bc1, bc3, bc4, bc5, r8g8b8a8")
	c.Flags().BoolVar(&p.mips, "mips", false, "of a picture in DDS or KTX 2: with smaller copies down to one texel")
	c.Flags().StringVar(&p.meaning, "meaning", "", "what a picture's numbers are: `colour`, normal or plain; left out, the picture itself tells")
}

// picture writes a picture in another format.
func (x *converter) picture(ctx context.Context, log io.Writer, in, out string) error {
	given, done, err := x.load(x.stack, in)
	if err != nil {
		return fmt.Errorf("%s: %w", in, err)
	}
	defer done()
	d, err := x.lib.PictureOf(ctx, given)
	if err != nil {
		return fmt.Errorf("%s: %w", in, err)
	}
	img, err := pixel.DecodePicture(d.Data, d.MIME)
	if err != nil {
		return fmt.Errorf("%s: %w", in, err)
	}
	plain := pixel.ToNRGBA(img)
	o := pixel.WriteOptions{Texels: pixel.Format(x.how.texels), Mips: x.how.mips, Meaning: pixel.Meaning(x.how.meaning)}
	switch o.Meaning {
	case pixel.Colour, pixel.Normal, pixel.Plain:
	case "":
		a := appraise.Appraise(plain, "")
		o.Meaning = meaning(a.Kind)
		if x.pic.Texels != nil { // elsewhere it changes nothing
			fmt.Fprintf(log, "note: read as %s: %s\n", a.Kind, strings.Join(a.Evidence, "; "))
		}
	default:
		return fmt.Errorf("--meaning %q: say colour, normal or plain", x.how.meaning)
	}
	b, lost, err := pixel.Write(x.pic.Name, plain, o)
	if err != nil {
		return fmt.Errorf("%s: %w", in, err)
	}
	for _, l := range lost {
		fmt.Fprintf(log, "note: not written: %s\n", l)
	}
	return writeWhole(out, b)
}

// meaning is what the numbers of a kind of picture are.
func meaning(kind string) pixel.Meaning {
	switch kind {
	case "normal map":
		return pixel.Normal
	case "mask", "packed", "opacity":
		return pixel.Plain
	}
	return pixel.Colour
}
