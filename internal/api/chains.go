package api

import (
	"encoding/json"
	"fmt"
	"strings"

	"excavate/core/chain"
	"excavate/core/delivery"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

func stepOut(st chain.Step) ChainStep {
	out := ChainStep{Step: st.Step, Off: optional(st.Off), Group: optional(st.Group)}
	if len(st.With) > 0 {
		m := map[string]any{}
		if json.Unmarshal(st.With, &m) == nil {
			out.With = &m
		}
	}
	return out
}

func stepsIn(in []ChainStep) ([]chain.Step, error) {
	out := make([]chain.Step, 0, len(in))
	for _, st := range in {
		x := chain.Step{Step: st.Step, Off: st.Off != nil && *st.Off}
		if st.Group != nil {
			x.Group = *st.Group
		}
		if st.With != nil {
			b, err := json.Marshal(*st.With)
			if err != nil {
				return nil, err
			}
			x.With = b
		}
		out = append(out, x)
	}
	c := &chain.Chain{Steps: out}
	if err := c.Check(); err != nil {
		return nil, bad(400, "%v", err)
	}
	return out, nil
}

func chainOut(c project.Whole) Chain {
	out := Chain{Id: c.ID, Find: c.FindID, Name: c.Name, Target: c.Target, Revision: int(c.Head),
		CanUndo: c.Head > 1, CanRedo: int64(c.Head) < c.Last, Steps: []ChainStep{}}
	for _, st := range c.Steps {
		out.Steps = append(out.Steps, stepOut(st))
	}
	return out
}

func (s *Server) sendChain(c fiber.Ctx, status int, id int64) error {
	x, err := s.svc.Chains.Whole(c.Context(), id)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(chainOut(*x))
}

func (s *Server) ListChains(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Chains.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Chain{}
	for _, r := range rows {
		out = append(out, chainOut(r))
	}
	return c.JSON(out)
}

func (s *Server) CreateChain(c fiber.Ctx, id ProjectID) error {
	b, err := body[CreateChainJSONRequestBody](c)
	if err != nil {
		return err
	}
	doc := &chain.Chain{Name: strings.TrimSpace(b.Name), Steps: []chain.Step{}}
	if b.Document != nil && *b.Document != "" {
		if doc, err = chain.Parse([]byte(*b.Document)); err != nil {
			return bad(400, "%v", err)
		}
		doc.Name = strings.TrimSpace(b.Name)
	}
	if b.Chain != nil {
		if doc, err = s.svc.Chains.Document(c.Context(), *b.Chain); err != nil {
			return err
		}
		if b.Steps != nil {
			doc.Steps = doc.Steps[:min(len(doc.Steps), *b.Steps)]
		}
		doc.Name = strings.TrimSpace(b.Name)
	}
	if doc.Name == "" {
		return bad(400, "the chain needs a name")
	}
	n, err := s.svc.Chains.Create(c.Context(), id, b.Find, doc)
	if err != nil {
		return err
	}
	return s.sendChain(c, 201, n)
}

func (s *Server) GetChain(c fiber.Ctx, id ChainID) error { return s.sendChain(c, 200, id) }

func (s *Server) PatchChain(c fiber.Ctx, id ChainID) error {
	b, err := body[PatchChainJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Chains.Set(c.Context(), id, b.Name, b.Target); err != nil {
		return err
	}
	return s.sendChain(c, 200, id)
}

func (s *Server) PutSteps(c fiber.Ctx, id ChainID) error {
	b, err := body[PutStepsJSONRequestBody](c)
	if err != nil {
		return err
	}
	steps, err := stepsIn(b.Steps)
	if err != nil {
		return err
	}
	if err := s.svc.Chains.Edit(c.Context(), id, b.Revision, steps); err != nil {
		return err
	}
	return s.sendChain(c, 200, id)
}

func (s *Server) UndoChain(c fiber.Ctx, id ChainID) error {
	if err := s.svc.Chains.MoveHead(c.Context(), id, -1); err != nil {
		return err
	}
	return s.sendChain(c, 200, id)
}

func (s *Server) RedoChain(c fiber.Ctx, id ChainID) error {
	if err := s.svc.Chains.MoveHead(c.Context(), id, 1); err != nil {
		return err
	}
	return s.sendChain(c, 200, id)
}

func (s *Server) ChainDocument(c fiber.Ctx, id ChainID) error {
	doc, err := s.svc.Chains.Document(c.Context(), id)
	if err != nil {
		return err
	}
	b, err := doc.YAML()
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/yaml")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", delivery.FileName(doc.Name, ".yaml")))
	return c.Send(b)
}

func (s *Server) RunChain(c fiber.Ctx, id ChainID) error {
	if err := s.svc.Chains.Run(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) ListBands(c fiber.Ctx, id ChainID) error {
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	bands, running, err := s.svc.Chains.Bands(c.Context(), row)
	if err != nil {
		return err
	}
	out := CoreSample{Running: running, Bands: []Band{}}
	for _, b := range bands {
		x := Band{Index: b.Index, Title: b.Title, Family: b.Family, State: BandState(b.State), Scene: optional(b.Scene), Lines: b.Report.Lines, Losses: b.Report.Losses,
			Idle: optional(b.Report.Idle), Seconds: optional(b.Seconds), Key: optional(b.Key), Error: optional(b.Error)}
		if x.Lines == nil {
			x.Lines = []string{}
		}
		if x.Losses == nil {
			x.Losses = []string{}
		}
		if b.Step != nil {
			x.Step = ptr(stepOut(*b.Step))
		}
		if o := b.Spoiled; o != nil {
			x.Spoiled = &struct {
				After int    `json:"after"`
				Why   string `json:"why"`
			}{o.After + 1, o.Why}
		}
		if b.Stats != nil {
			st, err := same[Stats](b.Stats)
			if err != nil {
				return err
			}
			x.Stats = &st
		}
		if b.Basis != nil {
			ba, err := same[Basis](b.Basis)
			if err != nil {
				return err
			}
			x.Basis = &ba
		}
		out.Bands = append(out.Bands, x)
	}
	return c.JSON(out)
}

func (s *Server) ChainOverMany(c fiber.Ctx, id ProjectID, p ChainOverManyParams) error {
	out, err := s.svc.Chains.Over(c.Context(), id, p.Name)
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) RunOver(c fiber.Ctx, id ChainID) error {
	b, err := body[RunOverJSONRequestBody](c)
	if err != nil {
		return err
	}
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	made, err := s.svc.Chains.RunOver(c.Context(), row, b.Finds)
	if err != nil {
		return err
	}
	return c.JSON(fiber.Map{"made": made})
}

func (s *Server) SameForAll(c fiber.Ctx, id ChainID) error {
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	changed, err := s.svc.Chains.SameForAll(c.Context(), row)
	if err != nil {
		return err
	}
	return c.JSON(fiber.Map{"changed": changed})
}
