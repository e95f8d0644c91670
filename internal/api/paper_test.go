package api_test

import (
	"bytes"
	"fmt"
	"image/png"
	"math"
	"strings"
	"testing"

	"excavate/internal/api"
)

func TestPaper(t *testing.T) {
	c := start(t)
	id, path := c.project("paper")
	c.addSource(id, "harbour.zip")
	c.linked(path)
	pontoon := c.found(path, "q=pontoon")
	at := "/api/scenes/" + pontoon.Model.Scene + "/paper"
	sheet := call[api.PaperSheet](c, "GET", at+"?height=20", nil)
	if sheet.Pages < 1 || len(sheet.Pieces) == 0 || sheet.Width != 210 || math.Abs(sheet.Size[1]-20) > 1e-6 ||
		!sheet.Coloured || sheet.Name != "pontoon" {
		t.Fatalf("%d pages, %d pieces, %v", sheet.Pages, len(sheet.Pieces), sheet.Size)
	}
	folds, cuts := map[int]int{}, map[int]int{}
	for _, p := range sheet.Pieces {
		if p.Page >= sheet.Pages || !strings.HasPrefix(p.Faces, "M") {
			t.Errorf("a piece on page %d: %.40s", p.Page, p.Faces)
		}
		for _, l := range p.Lines {
			if e := sheet.Edges[l.Edge]; e.Folded == (l.Kind == api.Cut) || e.Open && l.Number != 0 {
				t.Errorf("a line is %s, its edge %+v", l.Kind, e)
			}
			if l.Number > 0 {
				cuts[l.Number]++
			} else if l.Kind != api.Cut {
				folds[l.Edge]++
			}
		}
	}
	for n, k := range cuts {
		if k != 2 {
			t.Errorf("number %d stands at %d lines", n, k)
		}
	}
	// Ends of edges lie in the model, in metres as the 3D view has it.
	size := *pontoon.Model.Stats.Size
	for _, e := range sheet.Edges {
		d := 0.0
		for k := range 3 {
			d += (e.A[k] - e.B[k]) * (e.A[k] - e.B[k])
		}
		if d = math.Sqrt(d) * 20 / size[1]; d > e.Length+0.001 {
			t.Fatalf("an edge of %g mm is %g mm long in the model", e.Length, d)
		}
	}

	// A fold that is cut by hand is cut, and what cannot be joined is said.
	for k := range folds {
		key := sheet.Edges[k].Key
		cut := call[api.PaperSheet](c, "GET", at+"?height=20&cut="+key, nil)
		for _, e := range cut.Edges {
			if e.Key == key && e.Folded {
				t.Errorf("edge %s is still folded", key)
			}
		}
		break
	}
	if x := call[api.PaperSheet](c, "GET", at+"?height=20&join=1.2.3", nil); len(x.Refused) != 1 ||
		x.Refused[0] != "1.2.3" {
		t.Errorf("%v", x.Refused)
	}
	if x := call[api.PaperSheet](c, "GET", at+"?height=20&tab=0&margin=0", nil); x.Margin != 0 || x.Pieces[0].Tabs != "" {
		t.Errorf("margin %g, tabs %.20q", x.Margin, x.Pieces[0].Tabs)
	}

	_, b := c.do("GET", at+"/ground?height=20&page=0", nil)
	if img, err := png.Decode(bytes.NewReader(b)); err != nil || img.Bounds().Dx() != 827 {
		t.Errorf("%v", err)
	}
	_, b = c.do("GET", at+"/file?height=20&format=pdf", nil)
	if !bytes.HasPrefix(b, []byte("%PDF-")) {
		t.Errorf("%.20q", b)
	}
	if _, b = c.do("GET", at+"/file?height=20&format=svg&bare=true", nil); !bytes.HasPrefix(b,
		[]byte("<svg ")) || bytes.Contains(b, []byte("<image")) {
		t.Errorf("%.20q", b)
	}
	for query, want := range map[string]int{
		"?height=4": 400, "?paper=a9": 400, "?margin=99": 422, "/ground?page=99": 404, "/file?format=gif": 400,
	} {
		if got, _ := c.do("GET", at+query, nil); got != want {
			t.Errorf("%s answers %d, want %d", query, got, want)
		}
	}
	if got, b := c.do("GET", "/api/scenes/"+pontoon.Model.Scene+"/blocks?format=txt", nil); got != 422 ||
		!bytes.Contains(b, []byte("nothing of it has voxels")) {
		t.Errorf("blocks of what has no voxels: %d, %s", got, b)
	}
	if got, _ := c.do("GET", "/api/scenes/"+fmt.Sprintf("%064d", 1)+"/paper", nil); got != 404 {
		t.Errorf("a scene that is not there answers %d", got)
	}
}
