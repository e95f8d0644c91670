package layout

import (
	"encoding/hex"
	"fmt"
	"strings"

	"excavate/core/codec"
)

// codecs compiles the packing methods that a layout gives by parameters.
func (c *compiler) codecs(n *node) {
	c.Layout.codecs = map[string]*codec.Codec{}
	for _, p := range n.pairs {
		if c.err != nil {
			return
		}
		if codec.Named(p.key) != nil {
			c.fail(p.value, "%q is the name of a usual method already", p.key)
			return
		}
		x, err := c.codec(p.key, p.value)
		if err != nil && c.err == nil {
			c.fail(p.value, "%v", err)
		}
		c.Layout.codecs[p.key] = x
	}
}

// codecNamed finds a usual method, or one of the layout's own.
func (c *compiler) codecNamed(n *node) *codec.Codec {
	w := c.word(n)
	if x := c.Layout.codecs[w]; x != nil {
		return x
	}
	x := codec.Named(w)
	if x == nil && c.err == nil {
		c.fail(n, "%v", codec.UnknownName(w))
	}
	return x
}

func (c *compiler) codec(name string, n *node) (*codec.Codec, error) {
	kind := ""
	if k := c.need(n, "kind"); k != nil {
		kind = c.oneOf(k, "lzss", "rle", "key", "blocks")
	}
	num := func(key string, def int) int {
		v := n.get(key)
		if v == nil || c.err != nil {
			return def
		}
		i := c.whole(v)
		if c.err == nil && (i < 0 || i > 1<<30) {
			c.fail(v, "%d is not usable here", i)
		}
		return int(i)
	}
	of := func() *codec.Codec {
		if v := n.get("of"); v != nil {
			return c.codecNamed(v)
		}
		return codec.Stored
	}
	bits := func(key string) (out []codec.Bits) {
		v := c.need(n, key)
		if v == nil {
			return nil
		}
		for _, part := range strings.Fields(c.word(v)) {
			var b codec.Bits
			if _, err := fmt.Sscanf(part, "%d+%d", &b.Low, &b.Count); err != nil && c.err == nil {
				c.fail(v, "%q is no bits of a word: write the lowest bit and how many there are, as 4+12; two parts high part first, as 12+4 0+8", part)
			}
			out = append(out, b)
		}
		return out
	}
	big := func() bool { return c.big(n) }
	yes := func(key string) bool {
		w := c.optionalOf(n, key, "no", "yes", "no", "true", "false")
		return w == "yes" || w == "true"
	}
	switch kind {
	case "lzss":
		c.keys(n, "kind", "flags", "literal", "order", "distance", "length", "min_length", "window", "start", "fill", "nearest", "end")
		p := codec.LZSS{HighFirst: c.optionalOf(n, "flags", "low-first", "low-first", "high-first") == "high-first", Literal: uint(num("literal", 1)), BigEndian: big(),
			Distance: bits("distance"), Length: bits("length"), MinLength: num("min_length", 3), Window: yes("window"),
			Start: num("start", 0), Fill: byte(num("fill", 0)), Nearest: num("nearest", 1)}
		if n.get("end") != nil {
			end := num("end", 0)
			p.EndAt = &end
		}
		if c.err != nil {
			return nil, nil
		}
		return p.Codec(name)
	case "rle":
		c.keys(n, "kind", "escape", "run", "run_min", "literal_min", "negative", "unit")
		p := codec.RLE{RunBit: uint(num("run", 1)), RunMin: num("run_min", 1), LiteralMin: num("literal_min", 1), Unit: num("unit", 1)}
		p.Negative = yes("negative")
		if n.get("escape") != nil {
			e := byte(num("escape", 0))
			p.Escape = &e
		}
		if c.err != nil {
			return nil, nil
		}
		return p.Codec(name)
	case "key":
		c.keys(n, "kind", "op", "bytes", "mul", "inc", "feed", "of")
		p := codec.Key{Op: c.optionalOf(n, "op", "xor", "xor", "add", "sub"), Mul: byte(num("mul", 1)), Inc: byte(num("inc", 0)), Feed: yes("feed")}
		if v := c.need(n, "bytes"); v != nil {
			b, err := hex.DecodeString(strings.ReplaceAll(c.word(v), " ", ""))
			if err != nil {
				c.fail(v, "the bytes of a key are written in hexadecimal")
			}
			p.Bytes = b
		}
		inner := of()
		if c.err != nil {
			return nil, nil
		}
		return p.Codec(name, inner)
	case "blocks":
		c.keys(n, "kind", "size", "width", "order", "sizes", "stored_if_full", "of")
		p := codec.Blocks{Size: num("size", 0), Width: num("width", 4), BigEndian: big(), Table: c.optionalOf(n, "sizes", "each", "each", "table") == "table",
			StoredIfFull: yes("stored_if_full")}
		inner := of()
		if c.err != nil {
			return nil, nil
		}
		return p.Codec(name, inner)
	}
	return nil, nil
}
