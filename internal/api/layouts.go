package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"excavate/core/layout"
	"excavate/core/trial"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

func (s *Server) ListLayouts(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Layouts.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := []LayoutItem{}
	for _, r := range rows {
		x := LayoutItem{Id: r.ID, Name: r.Name, Versions: int(r.Head), Works: r.Good == r.Head}
		if l := r.Compiled; l != nil {
			x.Kind, x.Title, x.About, x.Format = string(l.Kind), l.Title, l.About, &l.Name
		}
		out = append(out, x)
	}
	for _, l := range s.svc.Layouts.Shipped() {
		out = append(out, LayoutItem{Name: l.Name, Kind: string(l.Kind), Title: l.Title, About: l.About, Shipped: true, Versions: 1, Works: true, Document: ptr(string(l.Doc))})
	}
	return c.JSON(out)
}

func (s *Server) CreateLayout(c fiber.Ctx, id ProjectID) error {
	b, err := body[CreateLayoutJSONRequestBody](c)
	if err != nil {
		return err
	}
	doc := value(b.Document)
	if doc == "" {
		var head []byte
		if b.Entry != nil {
			if head, err = s.read(c, *b.Entry, 0, 16); err != nil {
				return err
			}
		}
		doc = firstLayout(b.Name, head)
	}
	no, err := s.svc.Layouts.Create(c.Context(), id, b.Name, []byte(doc))
	if err != nil {
		return err
	}
	return s.sendLayout(c.Status(201), no, 0)
}

// firstLayout is the document that a new layout begins with: it recognises
// files that begin as this one does.
func firstLayout(name string, head []byte) string {
	mark := "  - {at: 0, bytes: \"00\"}"
	magic := "  - magic: bytes[4]"
	n := 0
	for n < len(head) && n < 4 && head[n] >= 0x20 && head[n] < 0x7f {
		n++
	}
	switch {
	case n >= 2:
		text, _ := json.Marshal(string(head[:n]))
		mark = fmt.Sprintf("  - {at: 0, ascii: %s}", text)
		magic = fmt.Sprintf("  - magic: ascii[%d]", n)
	case len(head) >= 4:
		mark = fmt.Sprintf("  - {at: 0, bytes: \"% x\"}", head[:4])
	}
	return fmt.Sprintf("layout: %s\nkind: container\norder: little\n\nrecognise:\n%s\n\nfields:\n%s\n\ncontainer:\n  each: \"[]\"\n  as: e\n  at: 0\n  size: 0\n", yamlWord(name), mark, magic)
}

// yamlWord is a text as one plain YAML value.
func yamlWord(s string) string {
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == ' ' || r == '_' || r == '-') {
			b, _ := json.Marshal(s)
			return string(b)
		}
	}
	return s
}

func checkOf(name string, doc []byte) LayoutCheck {
	l, err := layout.Compile(name, doc)
	if err == nil {
		return LayoutCheck{Works: true, Kind: ptr(string(l.Kind)), Name: ptr(l.Name)}
	}
	out := LayoutCheck{Message: ptr(err.Error())}
	var le *layout.Error
	if errors.As(err, &le) {
		out.Message = ptr(le.Msg)
		out.Line, out.Column = optional(le.Line), optional(le.Col)
	}
	return out
}

func (s *Server) sendLayout(c fiber.Ctx, id int64, version int) error {
	row, err := s.svc.Layouts.Version(c.Context(), id, version)
	if err != nil {
		return err
	}
	out := Layout{Id: id, Project: row.ProjectID, Name: row.Name, Version: row.No, Head: int(row.Head),
		Document: string(row.Doc), Check: checkOf(row.Name, row.Doc)}
	for _, v := range row.Versions {
		out.Versions = append(out.Versions, struct {
			Made string `json:"made"`
			No   int    `json:"no"`
		}{v.Made.UTC().Format(time.RFC3339), int(v.No)})
	}
	if row.Draft.Valid {
		out.Draft, out.DraftBase = ptr(row.Draft.String), ptr(int(row.DraftBase))
	}
	return c.JSON(out)
}

