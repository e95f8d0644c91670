package layout

import (
	"context"
	"fmt"
	"strings"

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
	Codec  *codec.Codec // nil if Err came before it was known
	File   string       // the other file that holds the bytes; empty: this one
	CRC32  uint32       // IEEE; valid if HasCRC
	HasCRC bool
	Err    error // why this entry cannot be read, if it cannot
}

type containerMap struct {
	each     *each
	name     *formula
	at       *formula
	packed   *formula
	size     *formula
	codec    *choice[*codec.Codec]
	crc      *formula
	file     *formula
	folder   *formula // the record that is the folder of this one; below 0 for none
	isFolder *formula
	group    *formula // holds for a marker, whose name is the folder of what follows
}

func (c *compiler) container(n *node) {
	c.keys(n, "each", "as", "name", "at", "packed", "size", "codec", "crc32", "file", "folder", "is_folder", "group")
	if c.err != nil {
		return
	}
	m := &containerMap{each: c.each(n, c.topScope)}
	sc := m.each.scope
	m.name = c.optionalFormula(n, "name", sc)
	m.at = c.needFormula(n, "at", sc)
	m.size = c.needFormula(n, "size", sc)
	m.packed = c.optionalFormula(n, "packed", sc)
	m.crc = c.optionalFormula(n, "crc32", sc)
	m.file = c.optionalFormula(n, "file", sc)
	m.codec = chooser(c, n.get("codec"), sc, c.codecNamed)
	m.folder, m.isFolder, m.group = c.optionalFormula(n, "folder", sc), c.optionalFormula(n, "is_folder", sc), c.optionalFormula(n, "group", sc)
	if m.name == nil && (m.folder != nil || m.group != nil) {
		c.fail(n, "folders need a name")
	}
	c.Layout.container = m
}

// Entries reads the container's directory. An entry that contradicts the file
// carries its own error; the others go on.
func (l *Layout) Entries(ctx context.Context, in Input, around Surroundings) ([]Entry, error) {
	if l.container == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a container", l.Kind)}
	}
	l = l.inOrder(in)
	r := newRun(ctx, l, in).with(around)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	return r.entries(e)
}

func (r *run) entries(e *env) ([]Entry, error) {
	m := r.layout.container
	n := m.each.count(e)
	if n > limit.Entries {
		return nil, r.errorf(m.each.list.line, m.each.list.col, "%d entries, at most %d are read", n, limit.Entries)
	}
	out := make([]Entry, 0, n)
	var tree *folderTree
	if m.folder != nil {
		tree = &folderTree{names: make([]string, 0, n), parents: make([]int, 0, n)}
	}
	var owners []int // of each entry, its record, where there are folders
	group := ""
	err := m.each.do(e, func(i int, e *env) error {
		name := ""
		if tree != nil || m.group != nil {
			var err error
			if name, err = m.name.text(e); err != nil {
				return err
			}
		}
		if tree != nil {
			p, err := m.folder.int(e)
			if err != nil {
				return err
			}
			tree.names = append(tree.names, name)
			tree.parents = append(tree.parents, int(min(max(p, -1), int64(limit.Entries))))
			if m.isFolder != nil {
				is, err := m.isFolder.eval(e)
				if err != nil {
					return err
				}
				if is.truth() {
					return r.cancelled()
				}
			}
		}
		if m.group != nil {
			is, err := m.group.eval(e)
			if err != nil {
				return err
			}
			if is.truth() {
				group = strings.Trim(name, "/\\") + "/"
				return r.cancelled()
			}
		}
		x := Entry{}
		x.Err = m.entry(&x, i, e)
		if x.Err != nil && x.Name == "" {
			x.Name = fmt.Sprintf("entry %d", i)
		}
		x.Name = group + x.Name
		if tree != nil {
			owners = append(owners, i)
		}
		if r.tracer != nil {
			o := r.self
			if x.File != "" {
				o = &opened{ref: x.File}
			}
			r.tracer.use(o, x.Offset, x.Packed, "entry "+short(x.Name), m.at.line, m.at.col, x.Err)
		}
		out = append(out, x)
		return r.cancelled()
	})
	if err == nil && tree != nil {
		for k, i := range owners {
			path, err := tree.path(i)
			if err != nil {
				path = out[k].Name
				if out[k].Err == nil {
					out[k].Err = r.errorAt(m.folder.line, m.folder.col, fmt.Errorf("entry %q: %w", short(path), err))
				}
			}
			out[k].Name = path
		}
	}
	return out, err
}

// folderTree is the folders of a directory whose records name their folder by
// its index.
type folderTree struct {
	names   []string
	parents []int
}

func (t *folderTree) path(i int) (string, error) {
	parts := []string{}
	for at := i; at >= 0; at = t.parents[at] {
		if at >= len(t.names) {
			return "", fmt.Errorf("its folder is record %d, and there are %d", at, len(t.names))
		}
		if len(parts) >= limit.FolderDepth {
			return "", fmt.Errorf("its folders lie more than %d deep, or in a ring", limit.FolderDepth)
		}
		if t.names[at] != "" {
			parts = append(parts, t.names[at])
		}
	}
	for a, b := 0, len(parts)-1; a < b; a, b = a+1, b-1 {
		parts[a], parts[b] = parts[b], parts[a]
	}
	return strings.Join(parts, "/"), nil
}

func (m *containerMap) entry(x *Entry, i int, e *env) (err error) {
	if m.name != nil {
		if x.Name, err = m.name.text(e); err != nil {
			return err
		}
	}
	r := e.run
	o, at, err := m.at.place(e)
	if err != nil {
		return err
	}
	x.Offset, x.File = at, o.ref
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
	if m.file != nil {
		if x.File, err = m.file.text(e); err != nil {
			return err
		}
		if x.File != "" {
			if o = r.open(x.File, nil); o.err != nil {
				return r.errorf(m.file.line, m.file.col, "entry %q: %v", short(x.Name), o.err)
			}
		}
	}
	if m.name == nil {
		x.Name = nameless(i, x, o.in)
	}
	if err := inRange(x.Offset, x.Packed, o.in.Size()); err != nil {
		return r.errorf(m.at.line, m.at.col, "entry %q: %v", short(x.Name), err)
	}
	if err := codec.CheckSizes(x.Codec, x.Packed, x.Size); err != nil {
		return r.errorf(m.size.line, m.size.col, "entry %q %v", short(x.Name), err)
	}
	return nil
}

// nameless makes the name of an entry that has none: its index, and as the
// ending the letters that its bytes begin with.
func nameless(i int, x *Entry, in Input) string {
	name := fmt.Sprintf("%05d", i)
	if x.Codec != codec.Stored || x.Size < 4 {
		return name
	}
	b, err := in.Bytes(x.Offset, 4)
	if err != nil {
		return name
	}
	end := ""
	for _, c := range b {
		switch {
		case c >= 'A' && c <= 'Z':
			c += 'a' - 'A'
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9' && end != "":
		default:
			c = 0
		}
		if c == 0 {
			break
		}
		end += string(rune(c))
	}
	if len(end) < 2 {
		return name
	}
	return name + "." + end
}

// short cuts a name for messages.
func short(s string) string {
	if len(s) > 80 {
		return s[:77] + "..."
	}
	return s
}
