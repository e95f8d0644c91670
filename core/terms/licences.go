package terms

// licence is one of which it is known what it allows.
type licence struct {
	id    string   // SPDX identifier (https://spdx.org/licenses)
	words []string // that its text has; none: it is told by its identifier only
	t     Terms
}

// What licences allow. Those that ask for the same licence again (SA, GPL) or
// for the maker's name allow it: what they ask for travels along as the text.
var (
	anything    = Terms{ShareChanged: Yes, ShareUnchanged: Yes, Sell: Yes, Private: Yes}
	notSold     = Terms{ShareChanged: Yes, ShareUnchanged: Yes, Sell: No, Private: Yes}
	notChanged  = Terms{ShareChanged: No, ShareUnchanged: Yes, Sell: Yes, Private: Yes}
	neither     = Terms{ShareChanged: No, ShareUnchanged: Yes, Sell: No, Private: Yes}
	knownByText = []licence{
		{"CC0-1.0", []string{"cc0 1.0"}, anything},
		{"CC-BY-NC-ND-4.0", []string{"attribution-noncommercial-noderivatives 4.0"}, neither},
		{"CC-BY-NC-SA-4.0", []string{"attribution-noncommercial-sharealike 4.0"}, notSold},
		{"CC-BY-NC-4.0", []string{"attribution-noncommercial 4.0"}, notSold},
		{"CC-BY-ND-4.0", []string{"attribution-noderivatives 4.0"}, notChanged},
		{"CC-BY-SA-4.0", []string{"attribution-sharealike 4.0"}, anything},
		{"CC-BY-4.0", []string{"attribution 4.0 international"}, anything},
		{"MIT", []string{"permission is hereby granted, free of charge", "without restriction"}, anything},
		{"Apache-2.0", []string{"apache license", "version 2.0"}, anything},
	}
	known = append(knownByText, knownByName()...)
)

// knownByName are licences that are told by their identifiers only.
func knownByName() (out []licence) {
	for _, id := range []string{"0BSD", "AFL-3.0", "Artistic-2.0", "BSD-2-Clause", "BSD-3-Clause", "BSL-1.0",
		"GPL-2.0-only", "GPL-2.0-or-later",
		"GPL-3.0-only", "GPL-3.0-or-later", "ISC", "LGPL-2.1-only", "LGPL-2.1-or-later", "LGPL-3.0-only",
		"LGPL-3.0-or-later", "MIT-0", "MPL-2.0",
		"OFL-1.1", "OGL-UK-3.0", "PDDL-1.0", "Unlicense", "WTFPL", "Zlib", "ODC-By-1.0", "FSFAP"} {
		out = append(out, licence{id, nil, anything})
	}
	for _, version := range []string{"1.0", "2.0", "2.5", "3.0"} {
		for _, k := range []struct {
			name string
			t    Terms
		}{{"CC-BY-", anything}, {"CC-BY-SA-", anything}, {"CC-BY-NC-", notSold}, {"CC-BY-NC-SA-", notSold},
			{"CC-BY-ND-", notChanged}, {"CC-BY-NC-ND-", neither}} {
			out = append(out, licence{k.name + version, nil, k.t})
		}
	}
	return out
}
