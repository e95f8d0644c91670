package terms

import (
	"strings"
	"testing"
)

// What each answer allows. What is unknown is no permission, but for what one
// keeps to oneself.
func TestPurposes(t *testing.T) {
	share := func(changed, unchanged, sell, private Answer) *Terms {
		return &Terms{ShareChanged: changed, ShareUnchanged: unchanged, Sell: sell, Private: private,
			Licence: "own words", Evidence: "licence.txt"}
	}
	for _, c := range []struct {
		t    *Terms
		want string // of myself, changed, unchanged, sell: y or n
	}{
		{nil, "ynnn"},
		{&Terms{}, "ynnn"},
		{share(Yes, Yes, Yes, Yes), "yyyy"},
		{share(Yes, Yes, No, Yes), "yyyn"},
		{share(No, Yes, Yes, Yes), "ynyn"}, // selling is passing on a changed copy
		{share(Yes, No, Yes, Yes), "yyny"},
		{share(No, No, No, Yes), "ynnn"},
		{share(No, No, No, No), "nnnn"},
		{share(Unknown, Unknown, Yes, Yes), "ynnn"},
	} {
		got := ""
		for _, p := range Purposes {
			r := Refuses("hulls.tide", c.t, "", p)
			got += map[bool]string{true: "y", false: "n"}[r == nil]
			if r != nil && (r.Source != "hulls.tide" || r.Why == "" ||
				c.t != nil && c.t.Licence != "" && (r.Says != "own words" || r.Evidence != "licence.txt")) {
				t.Errorf("%+v", r)
			}
		}
		if got != c.want {
			t.Errorf("%+v: %s, want %s", c.t, got, c.want)
		}
	}
	r := Refuses("x", nil, "All rights\nreserved.", Changed)
	if r == nil || !strings.Contains(r.Error(),
		"x: nothing says that it may be passed on changed; it says “All rights reserved.”") {
		t.Errorf("%v", r)
	}
	if Refuses("x", share(Yes, Yes, Yes, Yes), "", "burn") == nil {
		t.Error("a purpose that is none is allowed")
	}
	for _, p := range Purposes {
		if got, err := ParsePurpose(string(p)); err != nil || got != p || p.String() == "" {
			t.Errorf("%s: %v", p, err)
		}
	}
	if _, err := ParsePurpose("share"); err == nil || !strings.Contains(err.Error(), "share-changed") {
		t.Errorf("%v", err)
	}
}

// Licences by their identifiers, as SPDX and Creative Commons say what they allow.
func TestLicencesByName(t *testing.T) {
	for text, want := range map[string]Terms{
		"SPDX-License-Identifier: ISC":              anything,
		"CC-BY-4.0":                                 anything,
		"Owner: Village council\nCC-BY-NC-ND-3.0\n": neither,
		"licence: cc-by-nc-sa-2.5":                  notSold,
		"License: CC-BY-ND-4.0":                     notChanged,
		"Zlib":                                      anything,
		"CC0-1.0\nCC-BY-4.0":                        {}, // two are none
		"It is like MIT, but not quite":             {},
		"CC-BY-9.9":                                 {},
		"SPDX-License-Identifier: LicenseRef-Sedgewater1": {},
	} {
		got, err := Text("licence.txt", text)
		if err != nil || got.ShareChanged != want.ShareChanged || got.ShareUnchanged != want.ShareUnchanged ||
			got.Sell != want.Sell {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
	}
	seen := map[string]bool{}
	for _, k := range known {
		if seen[strings.ToLower(k.id)] || k.t.Private != Yes {
			t.Errorf("%s stands twice, or may not be kept", k.id)
		}
		seen[strings.ToLower(k.id)] = true
	}
}

// A file that names its owner only is under the licence beside it; one that says
// what may be done stands for itself.
func TestTermsBesideAFile(t *testing.T) {
	beside := anything
	beside.Licence, beside.Owner, beside.Evidence = "CC-BY-4.0", "Council", "licence.txt"
	own := Terms{Owner: "Wren", Evidence: "hut.glb"}
	if got := own.Filled(beside); got.Owner != "Wren" || got.Licence != "CC-BY-4.0" || got.Sell != Yes ||
		got.Evidence != "hut.glb; licence.txt" {
		t.Errorf("%+v", got)
	}
	for _, said := range []Terms{{Owner: "Wren", Licence: "own"}, {ShareChanged: No}, {Private: No}, {Sell: No},
		{ShareUnchanged: Yes}} {
		if got := said.Filled(beside); got != said {
			t.Errorf("%+v became %+v", said, got)
		}
	}
	if got := own.Filled(Terms{}); got != own {
		t.Errorf("%+v", got)
	}
}

func TestPermissionsAreBounded(t *testing.T) {
	for _, p := range []Permission{{File: "../letter.pdf"}, {File: ".hidden"}, {File: `a\b`},
		{Text: strings.Repeat("x", 5000)}, {Data: make([]byte, MostPermission+1)}} {
		if err := (Terms{Permission: &p}).Check(); err == nil {
			t.Errorf("%+v is taken", p.File)
		}
	}
	if err := (Terms{Permission: &Permission{Text: "Go ahead.", Date: "12 Nov 2026", File: "letter.pdf",
		Data: []byte("x")}}).Check(); err != nil {
		t.Error(err)
	}
}
