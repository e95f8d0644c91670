// Package recipe carries what a porter knows without one byte of the assets:
// which entries of which sources, by their names and digests, how they are read,
// the chains, the target sheets and what is to be delivered. Somebody with an
// own copy of the sources makes the same of them again.
package recipe

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/core/limit"
	"excavate/core/target"
	"excavate/core/terms"
)

// Recipe is one recipe file.
type Recipe struct {
	Format   int      `json:"recipe"` // 1
	Excavate string   `json:"excavate"`
	Name     string   `json:"name"`
	Sources  []Source `json:"sources"`
	Layouts  []Layout `json:"layouts,omitempty"` // the porter's own
	Items    []Item   `json:"items"`
	// Project is all else that a project knows; only the application reads it.
	Project   json.RawMessage `json:"project,omitempty"`
	Signature *Signature      `json:"signature,omitempty"`
}

// Source is a source that an own copy is needed of.
type Source struct {
	Name    string   `json:"name"`
	SHA256  string   `json:"sha256,omitempty"` // of an archive; a folder has none
	Entries []string `json:"entries"`          // that are taken from it
}

// Layout is a description of a format.
type Layout struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Item is one asset and what is made of it.
type Item struct {
	Asset   string           `json:"asset"`
	Input   delivery.Input   `json:"input"`
	Chain   *chain.Chain     `json:"chain"`
	Sheet   string           `json:"sheet,omitempty"` // the target sheet's text
	Options delivery.Options `json:"options"`
	Purpose terms.Purpose    `json:"purpose,omitempty"`
	// Mended are the findings for which the chain's last steps were added.
	Mended []target.Deed `json:"mended,omitempty"`
	// Made are the files that came of it, and Package the package's digest.
	Made    []Digest `json:"made,omitempty"`
	Package string   `json:"package,omitempty"`
}

// Digest is a file that was made.
type Digest struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// Signature is whose recipe it is.
type Signature struct {
	Key  string `json:"key"`  // ed25519 public key, base64
	Sign string `json:"sign"` // of all but the signature, base64
}

// Bounds on a recipe.
const (
	mostItems   = 2000
	mostLayouts = 500
)

// FromPackage makes the recipe of the deliveries of a package, whose bytes are
// data. Nothing of a source's own words, such as its licence, goes along: they
// are in the source.
func FromPackage(list []*delivery.Opened, data []byte, version string) (*Recipe, error) {
	r := &Recipe{Format: 1, Excavate: version}
	var names []string
	for _, o := range list {
		if err := r.add(o); err != nil {
			return nil, err
		}
		names = append(names, o.Manifest.Asset)
	}
	if r.Name = strings.Join(names, ", "); len(list) == 1 {
		r.Items[0].Package = digest(data)
	}
	return r, r.Check()
}

