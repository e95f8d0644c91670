package rig

import (
	"slices"
	"strings"
	"unicode"
)

// The habits by which bones are named: words of several languages and their
// usual abbreviations, in lower case. A word is a whole token of a name, or
// several in a row written together.
var partWords = map[string][]string{
	"hips":     {"hips", "hip", "pelvis", "hüfte", "huefte", "hufte", "becken", "bassin", "hanche", "cadera", "pelvi", "bacino", "koshi", "腰", "센터", "таз"},
	"spine":    {"spine", "waist", "torso", "abdomen", "belly", "stomach", "back", "wirbel", "wirbelsäule", "rücken", "ruecken", "bauch", "dos", "colonne", "columna", "espina", "schiena", "sebone", "上半身", "trunk"},
	"chest":    {"chest", "thorax", "ribs", "ribcage", "rib", "brust", "brustkorb", "poitrine", "torse", "pecho", "torax", "petto", "mune", "胸", "breast"},
	"neck":     {"neck", "hals", "nacken", "cou", "cuello", "collo", "kubi", "首", "nek"},
	"head":     {"head", "kopf", "schädel", "schaedel", "skull", "tête", "tete", "cabeza", "testa", "atama", "頭", "hed"},
	"jaw":      {"jaw", "kiefer", "mâchoire", "machoire", "mandibula", "mandible", "ago", "顎"},
	"eye":      {"eye", "eyeball", "auge", "oeil", "ojo", "occhio", "目"},
	"shoulder": {"shoulder", "clavicle", "clavicula", "clav", "collar", "collarbone", "schulter", "schlüsselbein", "schluesselbein", "épaule", "epaule", "hombro", "spalla", "kata", "肩", "scapula", "sho"},
	"upperArm": {"upperarm", "uparm", "armupper", "armup", "humerus", "bicep", "biceps", "oberarm", "bras", "brazo", "braccio", "uarm", "腕"},
	"lowerArm": {"lowerarm", "forearm", "lowarm", "armlower", "armlow", "elbow", "ulna", "radius", "unterarm", "ellbogen", "avantbras", "coude", "antebrazo", "codo", "avambraccio", "gomito", "hiji", "larm", "farm", "ひじ", "elb"},
	"hand":     {"hand", "wrist", "palm", "handgelenk", "main", "poignet", "mano", "muñeca", "muneca", "polso", "tekubi", "手首", "手", "hnd", "paw"},
	"upperLeg": {"upperleg", "upleg", "legupper", "legup", "thigh", "femur", "oberschenkel", "cuisse", "muslo", "coscia", "uleg", "momo", "足", "thi", "hipjoint"},
	"lowerLeg": {"lowerleg", "lowleg", "leglower", "leglow", "calf", "shin", "knee", "tibia", "unterschenkel", "knie", "wade", "mollet", "genou", "tibias", "rodilla", "pantorrilla", "polpaccio", "ginocchio", "hiza", "lleg", "ひざ", "kne"},
	"foot":     {"foot", "ankle", "fuß", "fuss", "fus", "knöchel", "knoechel", "pied", "cheville", "pie", "tobillo", "piede", "caviglia", "ashi", "ashikubi", "足首", "ank"},
	"toes":     {"toes", "toe", "ball", "zehe", "zehen", "orteil", "orteils", "dedo", "dedos", "dita", "tsumasaki", "つま先", "toebase"},
	"thumb":    {"thumb", "daumen", "pouce", "pulgar", "pollice", "oyayubi", "親指", "thb", "thum"},
	"index":    {"index", "indexfinger", "pointer", "zeigefinger", "zeige", "indice", "hitosashi", "人指", "idx", "fore"},
	"middle":   {"middle", "mid", "middlefinger", "mittelfinger", "mittel", "majeur", "medio", "nakayubi", "中指"},
	"ring":     {"ring", "ringfinger", "annulaire", "anular", "anulare", "kusuri", "薬指"},
	"little":   {"little", "pinky", "pinkie", "littlefinger", "kleinfinger", "kleiner", "auriculaire", "meñique", "menique", "mignolo", "koyubi", "小指", "pky"},
	"arm":      {"arm"}, // upper or lower, as what else is there tells
	"leg":      {"leg", "bein", "jambe", "pierna", "gamba"},
}

