// Package terms says whose a thing is and what may be done with it, and reads
// that from files whose format carries it: glTF's copyright, the licence
// fields of VRM avatars, licence files in archives.
package terms

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Answer to whether something may be done.
type Answer string

// The answers.
const (
	Unknown Answer = ""
	Yes     Answer = "yes"
	No      Answer = "no"
)

// Terms of a source or an entry. The zero value says nothing.
type Terms struct {
	Owner          string `json:"owner"`
	Licence        string `json:"licence"` // SPDX identifier, or own words
	ShareChanged   Answer `json:"shareChanged"`
	ShareUnchanged Answer `json:"shareUnchanged"`
	Sell           Answer `json:"sell"`
	Private        Answer `json:"private"`  // whether it may be kept for oneself
	Evidence       string `json:"evidence"` // link, or where it was read
	ByHand         bool   `json:"byHand"`   // the porter stated it
	// Permission is one that somebody gave, where the answers rest on it.
	Permission *Permission `json:"permission,omitempty"`
}

// Permission is what somebody allowed. It travels with what is made by it.
type Permission struct {
	Text   string `json:"text"`           // what was allowed, in whose words
	Date   string `json:"date,omitempty"` // of the letter
	File   string `json:"file,omitempty"` // the name of a letter, or of a picture of it
	SHA256 string `json:"sha256,omitempty"`
	Data   []byte `json:"-"` // of the file
}

// MostPermission is how long a permission's file may be.
const MostPermission = 1 << 20

const mostText = 2000

// Check tells what is wrong with terms that somebody states.
func (t Terms) Check() error {
	for _, a := range []Answer{t.ShareChanged, t.ShareUnchanged, t.Sell, t.Private} {
		if a != Unknown && a != Yes && a != No {
			return fmt.Errorf("what may be done is yes, no or empty, not %q", a)
		}
	}
	if len(t.Owner) > mostText || len(t.Licence) > mostText || len(t.Evidence) > mostText {
		return fmt.Errorf("owner, licence and evidence have at most %d letters each", mostText)
	}
	if p := t.Permission; p != nil {
		if len(p.Text) > 2*mostText || len(p.Date) > 40 || len(p.File) > 200 || len(p.Data) > MostPermission {
			return fmt.Errorf("a permission has at most %d letters, and its file at most %d bytes", 2*mostText,
				MostPermission)
		}
		if p.File != "" && (path.Base(p.File) != p.File || strings.ContainsAny(p.File, "\\:") ||
			strings.HasPrefix(p.File, ".")) {
			return fmt.Errorf("the permission's file %q is no name of a file", p.File)
		}
	}
	return nil
}

// Stated tells whether the terms say anything.
func (t Terms) Stated() bool {
	t.ByHand = false
	return t != Terms{}
}

// Filled are the terms with what they leave open said by others: a file that
// names its owner only is under the licence that lies beside it. Terms that say
// anything of what may be done stand for themselves.
func (t Terms) Filled(by Terms) Terms {
	if t.Licence != "" || t.ShareChanged != Unknown || t.ShareUnchanged != Unknown || t.Sell != Unknown ||
		t.Private == No || !by.Stated() {
		return t
	}
	out := by
	out.Owner = first(t.Owner, by.Owner)
	if t.Evidence != "" && t.Evidence != by.Evidence {
		out.Evidence = strings.Trim(t.Evidence+"; "+by.Evidence, "; ")
	}
	return out
}

// Short is the terms in a few words.
func (t Terms) Short() string {
	switch {
	case !t.Stated():
		return "terms not stated"
	case t.Sell == Yes:
		return "may be sold"
	case t.ShareChanged == Yes && t.ShareUnchanged == Yes:
		return "may be shared"
	case t.ShareChanged == Yes:
		return "share changed only"
	case t.ShareUnchanged == Yes:
		return "share unchanged only"
	case t.ShareChanged == No && t.ShareUnchanged == No:
		return "private use only"
	case t.Licence != "" && len(t.Licence) <= 24:
		return t.Licence
	}
	return "terms stated"
}

// ErrNone says that a file carries no terms.
var ErrNone = errors.New("it carries no terms")

