// Package find makes finds of entries: it tells what an entry is from its
// bytes, decodes models with whichever open format or layout knows them, and
// finds their pictures through the source stack.
package find

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"excavate/core/format"
	"excavate/core/layout"
	"excavate/core/pixel"
	"excavate/core/scene"
	"excavate/core/source"
)

// Library is what there is to decode with.
type Library struct {
	Layouts *layout.Set
	Formats format.Registry
}

// Kind says what an entry is, told by its first bytes.
type Kind string

// The kinds.
const (
	Model   Kind = "model"
	Picture Kind = "picture"
	Archive Kind = "archive"
	Sound   Kind = "sound"
	Text    Kind = "text"
	Data    Kind = "data" // none of the others
)

// HeadBytes is how many first bytes KindOf looks at.
const HeadBytes = 512

// isText accepts UTF-8 without control characters, cut off anywhere.
func isText(b []byte) bool {
	if len(b) == 0 {
		return false
	}
	for i := 0; i < len(b); {
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 {
			return len(b)-i < utf8.UTFMax && len(b) >= HeadBytes
		}
		if r < 0x20 && r != '\n' && r != '\r' && r != '\t' && r != '\f' || r == 0x7f {
			return false
		}
		i += n
	}
	return true
}

// Input is one model to decode.
type Input struct {
	Name  string // path in its source, or file name
	Data  []byte
	From  string       // label of its source, for messages; may be empty
	Stack source.Stack // where pictures are looked for
	// Finder, if it is set, is asked instead of the stack.
	Finder Finder

	// Readings choose where a layout leaves open what bytes mean.
	Readings map[string]string

	// Used, if it is set, is told of every entry that something was taken from.
	// It may be called from several goroutines.
	Used func(source.Hit)

	// Known, if it is set, has the scenes of entries that an assembly names and
	// that were decoded already; nil for others.
	Known func(source.Hit) (*scene.Scene, error)

	asked     func(ref string) // told of every companion that a reader asks for
	namesOnly bool             // pictures are not looked for
	depth     int              // of assemblies that it lies in
}

// Finder finds what a name stands for. looked says where, if it is in vain.
type Finder interface {
	Resolve(ref string, accept func(*source.Source, int) bool) (hit source.Hit, ok bool, looked []string)
}

func (in *Input) finder() Finder {
	if in.Finder != nil {
		return in.Finder
	}
	return in.Stack
}

// Decode makes a scene of a model. Pictures that are not found stay in the
// scene as missing, with where they were looked for. format says what the
// entry was read as. What the file, or its layout, leaves to the reader is the
// scene's choices.
func (l *Library) Decode(ctx context.Context, in Input) (s *scene.Scene, format string, err error) {
	defer caught(&err)
	head := in.Data[:min(len(in.Data), layout.HeadBytes)]
	var refused []error
	for _, c := range l.candidates(in.Name, head) {
		s, format, err = l.decodeAs(ctx, c, in)
		if err == nil || !errors.Is(err, layout.ErrNotMine) {
			break
		}
		refused = append(refused, err)
	}
	switch {
	case s != nil || err != nil && len(refused) == 0:
	case err != nil: // of several that know it, none takes it
		err = errors.Join(refused...)
	default:
		kind, _ := l.KindOf(in.Name, head)
		if kind != Text {
			kind = ""
		}
		return nil, string(kind), unknown(kind, head)
	}
	if err != nil {
		return nil, format, err
	}
	if s.Name == "" {
		s.Name = strings.TrimSuffix(path.Base(in.Name), path.Ext(in.Name))
	}
	s.ChooseDetail(in.Readings[scene.DetailChoice])
	irregular(s)
	for i := range s.Pictures {
		p := &s.Pictures[i] // the scene is ours until it is returned
		if p.Missing() && p.Ref != "" && len(p.Looked) == 0 && !in.namesOnly {
			l.seek(ctx, in, p)
		}
	}
	return s, format, ctx.Err()
}

