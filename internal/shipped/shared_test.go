package shipped

import (
	"bytes"
	"context"
	"testing"

	"excavate/core/appraise"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/render"
	"excavate/core/scene"
	"excavate/core/step"
)

// A scene may share the bytes of its file, and any number of scenes a list. So
// nothing that is done with a scene may write to it.
func TestNothingWritesToAScene(t *testing.T) {
	all, err := everything()
	if err != nil {
		t.Fatal(err)
	}
	files, _, err := Writers.Named("glb").Write(all, "everything")
	if err != nil {
		t.Fatal(err)
	}
	file := files[0].Data
	kept := bytes.Clone(file)
	s, err := Formats.Find(file[:64]).Read(context.Background(), format.File{Name: "everything.glb", Data: file})
	if err != nil {
		t.Fatal(err)
	}
	stored, err := s.Encode()
	if err != nil {
		t.Fatal(err)
	}
	done := func(what string) {
		t.Helper()
		if !bytes.Equal(file, kept) {
			t.Errorf("%s wrote to the file's bytes", what)
			copy(file, kept)
		}
		if now, err := s.Encode(); err != nil || !bytes.Equal(now, stored) {
			t.Fatalf("%s changed the scene: %v", what, err)
		}
	}
	for _, k := range step.All() {
		if out, err := k.Apply(context.Background(), s, nil, nil, &step.Report{}); err != nil {
			t.Logf("%s: %v", k.Name, err)
		} else if _, err := out.Encode(); err != nil {
			t.Errorf("%s: %v", k.Name, err)
		}
		done("step " + k.Name)
	}
	for i := range Writers {
		if _, _, err := Writers[i].Write(s, "everything"); err != nil {
			t.Errorf("%s: %v", Writers[i].Name, err)
		}
		done("writer " + Writers[i].Name)
	}
	other, err := s.InBasis(geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Left, MetresPerUnit: 0.01})
	if err != nil {
		t.Fatal(err)
	}
	done("another basis")
	render.Draw(s, render.Options{Width: 64, Height: 64})
	done("drawing")
	appraise.InventoryOf(s)
	appraise.Basis(s)
	appraise.Compare(s, other, 0.01)
	appraise.Coloured(s, other, 0.01)
	done("comparing")
	for i := range s.Pictures {
		img, err := pixel.DecodePicture(s.Pictures[i].Data, s.Pictures[i].MIME)
		if err != nil {
			t.Fatal(err)
		}
		appraise.Used(s, i, pixel.ToNRGBA(img))
	}
	appraise.DrawUVs(&s.Meshes[0].Parts[0], 0, nil, 32)
	done("judging pictures")
	if _, err := scene.Decode(stored); err != nil {
		t.Fatal(err)
	}
	done("the stored form")
}
