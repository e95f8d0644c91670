package api

import (
	"encoding/json"
	"fmt"

	"excavate/core/extract"
	"excavate/internal/project"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

func extractionOut(r db.Extraction) (Extraction, error) {
	out := Extraction{Id: r.ID, Title: r.Title, To: r.Dest, Form: r.Form, Policy: r.Policy, State: ExtractionState(r.State), Error: optional(r.Error), Entries: r.Entries, Bytes: r.Bytes, Created: r.Created}
	var err error
	out.Summary, err = same[*ExtractionSummary](r.Summary)
	return out, err
}

func (s *Server) ListExtractions(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Extractions.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Extraction{}
	for _, r := range rows {
		x, err := extractionOut(r)
		if err != nil {
			return err
		}
		out = append(out, x)
	}
	return c.JSON(out)
}

func (s *Server) sendExtraction(c fiber.Ctx, status int, id int64) error {
	row, err := s.svc.Extractions.Get(c.Context(), id)
	if err != nil {
		return err
	}
	out, err := extractionOut(row)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(out)
}

func (s *Server) GetExtraction(c fiber.Ctx, id int64) error { return s.sendExtraction(c, 200, id) }

func (s *Server) Extract(c fiber.Ctx, id ProjectID) error {
	b, err := body[ExtractJSONRequestBody](c)
	if err != nil {
		return err
	}
	x := project.Extraction{Title: value(b.Title), Form: string(b.Form), To: value(b.To), Policy: extract.Policy(value(b.Policy)), Flat: value(b.Flat)}
	if x.Policy == "" {
		x.Policy = extract.Refuse
	}
	for _, m := range value(b.Map) {
		x.Map = append(x.Map, extract.Mapping{From: m.From, To: m.To})
	}
	if x.Selection, err = selectionOf(b.Selection); err != nil {
		return err
	}
	made, err := s.svc.Extractions.Extract(c.Context(), id, x)
	if err != nil {
		return err
	}
	return s.sendExtraction(c, 201, made)
}

func (s *Server) ExtractionSummary(c fiber.Ctx, id int64) error {
	sum, err := s.svc.Extractions.Summary(c.Context(), id)
	if err != nil {
		return err
	}
	var v any
	if err := json.Unmarshal(sum, &v); err != nil {
		return err
	}
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/json")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=\"extraction-%d.json\"", id))
	return c.Send(append(b, '\n'))
}

func (s *Server) ResumeExtraction(c fiber.Ctx, id int64) error {
	if err := s.svc.Extractions.Resume(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}
