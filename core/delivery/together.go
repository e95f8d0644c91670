package delivery

import (
	"archive/zip"
	"bytes"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"excavate/core/distinct"
	"excavate/core/limit"
	"excavate/core/target"
)

// Several deliveries in one package.

// Together are the options of several assets that go into one package: those
// that all have, but for the folder. Each asset gets one of its own: the
// layout's where it names the asset, else one of the asset's name below it.
func (o Options) Together(assets []string, sheet *target.Sheet) []Options {
	layout := o.layout(sheet)
	wanted := layout.Folder
	if !strings.Contains(wanted, assetWord) {
		wanted = path.Join(wanted, assetWord)
	}
	out := make([]Options, len(assets))
	taken := map[string]bool{}
	numbers := distinct.Numbers{}
	for i, name := range assets {
		folder, first := wanted, strings.ReplaceAll(wanted, assetWord, Name(name))
		at := first
		free := func() bool { return !taken[strings.ToLower(at)] }
		if !free() {
			numbers.Next(strings.ToLower(first), func(k int) bool {
				folder, at = fmt.Sprintf("%s_%d", wanted, k), fmt.Sprintf("%s_%d", first, k)
				return free()
			})
		}
		taken[strings.ToLower(at)] = true
		if out[i] = o; folder != layout.Folder {
			own := layout
			own.Folder = folder
			out[i].Layout = &own
		}
	}
	return out
}

// Packed is the package of whole deliveries, whose last files are their
// manifests, in the order of their folders. Of several it refuses to make one
// that Open would not take.
func Packed(deliveries ...[]File) ([]byte, error) {
	files, size := 0, int64(0)
	for _, d := range deliveries {
		files += len(d)
		for i := range d {
			size += int64(len(d[i].Data))
		}
	}
	if n := len(deliveries); n > 1 && (files > mostFiles || size > limit.MemoryBytes) {
		return nil, fmt.Errorf("%d assets come to %d files of %d bytes; a package holds at most %d of %d bytes: "+
			"deliver fewer at once", n, files, size, mostFiles, int64(limit.MemoryBytes))
	}
	list := slices.Clone(deliveries)
	folder := func(files []File) string { return path.Dir(files[len(files)-1].Path) }
	slices.SortStableFunc(list, func(a, b []File) int { return strings.Compare(folder(a), folder(b)) })
	return Package(slices.Concat(list...))
}

// WithReceived is a package in which it stands beside each manifest what a
// receiver said of that delivery: one text for each, in the order in which Open
// gives them, nil for those that nothing is known of.
func WithReceived(data []byte, said [][]byte) ([]byte, error) {
	list, err := Open(data)
	if err != nil {
		return nil, err
	}
	var more []File
	for i, o := range list[:min(len(list), len(said))] {
		if said[i] != nil {
			more = append(more, File{Path: o.in(receivedName), Data: said[i]})
		}
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	var files []File
	for _, f := range z.File {
		k := slices.IndexFunc(list, func(o *Opened) bool { _, has := o.Files[f.Name]; return has })
		if k >= 0 && !slices.ContainsFunc(more, func(x File) bool { return x.Path == f.Name }) {
			files = append(files, File{Path: f.Name, Data: list[k].Files[f.Name]})
		}
	}
	return Package(append(files, more...))
}

// Alone is the delivery as a package of its own, without what receivers said.
func (o *Opened) Alone() ([]byte, error) {
	var files []File
	for _, p := range slices.Sorted(maps.Keys(o.Files)) {
		if p != o.in(receivedName) {
			files = append(files, File{Path: p, Data: o.Files[p]})
		}
	}
	return Package(files)
}
