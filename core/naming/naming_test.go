package naming

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
)

var sedgewater = Rules{
	{Suffix, "_c", Role, "colour"}, {Suffix, "_n", Role, "normal"}, {Suffix, "_wreck", State, "wrecked"},
	{Suffix, "_lod1", LOD, "1"}, {Prefix, "prop_", Kind, "prop"},
}

func TestRead(t *testing.T) {
	for p, want := range map[string]Name{
		"wash/fauna/heron_c.wash":             {"heron", map[string]string{Role: "colour"}},
		"wash/Heron_Wreck_N.png":              {"heron", map[string]string{Role: "normal", State: "wrecked"}},
		"props/prop_lantern_lod1.hull":        {"lantern", map[string]string{Kind: "prop", LOD: "1"}},
		"_c.wash":                             {"c", nil}, // nothing would be left
		"reed":                                {"reed", nil},
		"a/reed_c_n.wash":                     {"reed_c", map[string]string{Role: "normal"}}, // one role only
		strings.Repeat("long/", 50) + "x_n.p": {"x", map[string]string{Role: "normal"}},
	} {
		if got := sedgewater.Read(p); !reflect.DeepEqual(got, want) {
			t.Errorf("%s: got %+v, want %+v", p, got, want)
		}
	}
}

func TestRulesAsDocument(t *testing.T) {
	b, err := sedgewater.YAML()
	if err != nil {
		t.Fatal(err)
	}
	got, err := Parse(b)
	if err != nil || !reflect.DeepEqual(got, sedgewater) {
		t.Errorf("%v: %s", err, b)
	}
	for doc, want := range map[string]string{
		"name rules:\n- {where: middle, affix: a, means: role, value: colour}":                                                "prefix or suffix",
		"name rules:\n- {where: suffix, affix: a, means: role, value: shiny}":                                                 "one of colour",
		"name rules:\n- {where: suffix, affix: a, means: lod, value: high}":                                                   "number",
		"name rules:\n- {where: suffix, affix: 'a/b', means: kind, value: x}":                                                 "without /",
		"name rules:\n- {where: suffix, affix: a, means: kind, value: x}\n- {where: suffix, affix: A, means: kind, value: y}": "two rules",
		"rules: []": "there is no key",
		"[":         "cannot be read",
	} {
		if _, err := Parse([]byte(doc)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", doc, err, want)
		}
	}
}

func TestPropose(t *testing.T) {
	names := map[string]string{}
	for _, n := range []string{"heron", "punt", "mill", "reed"} {
		names["wash/"+n+"_c.wash"], names["wash/"+n+"_n.wash"] = "picture", "picture"
		names["props/prop_"+n+".hull"], names["props/"+n+"_lod1.hull"] = "model", "model"
		names["shots/"+n+"_c.txt"] = "text" // not only pictures, but most are
	}
	names["shots/heron_c.txt"] = "picture"
	for i := range 20 {
		names[fmt.Sprintf("tiles/tile_%02d.wash", i)] = "picture"
	}
	delete(names, "shots/punt_c.txt")
	delete(names, "shots/mill_c.txt")
	got := map[string]Proposal{}
	for _, p := range Propose(func(yield func(a, b string) bool) {
		for p, k := range names {
			if !yield(p, k) {
				return
			}
		}
	}) {
		got[p.Affix] = p
	}
	if p := got["_n"]; p.Count != 4 || p.Value != "normal" || p.Means != Role || p.Evidence != "4 of 4 are pictures" {
		t.Errorf("_n: %+v", p)
	}
	if p := got["_c"]; p.Count != 6 || p.Value != "colour" {
		t.Errorf("_c: %+v", p)
	}
	if p := got["_lod1"]; p.Means != LOD || p.Value != "1" {
		t.Errorf("_lod1: %+v", p)
	}
	if p := got["prop_"]; p.Count != 4 || p.Where != Prefix {
		t.Errorf("prop_: %+v", p)
	}
	if _, ok := got["_07"]; ok {
		t.Error("a running number is proposed")
	}
}

func BenchmarkPropose(b *testing.B) {
	for range b.N {
		Propose(func(yield func(a, b string) bool) {
			for i := range 200_000 {
				if !yield("area/thing_"+[]string{"a", "b", "c"}[i%3]+"_c.wash", "picture") {
					return
				}
			}
		})
	}
}

