package console

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"

	"excavate/core/layout"
)

// The cartridge is read by the layouts that ship, and by nothing that was
// written for it.
func TestTheCartridgeIsALayout(t *testing.T) {
	set, err := layout.LoadFS(os.DirFS("../../layouts"))
	if err != nil {
		t.Fatal(err)
	}
	cart := Cartridge()
	l := first(set.Recognised(cart))
	if l == nil {
		t.Fatal("no layout knows the cartridge")
	}
	list, err := l.Entries(context.Background(), layout.Memory(cart), layout.Surroundings{})
	if err != nil || len(list) != 3 {
		t.Fatal(list, err)
	}
	files := map[string][]byte{}
	for _, f := range frameOf(1200).files() {
		files[f.name] = f.data
	}
	open := func(have ...string) layout.Surroundings {
		return layout.Surroundings{Open: func(ref string) (layout.Input, error) {
			for _, h := range have {
				name, as, _ := strings.Cut(h, "=")
				if ref == name {
					return layout.Memory(files[as]), nil
				}
			}
			return nil, errors.New("it is bound to nothing")
		}}
	}
	model := cart[list[0].Offset : list[0].Offset+list[0].Size]
	l = first(set.Recognised(model))
	bank := "segments/bank.bin=segments/bank.bin"
	var faces []string
	for _, c := range []struct {
		missing int
		have    []string
	}{
		{2, nil}, {1, []string{bank}},
		{0, []string{bank, "segments/faces.bin=segments/faces.bin"}},
		{0, []string{bank, "segments/faces.bin=pictures/05.bmp"}},
	} {
		s, err := l.Scene(context.Background(), layout.Memory(model), open(c.have...))
		if err != nil {
			t.Fatal(err)
		}
		st := s.Stats()
		if st.Missing != c.missing || st.Bones != 7 || st.Triangles < 200 || len(s.Skins) != 1 {
			t.Errorf("%v: %+v", c.have, st)
		}
		if h := *st.Height; h < 1.7 || h > 1.8 {
			t.Errorf("it is %g m high", h)
		}
		if c.missing == 0 {
			for _, p := range s.Pictures {
				if p.Name == "face" {
					faces = append(faces, string(p.Data))
				}
			}
		}
		x := l.Explain(context.Background(), layout.Memory(model), open(c.have...), -1)
		if x.Err != nil || x.Covered != x.Size {
			t.Errorf("%v: %v, %d of %d bytes are explained, %v", c.have, x.Err, x.Covered, x.Size, x.Gaps)
		}
	}
	if len(faces) != 2 || faces[0] != faces[1] {
		t.Error("the memory and the dump give different faces")
	}
	other, err := l.Scene(context.Background(), layout.Memory(model), layout.Surroundings{Readings: map[string]string{"last_bytes": "colour"}})
	if err != nil || other.Meshes[0].Parts[0].Normals != nil || len(other.Meshes[0].Parts[0].Colours) != 1 {
		t.Errorf("the other reading: %v", err)
	}
}

func first(sure, _ []*layout.Layout) *layout.Layout {
	if len(sure) == 0 {
		return nil
	}
	return sure[0]
}