var (
	leftWords  = []string{"l", "left", "lft", "lf", "lt", "links", "gauche", "izq", "izquierda", "izquierdo", "sinistra", "sinistro", "sx", "hidari", "左"}
	rightWords = []string{"r", "right", "rgt", "rt", "rechts", "droite", "droit", "der", "derecha", "derecho", "destra", "destro", "dx", "migi", "右"}
	// What a bone does beside being a limb.
	besides = []string{"twist", "roll", "ik", "pole", "target", "ctrl", "control", "helper", "end", "nub", "tip", "effector", "eff", "socket", "attach", "prop", "weapon", "null", "site", "jiggle", "phys", "aux", "fix", "corrective", "drehung", "verdreh", "ende"}
)

// read is what a bone's name says.
type read struct {
	side   int // 1 left, -1 right, 0 neither
	parts  []string
	number int  // that it ends in or holds; -1 for none
	beside bool // it twists, ends or controls something
	toe    bool // a finger of the foot
	lower  bool
	upper  bool
}

// tokens takes a name apart where its letters change their kind. What stands
// before a colon or bar is the name of the whole skeleton.
func tokens(name string) []string {
	if k := strings.LastIndexAny(name, ":|"); k >= 0 && k+1 < len(name) {
		name = name[k+1:]
	}
	var out []string
	var word []rune
	cut := func() {
		if len(word) > 0 {
			out = append(out, strings.ToLower(string(word)))
			word = nil
		}
	}
	list := []rune(name)
	for i, c := range list {
		switch {
		case !unicode.IsLetter(c) && !unicode.IsDigit(c):
			cut()
			continue
		case unicode.IsDigit(c) && len(word) > 0 && !unicode.IsDigit(word[len(word)-1]):
			cut()
		case unicode.IsLetter(c) && len(word) > 0 && unicode.IsDigit(word[len(word)-1]):
			cut()
		case unicode.IsUpper(c) && len(word) > 0 && (unicode.IsLower(word[len(word)-1]) || i+1 < len(list) && unicode.IsLower(list[i+1])):
			cut()
		case c > 0x2e80 && len(word) > 0: // ideographs are words of their own
			if word[len(word)-1] == '左' || word[len(word)-1] == '右' {
				cut()
			}
		}
		word = append(word, c)
	}
	cut()
	return out
}

// readName tells what a bone's name says, without the words that all names of
// its skeleton begin with.
func readName(list []string) read {
	r := read{number: -1}
	for i := 0; i < len(list); i++ {
		w := list[i]
		if w[0] >= '0' && w[0] <= '9' {
			n := 0
			for _, c := range w {
				if n = 10*n + int(c-'0'); n > 1000 {
					break
				}
			}
			r.number = n
			continue
		}
		switch {
		case slices.Contains(leftWords, w):
			r.side = 1
			continue
		case slices.Contains(rightWords, w):
			r.side = -1
			continue
		case slices.Contains(besides, w):
			r.beside = true
			continue
		case w == "upper" || w == "up" || w == "ober":
			r.upper = true
		case w == "lower" || w == "low" || w == "unter" || w == "lo":
			r.lower = true
		}
		// The longest words first: upper arm before arm.
		for n := min(3, len(list)-i); n > 0; n-- {
			joined := strings.Join(list[i:i+n], "")
			if part, side := partOf(joined); part != "" {
				r.parts = append(r.parts, part)
				if side != 0 {
					r.side = side
				}
				i += n - 1
				break
			}
		}
	}
	r.toe = slices.Contains(r.parts, "toes")
	return r
}

// partOf is the part that a word names; a letter for the side may be stuck to
// its beginning or end where nothing sets it off.
func partOf(word string) (part string, side int) {
	for _, p := range partOrder {
		if slices.Contains(partWords[p], word) {
			return p, 0
		}
	}
	if len(word) < 4 {
		return "", 0
	}
	for _, s := range []struct {
		letter string
		side   int
	}{{"left", 1}, {"right", -1}, {"l", 1}, {"r", -1}} {
		for _, rest := range []string{strings.TrimPrefix(word, s.letter), strings.TrimSuffix(word, s.letter)} {
			if rest == word || len(rest) < 3 {
				continue
			}
			for _, p := range partOrder {
				if slices.Contains(partWords[p], rest) {
					return p, s.side
				}
			}
		}
	}
	return "", 0
}

// partOrder is the parts in a fixed order, words of exactly one limb first.
var partOrder = []string{"upperArm", "lowerArm", "upperLeg", "lowerLeg", "hips", "chest", "spine", "neck", "head", "jaw", "eye", "shoulder", "hand", "foot", "toes",
	"thumb", "index", "middle", "ring", "little", "arm", "leg"}
