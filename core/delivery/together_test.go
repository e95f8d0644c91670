package delivery

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"

	"excavate/core/find"
	"excavate/core/format"
	"excavate/core/format/gltf"
	"excavate/core/limit"
	"excavate/core/source"
	"excavate/core/target"
)

// Each asset of a package gets a folder that is its own, by the layout where
// that names the asset, whatever the case of letters.
func TestFoldersOfManyAssets(t *testing.T) {
	names := []string{"punt", "reed", "Punt", "punt_2", "reed/../../etc"}
	for _, c := range []struct{ folder, want string }{
		{"", "punt reed Punt_2 punt_2_2 reed_.._.._etc"},
		{"{asset}", "punt reed Punt_2 punt_2_2 reed_.._.._etc"},
		{"props/{asset}", "props/punt props/reed props/Punt_2 props/punt_2_2 props/reed_.._.._etc"},
		{"{asset}_custom", "punt_custom reed_custom Punt_custom_2 punt_2_custom reed_.._.._etc_custom"},
		{"level", "level/punt level/reed level/Punt_2 level/punt_2_2 level/reed_.._.._etc"},
	} {
		sheet := &target.Sheet{Name: "x", Delivery: &target.Delivery{Folder: c.folder, Model: "m/{asset}"}}
		var got []string
		for i, o := range (Options{Longest: 64}).Together(names, sheet) {
			k := &composer{Maker: maker, sheet: sheet, o: o, asset: Name(names[i]), out: &Made{}}
			if err := k.settle(); err != nil {
				t.Fatal(err)
			}
			if k.layout.Model != "m/{asset}" || o.Longest != 64 {
				t.Errorf("%s: %+v: the rest of the layout is lost", names[i], o)
			}
			got = append(got, k.out.Folder)
		}
		if fmt.Sprint(got) != "["+c.want+"]" {
			t.Errorf("%q: %q\nwant %q", c.folder, got, c.want)
		}
	}
	// A layout that is the sheet's already is not said again.
	sheet := &target.Sheet{Name: "x", Delivery: &target.Delivery{Folder: "{asset}"}}
	if o := (Options{}).Together([]string{"a", "A"}, sheet); o[0].Layout != nil || o[1].Layout == nil {
		t.Errorf("%+v", o)
	}
}

// two is a package of two deliveries of the crate.
func two(t *testing.T) (zip []byte, src *source.Source) {
	t.Helper()
	src, glb := boats(t)
	sheet, err := target.Parse([]byte(crateSheet))
	if err != nil {
		t.Fatal(err)
	}
	var both [][]File
	for _, o := range (Options{}).Together([]string{crate().Name, crate().Name}, sheet) {
		both = append(both, crated(t, src, glb, o))
	}
	if zip, err = Packed(both[1], both[0]); err != nil {
		t.Fatal(err)
	}
	if other, err := Packed(both...); err != nil || !bytes.Equal(other, zip) {
		t.Errorf("the order in which deliveries were given shows: %v", err)
	}
	return zip, src
}

// A package of two is taken apart again, each delivery with its own files, each
// checked, made again and put into its own folder.
func TestPackagesOfSeveral(t *testing.T) {
	zip, src := two(t)
	list, err := Open(zip)
	if err != nil || len(list) != 2 || list[0].Folder != "crate" || list[1].Folder != "crate_2" {
		t.Fatalf("%d, %v", len(list), err)
	}
	lib := &find.Library{Formats: format.Registry{{Name: "glb",
		Probe: func(h []byte) bool { return bytes.HasPrefix(h, []byte("glTF")) }, Read: gltf.Read}}}
	root := t.TempDir()
	for _, o := range list {
		if f := o.Faults(); f != nil {
			t.Errorf("%s: %v", o.Folder, f)
		}
		r, err := maker.Again(context.Background(), o, Sources{Lib: lib, Stack: source.Stack{src},
			Finder: source.Stack{src}})
		if err != nil || !r.Same {
			t.Errorf("%s: %+v, %v", o.Folder, r, err)
		}
		p, err := Place(root, o, false)
		if err != nil || len(p.Made) != len(o.Files) || p.Folder != o.Folder || len(p.Kept) != 0 {
			t.Errorf("%s: %+v, %v", o.Folder, p, err)
		}
	}
	// One that was tampered with is at fault, and the other is not.
	list[1].Files["crate_2/chain.yaml"] = []byte("x")
	if list[0].Faults() != nil || len(list[1].Faults()) != 1 {
		t.Errorf("%v, %v", list[0].Faults(), list[1].Faults())
	}
	// What lies in neither folder is told once.
	var files []File
	for p, b := range list[0].Files {
		files = append(files, File{Path: p, Data: b})
	}
	list, err = Open(packed(t, append(files, File{Path: "crater/readme.txt"})))
	if err != nil || len(list) != 1 || len(list[0].Faults()) != 1 || list[0].Faults()[0].Path != "crater/readme.txt" {
		t.Errorf("%v", err)
	}
}