// add adds a delivery and what it needs.
func (r *Recipe) add(o *delivery.Opened) error {
	m := &o.Manifest
	if m.Input == nil {
		return fmt.Errorf("the delivery of %s does not say what it was decoded from: "+
			"it was made by an earlier version, or its source was gone", m.Asset)
	}
	x := Item{Asset: m.Asset, Input: *m.Input, Chain: m.Chain,
		Sheet: string(o.Files[path.Join(o.Folder, "target.yaml")]), Options: m.Options,
		Purpose: m.Purpose, Mended: m.Mended}
	for _, f := range m.Files {
		if f.Kind != "layout" {
			x.Made = append(x.Made, Digest{f.Path, f.SHA256})
			continue
		}
		l := Layout{strings.TrimSuffix(path.Base(f.Path), ".yaml"), string(o.Files[f.Path])}
		k := slices.IndexFunc(r.Layouts, func(have Layout) bool { return have.Name == l.Name })
		switch {
		case k < 0:
			r.Layouts = append(r.Layouts, l)
		case r.Layouts[k] != l:
			return fmt.Errorf("two deliveries were read by different layouts of the name %s", l.Name)
		}
	}
	r.Items = append(r.Items, x)
	for _, s := range m.Sources {
		k := slices.IndexFunc(r.Sources, func(have Source) bool {
			return have.Name == s.Name && have.SHA256 == s.SHA256
		})
		if k < 0 {
			r.Sources = append(r.Sources, Source{s.Name, s.SHA256, slices.Clone(s.Entries)})
			continue
		}
		for _, e := range s.Entries {
			if !slices.Contains(r.Sources[k].Entries, e) {
				r.Sources[k].Entries = append(r.Sources[k].Entries, e)
			}
		}
	}
	return nil
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Check refuses what cannot be meant.
func (r *Recipe) Check() error {
	if r.Format != 1 {
		return fmt.Errorf("it is a recipe of version %d; this Excavate knows 1", r.Format)
	}
	if len(r.Items) > mostItems || len(r.Layouts) > mostLayouts {
		return fmt.Errorf("%d items and %d layouts; at most %d and %d", len(r.Items), len(r.Layouts), mostItems,
			mostLayouts)
	}
	for i := range r.Items {
		x := &r.Items[i]
		at := fmt.Sprintf("item %d, %s", i+1, x.Asset)
		if x.Input.Entry == "" || x.Chain == nil {
			return fmt.Errorf("%s: it has no entry or no chain", at)
		}
		if err := x.Chain.Check(); err != nil {
			return fmt.Errorf("%s: %w", at, err)
		}
		if err := x.Options.Check(); err != nil {
			return fmt.Errorf("%s: %w", at, err)
		}
		if x.Sheet != "" {
			if _, err := target.Parse([]byte(x.Sheet)); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
		if x.Purpose != "" {
			if _, err := terms.ParsePurpose(string(x.Purpose)); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
	}
	for _, l := range r.Layouts {
		if l.Name == "" || strings.ContainsAny(l.Name, "/\\\x00") || strings.HasPrefix(l.Name, ".") {
			return fmt.Errorf("%q is no name of a layout", l.Name)
		}
	}
	return nil
}

// Parse reads a recipe. A signature that does not hold is told by Signed.
func Parse(b []byte) (*Recipe, error) {
	if len(b) > limit.DocumentBytes*8 {
		return nil, fmt.Errorf("it has %d bytes, at most %d", len(b), limit.DocumentBytes*8)
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.DisallowUnknownFields()
	var r Recipe
	if err := d.Decode(&r); err != nil {
		var syntax *json.SyntaxError
		if errors.As(err, &syntax) {
			line := 1 + bytes.Count(b[:min(int(syntax.Offset), len(b))], []byte("\n"))
			return nil, fmt.Errorf("line %d: it is no recipe: %v", line, err)
		}
		return nil, fmt.Errorf("it is no recipe: %s", strings.TrimPrefix(err.Error(), "json: "))
	}
	if d.More() {
		return nil, errors.New("something stands behind the recipe")
	}
	return &r, r.Check()
}

// JSON is the recipe as it is written.
func (r *Recipe) JSON() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(r)
	return b.Bytes(), err
}

// signed is what a signature is over.
func (r *Recipe) signed() ([]byte, error) {
	bare := *r
	bare.Signature = nil
	return json.Marshal(&bare)
}

// Sign signs the recipe.
func (r *Recipe) Sign(key ed25519.PrivateKey) error {
	b, err := r.signed()
	if err != nil {
		return err
	}
	public, ok := key.Public().(ed25519.PublicKey)
	if !ok {
		return errors.New("the key is no ed25519 key")
	}
	r.Signature = &Signature{base64.StdEncoding.EncodeToString(public),
		base64.StdEncoding.EncodeToString(ed25519.Sign(key, b))}
	return nil
}

// Signed tells by which key the recipe is signed, in a form that can be read
// out; empty where it is not signed. A recipe that was changed since is an error.
func (r *Recipe) Signed() (by string, err error) {
	if r.Signature == nil {
		return "", nil
	}
	key, err1 := base64.StdEncoding.DecodeString(r.Signature.Key)
	sign, err2 := base64.StdEncoding.DecodeString(r.Signature.Sign)
	if err1 != nil || err2 != nil || len(key) != ed25519.PublicKeySize {
		return "", errors.New("its signature is none")
	}
	b, err := r.signed()
	if err != nil {
		return "", err
	}
	by = Fingerprint(key)
	if !ed25519.Verify(key, b, sign) {
		return by, fmt.Errorf("it was changed since it was signed by %s", by)
	}
	return by, nil
}

// Fingerprint is a key in a form that can be compared by eye: the first twelve
// bytes of its SHA-256, in groups.
func Fingerprint(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	text := hex.EncodeToString(sum[:12])
	var parts []string
	for i := 0; i < len(text); i += 4 {
		parts = append(parts, text[i:i+4])
	}
	return strings.Join(parts, "-")
}

// NewKey makes a key, as PEM (PKCS #8, RFC 5958 and RFC 8410).
func NewKey() ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	b, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: b}), nil
}

// ReadKey reads a key from PEM.
func ReadKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errors.New("it is no key: a PEM block PRIVATE KEY is expected")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("the key cannot be read: %w", err)
	}
	key, ok := k.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("the key is of another kind than ed25519")
	}
	return key, nil
}
