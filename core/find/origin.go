package find

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"path"
	"reflect"
	"slices"
	"strings"
	"sync"

	"excavate/core/source"
	"excavate/core/terms"
)

// Origin is a source that something of a model came from, with its terms as
// they were when it was read. It outlives the source.
type Origin struct {
	Source  string   `json:"source"`           // its label
	SHA256  string   `json:"sha256,omitempty"` // of the archive; a folder has none
	Entries []string `json:"entries"`          // what was taken from it, the model first
	// Text is a licence file that lies with what was taken.
	Text string `json:"text,omitempty"`
	// Rights are whose it is and what may be done with it; nil where nothing says.
	Rights *terms.Terms `json:"rights,omitempty"`
}

// TermsFile is the name of the terms that lie beside a file, as JSON: what a
// device said of a file that carries none itself.
func TermsFile(name string) string { return name + ".terms.json" }

// Origins gathers where a model comes from, while it is decoded. The zero value
// is ready; it may be told from several goroutines.
type Origins struct {
	mu   sync.Mutex
	list []origin
}

type origin struct {
	src     *source.Source
	entries []string
}

// Add notes that something was taken from an entry.
func (o *Origins) Add(hit source.Hit) {
	o.mu.Lock()
	defer o.mu.Unlock()
	k := slices.IndexFunc(o.list, func(x origin) bool { return x.src == hit.Source })
	if k < 0 {
		k = len(o.list)
		o.list = append(o.list, origin{src: hit.Source})
	}
	if p := hit.Path(); !slices.Contains(o.list[k].entries, p) {
		o.list[k].entries = append(o.list[k].entries, p)
	}
}

// List tells all that is known of where the model comes from. data is the
// model's bytes, which may carry terms of their own.
func (o *Origins) List(name string, data []byte) []Origin {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := make([]Origin, 0, len(o.list))
	for i, x := range o.list {
		to := Origin{Source: x.src.Label, Entries: x.entries}
		if x.src.Size <= digestAtOnce {
			to.SHA256, _ = x.src.Digest() // a folder has none
		}
		var t terms.Terms
		to.Text, t = licence(x.src, x.entries)
		if i == 0 {
			if own, ok := Carried(name, data); ok {
				t = own.Filled(t)
			} else if beside, ok := told(x.src, x.entries[0]); ok {
				t = beside
			}
		}
		if t.Stated() {
			to.Rights = &t
		}
		out = append(out, to)
	}
	return out
}

// Joined is one list of two: what came from one source by the same terms is one
// origin.
func Joined(a, b []Origin) []Origin {
	out := slices.Clone(a)
	for _, x := range b {
		k := slices.IndexFunc(out, func(o Origin) bool {
			return o.Source == x.Source && o.SHA256 == x.SHA256 && o.Text == x.Text && reflect.DeepEqual(o.Rights, x.Rights)
		})
		if k < 0 {
			out = append(out, x)
			continue
		}
		out[k].Entries = slices.Clone(out[k].Entries)
		for _, e := range x.Entries {
			if !slices.Contains(out[k].Entries, e) {
				out[k].Entries = append(out[k].Entries, e)
			}
		}
	}
	return out
}

// digestAtOnce is how large an archive is digested while a model is decoded;
// that of a larger one is made when it is wanted.
const digestAtOnce = 512 << 20

// Carried are the terms that a file's own format carries.
func Carried(name string, data []byte) (terms.Terms, bool) {
	if !bytes.HasPrefix(data, []byte("glTF")) && !bytes.HasPrefix(bytes.TrimLeft(data[:min(len(data), 64)], " \t\r\n\xef\xbb\xbf"), []byte("{")) {
		return terms.Terms{}, false
	}
	t, err := terms.GLTF(path.Base(name), bytes.NewReader(data))
	return t, err == nil && t.Stated()
}

// told are the terms in a file beside an entry.
func told(src *source.Source, entry string) (t terms.Terms, ok bool) {
	i := src.Lookup(TermsFile(entry))
	if i < 0 || src.Entries()[i].Size > mostLicence {
		return t, false
	}
	b, err := src.Read(i)
	if err != nil || json.Unmarshal(b, &t) != nil || t.Check() != nil {
		return terms.Terms{}, false
	}
	if t.Evidence == "" {
		t.Evidence = TermsFile(path.Base(entry))
	}
	if p := t.Permission; p != nil && p.File != "" { // a letter that lies beside it
		p.SHA256 = ""
		k := src.Lookup(path.Join(path.Dir(entry), p.File))
		if k >= 0 && src.Entries()[k].Size <= terms.MostPermission {
			if p.Data, err = src.Read(k); err == nil {
				sum := sha256.Sum256(p.Data)
				p.SHA256 = hex.EncodeToString(sum[:])
			}
		}
	}
	return t, t.Stated()
}

// mostLicence is how long a licence file may be.
const mostLicence = 256 << 10

// licence reads the licence file that lies nearest to what was taken: in its
// folder, or in one above.
func licence(src *source.Source, entries []string) (string, terms.Terms) {
	best, depth := -1, -1
	list := src.Entries()
	for i := range list {
		if list[i].Size > mostLicence || !terms.LicenceFile(list[i].Path) {
			continue
		}
		dir := path.Dir(list[i].Path)
		if dir == "." {
			dir = ""
		}
		above := func(e string) bool { return dir == "" || strings.HasPrefix(e, dir+"/") }
		if slices.ContainsFunc(entries, above) && len(dir) > depth {
			best, depth = i, len(dir)
		}
	}
	if best < 0 {
		return "", terms.Terms{}
	}
	b, err := src.Read(best)
	if err != nil {
		return "", terms.Terms{}
	}
	text := strings.TrimSpace(TextPreview(b, mostLicence))
	t, err := terms.Text(list[best].Path, text)
	if err != nil {
		return "", terms.Terms{}
	}
	return strings.TrimSpace(TextPreview([]byte(text), 2000)), t
}