// decodeAs makes a scene of a model by one of those that know it.
func (l *Library) decodeAs(ctx context.Context, c candidate, in Input) (s *scene.Scene, name string, err error) {
	x := c.layout
	switch {
	case x == nil && c.reader != nil:
		if s, err = c.reader.Read(ctx, formatFile(l, in)); err != nil {
			return nil, c.reader.Name, err
		}
		if s.Avatar != nil {
			return s, "vrm", nil
		}
		return s, c.reader.Name, nil
	case x == nil && c.name == assemblyName:
		s, err = l.assemble(ctx, in)
		return s, c.name, err
	case x == nil:
		return nil, c.name, fmt.Errorf("it is %s, not a model", c.name)
	case x.Kind == layout.Container:
		return nil, x.Name, fmt.Errorf("it is an archive (%s): list or mount it", x.Name)
	case x.Kind == layout.Picture:
		return nil, x.Name, fmt.Errorf("it is a picture (%s), not a model", x.Name)
	}
	if s, err = x.Scene(ctx, layout.Memory(in.Data), l.Around(in)); err != nil {
		return nil, x.Name, err
	}
	for _, r := range x.Readings() {
		c := scene.Choice{Name: r.Name, About: r.About, Options: r.Choices, Chosen: r.Choices[0]}
		if v, ok := in.Readings[r.Name]; ok {
			c.Chosen = v
		}
		s.Choices = append(s.Choices, c)
	}
	return s, x.Name, nil
}

// unknown is the error of a file that nothing knows as a model.
func unknown(kind Kind, head []byte) error {
	switch {
	case len(head) == 0:
		return errors.New("the file is empty")
	case kind == Text:
		return errors.New("it is text, not a model")
	}
	return fmt.Errorf("no open format and no layout recognises its first bytes (% x); describe it with a layout",
		head[:min(8, len(head))])
}

// seek finds one picture through the stack and decodes it.
func (l *Library) seek(ctx context.Context, in Input, p *scene.Picture) {
	hit, ok, looked := in.finder().Resolve(p.Ref, l.IsPicture)
	if !ok {
		p.Looked = looked
		return
	}
	where := hit.Source.Label + ": " + hit.Path()
	data, err := hit.Source.Read(hit.Entry)
	if err != nil {
		p.Looked = []string{fmt.Sprintf("%s cannot be read: %v", where, err)}
		return
	}
	pic, err := l.PictureOf(ctx, Input{Name: hit.Path(), Data: data, From: hit.Source.Label, Finder: in.finder()})
	if err != nil {
		p.Looked = []string{fmt.Sprintf("%s cannot be decoded: %v", where, err)}
		return
	}
	p.Data, p.MIME, p.Width, p.Height = pic.Data, pic.MIME, pic.Width, pic.Height
	p.Found, p.How = where, hit.How
	in.used(hit)
}

// PictureEndings are those that pictures usually have.
var PictureEndings = []string{".png", ".jpg", ".jpeg", ".gif", ".bmp", ".webp", ".tif", ".tiff", ".tga", ".dds", ".ktx", ".ktx2"}

// IsPicture tells whether an entry is a picture, from its bytes.
func (l *Library) IsPicture(s *source.Source, i int) bool {
	head, err := s.Head(i, HeadBytes)
	if err != nil {
		return false
	}
	kind, _ := l.KindOf(s.Entries()[i].Path, head)
	return kind == Picture
}

func (in *Input) used(hit source.Hit) {
	if in.Used != nil {
		in.Used(hit)
	}
}

// Decoded is a picture as PNG or JPEG.
type Decoded struct {
	Data          []byte
	MIME          string
	Format        string // what it was
	Width, Height int
}

// Picture decodes a picture of an open format, or of a layout that needs no
// other file.
func (l *Library) Picture(ctx context.Context, data []byte) (Decoded, error) {
	return l.PictureOf(ctx, Input{Data: data, Finder: nowhere{}})
}

// nowhere finds nothing.
type nowhere struct{}

func (nowhere) Resolve(string, func(*source.Source, int) bool) (source.Hit, bool, []string) {
	return source.Hit{}, false, nil
}

