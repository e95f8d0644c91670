package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"excavate/core/appraise"
	"excavate/core/find"
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
	c.RegisterFlagCompletionFunc("texels", words("bc7", "bc1", "bc3", "bc4", "bc5", "r8g8b8a8"))
	c.RegisterFlagCompletionFunc("meaning", words("colour", "normal", "plain"))
}

// picture writes a picture in another format.
func (x *converter) picture(ctx context.Context, log io.Writer, in *given, out string) error {
	d, err := x.lib.PictureOf(ctx, in.Input)
	if err != nil {
		return err
	}
	img, err := pixel.DecodePicture(d.Data, d.MIME)
	if err != nil {
		return err
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
		return err
	}
	for _, l := range lost {
		fmt.Fprintf(log, "note: not written: %s\n", l)
	}
	return x.files.write(out, b)
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

// pictureReport is what inspect says of a picture.
type pictureReport struct {
	File     string   `json:"file"`
	Format   string   `json:"format"`
	Width    int      `json:"width"`  // texels
	Height   int      `json:"height"` // texels
	Looks    string   `json:"looksLike"`
	Surety   float64  `json:"surety"` // 0 to 1
	Evidence []string `json:"evidence"`
	Notices  []string `json:"notices"`
}

func inspectPicture(ctx context.Context, lib *find.Library, in *given, file string) (*pictureReport, error) {
	d, err := lib.PictureOf(ctx, in.Input)
	if err != nil {
		return nil, err
	}
	img, err := pixel.DecodePicture(d.Data, d.MIME)
	if err != nil {
		return nil, err
	}
	a := appraise.Appraise(pixel.ToNRGBA(img), "")
	return &pictureReport{file, d.Format, d.Width, d.Height, a.Kind, a.Surety, append([]string{}, a.Evidence...), append([]string{}, a.Notices...)}, nil
}

func (p *pictureReport) print(w io.Writer) {
	fmt.Fprintf(w, "%s\n  %s picture, %d × %d texels\n  looks like %s: %s\n", harmless(p.File), p.Format, p.Width, p.Height, p.Looks, strings.Join(p.Evidence, "; "))
	for _, n := range p.Notices {
		fmt.Fprintf(w, "  %s\n", n)
	}
}
