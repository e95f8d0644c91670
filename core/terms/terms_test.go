package terms

import (
	"encoding/binary"
	"errors"
	"reflect"
	"strings"
	"testing"
)

func glb(doc string) string {
	b := append([]byte("glTF"), make([]byte, 8)...)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(doc)))
	return string(b) + "JSON" + doc + "more chunks"
}

func TestGLTF(t *testing.T) {
	for name, c := range map[string]struct {
		file string
		want Terms
	}{
		"vrm 1": {glb(`{"asset":{"version":"2.0"},"extensions":{"VRMC_vrm":{"specVersion":"1.0","meta":{"authors":["Wren"],"licenseUrl":"https://vrm.dev/licenses/1.0/","allowRedistribution":true,"modification":"allowModification","commercialUsage":"personalNonProfit"}}}}`),
			Terms{Owner: "Wren", Licence: "https://vrm.dev/licenses/1.0/", ShareUnchanged: Yes, ShareChanged: No, Sell: No, Private: Yes, Evidence: "vrm 1"}},
		"vrm 0": {glb(`{"extensions":{"VRM":{"meta":{"author":"Wren","licenseName":"CC_BY_NC","commercialUssageName":"Disallow"}}}}`),
			Terms{Owner: "Wren", Licence: "CC_BY_NC", ShareUnchanged: Yes, ShareChanged: Yes, Sell: No, Private: Yes, Evidence: "vrm 0"}},
		"gltf": {`{"asset":{"version":"2.0","copyright":"2026 Tidewright"}}`, Terms{Owner: "2026 Tidewright", Evidence: "gltf"}},
	} {
		got, err := GLTF(name, strings.NewReader(c.file))
		if err != nil || !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
	for _, bad := range []string{"", "glTF", `{"asset":{}}`} {
		if _, err := GLTF("x", strings.NewReader(bad)); err == nil {
			t.Errorf("%q has terms", bad)
		}
	}
	huge := append([]byte("glTF\x02\x00\x00\x00\x00\x00\x00\x00\xff\xff\xff\xff"), "JSON"...)
	if _, err := GLTF("x", strings.NewReader(string(huge))); err == nil || !strings.Contains(err.Error(), "at most") {
		t.Errorf("a JSON chunk of 4 GB: %v", err)
	}
}

func TestText(t *testing.T) {
	got, err := Text("LICENSE", "MIT License\n\nCopyright (c) 2026 Reed Press\n\nPermission is hereby granted, free of charge, to any\nperson ... without restriction")
	if err != nil || got.Licence != "MIT" || got.Owner != "Reed Press" || got.Sell != Yes {
		t.Errorf("%+v, %v", got, err)
	}
	got, _ = Text("licence.txt", "SPDX-License-Identifier: CC-BY-ND-4.0\nOwner: Tidewright Games")
	if got.Licence != "CC-BY-ND-4.0" || got.Owner != "Tidewright Games" || got.ShareChanged != No {
		t.Errorf("%+v", got)
	}
	// Words of its own are kept and nothing is guessed.
	got, _ = Text("licence.txt", "For private use; ask us for more.")
	if got.Licence != "For private use; ask us for more." || got.ShareChanged != Unknown || got.Short() != "terms stated" {
		t.Errorf("%+v %s", got, got.Short())
	}
	if _, err := Text("x", " \n"); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
	if !LicenceFile("LICENSE.txt") || LicenceFile("licence.png") || LicenceFile("licences/a.txt") {
		t.Error("which files are licences")
	}
}

func TestShort(t *testing.T) {
	for want, x := range map[string]Terms{
		"terms not stated": {}, "private use only": {ShareChanged: No, ShareUnchanged: No}, "may be shared": {ShareChanged: Yes, ShareUnchanged: Yes},
		"may be sold": {Sell: Yes}, "MIT": {Licence: "MIT"},
	} {
		if got := x.Short(); got != want {
			t.Errorf("%+v: %q, want %q", x, got, want)
		}
	}
	if (Terms{Sell: "perhaps"}).Check() == nil {
		t.Error("an answer of its own is taken")
	}
}

// FuzzRead holds that no file breaks the readers.
func FuzzRead(f *testing.F) {
	f.Add([]byte(glb(`{"extensions":{"VRM":{"meta":{"author":"Wren"}}}}`)))
	f.Add([]byte("SPDX-License-Identifier: MIT\nCopyright (c) 2026 Reed"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if x, err := GLTF("a", strings.NewReader(string(b))); err == nil && x.Check() != nil {
			t.Error(x.Check())
		}
		if x, err := Text("a", string(b)); err == nil && x.Check() != nil {
			t.Error(x.Check())
		}
	})
}

func TestLicencesByTheirWords(t *testing.T) {
	share := func(changed, unchanged, sell Answer) Terms {
		return Terms{ShareChanged: changed, ShareUnchanged: unchanged, Sell: sell}
	}
	for text, want := range map[string]struct {
		id string
		t  Terms
	}{
		"SPDX-License-Identifier: CC0-1.0":      {"CC0-1.0", share(Yes, Yes, Yes)},
		"spdx-license-identifier: cc-by-nd-4.0": {"CC-BY-ND-4.0", share(No, Yes, Yes)},
		"This work is under the Creative Commons Attribution-NonCommercial 4.0 International licence.": {"CC-BY-NC-4.0", share(Yes, Yes, No)},
		"Creative Commons Attribution-NonCommercial-NoDerivatives 4.0\nPublic License":                 {"CC-BY-NC-ND-4.0", share(No, Yes, No)},
		"Creative   Commons\nAttribution-ShareAlike\n4.0":                                              {"CC-BY-SA-4.0", share(Yes, Yes, Yes)},
		"Apache License\n  Version 2.0, January 2004":                                                  {"Apache-2.0", share(Yes, Yes, Yes)},
		"SPDX-License-Identifier: LicenseRef-Sedgewater":                                               {"LicenseRef-Sedgewater", Terms{}}, // known by name only
		"Ask the ferry keeper.": {"Ask the ferry keeper.", Terms{}},
	} {
		got, err := Text("licence.txt", text)
		if err != nil || got.Licence != want.id || got.ShareChanged != want.t.ShareChanged || got.ShareUnchanged != want.t.ShareUnchanged || got.Sell != want.t.Sell || got.Evidence != "licence.txt" {
			t.Errorf("%q: %+v, %v", text, got, err)
		}
		if got.Check() != nil || !got.Stated() || got.ByHand {
			t.Errorf("%q: %v", text, got.Check())
		}
	}
	for text, owner := range map[string]string{
		"Author: Wren Sallow\nfree": "Wren Sallow", "Copyright (c) 2024, 2026 Reed Press": "Reed Press", "© 2026 Millrace": "Millrace", "Copyright holder: The Causeway\n": "The Causeway", "no name here": "",
	} {
		if got, _ := Text("x", text); got.Owner != owner {
			t.Errorf("%q: owner %q, want %q", text, got.Owner, owner)
		}
	}
	long, err := Text("x", strings.Repeat("ä", 4000))
	if err != nil || len(long.Licence) > 620 || !strings.HasSuffix(long.Licence, "…") {
		t.Errorf("a long text: %d bytes, %v", len(long.Licence), err)
	}
}

func TestWhereLicencesLie(t *testing.T) {
	for name, want := range map[string]bool{"LICENCE": true, "license.md": true, "docs/Copying.TXT": true, "unlicense": true, "terms.txt": true, "licence.png": false, "my-licence.txt": false, "licences": false, "": false, "a/": false} {
		if LicenceFile(name) != want {
			t.Errorf("%q: %v", name, !want)
		}
	}
}
