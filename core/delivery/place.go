package delivery

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
)

// Placed is what became of a delivery's files in a folder.
type Placed struct {
	Folder   string   // within the root
	Made     []string // new
	Replaced []string // of an earlier delivery of this asset, and not changed since
	Same     []string
	Kept     []string // changed since, or somebody else's: left as it is
	Search   *Search  // the line that the target's search path needs, until it is there
	Backup   string   // the search path file as it was
}

// Place puts the files of a delivery below a folder, in one of its own. What an
// earlier delivery of the same asset put there is replaced unless its bytes are
// others since; nothing else is touched. With search the line that the target
// needs is added to its search path file, of which a copy is kept.
func Place(root string, o *Opened, search bool) (*Placed, error) {
	r, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	p := &placer{root: r, out: &Placed{Folder: o.Folder}}
	if p.out.Folder == "" {
		p.out.Folder, p.under = Name(o.Manifest.Asset), Name(o.Manifest.Asset)+"/"
	}
	if err := p.earlier(o); err != nil {
		return nil, err
	}
	var names []string
	for n := range o.Files {
		if n != o.in(receivedName) { // it is about the package
			names = append(names, n)
		}
	}
	slices.Sort(names)
	// The manifest comes last: a run that is killed before leaves the earlier
	// one, by which the next run knows what it may replace.
	if at := slices.Index(names, o.in(manifestName)); at >= 0 {
		names = append(slices.Delete(names, at, at+1), o.in(manifestName))
	}
	for _, n := range names {
		if err := p.file(n, o.Files[n]); err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
	}
	if s := o.Manifest.Search; s != nil {
		p.out.Search = s
		if search {
			if err := p.search(s); err != nil {
				return nil, fmt.Errorf("%s: %w", s.File, err)
			}
		}
	}
	return p.out, nil
}

type placer struct {
	root  *os.Root
	under string            // what a package without a folder of its own gets
	was   map[string]string // digests of files that an earlier delivery made
	out   *Placed
}

// earlier reads the manifest of a delivery that lies there.
func (p *placer) earlier(o *Opened) error {
	p.was = map[string]string{}
	at := path.Join(p.out.Folder, manifestName)
	b, err := p.root.ReadFile(at)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var m Manifest
	if json.Unmarshal(b, &m) != nil || m.Format == 0 {
		return fmt.Errorf("%s is there and is no manifest of a delivery: choose another folder", at)
	}
	if m.Asset != o.Manifest.Asset {
		return fmt.Errorf("%s holds a delivery of %s: choose another folder for %s", p.out.Folder, m.Asset,
			o.Manifest.Asset)
	}
	p.was[at] = digest(b)
	for _, f := range m.Files {
		p.was[p.under+f.Path] = f.SHA256
	}
	return nil
}

func (p *placer) file(name string, data []byte) error {
	to := p.under + name
	if !local(to) {
		return fmt.Errorf("it leads out of the folder")
	}
	there, err := p.root.ReadFile(to)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.out.Made = append(p.out.Made, to)
	case err != nil:
		return err
	case bytes.Equal(there, data):
		p.out.Same = append(p.out.Same, to)
		return nil
	case p.was[to] != "" && p.was[to] == digest(there):
		p.out.Replaced = append(p.out.Replaced, to)
	default:
		p.out.Kept = append(p.out.Kept, to)
		return nil
	}
	if err := p.root.MkdirAll(path.Dir(to), 0o755); err != nil {
		return err
	}
	return p.write(to, data)
}

// write writes aside, under a name that nothing has, syncs and renames.
func (p *placer) write(to string, data []byte) error {
	var f *os.File
	aside, err := to+".part", error(nil)
	for n := 1; ; n++ {
		f, err = p.root.OpenFile(aside, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o644)
		if !errors.Is(err, fs.ErrExist) {
			break
		}
		aside = fmt.Sprintf("%s.part-%d", to, n)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = p.root.Rename(aside, to)
	}
	if err != nil {
		p.root.Remove(aside)
	}
	return err
}

// search adds the line to the search path file, unless it stands there.
func (p *placer) search(s *Search) error {
	was, err := p.root.ReadFile(s.File)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, line := range strings.Split(string(was), "\n") {
		if strings.TrimSpace(line) == s.Line {
			p.out.Search = nil
			return nil
		}
	}
	if err == nil {
		for n := 1; ; n++ {
			p.out.Backup = fmt.Sprintf("%s.before-%d", s.File, n)
			if _, err := p.root.Stat(p.out.Backup); errors.Is(err, fs.ErrNotExist) {
				break
			}
		}
		if err := p.write(p.out.Backup, was); err != nil {
			return err
		}
	}
	eol := "\n"
	if bytes.Contains(was, []byte("\r\n")) {
		eol = "\r\n"
	}
	text := string(was)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += eol
	}
	if err := p.root.MkdirAll(path.Dir(s.File), 0o755); err != nil {
		return err
	}
	if err := p.write(s.File, []byte(text+s.Line+eol)); err != nil {
		return err
	}
	p.out.Search = nil
	return nil
}