// FuzzParse holds that what is read is sound, and comes back as it was.
func FuzzParse(f *testing.F) {
	b, _ := sedgewater.YAML()
	f.Add(b, "wash/heron_c.wash")
	f.Add([]byte("name rules:\n- {where: suffix, affix: _c, means: role, value: colour}"), "_c_c_c")
	f.Fuzz(func(t *testing.T, b []byte, name string) {
		rules, err := Parse(b)
		if err != nil {
			return
		}
		out, err := rules.YAML()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Parse(out)
		if err != nil || len(again) != len(rules) {
			t.Fatalf("%v in %q", err, out)
		}
		rules.Read(name)
	})
}

// Taking a name apart must lose nothing but the affixes that its values name.
func TestReadLosesNothing(t *testing.T) {
	rules := append(Rules{{Prefix, "b_", Kind, "boat"}, {Suffix, "_far", LOD, "2"}, {Suffix, "_wet", State, "wet"}}, sedgewater...)
	if err := rules.Check(); err != nil {
		t.Fatal(err)
	}
	affix := map[string]string{}
	for _, r := range rules {
		affix[r.Means+" "+r.Value] = r.Affix
	}
	for _, stem := range []string{"heron", "punt", "ferry_keeper", "x"} {
		for _, kind := range []string{"", "b_", "prop_"} {
			for _, rest := range []string{"", "_c", "_wet_c", "_wreck_n", "_far", "_wet_far_n", "_c_far", "_lod1"} {
				name := "some/where/" + strings.ToUpper(kind+stem+rest) + ".Wash"
				got := rules.Read(name)
				if got.Key != stem {
					t.Errorf("%s: the set is %q, want %q", name, got.Key, stem)
				}
				n := len(stem)
				for means, value := range got.Values {
					n += len(affix[means+" "+value])
				}
				if n != len(kind+stem+rest) {
					t.Errorf("%s: %v leave %d of %d letters unexplained", name, got.Values, len(kind+stem+rest)-n, len(kind+stem+rest))
				}
			}
		}
	}
}

func TestGlobs(t *testing.T) {
	for want, r := range map[string]Rule{"prop_*": {Prefix, "prop_", Kind, "prop"}, "*_c.*": {Suffix, "_c", Role, "colour"}, "[[]x*": {Prefix, "[x", Kind, "thing"}, "*[{]a[}].*": {Suffix, "{a}", Kind, "thing"}} {
		if got := r.Glob(); got != want {
			t.Errorf("%+v: %q, want %q", r, got, want)
		}
	}
}

func TestGuesses(t *testing.T) {
	for _, c := range []struct {
		where, affix  string
		pictures, all int
		means, value  string
	}{
		{Suffix, "_n", 10, 10, Role, "normal"}, {Suffix, "_n", 3, 10, "", ""}, {Suffix, "-ao", 9, 10, Role, "occlusion"}, {Suffix, "_lod2", 0, 9, LOD, "2"}, {Suffix, "_l0", 0, 9, LOD, "0"},
		{Suffix, "_damaged", 1, 9, State, "damaged"}, {Prefix, "open_", 0, 5, State, "open"}, {Suffix, "_far", 0, 5, LOD, "1"}, {Prefix, "n_", 9, 9, "", ""}, {Suffix, "_blade", 0, 9, "", ""},
	} {
		means, value, why := guess(c.where, c.affix, c.pictures, c.all)
		if means != c.means || value != c.value || (means != "") != (why != "") {
			t.Errorf("%s %s: %s %s (%s), want %s %s", c.where, c.affix, means, value, why, c.means, c.value)
		}
		if means != "" && (Rules{{c.where, c.affix, means, value}}).Check() != nil {
			t.Errorf("the guess for %s is no sound rule", c.affix)
		}
	}
}

func TestStateOf(t *testing.T) {
	for name, want := range map[string]string{"house_damaged": "damaged", "Mill Door OPEN": "open", "punt.wreck.2": "wreck", "house": "", "open": "", "opening_day": "", "": ""} {
		if got := StateOf(name); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}