// LicenceFile tells whether an entry's name is that of a licence file.
func LicenceFile(p string) bool {
	b := strings.ToLower(path.Base(p))
	stem := strings.TrimSuffix(b, path.Ext(b))
	switch path.Ext(b) {
	case "", ".txt", ".md":
	default:
		return false
	}
	return slices.Contains([]string{"licence", "license", "copying", "terms", "unlicense"}, stem)
}

var (
	spdxLine = regexp.MustCompile(`(?i)SPDX-License-Identifier:\s*([A-Za-z0-9.+-]+)`)
	owner    = regexp.MustCompile(`(?im)^\s*(?:owner|author|copyright(?: holder)?)\s*:\s*(.+)$`)
	holder   = regexp.MustCompile(`(?im)^\s*(?:copyright\s*)?(?:\(c\)|©|copyright)\s*(?:\(c\)|©)?\s*(?:[\d, -]+)?\s*(.+)$`)
)

// byName is what a licence allows, by its identifier.
func byName(id string) (Terms, bool) {
	for _, k := range known {
		if strings.EqualFold(k.id, id) {
			return k.t, true
		}
	}
	return Terms{}, false
}

var aloneLine = regexp.MustCompile(`(?im)^\s*(?:licen[cs]e\s*:\s*)?([A-Z0-9][A-Z0-9.+-]{2,40})\s*$`)

// alone is the identifier of a known licence that stands on a line by itself,
// or behind the word licence. Two that differ are none.
func alone(text string) (id string) {
	for _, m := range aloneLine.FindAllStringSubmatch(text, 50) {
		for _, k := range known {
			if !strings.EqualFold(m[1], k.id) {
				continue
			}
			if id != "" && id != k.id {
				return ""
			}
			id = k.id
		}
	}
	return id
}

// Text reads a licence file. What it says in words of its own is kept as the
// licence's first lines; nothing is guessed from it.
func Text(name, text string) (Terms, error) {
	text = strings.TrimSpace(strings.ToValidUTF8(text, "\ufffd"))
	if text == "" {
		return Terms{}, ErrNone
	}
	t := Terms{Evidence: name}
	low := strings.Join(strings.Fields(strings.ToLower(text)), " ")
	id := ""
	if m := spdxLine.FindStringSubmatch(text); m != nil {
		id = m[1]
	} else {
		id = alone(text)
	}
	for _, k := range known {
		fits := strings.EqualFold(id, k.id)
		if id == "" {
			fits = len(k.words) > 0
			for _, w := range k.words {
				fits = fits && strings.Contains(low, w)
			}
		}
		if fits {
			e := t.Evidence
			t, id = k.t, k.id
			t.Evidence = e
			break
		}
	}
	if t.Licence = id; id == "" {
		t.Licence = cut(text, 600)
	}
	if m := owner.FindStringSubmatch(text); m != nil {
		t.Owner = cut(strings.TrimSpace(m[1]), 200)
	} else if m := holder.FindStringSubmatch(text); m != nil {
		t.Owner = cut(strings.TrimSpace(m[1]), 200)
	}
	return t, nil
}

func cut(s string, n int) string {
	if len(s) <= n {
		return s
	}
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return strings.TrimSpace(s[:n]) + "…"
}

const mostJSON = 16 << 20

