package api

import (
	"encoding/json"
	"errors"
	"time"

	"excavate/core/document"
	"excavate/core/target"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

func linesOut(t *target.Sheet) []SheetLine {
	out := []SheetLine{}
	if t != nil {
		for _, l := range t.Lines() {
			out = append(out, SheetLine{What: l[0], Value: l[1]})
		}
	}
	return out
}

func targetOut(x *project.Sheet) Target {
	out := Target{Id: x.ID, Name: x.ID, Shipped: x.Shipped, Lines: linesOut(x.Sheet)}
	if x.Sheet != nil {
		out.Name, out.About = x.Sheet.Name, x.Sheet.About
	} else {
		out.About = x.Error
	}
	return out
}

func (s *Server) ListTargets(c fiber.Ctx) error {
	list, err := s.svc.Sheets.List(c.Context())
	if err != nil {
		return err
	}
	out := []Target{}
	for i := range list {
		out = append(out, targetOut(&list[i]))
	}
	return c.JSON(out)
}

// sheetValues are a sheet's values as a form has them; none where the text is
// no sheet.
func sheetValues(text []byte) map[string]any {
	t, err := target.Parse(text)
	if err != nil {
		return map[string]any{}
	}
	b, err := json.Marshal(t)
	if err != nil {
		return map[string]any{}
	}
	var out map[string]any
	if json.Unmarshal(b, &out) != nil {
		return map[string]any{}
	}
	return out
}

func (s *Server) sheetDocument(c fiber.Ctx, id string, version int) (SheetDocument, error) {
	text, versions, err := s.svc.Sheets.Text(c.Context(), id, version)
	if err != nil {
		return SheetDocument{}, err
	}
	out := SheetDocument{Id: id, Text: string(text), Shipped: versions == nil, Values: sheetValues(text),
		Version: version}
	for _, v := range versions {
		if out.Version == 0 {
			out.Version = int(v.No)
		}
		out.Versions = append(out.Versions, struct {
			Made time.Time `json:"made"`
			No   int       `json:"no"`
		}{v.Made, int(v.No)})
	}
	if out.Versions == nil {
		out.Versions = out.Versions[:0:0]
	}
	return out, nil
}

func (s *Server) GetTarget(c fiber.Ctx, id string, p GetTargetParams) error {
	out, err := s.sheetDocument(c, id, value(p.Version))
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) CreateTarget(c fiber.Ctx) error {
	b, err := body[CreateTargetJSONRequestBody](c)
	if err != nil {
		return err
	}
	id, err := s.svc.Sheets.Create(c.Context(), []byte(b.Text))
	if err != nil {
		return err
	}
	out, err := s.sheetDocument(c, id, 0)
	if err != nil {
		return err
	}
	return c.Status(201).JSON(out)
}

func (s *Server) EditTarget(c fiber.Ctx, id string) error {
	b, err := body[EditTargetJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Sheets.Edit(c.Context(), id, b.Version, []byte(b.Text)); err != nil {
		return err
	}
	out, err := s.sheetDocument(c, id, 0)
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) DropTarget(c fiber.Ctx, id string, p DropTargetParams) error {
	if err := s.svc.Sheets.Delete(c.Context(), id, !value(p.Back)); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) CheckTarget(c fiber.Ctx) error {
	b, err := body[CheckTargetJSONRequestBody](c)
	if err != nil {
		return err
	}
	text := []byte(value(b.Text))
	if b.Values != nil {
		v, err := json.Marshal(*b.Values)
		if err != nil {
			return err
		}
		if text, err = target.Text(v, text); err != nil {
			return c.JSON(SheetCheck{Message: ptr(err.Error()), Lines: []SheetLine{}})
		}
	}
	t, err := target.Parse(text)
	out := SheetCheck{Ok: err == nil, Lines: linesOut(t), Text: ptr(string(text))}
	if err != nil {
		out.Message = ptr(err.Error())
		var at *document.Error
		if errors.As(err, &at) {
			out.Message, out.Line, out.Column = ptr(at.Msg), optional(at.Line), optional(at.Col)
		}
	} else {
		out.Values = ptr(sheetValues(text))
	}
	return c.JSON(out)
}

func (s *Server) TargetSchema(c fiber.Ctx) error {
	c.Set("Content-Type", "application/json")
	return c.Send(target.Schema())
}

func (s *Server) ProposeTarget(c fiber.Ctx) error {
	b, err := body[ProposeTargetJSONRequestBody](c)
	if err != nil {
		return err
	}
	text, err := s.svc.Sheets.Propose(c.Context(), b.Find)
	if err != nil {
		return err
	}
	return c.JSON(SheetText{Text: string(text)})
}
