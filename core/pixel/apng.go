package pixel

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
)

// AnimatedPNG makes of pictures of one size, as PNG writes them, an animation
// that repeats for ever (Portable Network Graphics, third edition, W3C 2025,
// sections 11.3.6 and 13.9): the first is what a program shows that knows no
// animation.
func AnimatedPNG(frames [][]byte, perSecond int) ([]byte, error) {
	if len(frames) == 0 || perSecond < 1 || perSecond > 1000 {
		return nil, fmt.Errorf("an animation of %d pictures, %d a second", len(frames), perSecond)
	}
	var out bytes.Buffer
	var head []byte
	sequence := uint32(0) // of fcTL and fdAT chunks together
	for i, data := range frames {
		chunks := pngChunks(data)
		if len(chunks["IHDR"]) != 1 || len(chunks["IHDR"][0]) != 13 {
			return nil, fmt.Errorf("picture %d of an animation is no PNG", i+1)
		}
		if i == 0 {
			head = chunks["IHDR"][0]
			out.Write(data[:8])
			pngChunk(&out, "IHDR", head)
			pngChunk(&out, "acTL", binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil,
				uint32(len(frames))), 0))
		} else if !bytes.Equal(chunks["IHDR"][0][:8], head[:8]) {
			return nil, fmt.Errorf("picture %d of an animation is of another size", i+1)
		} else if !bytes.Equal(chunks["IHDR"][0], head) {
			// image/png chooses the colour type by whether anything shines through.
			return nil, fmt.Errorf("picture %d of an animation is of another kind: some are opaque and some are not",
				i+1)
		}
		pngChunk(&out, "fcTL", frameControl(sequence, head, perSecond))
		sequence++
		for _, d := range chunks["IDAT"] {
			if i == 0 {
				pngChunk(&out, "IDAT", d)
				continue
			}
			pngChunk(&out, "fdAT", append(binary.BigEndian.AppendUint32(nil, sequence), d...))
			sequence++
		}
	}
	pngChunk(&out, "IEND", nil)
	return out.Bytes(), nil
}

// frameControl is an fcTL chunk: the whole picture, shown for a part of a
// second, replacing what was there. head is an IHDR chunk, which begins with the
// width and the height.
func frameControl(sequence uint32, head []byte, perSecond int) []byte {
	b := binary.BigEndian.AppendUint32(nil, sequence)
	b = append(b, head[:8]...)
	b = append(b, make([]byte, 8)...) // its place: the corner
	b = binary.BigEndian.AppendUint16(b, 1)
	b = binary.BigEndian.AppendUint16(b, uint16(perSecond))
	return append(b, 0, 0) // dispose: none; blend: source
}

// pngChunks are the chunks of a PNG by their types, as far as it goes.
func pngChunks(b []byte) map[string][][]byte {
	out := map[string][][]byte{}
	for at := 8; at+12 <= len(b); {
		n := int(binary.BigEndian.Uint32(b[at:]))
		if n > len(b)-at-12 {
			break
		}
		kind := string(b[at+4 : at+8])
		out[kind] = append(out[kind], b[at+8:at+8+n])
		at += 12 + n
	}
	return out
}

func pngChunk(w *bytes.Buffer, kind string, data []byte) {
	w.Write(binary.BigEndian.AppendUint32(nil, uint32(len(data))))
	crc := crc32.NewIEEE()
	for _, b := range [][]byte{[]byte(kind), data} {
		w.Write(b)
		crc.Write(b)
	}
	w.Write(binary.BigEndian.AppendUint32(nil, crc.Sum32()))
}