// GLTF reads the terms of a glTF or VRM file (glTF 2.0, asset.copyright; VRM
// 0.x meta; VRM 1.0 VRMC_vrm meta). r gives the file from its start; of a
// GLB only the JSON chunk is read.
func GLTF(name string, r io.Reader) (Terms, error) {
	head := make([]byte, 20)
	n, err := io.ReadFull(r, head)
	if err != nil && err != io.ErrUnexpectedEOF {
		return Terms{}, ErrNone
	}
	var doc []byte
	if n == 20 && string(head[:4]) == "glTF" && string(head[16:20]) == "JSON" {
		size := binary.LittleEndian.Uint32(head[12:])
		if size > mostJSON {
			return Terms{}, fmt.Errorf("%s: its JSON chunk has %d bytes, at most %d are read for its terms", name, size, mostJSON)
		}
		doc, err = io.ReadAll(io.LimitReader(r, int64(size)))
	} else {
		doc, err = io.ReadAll(io.LimitReader(io.MultiReader(strings.NewReader(string(head[:n])), r), mostJSON))
	}
	if err != nil {
		return Terms{}, err
	}
	var g struct {
		Asset struct {
			Copyright string          `json:"copyright"`
			Extras    json.RawMessage `json:"extras"` // of any shape; Excavate keeps licence and terms there
		} `json:"asset"`
		Extensions struct {
			VRM0 *struct {
				Meta struct {
					Author        string `json:"author"`
					Contact       string `json:"contactInformation"`
					Licence       string `json:"licenseName"`
					OtherLicence  string `json:"otherLicenseUrl"`
					OtherRights   string `json:"otherPermissionUrl"`
					Commercial    string `json:"commercialUssageName"` // the format spells it so
					CommercialToo string `json:"commercialUsageName"`
				} `json:"meta"`
			} `json:"VRM"`
			VRM1 *struct {
				Meta struct {
					Authors        []string `json:"authors"`
					Copyright      string   `json:"copyrightInformation"`
					LicenceURL     string   `json:"licenseUrl"`
					ThirdParty     string   `json:"thirdPartyLicenses"`
					Commercial     string   `json:"commercialUsage"`
					Redistribution bool     `json:"allowRedistribution"`
					Modification   string   `json:"modification"`
					OtherURL       string   `json:"otherLicenseUrl"`
				} `json:"meta"`
			} `json:"VRMC_vrm"`
		} `json:"extensions"`
	}
	if err := json.Unmarshal(doc, &g); err != nil {
		return Terms{}, fmt.Errorf("%s: its JSON cannot be read: %w", name, err)
	}
	yes := func(b bool) Answer {
		if b {
			return Yes
		}
		return No
	}
	t := Terms{Evidence: name}
	switch {
	case g.Extensions.VRM1 != nil:
		m := g.Extensions.VRM1.Meta
		t.Owner, t.Private = strings.Join(m.Authors, ", "), Yes
		if m.Copyright != "" {
			t.Owner = strings.Trim(t.Owner+" · "+m.Copyright, " ·")
		}
		t.Licence = first(m.OtherURL, m.LicenceURL)
		// VRM 1.0, VRMC_vrm, meta: defaults where a field is left out.
		t.ShareUnchanged = yes(m.Redistribution)
		t.ShareChanged = yes(m.Modification == "allowModificationRedistribution")
		t.Sell = yes(m.Commercial == "corporation" || m.Commercial == "personalProfit")
	case g.Extensions.VRM0 != nil:
		m := g.Extensions.VRM0.Meta
		t.Owner, t.Licence, t.Private = first(m.Author, m.Contact), first(m.OtherLicence, m.Licence, m.OtherRights), Yes
		switch commercial := first(m.Commercial, m.CommercialToo); commercial {
		case "Allow":
			t.Sell = Yes
		case "Disallow":
			t.Sell = No
		}
		switch m.Licence {
		case "Redistribution_Prohibited":
			t.ShareChanged, t.ShareUnchanged = No, No
		case "CC0", "CC_BY", "CC_BY_SA":
			t.ShareChanged, t.ShareUnchanged = Yes, Yes
		case "CC_BY_NC", "CC_BY_NC_SA":
			t.ShareChanged, t.ShareUnchanged, t.Sell = Yes, Yes, No
		case "CC_BY_ND":
			t.ShareChanged, t.ShareUnchanged = No, Yes
		case "CC_BY_NC_ND":
			t.ShareChanged, t.ShareUnchanged, t.Sell = No, Yes, No
		}
	default:
		var x struct{ Licence, Terms string }
		json.Unmarshal(g.Asset.Extras, &x) // of another shape it says nothing
		if g.Asset.Copyright == "" && x.Licence == "" {
			return Terms{}, ErrNone
		}
		if k, ok := byName(x.Licence); ok {
			k.Evidence = t.Evidence
			t = k
		}
		t.Owner, t.Licence = g.Asset.Copyright, first(x.Licence, t.Licence)
	}
	t.Owner, t.Licence = cut(t.Owner, mostText-8), cut(t.Licence, mostText-8)
	return t, nil
}

func first(list ...string) string {
	for _, s := range list {
		if s != "" {
			return s
		}
	}
	return ""
}