// What Open would not take is not made.
func TestPackagesThatAreTooLarge(t *testing.T) {
	small := []File{{Path: "a/x"}, {Path: "a/manifest.json"}}
	many := make([]File, mostFiles-1)
	for i := range many {
		many[i].Path = fmt.Sprintf("b/%d", i)
	}
	if _, err := Packed(small, many); err == nil || !strings.Contains(err.Error(), "deliver fewer at once") {
		t.Errorf("%v", err)
	}
	if zip, err := Packed(small, many[:mostFiles-2]); err != nil {
		t.Error(err)
	} else if _, err := Open(zip); err == nil || strings.Contains(err.Error(), "at most") {
		t.Errorf("as many files as there may be: %v", err)
	}
	// The same bytes again and again: their sum is what counts.
	big := File{Path: "c/big", Data: make([]byte, limit.MemoryBytes/2+1)}
	if _, err := Packed([]File{big}, []File{big}); err == nil || !strings.Contains(err.Error(), "2 assets come to") {
		t.Errorf("%v", err)
	}
}

// A manifest that lies within a delivery is one of its files, not another
// delivery.
func TestManifestsWithinDeliveries(t *testing.T) {
	inner := `{"manifest": 2, "asset": "inner"}`
	for _, order := range [][]string{
		{"manifest.json", `{"manifest": 2, "asset": "outer"}`, "a/manifest.json", inner},
		{"a/manifest.json", inner, "manifest.json", `{"manifest": 2, "asset": "outer"}`},
	} {
		if o := opened(t, zipOf(t, order...)); o.Manifest.Asset != "outer" || len(o.Files) != 2 {
			t.Errorf("%s, %d files", o.Manifest.Asset, len(o.Files))
		}
	}
}

// A folder keeps its name, whatever that begins with.
func TestFoldersKeepTheirNames(t *testing.T) {
	for _, folder := range []string{".hidden", "..x", "a.b", "x/.y"} {
		o := opened(t, zipOf(t, folder+"/manifest.json", `{"manifest": 2}`, folder+"/a", ""))
		if o.Folder != folder || len(o.Files) != 2 {
			t.Errorf("%q: %q, %d files", folder, o.Folder, len(o.Files))
		}
	}
}

// What receivers said goes into the package beside the manifests. It is no
// fault, and is not put into the target's folder.
func TestWhatReceiversSaidTravels(t *testing.T) {
	zip, _ := two(t)
	with, err := WithReceived(zip, [][]byte{nil, []byte(`{"log": []}`)})
	if err != nil {
		t.Fatal(err)
	}
	list, err := Open(with)
	if err != nil || len(list) != 2 {
		t.Fatal(err)
	}
	if list[0].Files["crate/received.json"] != nil || string(list[1].Files["crate_2/received.json"]) != `{"log": []}` {
		t.Error("it stands beside the wrong delivery")
	}
	for _, o := range list {
		if f := o.Faults(); f != nil {
			t.Errorf("%v", f)
		}
	}
	p, err := Place(t.TempDir(), list[1], false)
	if err != nil || slices.ContainsFunc(p.Made, func(f string) bool { return strings.Contains(f, "received") }) {
		t.Errorf("%+v, %v", p, err)
	}
	// Without it every byte is that of before; said anew it is the later.
	later, err := WithReceived(with, [][]byte{nil, []byte(`{"log": [1]}`)})
	if err != nil || bytes.Equal(later, with) {
		t.Errorf("%v", err)
	}
	alone, err := list[1].Alone()
	if err != nil {
		t.Fatal(err)
	}
	if o := opened(t, alone); o.Folder != "crate_2" || len(o.Files) != len(list[1].Files)-1 || o.Faults() != nil {
		t.Errorf("%s, %d files, %v", o.Folder, len(o.Files), o.Faults())
	}
	same, err := WithReceived(zip, nil)
	if err != nil || !bytes.Equal(same, zip) {
		t.Errorf("a package that nothing is said of changes: %v", err)
	}
}
