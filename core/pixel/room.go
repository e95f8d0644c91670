package pixel

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"

	"excavate/core/limit"

	"golang.org/x/sync/semaphore"
)

// room bounds the memory of all pictures that are being decoded at one time,
// whoever asks for them.
var room = semaphore.NewWeighted(limit.PictureRoom)

// decodedBytes is what a picture takes while it is decoded: as the decoder
// holds it, and as eight bits a channel. It refuses pictures that are too large.
func decodedBytes(cfg image.Config) (int64, error) {
	w, h := int64(cfg.Width), int64(cfg.Height)
	if w <= 0 || h <= 0 || w > limit.Texels || h > limit.Texels || w*h > limit.Texels {
		return 0, fmt.Errorf("a picture of %d x %d texels; at most %d texels are read", w, h, limit.Texels)
	}
	each := int64(4)
	switch cfg.ColorModel {
	case color.GrayModel, color.AlphaModel:
		each = 1
	case color.Gray16Model, color.Alpha16Model:
		each = 2
	case color.YCbCrModel:
		each = 3
	case color.NRGBA64Model, color.RGBA64Model:
		each = 8
	default:
		if _, ok := cfg.ColorModel.(color.Palette); ok {
			each = 1
		}
	}
	if n := w * h * each; n > limit.PictureBytes {
		return 0, fmt.Errorf("a picture of %d x %d texels takes %d MB while it is read, at most %d are used", w, h, n>>20, limit.PictureBytes>>20)
	}
	return w * h * (each + 4), nil
}

// enter waits until there is room for a picture.
func enter(n int64) (leave func()) {
	n = min(n, limit.PictureRoom)
	_ = room.Acquire(context.Background(), n) // it fails with its context only
	return func() { room.Release(n) }
}

// DecodePicture decodes PNG or JPEG bytes.
func DecodePicture(data []byte, mime string) (image.Image, error) {
	config, decode := png.DecodeConfig, png.Decode
	if mime == "image/jpeg" {
		config, decode = jpeg.DecodeConfig, jpeg.Decode
	}
	cfg, err := config(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	n, err := decodedBytes(cfg)
	if err != nil {
		return nil, err
	}
	defer enter(n)()
	img, err := decode(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	return narrow(img), nil
}

// narrow makes eight bits a channel of sixteen, while the room is held: that is
// all that is used of them.
func narrow(img image.Image) image.Image {
	switch img.(type) {
	case *image.NRGBA64, *image.RGBA64, *image.Gray16, *image.Alpha16:
		return ToNRGBA(img)
	}
	return img
}
