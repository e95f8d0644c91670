package layout

import (
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"strings"

	"excavate/core/limit"

	"go.starlark.net/starlark"
)

// nameList finds names by their hash: the file knows hashes only, and the
// names come from a list that somebody gathered.
type nameList struct {
	file  *formula
	hash  func(b []byte) uint64
	fold  string
	slash string
}

// names compiles
//
//	names: {file: '"names.txt"', hash: fnv1a, bits: 32, fold: lower, slash: "\"}
func (c *compiler) names(n *node) {
	c.keys(n, "file", "hash", "bits", "start", "times", "fold", "slash")
	if c.err != nil {
		return
	}
	l := &nameList{file: c.needFormula(n, "file", &scope{names: []string{"file_size", "file_name"}}),
		fold: c.optionalOf(n, "fold", "no", "no", "lower", "upper"), slash: c.optional(n, "slash", "/")}
	bits := uint(32)
	if b := n.get("bits"); b != nil {
		bits = uint(c.whole(b))
	}
	if bits != 32 && bits != 64 {
		c.fail(n.get("bits"), "a hash has 32 or 64 bits")
	}
	mask := ^uint64(0) >> (64 - bits)
	number := func(key string, usual uint64) uint64 {
		if v := n.get(key); v != nil {
			return uint64(c.whole(v))
		}
		return usual
	}
	kind := "fnv1a"
	if h := c.need(n, "hash"); h != nil {
		kind = c.oneOf(h, "crc32", "adler32", "fnv1", "fnv1a", "times-add", "times-xor")
	}
	// FNV: draft-eastlake-fnv, section 5, for its start values and primes.
	start, times := number("start", 0xcbf29ce484222325), number("times", 0x100000001b3)
	if bits == 32 {
		start, times = number("start", 0x811c9dc5), number("times", 0x01000193)
	}
	switch kind {
	case "crc32":
		l.hash = func(b []byte) uint64 { return uint64(crc32.ChecksumIEEE(b)) }
	case "adler32":
		l.hash = func(b []byte) uint64 { return uint64(adler32.Checksum(b)) }
	case "fnv1a", "times-xor", "fnv1", "times-add":
		if strings.HasPrefix(kind, "times") {
			if n.get("times") == nil {
				c.fail(n, "times is missing: what the hash is multiplied by before each letter")
			}
			start, times = number("start", 0), number("times", 0)
		}
		l.hash = func(b []byte) uint64 {
			h := start
			for _, x := range b {
				switch kind {
				case "fnv1a":
					h = (h ^ uint64(x)) * times
				case "times-add":
					h = h*times + uint64(x)
				default:
					h = h*times ^ uint64(x)
				}
				h &= mask
			}
			return h
		}
	}
	c.nameList = l
}

// builtinNamed is the name that has a hash, or what is given for names that
// are not in the list: the hash in hexadecimal without one.
func builtinNamed(th *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kw []starlark.Tuple) (starlark.Value, error) {
	var hash starlark.Int
	var other starlark.Value = starlark.None
	if err := starlark.UnpackPositionalArgs("named", args, kw, 1, &hash, &other); err != nil {
		return nil, err
	}
	r, err := runOf(th)
	if err != nil {
		return nil, err
	}
	h, ok := hash.Uint64()
	if !ok {
		return nil, fmt.Errorf("%s is no hash", hash)
	}
	if r.layout.nameList == nil {
		return nil, fmt.Errorf("the layout does not say under names where names come from")
	}
	if r.names == nil {
		if err := r.readNames(); err != nil {
			return nil, err
		}
	}
	if s, ok := r.names[h]; ok {
		return starlark.String(s), nil
	}
	if other != starlark.None {
		return other, nil
	}
	return starlark.String(fmt.Sprintf("%08x", h)), nil
}

// readNames reads the list, one name a line. A list that is not there leaves
// all names unknown.
func (r *run) readNames() error {
	l := r.layout.nameList
	r.names = map[uint64]string{}
	ref, err := l.file.text(&env{run: r, slots: []val{intVal(r.self.in.Size()), strVal(r.around.Name)}})
	if err != nil {
		return err
	}
	o := r.open(ref, nil)
	if o.err != nil {
		return nil
	}
	if o.in.Size() > limit.NameListBytes {
		return fmt.Errorf("the list of names %s has %d bytes, at most %d are read", ref, o.in.Size(), limit.NameListBytes)
	}
	b, err := o.in.Bytes(0, o.in.Size())
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(b)) {
		name := strings.TrimRight(line, "\r\n")
		if name == "" {
			continue
		}
		key := name
		if l.slash != "/" {
			key = strings.ReplaceAll(key, "/", l.slash)
		}
		switch l.fold {
		case "lower":
			key = strings.ToLower(key)
		case "upper":
			key = strings.ToUpper(key)
		}
		r.names[l.hash([]byte(key))] = name
	}
	return nil
}