func (s *Server) PutDraft(c fiber.Ctx, id int64) error {
	b, err := body[PutDraftJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Layouts.SaveDraft(c.Context(), id, b.Base, []byte(b.Document)); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) DropDraft(c fiber.Ctx, id int64) error {
	if err := s.svc.Layouts.SaveDraft(c.Context(), id, 0, nil); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) GetLayout(c fiber.Ctx, id int64, p GetLayoutParams) error {
	return s.sendLayout(c, id, value(p.Version))
}

func (s *Server) PutLayout(c fiber.Ctx, id int64) error {
	b, err := body[PutLayoutJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Layouts.Save(c.Context(), id, b.Base, []byte(b.Document)); err != nil {
		return err
	}
	return s.sendLayout(c, id, 0)
}

func (s *Server) DeleteLayout(c fiber.Ctx, id int64) error {
	if err := s.svc.Bin.TakeOutLayout(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) LayoutDocument(c fiber.Ctx, id int64) error {
	row, err := s.svc.Layouts.Version(c.Context(), id, 0)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/yaml")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", fileName(row.Name)+".yaml"))
	return c.Send(row.Doc)
}

func fileName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '-'
	}, s)
}

func (s *Server) CheckLayout(c fiber.Ctx) error {
	b, err := bodyUpTo[CheckLayoutJSONRequestBody](c, mostLayout)
	if err != nil {
		return err
	}
	return c.JSON(checkOf("layout", []byte(b.Document)))
}

// mostLayout bounds a request that carries a layout, whose text may be escaped.
const mostLayout = 16 << 20

func (s *Server) LayoutSchema(c fiber.Ctx) error {
	c.Set("Content-Type", "application/schema+json")
	return c.Send(layout.Schema())
}

func (s *Server) RunCoverage(c fiber.Ctx, id int64) error {
	if err := s.svc.Layouts.QueueCoverage(c.Context(), id); err != nil {
		return err
	}
	return c.Status(202).JSON(struct{}{})
}

func (s *Server) GetCoverage(c fiber.Ctx, id int64) error {
	out, err := s.svc.Layouts.Coverage(c.Context(), id)
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) ExplainEntry(c fiber.Ctx, id EntryID) error {
	b, err := bodyUpTo[ExplainEntryJSONRequestBody](c, mostLayout)
	if err != nil {
		return err
	}
	l, err := layout.Compile("layout", []byte(b.Document))
	if err != nil {
		return badLayout(err)
	}
	_, in, around, done, err := s.svc.Layouts.Around(c.Context(), id)
	if err != nil {
		return err
	}
	defer done()
	focus := int64(-1)
	if b.Focus != nil {
		focus = *b.Focus
	}
	ctx, cancel := context.WithTimeout(c.Context(), explainTime)
	defer cancel()
	x := l.Explain(ctx, in, around, focus)
	head, _ := in.Bytes(0, min(in.Size(), layout.HeadBytes))
	out := Explained{Pieces: piecesOut(x.Pieces), Size: x.Size, Covered: x.Covered, Made: x.Made, Kind: ptr(string(l.Kind)), Recognised: ptr(l.Recognises(head))}
	out.Gaps = make([]struct {
		At   int64 `json:"at"`
		Size int64 `json:"size"`
	}, len(x.Gaps))
	for i, g := range x.Gaps {
		out.Gaps[i].At, out.Gaps[i].Size = g.Off, g.Size
	}
	if x.Err != nil {
		if ctx.Err() != nil && c.Context().Err() == nil {
			x.Err = fmt.Errorf("it is not read to the end within %s", explainTime)
		}
		out.Message = ptr(x.Err.Error())
		var le *layout.Error
		if errors.As(x.Err, &le) {
			out.Message, out.Line, out.Column = ptr(le.Msg), optional(le.Line), optional(le.Col)
			if le.HasOffset && le.In == "" {
				out.At = &le.Offset
			}
		}
	}
	return c.JSON(out)
}

