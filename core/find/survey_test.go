package find_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/core/link"
	"excavate/core/naming"
)

func TestSurvey(t *testing.T) {
	lib := library(t)
	st := demoStack(t, lib, "hulls.tide", "washes.tide", "winter.tide")
	sv, err := lib.Survey(context.Background(), st, naming.Rules{{Where: naming.Suffix, Affix: "_c", Means: naming.Role, Value: "colour"}}, func(p string) bool { return strings.Contains(p, "keeper") || strings.Contains(p, "house") })
	if err != nil {
		t.Fatal(err)
	}
	total := 0
	for si, s := range st {
		for i, e := range s.Entries() {
			id := sv.ID(si, i)
			if a, b := sv.Place(id); a != si || b != i {
				t.Fatalf("id %d leads to %d, %d", id, a, b)
			}
			row := sv.Row(id)
			got, src := sv.Catalog.Entry(row)
			if got.ID != id || got.Path != e.Path || src.Label != s.Label || got.Kind == "" {
				t.Errorf("row %d is %+v of %s, want %s of %s", row, got, src.Label, e.Path, s.Label)
			}
			// The kind is what the bytes say.
			head, err := s.Head(i, find.HeadBytes)
			if err != nil {
				t.Fatal(err)
			}
			if kind, format := lib.KindOf("", head); string(kind) != got.Kind || format != got.Format {
				t.Errorf("%s is %s %s, the survey says %s %s", e.Path, kind, format, got.Kind, got.Format)
			}
			found, all := sv.Count(id)
			switch {
			case strings.Contains(e.Path, "ferry_keeper"), strings.Contains(e.Path, "stilt_house"):
				if found != 2 || all != 2 {
					t.Errorf("%s: %d of %d found", e.Path, found, all)
				}
			case all != 0:
				t.Errorf("%s was not to be read, and asks for %d", e.Path, all)
			}
			total++
		}
	}
	if sv.Catalog.Len() != total {
		t.Errorf("%d entries, %d surveyed", total, sv.Catalog.Len())
	}
	if len(sv.Gaps()) != 0 {
		t.Errorf("missing: %+v", sv.Gaps())
	}
	// What needs a picture is told the other way round.
	rows, _ := sv.Catalog.Rows(catalog.Query{Text: "keeper_gear_c"})
	e, _ := sv.Catalog.Entry(rows[0])
	by := sv.NeededBy(e.ID)
	if len(by) != 1 {
		t.Fatalf("%v", by)
	}
	if si, i := sv.Place(by[0]); st[si].Entries()[i].Path != "figures/ferry_keeper.hull" {
		t.Errorf("needed by %s", st[si].Entries()[i].Path)
	}
	for _, l := range sv.Needs(by[0]) {
		if l.How != link.OtherEnding || l.How.Sure() != "likely" {
			t.Errorf("%+v", l)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := lib.Survey(ctx, st, nil, nil); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped: %v", err)
	}
}
