package layout

import (
	"context"
	"fmt"

	"excavate/core/codec"
	"excavate/core/limit"
)

// Entry is one entry of a container as its directory states it. Nothing is
// checked against the bytes yet but that the range lies within the file.
type Entry struct {
	Name   string
	Offset int64
	Packed int64
	Size   int64
	Codec  codec.Name
	CRC32  uint32 // IEEE; valid if HasCRC
	HasCRC bool
	Err    error // why this entry cannot be read, if it cannot
}

type containerMap struct {
	each   *each
	name   *formula
	at     *formula
	packed *formula
	size   *formula
	codec  *choice[codec.Name]
	crc    *formula
}

func (c *compiler) container(n *node) {
	c.keys(n, "each", "as", "name", "at", "packed", "size", "codec", "crc32")
	if c.err != nil {
		return
	}
	m := &containerMap{each: c.each(n, c.topScope)}
	sc := m.each.scope
	m.name = c.needFormula(n, "name", sc)
	m.at = c.needFormula(n, "at", sc)
	m.size = c.needFormula(n, "size", sc)
	m.packed = c.optionalFormula(n, "packed", sc)
	m.crc = c.optionalFormula(n, "crc32", sc)
	m.codec = chooser(c, n.get("codec"), sc, func(n *node) codec.Name {
		w := codec.Name(c.word(n))
		if c.err == nil && !w.Known() {
			c.fail(n, "codec %q is not known; known are stored, zlib, lz4", w)
		}
		return w
	})
	c.Layout.container = m
}

// Entries reads the container's directory. An entry that contradicts the file
// carries its own error; the others go on.
func (l *Layout) Entries(ctx context.Context, in Input) ([]Entry, error) {
	if l.container == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a container", l.Kind)}
	}
	r := newRun(ctx, l, in)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	m := l.container
	n := m.each.count(e)
	if n > limit.Entries {
		return nil, r.errorf(m.each.list.line, m.each.list.col, "%d entries, at most %d are read", n, limit.Entries)
	}
	out := make([]Entry, 0, n)
	err = m.each.do(e, func(i int, e *env) error {
		var x Entry
		x.Err = m.entry(&x, e)
		if x.Err != nil && x.Name == "" {
			x.Name = fmt.Sprintf("entry %d", i)
		}
		out = append(out, x)
		return r.cancelled()
	})
	return out, err
}

func (m *containerMap) entry(x *Entry, e *env) (err error) {
	if x.Name, err = m.name.text(e); err != nil {
		return err
	}
	if x.Offset, err = m.at.int(e); err != nil {
		return err
	}
	if x.Size, err = m.size.int(e); err != nil {
		return err
	}
	x.Packed = x.Size
	if m.packed != nil {
		if x.Packed, err = m.packed.int(e); err != nil {
			return err
		}
	}
	x.Codec = codec.Stored
	if m.codec != nil {
		if x.Codec, err = m.codec.eval(e); err != nil {
			return err
		}
	}
	if m.crc != nil {
		v, err := m.crc.int(e)
		if err != nil {
			return err
		}
		x.CRC32, x.HasCRC = uint32(v), true
	}
	r := e.run
	if err := inRange(x.Offset, x.Packed, r.in.Size()); err != nil {
		return r.errorf(m.at.line, m.at.col, "entry %q: %v", short(x.Name), err)
	}
	if err := codec.CheckSizes(x.Codec, x.Packed, x.Size); err != nil {
		return r.errorf(m.size.line, m.size.col, "entry %q %v", short(x.Name), err)
	}
	return nil
}

// short cuts a name for messages.
func short(s string) string {
	if len(s) > 80 {
		return s[:77] + "..."
	}
	return s
}
