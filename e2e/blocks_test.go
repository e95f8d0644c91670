package e2e

import (
	"encoding/base64"
	"fmt"
	"image"
	"math/rand"
	"testing"

	"excavate/core/pixel"
	"excavate/e2e/browser"
)

// decodedByGL is blocks as the browser's own decoder unpacks them: 8-bit RGBA
// after clamping to 0..1.
func decodedByGL(p *porter, format pixel.Format, blocks []byte, w, h int) []byte {
	p.t.Helper()
	ext := map[pixel.Format][2]string{
		pixel.BC1: {"WEBGL_compressed_texture_s3tc", "COMPRESSED_RGBA_S3TC_DXT1_EXT"}, pixel.BC3: {"WEBGL_compressed_texture_s3tc", "COMPRESSED_RGBA_S3TC_DXT5_EXT"},
		pixel.BC6: {"EXT_texture_compression_bptc", "COMPRESSED_RGB_BPTC_UNSIGNED_FLOAT_EXT"}, pixel.BC6S: {"EXT_texture_compression_bptc", "COMPRESSED_RGB_BPTC_SIGNED_FLOAT_EXT"},
		pixel.BC7: {"EXT_texture_compression_bptc", "COMPRESSED_RGBA_BPTC_UNORM_EXT"},
	}[format]
	out, err := browser.Eval[string](p.Page, fmt.Sprintf(`(() => {
		const c = document.createElement('canvas'); c.width = %[1]d; c.height = %[2]d
		const gl = c.getContext('webgl2', { premultipliedAlpha: false })
		const ext = gl.getExtension(%[3]q)
		if (!ext) return 'no ' + %[3]q
		const bytes = Uint8Array.from(atob(%[5]q), (x) => x.charCodeAt(0))
		gl.bindTexture(gl.TEXTURE_2D, gl.createTexture())
		gl.compressedTexImage2D(gl.TEXTURE_2D, 0, ext[%[4]q], %[1]d, %[2]d, 0, bytes)
		gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MIN_FILTER, gl.NEAREST); gl.texParameteri(gl.TEXTURE_2D, gl.TEXTURE_MAG_FILTER, gl.NEAREST)
		const fb = gl.createFramebuffer(), to = gl.createTexture()
		const shader = (type, src) => { const s = gl.createShader(type); gl.shaderSource(s, src); gl.compileShader(s); return s }
		const prog = gl.createProgram()
		gl.attachShader(prog, shader(gl.VERTEX_SHADER, '#version 300 es\nvoid main() { vec2 p = vec2(gl_VertexID & 1, gl_VertexID >> 1) * 4.0 - 1.0; gl_Position = vec4(p, 0, 1); }'))
		gl.attachShader(prog, shader(gl.FRAGMENT_SHADER, '#version 300 es\nprecision highp float; uniform sampler2D t; out vec4 o; void main() { o = texelFetch(t, ivec2(gl_FragCoord.xy), 0); }'))
		gl.linkProgram(prog); gl.useProgram(prog)
		gl.activeTexture(gl.TEXTURE1); gl.bindTexture(gl.TEXTURE_2D, to)
		gl.texStorage2D(gl.TEXTURE_2D, 1, gl.RGBA8, %[1]d, %[2]d)
		gl.bindFramebuffer(gl.FRAMEBUFFER, fb); gl.framebufferTexture2D(gl.FRAMEBUFFER, gl.COLOR_ATTACHMENT0, gl.TEXTURE_2D, to, 0)
		gl.viewport(0, 0, %[1]d, %[2]d); gl.drawArrays(gl.TRIANGLES, 0, 3)
		const px = new Uint8Array(4 * %[1]d * %[2]d); gl.readPixels(0, 0, %[1]d, %[2]d, gl.RGBA, gl.UNSIGNED_BYTE, px)
		if (gl.getError()) return 'an error of WebGL'
		let s = ''; for (const b of px) s += String.fromCharCode(b)
		return btoa(s)
	})()`, w, h, ext[0], ext[1], base64.StdEncoding.EncodeToString(blocks)))
	p.try(err)
	px, err := base64.StdEncoding.DecodeString(out)
	if err != nil || len(px) != 4*w*h {
		p.t.Fatalf("%s: %s", format, out)
	}
	return px
}

// TestBlocksAgainstTheBrowser holds our block decoders against those of the
// browser, on random blocks of every mode.
func TestBlocksAgainstTheBrowser(t *testing.T) {
	p := start(t)
	p.try(p.Go("/"))
	const w, h = 256, 128
	r := rand.New(rand.NewSource(11))
	for _, f := range []pixel.Format{pixel.BC1, pixel.BC3, pixel.BC7, pixel.BC6, pixel.BC6S} {
		size, err := f.Bytes(w, h)
		if err != nil {
			t.Fatal(err)
		}
		blocks := make([]byte, size)
		r.Read(blocks)
		n := int(size) / (w / 4 * h / 4)
		for i := 0; i < len(blocks); i += n {
			switch k := i / n; f {
			case pixel.BC7:
				blocks[i] = blocks[i]&^(1<<(k%8+1)-1) | 1<<(k%8)
			case pixel.BC6, pixel.BC6S: // bright values are cut off alike, dark ones tell more
				modes := []byte{0x00, 0x01, 0x02, 0x06, 0x0a, 0x0e, 0x12, 0x16, 0x1a, 0x1e, 0x03, 0x07, 0x0b, 0x0f}
				m := modes[k%len(modes)]
				if m < 2 {
					blocks[i] = blocks[i]&^3 | m
				} else {
					blocks[i] = blocks[i]&^31 | m
				}
			}
		}
		img, err := pixel.Decode(f, blocks, w, h, nil)
		if err != nil {
			t.Fatal(err)
		}
		theirs := decodedByGL(p, f, blocks, w, h)
		off, worst := 0, 0
		where := image.Point{}
		for i, v := range img.Pix {
			d := int(v) - int(theirs[i])
			if d = max(d, -d); d > worst {
				worst, where = d, image.Pt(i/4%w, i/4/w)
			}
			if d > 1 {
				off++
			}
		}
		// BC1 and BC3 may round their colours in between differently.
		most := map[pixel.Format]int{pixel.BC1: 6, pixel.BC3: 6}[f]
		if worst > max(most, 1) {
			t.Errorf("%s: %d of %d bytes differ, by %d at %v (block %d)", f, off, len(img.Pix), worst, where, where.Y/4*(w/4)+where.X/4)
		}
	}
}
