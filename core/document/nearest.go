package document

import (
	"fmt"
	"slices"
	"strings"
)

// Unknown says that a word is none of those that are known, with the one that
// is probably meant.
func Unknown(what, word string, known []string) string {
	if n := Nearest(word, known); n != "" {
		return fmt.Sprintf("there is no %s %.60q here; %q is probably meant", what, word, n)
	}
	list := slices.Sorted(slices.Values(known))
	const most = 24
	more := ""
	if len(list) > most {
		more = fmt.Sprintf(" and %d more", len(list)-most)
		list = list[:most]
	}
	return fmt.Sprintf("there is no %s %.60q here; there are %s%s", what, word, strings.Join(list, ", "), more)
}

// Nearest is the word that is fewest letters away (Levenshtein's distance),
// if that is no more than about a third of its letters; else empty.
func Nearest(word string, known []string) string {
	if len(word) > 100 {
		return ""
	}
	best, at := "", len(word)+1
	for _, k := range known {
		if d := distance(strings.ToLower(word), strings.ToLower(k)); d < at && d <= (len(k)+2)/3 {
			best, at = k, d
		}
	}
	return best
}

func distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, diagonal+1)
		}
	}
	return row[len(b)]
}
