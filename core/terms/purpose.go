package terms

import (
	"fmt"
	"strings"
)

// Purpose is what a delivery is for.
type Purpose string

// The purposes.
const (
	Myself    Purpose = "myself"
	Changed   Purpose = "share-changed"
	Unchanged Purpose = "share-unchanged"
	Selling   Purpose = "sell"
)

// Purposes lists them, the least first.
var Purposes = []Purpose{Myself, Changed, Unchanged, Selling}

// ParsePurpose reads a purpose.
func ParsePurpose(s string) (Purpose, error) {
	for _, p := range Purposes {
		if string(p) == s {
			return p, nil
		}
	}
	return "", fmt.Errorf("the purpose %q is none of myself, share-changed, share-unchanged, sell", s)
}

// String is the purpose in words.
func (p Purpose) String() string {
	return map[Purpose]string{Myself: "for myself", Changed: "to share it changed",
		Unchanged: "to share it unchanged", Selling: "to sell it"}[p]
}

// Refusal is a source whose terms do not allow a purpose.
type Refusal struct {
	Source   string `json:"source"`
	Says     string `json:"says"`     // its terms in its own words, or that there are none
	Evidence string `json:"evidence"` // where that was read
	Why      string `json:"why"`
}

func (r Refusal) Error() string {
	out := r.Source + ": " + r.Why
	if r.Says != "" {
		out += "; it says “" + strings.Join(strings.Fields(r.Says), " ") + "”"
	}
	if r.Evidence != "" {
		out += " (" + r.Evidence + ")"
	}
	return out
}

// Refuses tells whether a source's terms do not allow a purpose. What is
// unknown is no permission; only what one keeps to oneself is allowed unless it
// is forbidden. To sell is also to share. t is nil where nothing is stated, text
// is the source's licence file where it has one.
func Refuses(source string, t *Terms, text string, p Purpose) *Refusal {
	if t == nil {
		t = &Terms{}
	}
	r := &Refusal{Source: source, Says: cut(first(t.Licence, text), 300), Evidence: t.Evidence}
	switch {
	case p == Myself && t.Private != No:
		return nil
	case p == Myself:
		r.Why = "it may not be kept for oneself"
	case p == Changed:
		r.Why = lacks(t.ShareChanged, "passed on changed")
	case p == Unchanged:
		r.Why = lacks(t.ShareUnchanged, "passed on unchanged")
	case p == Selling:
		if r.Why = lacks(t.Sell, "sold"); r.Why == "" {
			r.Why = lacks(t.ShareChanged, "passed on changed, which selling is")
		}
	default:
		r.Why = fmt.Sprintf("%q is no purpose", string(p))
	}
	if r.Why == "" {
		return nil
	}
	return r
}

func lacks(a Answer, what string) string {
	switch a {
	case Yes:
		return ""
	case No:
		return "it may not be " + what
	}
	return "nothing says that it may be " + what
}
