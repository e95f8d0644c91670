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
	Codec  *codec.Codec
	File   string // the file beside this one that holds the bytes; empty: this one
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
	codec  *choice[*codec.Codec]
	crc    *formula
	file   *formula
}

// Place is where a container lies.
type Place struct {
	Name string // its file name; layouts know it as file_name
	// Beside gives the size of a file beside it. Nil: there is none.
	Beside func(name string) (int64, error)
}

func (c *compiler) container(n *node) {
	c.keys(n, "each", "as", "name", "at", "packed", "size", "codec", "crc32", "file")
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
	m.file = c.optionalFormula(n, "file", sc)
	m.codec = chooser(c, n.get("codec"), sc, c.codecNamed)
	c.Layout.container = m
}

// Entries reads the container's directory. An entry that contradicts the file
// carries its own error; the others go on.
func (l *Layout) Entries(ctx context.Context, in Input, place Place) ([]Entry, error) {
	if l.container == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a container", l.Kind)}
	}
	l = l.inOrder(in)
	r := newRun(ctx, l, in)
	r.name = place.Name
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
	sizes := map[string]beside{}
	err = m.each.do(e, func(i int, e *env) error {
		x := Entry{Codec: codec.Stored}
		x.Err = m.entry(&x, e, place, sizes)
		if x.Err != nil && x.Name == "" {
			x.Name = fmt.Sprintf("entry %d", i)
		}
		out = append(out, x)
		return r.cancelled()
	})
	return out, err
}

// beside is what is known of a companion file.
type beside struct {
	size int64
	err  error
}

func (m *containerMap) entry(x *Entry, e *env, place Place, sizes map[string]beside) (err error) {
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
	size := r.in.Size()
	if m.file != nil {
		if x.File, err = m.file.text(e); err != nil {
			return err
		}
	}
	if x.File != "" {
		b, ok := sizes[x.File]
		if !ok && place.Beside == nil {
			b.err = fmt.Errorf("the file %q cannot be looked for beside it", short(x.File))
		} else if !ok {
			b.size, b.err = place.Beside(x.File)
			sizes[x.File] = b
		}
		if b.err != nil {
			return r.errorf(m.file.line, m.file.col, "entry %q: %v", short(x.Name), b.err)
		}
		size = b.size
	}
	if err := inRange(x.Offset, x.Packed, size); err != nil {
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
