package codec

import (
	"bytes"
	"compress/zlib"
	"strings"
	"testing"

	"github.com/pierrec/lz4/v4"
)

var plain = []byte(strings.Repeat("reed and tide, ", 4000))

func packed(t testing.TB, n Name) []byte {
	t.Helper()
	switch n {
	case Zlib:
		var b bytes.Buffer
		w := zlib.NewWriter(&b) // the standard library's, not the decoder's
		w.Write(plain)
		w.Close()
		return b.Bytes()
	case LZ4:
		b := make([]byte, lz4.CompressBlockBound(len(plain)))
		k, err := lz4.CompressBlock(plain, b, nil)
		if err != nil {
			t.Fatal(err)
		}
		return b[:k]
	}
	return plain
}

func TestEveryMethod(t *testing.T) {
	for _, n := range []Name{Stored, Zlib, LZ4} {
		src := packed(t, n)
		for round := 0; round < 3; round++ { // decoders are used again
			got, err := Decode(n, src, int64(len(plain)))
			if err != nil || !bytes.Equal(got, plain) {
				t.Errorf("%s: %d bytes, %v", n, len(got), err)
			}
			head, err := Head(n, src, int64(len(plain)), 10)
			if err != nil || string(head) != "reed and t" {
				t.Errorf("%s: head %q, %v", n, head, err)
			}
		}
	}
}

func TestDeclaredSizesHold(t *testing.T) {
	for _, n := range []Name{Zlib, LZ4} {
		src := packed(t, n)
		for _, size := range []int64{0, 1, 100, int64(len(plain)) - 1} {
			if got, err := Decode(n, src, size); err == nil {
				t.Errorf("%s declared as %d gives %d bytes", n, size, len(got))
			} else if !strings.Contains(err.Error(), "beyond") {
				t.Errorf("%s declared as %d: %v", n, size, err)
			}
		}
		if _, err := Decode(n, src, int64(len(plain))+1); err == nil || !strings.Contains(err.Error(), "declared") {
			t.Errorf("%s declared too large: %v", n, err)
		}
		for k := 0; k < len(src); k += 13 {
			if got, err := Decode(n, src[:k], int64(len(plain))); err == nil {
				t.Fatalf("%s cut off at %d gives %d bytes", n, k, len(got))
			}
		}
	}
	for _, c := range []struct {
		n            Name
		packed, size int64
	}{{Zlib, 10, 1 << 40}, {LZ4, 1, 2 << 20}, {Stored, 5, 6}, {Zlib, -1, 5}, {Zlib, 5, -1}, {Zlib, 1 << 20, 2 << 30}} {
		if err := CheckSizes(c.n, c.packed, c.size); err == nil {
			t.Errorf("%+v was accepted", c)
		}
	}
	if err := CheckSizes(Zlib, 10<<20, 2<<30); err != nil {
		t.Errorf("a size that zlib reaches: %v", err)
	}
	if _, err := Decode("rot13", plain, 1); err == nil {
		t.Error("an unknown method decodes")
	}
}

func TestABombIsNotUnpacked(t *testing.T) {
	var b bytes.Buffer
	w := zlib.NewWriter(&b)
	w.Write(make([]byte, 64<<20))
	w.Close()
	// It declares a thousandth of what it holds: one byte more than declared is
	// read, no more.
	if _, err := Decode(Zlib, b.Bytes(), 64<<10); err == nil || !strings.Contains(err.Error(), "expands beyond the 65536 bytes declared") {
		t.Errorf("%v", err)
	}
}
