package source

import (
	"fmt"
	"path"
	"strings"
)

// Stack is sources in search order: the first that has a name wins.
type Stack []*Source

// Hit is where a name was found.
type Hit struct {
	Source *Source
	Entry  int
	How    string // same path, other ending, same name
}

// Path is the entry's path in its source.
func (h Hit) Path() string { return h.Source.entries[h.Entry].Path }

// How surely a name was resolved, surest first.
const (
	SamePath    = "same path"
	OtherEnding = "same path, other ending"
	SameName    = "same name elsewhere"
	Pinned      = "pinned by hand"
)

// Resolve finds what ref names: the exact path in any source, then the same
// path with another ending, then the same name in another folder. accept says
// whether an entry is of the kind that is wanted; nil accepts all. Where
// nothing is found, looked says what was looked for and where.
func (st Stack) Resolve(ref string, accept func(*Source, int) bool) (hit Hit, ok bool, looked []string) {
	clean := strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(ref, "\\", "/")), "/")
	stemRef := stem(ref)
	try := func(s *Source, list []int32, how string) bool {
		for _, i := range list {
			if accept == nil || accept(s, int(i)) {
				hit, ok = Hit{s, int(i), how}, true
				return true
			}
		}
		return false
	}
	for _, s := range st {
		if i := s.Lookup(clean); i >= 0 && try(s, []int32{int32(i)}, SamePath) {
			return hit, true, nil
		}
	}
	for _, s := range st {
		if try(s, s.byStem[stemRef], OtherEnding) {
			if strings.EqualFold(hit.Path(), clean) {
				hit.How = SamePath
			}
			return hit, true, nil
		}
	}
	base := path.Base(stemRef)
	for _, s := range st {
		if try(s, s.byName[base], SameName) {
			return hit, true, nil
		}
	}
	var names []string
	for _, s := range st {
		names = append(names, s.Label)
	}
	where := "no source is mounted"
	if len(names) > 0 {
		where = "in " + strings.Join(names, ", ")
	}
	return Hit{}, false, []string{
		fmt.Sprintf("%s (%s) %s", clean, SamePath, where),
		fmt.Sprintf("%s.* (%s) %s", stemRef, "any ending", where),
		fmt.Sprintf("*/%s.* (%s) %s", base, "any folder", where),
	}
}
