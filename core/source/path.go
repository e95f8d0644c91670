package source

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"strings"

	"excavate/core/limit"

	"github.com/bmatcuk/doublestar/v4"
)

func cut(s string) string {
	if len(s) > 120 {
		return s[:117] + "..."
	}
	return s
}

// cleanPath turns an entry's name into a relative path that stays inside its
// folder on every file system. why says what was wrong; it is empty where only
// the separators changed.
func cleanPath(name string) (clean, why string) {
	if plain(name) {
		return name, ""
	}
	n := strings.ReplaceAll(name, "\\", "/")
	switch {
	case strings.HasPrefix(n, "/"):
		why = "its name is an absolute path"
	case len(n) > 1 && n[1] == ':':
		why = "its name is an absolute path"
		n = n[2:]
	}
	var out []string
	for _, seg := range strings.Split(n, "/") {
		switch seg {
		case "", ".":
			continue
		case "..":
			why = "its name leaves the folder"
			continue
		}
		s := strings.Map(func(r rune) rune {
			if r < 0x20 || strings.ContainsRune(`<>:"|?*`, r) {
				return '_'
			}
			return r
		}, seg)
		if s != seg && why == "" {
			why = "its name holds characters that files cannot have"
		}
		if len(s) > limit.SegmentBytes {
			s = s[:limit.SegmentBytes-9] + "~" + digest8(seg)
			why = fmt.Sprintf("a part of its name is %d bytes long", len(seg))
		}
		out = append(out, strings.ToValidUTF8(s, "_"))
	}
	if len(out) == 0 {
		return "unnamed", "it has no name"
	}
	clean = strings.Join(out, "/")
	if len(clean) > limit.NameBytes {
		why = fmt.Sprintf("its name is %d bytes long", len(name))
		clean = "long/" + digest8(clean) + "/" + out[len(out)-1]
	}
	return clean, why
}

// odd marks the bytes that a plain name does not have; / ends a segment.
var odd = func() (t [256]byte) {
	for c := range t {
		if c < 0x20 || c >= 0x80 || strings.IndexByte("\\:<>\"|?*", byte(c)) >= 0 {
			t[c] = 1
		}
	}
	t['/'] = 2
	return t
}()

// plain tells whether a name is clean as it stands; nearly all are.
func plain(n string) bool {
	if n == "" || len(n) > limit.SegmentBytes || n[0] == '/' {
		return false
	}
	start := 0
	for i := 0; i < len(n); i++ {
		switch odd[n[i]] {
		case 1:
			return false
		case 2:
			if bad(n[start:i]) {
				return false
			}
			start = i + 1
		}
	}
	return !bad(n[start:])
}

// bad tells whether a segment has no place in a path.
func bad(seg string) bool {
	return seg == "" || seg[0] == '.' && (len(seg) == 1 || len(seg) == 2 && seg[1] == '.')
}

func cleanOne(n string) string { c, _ := cleanPath(n); return c }

func digest8(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:4])
}

// ValidPattern tells whether a glob is sound.
func ValidPattern(pattern string) bool { return doublestar.ValidatePattern(pattern) }

// Match tells whether a path fits a glob. A glob without / is held against
// the last segment.
func Match(pattern, p string) bool {
	if !strings.Contains(pattern, "/") {
		p = path.Base(p)
	}
	ok, _ := doublestar.Match(pattern, p)
	return ok
}
