package receiver

import (
	"net/http"
	"path"
	"slices"
	"strings"

	"excavate/standin/protocol"
)

// The film tool: folders on a search path, in which models and materials lie as
// direct children.

// addSearch takes a line of the search path file: "Search FOLDER". Its words
// are case-sensitive.
func (r *Receiver) addSearch(s *sheet, line string) {
	word, _, _ := strings.Cut(s.Delivery.SearchLine, " ")
	got, folder, ok := strings.Cut(line, " ")
	if ok && got == word && folder != "" && !slices.Contains(r.search, folder) {
		r.search = append(r.search, folder)
	}
}

// filmed looks whether what arrived is found, and stays.
func (r *Receiver) filmed(s *sheet, files map[string][]byte, where string) {
	log := func(code, level, thing, text string) {
		r.last.Log = append(r.last.Log, Line{code, level, text, thing})
	}
	folder, rest, _ := strings.Cut(where, "/")
	if !strings.HasPrefix(rest, "models/") {
		log("FL01", "error", where, "model is not below models/ of a folder")
	}
	if !slices.Contains(r.search, folder) {
		log("FL02", "error", folder, "folder is not on the search path: model not found")
	}
	for p := range files {
		switch strings.ToLower(path.Ext(p)) {
		case ".png", ".jpg", ".dds", ".ktx2", ".tga":
			if _, under, _ := strings.Cut(p, "/"); !strings.HasPrefix(under, "materials/") {
				log("FL03", "error", p, "texture is not below materials/ of a folder")
				return
			}
		}
	}
	if slices.Contains(s.Delivery.Overwrites, folder) {
		log("FL04", "warning", folder, "the next update writes this folder anew")
	}
}

// update writes the tool's own folders anew, and tells what it swept away.
func (r *Receiver) update() (gone []string) {
	for _, s := range r.sheets {
		for _, own := range s.Delivery.Overwrites {
			for p := range r.files {
				if strings.HasPrefix(p, own+"/") && p != own+"/version.txt" {
					gone = append(gone, p)
					delete(r.files, p)
				}
			}
			r.files[own+"/version.txt"] = []byte("own\n")
		}
	}
	slices.Sort(gone)
	return gone
}

func (r *Receiver) updated(w http.ResponseWriter, _ *http.Request) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.about.Kind != "film" {
		protocol.Fail(w, 404, "only the film tool updates itself")
		return
	}
	gone := r.update()
	left := []string{}
	for p := range r.files {
		if path.Base(p) != "version.txt" {
			left = append(left, p)
		}
	}
	slices.Sort(left)
	protocol.JSON(w, 200, map[string]any{"gone": append([]string{}, gone...), "left": left})
}
