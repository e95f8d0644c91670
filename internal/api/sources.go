package api

import (
	"encoding/json"

	"excavate/core/terms"
	"excavate/internal/project"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

func termsOut(t terms.Terms) Terms {
	out := Terms{Owner: t.Owner, Licence: t.Licence, Private: Answer(t.Private),
		ShareChanged: Answer(t.ShareChanged), ShareUnchanged: Answer(t.ShareUnchanged), Sell: Answer(t.Sell),
		Evidence: t.Evidence, ByHand: t.ByHand}
	if p := t.Permission; p != nil {
		out.Permission = &Permission{Text: p.Text, Date: optional(p.Date), File: optional(p.File),
			Sha256: optional(p.SHA256)}
	}
	return out
}

func (s *Server) sourceOut(r db.Source) Source {
	out := Source{Id: r.ID, Position: int(r.Position), Label: r.Label, Path: r.Path, Format: r.Format, IsLayout: r.IsLayout, Size: r.Size,
		Entries: int(r.EntryCount), State: SourceState(r.State), Error: optional(r.Error), Problems: []string{}, Remarks: []string{}, Origin: SourceOrigin(r.Origin),
		KindsKnown: r.KindsKnown, Changed: optional(s.svc.Sources.Changed(r)),
		Inside: optional(r.Inside), Licence: optional(r.Terms)}
	if r.ParentID.Valid {
		out.Parent = &r.ParentID.Int64
	}
	json.Unmarshal(r.Problems, &out.Problems)
	json.Unmarshal(r.Remarks, &out.Remarks)
	var t terms.Terms
	json.Unmarshal(r.Rights, &t)
	out.Terms, out.Short = termsOut(t), t.Short()
	return out
}

func (s *Server) ListSources(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Sources.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Source{}
	for _, r := range rows {
		out = append(out, s.sourceOut(r))
	}
	return c.JSON(out)
}

func (s *Server) sendSource(c fiber.Ctx, status int, id int64) error {
	row, err := s.svc.Sources.Get(c.Context(), id)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(s.sourceOut(row))
}

func (s *Server) AddSource(c fiber.Ctx, id ProjectID) error {
	b, err := body[AddSourceJSONRequestBody](c)
	if err != nil {
		return err
	}
	src, err := s.svc.Sources.AddPath(c.Context(), id, b.Path)
	if err != nil {
		return err
	}
	return s.sendSource(c, 201, src)
}

func (s *Server) OrderSources(c fiber.Ctx, id ProjectID) error {
	b, err := body[OrderSourcesJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Sources.OrderAll(c.Context(), id, b.Ids); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) PatchSource(c fiber.Ctx, id int64) error {
	b, err := body[PatchSourceJSONRequestBody](c)
	if err != nil {
		return err
	}
	x := b.Terms
	t := terms.Terms{Owner: x.Owner, Licence: x.Licence, Private: terms.Answer(x.Private), ShareChanged: terms.Answer(x.ShareChanged), ShareUnchanged: terms.Answer(x.ShareUnchanged), Sell: terms.Answer(x.Sell), Evidence: x.Evidence, ByHand: true}
	if p := x.Permission; p != nil {
		t.Permission = &terms.Permission{Text: p.Text, Date: value(p.Date), File: value(p.File),
			SHA256: value(p.Sha256)}
		if p.Data != nil {
			t.Permission.Data = *p.Data
		}
	}
	if err := s.svc.Sources.SetTerms(c.Context(), id, t); err != nil {
		return err
	}
	return s.sendSource(c, 200, id)
}

func (s *Server) IndexSource(c fiber.Ctx, id int64) error {
	if err := s.svc.Sources.Reindex(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) RemoveSource(c fiber.Ctx, id int64) error {
	if err := s.svc.Bin.TakeOutSource(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) ListLibrary(c fiber.Ctx, id ProjectID, p ListLibraryParams) error {
	list, err := s.svc.Sources.LibraryFor(c.Context(), id, value(p.Names))
	if err != nil {
		return err
	}
	return c.JSON(list)
}

// uploads

func uploadOut(u *project.Upload) Upload { return Upload{Id: u.ID, Name: u.Name, Received: u.Received} }

func (s *Server) BeginUpload(c fiber.Ctx, id ProjectID) error {
	b, err := bodyUpTo[BeginUploadJSONRequestBody](c, maxUploadList)
	if err != nil {
		return err
	}
	u := project.Upload{Name: b.Name, Folder: b.Folder}
	for _, f := range b.Files {
		u.Files = append(u.Files, project.UploadFile{Path: f.Path, Size: f.Size, Modified: f.Modified})
	}
	made, err := s.svc.Sources.BeginUpload(c.Context(), id, u)
	if err != nil {
		return err
	}
	return c.JSON(uploadOut(made))
}

func (s *Server) GetUpload(c fiber.Ctx, id string) error {
	u, err := s.svc.Sources.UploadAt(id)
	if err != nil {
		return err
	}
	return c.JSON(uploadOut(u))
}

func (s *Server) UploadPiece(c fiber.Ctx, id string, file int, p UploadPieceParams) error {
	n, err := s.svc.Sources.Append(id, file, p.Offset, bodyReader(c))
	if err != nil {
		return err
	}
	return c.JSON(map[string]int64{"received": n})
}

func (s *Server) FinishUpload(c fiber.Ctx, id string) error {
	src, err := s.svc.Sources.FinishUpload(c.Context(), id)
	if err != nil {
		return err
	}
	return s.sendSource(c, 201, src)
}

func (s *Server) CancelUpload(c fiber.Ctx, id string) error {
	if err := s.svc.Sources.CancelUpload(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}