// PictureOf decodes a picture, whose palette may lie in another file.
func (l *Library) PictureOf(ctx context.Context, in Input) (d Decoded, err error) {
	defer caught(&err)
	data := in.Data
	head := data[:min(len(data), layout.HeadBytes)]
	var refused []error
	for _, c := range l.candidates(in.Name, head) {
		if c.layout == nil {
			break
		}
		if c.layout.Kind != layout.Picture {
			continue
		}
		img, err := c.layout.Image(ctx, layout.Memory(data), l.Around(in))
		if err == nil {
			out, err := pixel.PNG(img)
			return Decoded{out, "image/png", c.layout.Name, img.Rect.Dx(), img.Rect.Dy()}, err
		}
		if !errors.Is(err, layout.ErrNotMine) {
			return Decoded{}, err
		}
		refused = append(refused, err)
	}
	d.Data, d.MIME, d.Format, d.Width, d.Height, err = pixel.Encoded(data)
	if err != nil && len(refused) > 0 {
		err = errors.Join(refused...)
	}
	return d, err
}

// missing is the error of a companion that was not found.
type missing struct {
	ref    string
	looked []string
}

func (m *missing) Error() string    { return fmt.Sprintf("%q was not found", m.ref) }
func (m *missing) Looked() []string { return m.looked }

// Around is what a layout sees around an entry: the files of the stack, those
// beside it first.
func (l *Library) Around(in Input) layout.Surroundings {
	return layout.Surroundings{Name: in.Name, Readings: in.Readings, Open: func(ref string) (layout.Input, error) {
		b, _, err := l.companion(in, ref)
		return layout.Memory(b), err
	}}
}

func formatFile(l *Library, in Input) format.File {
	f := format.File{Name: in.Name, Data: in.Data, Readings: in.Readings}
	f.Companion = func(ref string) ([]byte, string, error) {
		b, where, err := l.named(in, ref)
		if err == nil {
			if _, _, _, _, _, e := pixel.Encoded(b); e != nil {
				if pic, e := l.Picture(context.Background(), b); e == nil {
					b = pic.Data
				}
			}
		}
		return b, where, err
	}
	return f
}

// named reads a file that a model of an open format names. Its name must be
// the same but for capitals: with another ending it would be another thing,
// such as the model itself. A picture may have become one of another format; a
// library of materials may bear another name, which its reader says.
func (l *Library) named(in Input, ref string) ([]byte, string, error) {
	base := path.Base(strings.ReplaceAll(ref, "\\", "/"))
	loose := strings.EqualFold(path.Ext(base), ".mtl")
	picture := slices.Contains(PictureEndings, strings.ToLower(path.Ext(base)))
	return l.companionOf(in, ref, func(s *source.Source, i int) bool {
		p := s.Entries()[i].Path
		return strings.EqualFold(path.Base(p), base) || loose && strings.EqualFold(path.Ext(p), ".mtl") || picture && l.IsPicture(s, i)
	})
}

// companion reads another file that a layout names.
func (l *Library) companion(in Input, ref string) ([]byte, string, error) {
	return l.companionOf(in, ref, nil)
}

func (l *Library) companionOf(in Input, ref string, accept func(*source.Source, int) bool) ([]byte, string, error) {
	if in.asked != nil {
		in.asked(ref)
	}
	// Relative to the file itself first, then as it stands.
	beside := path.Join(path.Dir(strings.ReplaceAll(in.Name, "\\", "/")), strings.ReplaceAll(ref, "\\", "/"))
	hit, ok, looked := in.finder().Resolve(beside, accept)
	if ok && hit.How != source.SamePath {
		if h, exact, _ := in.finder().Resolve(ref, accept); exact && (h.How == source.SamePath || h.How == source.Pinned) {
			hit = h
		}
	}
	if !ok {
		if hit, ok, _ = in.finder().Resolve(ref, accept); !ok {
			return nil, "", &missing{ref, looked}
		}
	}
	b, err := hit.Source.Read(hit.Entry)
	if err == nil {
		in.used(hit)
	}
	return b, hit.Source.Label + ": " + hit.Path(), err
}

// TextPreview returns the first bytes of a text as UTF-8.
func TextPreview(b []byte, most int) string {
	b = b[:min(len(b), most)]
	return DecodeText(b, TextEncoding(b[:min(len(b), 4096)]))
}
