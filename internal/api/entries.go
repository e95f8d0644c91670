package api

import (
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"mime"
	"path"
	"strconv"
	"strings"
	"time"

	"excavate/core/catalog"
	"excavate/core/find"
	"excavate/core/link"
	"excavate/core/pixel"
	"excavate/core/source"
	"excavate/internal/project"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

func value[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func filterOf(q *string, kind *Kind, source *int64, folder, set *string, lo, hi *int64) (project.Filter, error) {
	f := project.Filter{Text: value(q), Kind: string(value(kind)), Source: value(source), Folder: value(folder), Set: value(set), MinSize: value(lo), MaxSize: value(hi)}
	if !value(kind).Valid() {
		return f, bad(400, "there is no kind %q", f.Kind)
	}
	return f, nil
}

func pageOf(offset, limit *int) (from, n int) {
	n = 200
	if limit != nil {
		n = min(max(*limit, 1), 1000)
	}
	return max(value(offset), 0), n
}

func since(start time.Time) float64 { return float64(time.Since(start).Microseconds()) / 1000 }

func entryOut(r catalog.Row, g *link.Graph) Entry {
	e := Entry{Id: r.ID, Path: r.Path, Size: r.Size, Packed: r.Packed, Kind: Kind(r.Kind), Format: r.Format, Source: r.Source, SourceLabel: r.SourceLabel,
		OverriddenBy: optional(r.OverriddenBy), Error: optional(r.Error)}
	if len(r.Others) > 0 {
		e.Others = &r.Others
	}
	if g != nil {
		if found, all := g.Count(r.ID); all > 0 {
			e.Needs, e.Found = &all, &found
		}
	}
	return e
}

func (s *Server) ListEntries(c fiber.Ctx, id ProjectID, p ListEntriesParams) error {
	start := time.Now()
	f, err := filterOf(p.Q, p.Kind, p.Source, p.Folder, p.Set, p.Min, p.Max)
	if err != nil {
		return err
	}
	cat, q, err := s.svc.Sources.Find(c.Context(), id, f, string(value(p.Sort)))
	if err != nil {
		return err
	}
	from, n := pageOf(p.Offset, p.Limit)
	page, err := cat.Page(q, from, n)
	if err != nil {
		return err
	}
	g, _, err := s.svc.Sources.Links(c.Context(), id)
	if err != nil {
		return err
	}
	out := EntryPage{Total: page.Total, All: cat.Len(), Bytes: page.Bytes, Kinds: page.Kinds, Sources: map[string]int{}, Entries: []Entry{}}
	for k, v := range page.Sources {
		out.Sources[strconv.FormatInt(k, 10)] = v
	}
	for _, r := range page.Rows {
		out.Entries = append(out.Entries, entryOut(r, g))
	}
	if p.At != nil {
		at, err := cat.Index(q, *p.At)
		if err != nil {
			return err
		}
		out.At = &at
	}
	out.Milliseconds = since(start)
	return c.JSON(out)
}

func (s *Server) OutlineEntries(c fiber.Ctx, id ProjectID, p OutlineEntriesParams) error {
	start := time.Now()
	f, err := filterOf(p.Q, p.Kind, p.Source, p.Folder, p.Set, p.Min, p.Max)
	if err != nil {
		return err
	}
	cat, q, err := s.svc.Sources.Find(c.Context(), id, f, "path")
	if err != nil {
		return err
	}
	open := map[string]bool{}
	for _, x := range value(p.Open) {
		open[catalog.Lower(x)] = true
	}
	from, n := pageOf(p.Offset, p.Limit)
	lines, total, err := cat.Outline(q, func(folder string) bool { return open["*"] || open[catalog.Lower(folder)] }, from, n)
	if err != nil {
		return err
	}
	page, err := cat.Page(q, 0, 0)
	if err != nil {
		return err
	}
	g, _, err := s.svc.Sources.Links(c.Context(), id)
	if err != nil {
		return err
	}
	out := Outline{Total: total, All: cat.Len(), Kinds: page.Kinds}
	out.Lines = make([]struct {
		Bytes   *int64  `json:"bytes,omitempty"`
		Depth   int     `json:"depth"`
		Entries *int    `json:"entries,omitempty"`
		Entry   *Entry  `json:"entry,omitempty"`
		Folder  *string `json:"folder,omitempty"`
		Name    string  `json:"name"`
		Open    *bool   `json:"open,omitempty"`
	}, len(lines))
	for i, b := range lines {
		l := &out.Lines[i]
		l.Depth, l.Name = b.Depth, b.Name
		if b.Row != nil {
			l.Entry = ptr(entryOut(*b.Row, g))
			continue
		}
		l.Folder, l.Open, l.Entries, l.Bytes = &b.Folder, &b.Open, &b.Entries, &b.Bytes
	}
	out.Milliseconds = since(start)
	return c.JSON(out)
}

func (s *Server) ListSets(c fiber.Ctx, id ProjectID, p ListSetsParams) error {
	start := time.Now()
	f, err := filterOf(p.Q, p.Kind, p.Source, p.Folder, p.Set, p.Min, p.Max)
	if err != nil {
		return err
	}
	sets, cat, err := s.svc.Sources.Sets(c.Context(), id, f)
	if err != nil {
		return err
	}
	from, n := pageOf(p.Offset, p.Limit)
	out := SetPage{Total: len(sets), All: cat.Len()}
	from = min(from, len(sets))
	part := sets[from:min(from+n, len(sets))]
	out.Sets = make([]struct {
		Bytes   int64          `json:"bytes"`
		Entries int            `json:"entries"`
		First   int64          `json:"first"`
		Key     string         `json:"key"`
		Kinds   map[string]int `json:"kinds"`
	}, len(part))
	for i, set := range part {
		x := &out.Sets[i]
		x.Key, x.Entries, x.Kinds = set.Key, len(set.Rows), map[string]int{}
		model := false
		for k, r := range set.Rows {
			e, _ := cat.Entry(r)
			x.Kinds[e.Kind]++
			x.Bytes += max(0, e.Size)
			if k == 0 || !model && e.Kind == string(find.Model) {
				x.First, model = e.ID, e.Kind == string(find.Model)
			}
		}
	}
	out.Milliseconds = since(start)
	return c.JSON(out)
}

func entryName(cat *catalog.Catalog, row int32) EntryName {
	e, src := cat.Entry(row)
	return EntryName{Id: e.ID, Path: e.Path, SourceLabel: src.Label}
}

// mostNamed is how many entries a list of names shows.
const mostNamed = 50

func (s *Server) nearest(g *link.Graph, cat *catalog.Catalog, ref string) []EntryName {
	out := []EntryName{}
	for _, r := range g.Nearest(ref, func(e catalog.Entry) bool { return e.Kind == string(find.Picture) }, 3) {
		out = append(out, entryName(cat, r))
	}
	return out
}

func (s *Server) PreviewEntry(c fiber.Ctx, id EntryID) error {
	ctx := c.Context()
	e, row, src, i, err := s.svc.Sources.Entry(ctx, id)
	if k, ok := project.KindOf(err); ok && k == project.NotFound || err != nil && row.ID == 0 {
		return err
	}
	out := Preview{Kind: Kind(e.Kind), Entry: Entry{Id: id, Path: e.Path, Size: e.Size, Packed: e.Packed, Kind: Kind(e.Kind), Format: e.Format, Source: row.ID, SourceLabel: row.Label, Error: optional(e.Error)}}
	if err == nil {
		err = s.preview(ctx, &out, e, row, src, i)
	}
	if err != nil { // the preview says what is wrong; the entry is still there
		f := project.NewFailure(err)
		out.Error = &Error{Message: f.Message, At: optional(f.At)}
	}
	if err := s.surroundings(ctx, &out, row, src, i); err != nil {
		return err
	}
	return c.JSON(out)
}

// surroundings adds what is known of an entry besides its bytes.
func (s *Server) surroundings(ctx context.Context, out *Preview, row db.Source, src *source.Source, i int) error {
	find, err := s.svc.Finds.OfEntry(ctx, row, out.Entry.Path)
	if err != nil {
		return err
	}
	out.Find = optional(find)
	g, cat, err := s.svc.Sources.Links(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	rows, err := cat.Rows(catalog.Query{IDs: []int64{out.Entry.Id}})
	if err != nil {
		return err
	}
	if len(rows) > 0 {
		out.Entry = entryOut(cat.Row(rows[0]), g)
		key := g.Key(rows[0])
		if set := g.Set(key); key != "" && len(set) > 1 {
			out.Set, out.SetSize = &key, ptr(len(set))
		}
	}
	rules, err := s.svc.Sources.Rules(ctx, row.ProjectID)
	if err != nil {
		return err
	}
	if n := rules.Read(out.Entry.Path); n.Values != nil {
		out.Name = (*NameParts)(&n.Values)
	}
	needs := []Link{}
	for _, l := range g.Needs(out.Entry.Id) {
		needs = append(needs, s.linkOut(g, cat, l))
	}
	out.Needs = &needs
	by := g.NeededBy(out.Entry.Id)
	out.NeededByCount = ptr(len(by))
	names := []EntryName{}
	if len(by) > 0 {
		rows, err := cat.Rows(catalog.Query{IDs: by[:min(len(by), mostNamed)]})
		if err != nil {
			return err
		}
		for _, r := range rows {
			names = append(names, entryName(cat, r))
		}
	}
	out.NeededBy = &names
	t := s.svc.Sources.TermsOfEntry(row, src, i, out.Entry.Format)
	out.Terms, out.Short = ptr(termsOut(t)), ptr(t.Short())
	return nil
}

func (s *Server) linkOut(g *link.Graph, cat *catalog.Catalog, l link.Link) Link {
	out := Link{Ref: l.Ref, Role: l.Role, How: l.How.String(), Sure: LinkSure(l.How.Sure()), Looked: []string{}, Nearest: []EntryName{}}
	if l.Row >= 0 {
		out.Entry = ptr(entryName(cat, l.Row))
	} else {
		out.Looked, out.Nearest = g.Looked(l.Ref), s.nearest(g, cat, l.Ref)
	}
	return out
}

const textShown = 64 << 10

func (s *Server) preview(ctx context.Context, out *Preview, e db.Entry, row db.Source, src *source.Source, i int) error {
	switch find.Kind(e.Kind) {
	case find.Model:
		if e.Size > project.MostPreview {
			return fmt.Errorf("it has %d bytes; models up to %d are shown. It can be extracted", e.Size, int64(project.MostPreview))
		}
		_, m, err := s.svc.Finds.Decode(ctx, row.ProjectID, src, i, nil, nil)
		if err != nil {
			return err
		}
		model, err := same[Model](m)
		out.Model = &model
		return err
	case find.Picture:
		p, err := s.svc.Sources.Picture(ctx, out.Entry.Id)
		if err != nil {
			return err
		}
		out.Picture = &struct {
			Format string `json:"format"`
			Height int    `json:"height"`
			Width  int    `json:"width"`
		}{p.Format, p.Height, p.Width}
	case find.Text:
		head, err := src.Head(i, textShown)
		if err != nil {
			return err
		}
		enc := find.TextEncoding(head[:min(len(head), find.HeadBytes)])
		out.Text, out.Encoding, out.Cut = ptr(find.DecodeText(head, enc)), &enc, ptr(e.Size > textShown)
	case find.Archive:
		out.Mountable = ptr(true)
	}
	if e.Error != "" {
		return errors.New(e.Error)
	}
	return nil
}

func (s *Server) EntryPicture(c fiber.Ctx, id EntryID, p EntryPictureParams) error {
	pic, err := s.svc.Sources.Picture(c.Context(), id)
	if err != nil {
		return err
	}
	if p.Show != nil && !p.Show.Valid() {
		return bad(400, "show %q: say all, colour, r, g, b or a", *p.Show)
	}
	if show := value(p.Show); show != "" && show != "all" {
		img, err := pixel.DecodePicture(pic.Data, pic.MIME)
		if err != nil {
			return project.Unreadable(err)
		}
		if pic.Data, err = pixel.PNG(channel(pixel.ToNRGBA(img), string(show))); err != nil {
			return err
		}
		pic.MIME = "image/png"
	}
	c.Set("Content-Type", pic.MIME)
	c.Set("Cache-Control", "private, max-age=60")
	return c.Send(pic.Data)
}

// channel shows one channel as grey, or the colour without its alpha.
func channel(in *image.NRGBA, show string) *image.NRGBA {
	k := strings.Index("rgba", show)
	for i := 0; i+3 < len(in.Pix); i += 4 {
		p := in.Pix[i : i+4]
		if k >= 0 {
			p[0], p[1], p[2] = p[k], p[k], p[k]
		}
		p[3] = 255
	}
	return in
}

// EntryContent streams an entry's bytes. A browser's player asks for ranges.
func (s *Server) EntryContent(c fiber.Ctx, id EntryID, p EntryContentParams) error {
	e, _, src, i, err := s.svc.Sources.Entry(c.Context(), id)
	if err != nil {
		return err
	}
	c.Set("Accept-Ranges", "bytes")
	c.Set("Content-Type", contentType(e))
	c.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	disposition := "inline"
	if value(p.Save) {
		disposition = "attachment"
	}
	c.Set("Content-Disposition", mime.FormatMediaType(disposition, map[string]string{"filename": path.Base(e.Path)}))
	from, n, ok, err := byteRange(c.Get("Range"), e.Size)
	if err != nil {
		c.Set("Content-Range", fmt.Sprintf("bytes */%d", e.Size))
		return bad(416, "%v", err)
	}
	if ok {
		c.Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", from, from+n-1, e.Size))
		c.Status(206)
	}
	if n <= wholeAnswer { // read before it is answered, so that what is wrong can be said
		var b []byte
		if n == e.Size {
			b, err = src.Read(i)
		} else {
			b, err = src.Range(i, from, int(n))
		}
		if err != nil {
			return err
		}
		return c.Send(b)
	}
	r, err := src.Stream(i)
	if err != nil {
		return err
	}
	if from > 0 {
		if _, err := io.CopyN(io.Discard, r, from); err != nil {
			r.Close()
			return err
		}
	}
	return c.SendStream(&limited{io.LimitReader(r, n), r}, int(n))
}

// wholeAnswer is the size up to which bytes are read before they are sent.
const wholeAnswer = 4 << 20

type limited struct {
	io.Reader
	io.Closer
}

func contentType(e db.Entry) string {
	switch e.Format {
	case "ogg":
		return "audio/ogg"
	case "wav":
		return "audio/wav"
	case "mp3":
		return "audio/mpeg"
	case "flac":
		return "audio/flac"
	}
	return "application/octet-stream"
}

// byteRange reads a Range header with one range (RFC 9110, section 14.1.2);
// others are passed over, as the standard allows.
func byteRange(h string, size int64) (from, n int64, ok bool, err error) {
	spec, is := strings.CutPrefix(h, "bytes=")
	if !is || strings.Contains(spec, ",") {
		return 0, size, false, nil
	}
	a, b, dash := strings.Cut(spec, "-")
	if !dash {
		return 0, size, false, nil
	}
	first, e1 := strconv.ParseInt(a, 10, 64)
	last, e2 := strconv.ParseInt(b, 10, 64)
	switch {
	case a == "" && e2 == nil: // the last bytes
		first, last = max(0, size-last), size-1
	case e1 != nil || b != "" && e2 != nil:
		return 0, size, false, nil
	case b == "":
		last = size - 1
	}
	last = min(last, size-1)
	if first > last {
		return 0, 0, false, fmt.Errorf("the entry has %d bytes; there is no range %q", size, spec)
	}
	return first, last - first + 1, true, nil
}

func (s *Server) MountEntry(c fiber.Ctx, id EntryID) error {
	src, err := s.svc.Sources.Mount(c.Context(), id)
	if err != nil {
		return err
	}
	return s.sendSource(c, 201, src)
}