// explainTime is how long somebody waits for a layout that is being written.
const explainTime = 10 * time.Second

func badLayout(err error) error {
	return bad(422, "%v", err)
}

func piecesOut(list []*layout.Piece) []Piece {
	out := make([]Piece, len(list))
	for i, p := range list {
		out[i] = Piece{Name: p.Name, Type: p.Type, At: p.Off, Size: p.Size, Value: optional(p.Value), In: optional(p.In), Line: optional(p.Line), Column: optional(p.Col),
			Error: optional(p.Error), Count: optional(p.Count), First: optional(p.First), Stride: optional(p.Stride)}
		if len(p.Pieces) > 0 {
			out[i].Pieces = ptr(piecesOut(p.Pieces))
		}
	}
	return out
}

func (s *Server) MakeOfEntry(c fiber.Ctx, id EntryID) error {
	b, err := bodyUpTo[MakeOfEntryJSONRequestBody](c, mostLayout)
	if err != nil {
		return err
	}
	l, err := layout.Compile("layout", []byte(b.Document))
	if err != nil {
		return badLayout(err)
	}
	ctx, cancel := context.WithTimeout(c.Context(), explainTime)
	defer cancel()
	m, err := s.svc.Layouts.MakeOf(ctx, id, l)
	if err != nil {
		return badLayout(err)
	}
	return c.JSON(m)
}

// fieldsAt names the field of the entry's layout that each range begins in;
// empty where there is none.
func (s *Server) fieldsAt(ctx context.Context, id int64, ranges []trial.Range) ([]string, error) {
	out := make([]string, len(ranges))
	row, in, around, done, err := s.svc.Layouts.Around(ctx, id)
	if err != nil {
		return nil, err
	}
	defer done()
	lib, err := s.svc.Libraries.Of(ctx, row.ProjectID)
	if err != nil {
		return nil, err
	}
	head, err := in.Bytes(0, min(in.Size(), layout.HeadBytes))
	if err != nil {
		return out, nil
	}
	l := lib.LayoutOf(around.Name, head)
	if l == nil || in.Size() > project.MostPreview {
		return out, nil
	}
	ctx, cancel := context.WithTimeout(ctx, explainTime)
	defer cancel()
	x := l.Explain(ctx, in, around, -1)
	for i, r := range ranges {
		out[i] = layout.PathAt(x.Pieces, r.At)
	}
	return out, nil
}

func (s *Server) ListBookmarks(c fiber.Ctx, id EntryID) error { return s.sendBookmarks(c, id) }

func (s *Server) sendBookmarks(c fiber.Ctx, id EntryID) error {
	rows, err := s.svc.Sources.Bookmarks(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Bookmark{}
	for _, r := range rows {
		out = append(out, Bookmark{Id: r.ID, At: r.Off, Size: r.Size, Note: r.Note})
	}
	return c.JSON(out)
}

func (s *Server) AddBookmark(c fiber.Ctx, id EntryID) error {
	b, err := body[AddBookmarkJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Sources.AddBookmark(c.Context(), id, b.At, b.Size, b.Note); err != nil {
		return err
	}
	return s.sendBookmarks(c.Status(201), id)
}

func (s *Server) DeleteBookmark(c fiber.Ctx, id EntryID, bookmark int64) error {
	if err := s.svc.Sources.DeleteBookmark(c.Context(), id, bookmark); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) PutReadings(c fiber.Ctx, id int64) error {
	b, err := body[map[string]string](c)
	if err != nil {
		return err
	}
	if err := s.svc.Finds.SetReadings(c.Context(), id, b); err != nil {
		return err
	}
	return c.Status(202).JSON(struct{}{})
}
