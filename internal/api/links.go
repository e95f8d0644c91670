package api

import (
	"strings"

	"excavate/core/catalog"
	"excavate/core/naming"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

// name rules

func (s *Server) sendNaming(c fiber.Ctx, id ProjectID) error {
	rules, err := s.svc.Sources.Rules(c.Context(), id)
	if err != nil {
		return err
	}
	list, err := s.svc.Sources.Proposals(c.Context(), id)
	if err != nil {
		return err
	}
	cat, err := s.svc.Sources.Catalog(c.Context(), id)
	if err != nil {
		return err
	}
	counts, err := s.svc.Sources.RuleCounts(c.Context(), id, rules)
	if err != nil {
		return err
	}
	out, err := same[Naming](map[string]any{"names": cat.Len(), "roles": naming.Roles, "rules": []any{}, "proposals": []any{}})
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for i, r := range rules {
		known[r.Where+strings.ToLower(r.Affix)] = true
		out.Rules = append(out.Rules, struct {
			Affix string `json:"affix"`
			Count int    `json:"count"`
			Means string `json:"means"`
			Value string `json:"value"`
			Where string `json:"where"`
		}{r.Affix, counts[i], r.Means, r.Value, r.Where})
	}
	for _, p := range list {
		if known[p.Where+p.Affix] {
			continue
		}
		out.Proposals = append(out.Proposals, struct {
			Affix    string `json:"affix"`
			Count    int    `json:"count"`
			Evidence string `json:"evidence"`
			Example  string `json:"example"`
			Means    string `json:"means"`
			Value    string `json:"value"`
			Where    string `json:"where"`
		}{p.Affix, p.Count, p.Evidence, p.Example, p.Means, p.Value, p.Where})
	}
	return c.JSON(out)
}

func (s *Server) GetNaming(c fiber.Ctx, id ProjectID) error { return s.sendNaming(c, id) }

func (s *Server) PutNaming(c fiber.Ctx, id ProjectID) error {
	b, err := body[PutNamingJSONRequestBody](c)
	if err != nil {
		return err
	}
	rules := naming.Rules{}
	switch {
	case b.Document != nil:
		if rules, err = naming.Parse([]byte(*b.Document)); err != nil {
			return bad(400, "%v", err)
		}
	case b.Rules != nil:
		for _, r := range *b.Rules {
			rules = append(rules, naming.Rule{Where: string(r.Where), Affix: r.Affix, Means: string(r.Means), Value: r.Value})
		}
	default:
		return bad(400, "name rules are given as rules or as a document")
	}
	if err := s.svc.Sources.SetRules(c.Context(), id, rules); err != nil {
		return err
	}
	return s.sendNaming(c, id)
}

func (s *Server) NamingDocument(c fiber.Ctx, id ProjectID) error {
	rules, err := s.svc.Sources.Rules(c.Context(), id)
	if err != nil {
		return err
	}
	b, err := rules.YAML()
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/yaml")
	c.Set("Content-Disposition", `attachment; filename="name-rules.yaml"`)
	return c.Send(b)
}

// links

func (s *Server) ListMissing(c fiber.Ctx, id ProjectID) error {
	g, cat, err := s.svc.Sources.Links(c.Context(), id)
	if err != nil {
		return err
	}
	const most = 500
	gaps := g.Gaps()
	out, err := same[Missing](map[string]any{"total": len(gaps), "asked": 0, "names": []any{}})
	if err != nil {
		return err
	}
	lacking := map[int64]bool{}
	for i, gap := range gaps {
		for _, e := range gap.Entries {
			lacking[e] = true
		}
		if i >= most {
			continue
		}
		x := struct {
			Count   int         `json:"count"`
			Entries []EntryName `json:"entries"`
			Looked  []string    `json:"looked"`
			Nearest []EntryName `json:"nearest"`
			Ref     string      `json:"ref"`
		}{Ref: gap.Ref, Count: len(gap.Entries), Entries: []EntryName{}, Looked: g.Looked(gap.Ref), Nearest: []EntryName{}}
		if i < mostNamed {
			x.Nearest = s.nearest(g, cat, gap.Ref)
		}
		rows, err := cat.Rows(catalog.Query{IDs: gap.Entries[:min(len(gap.Entries), mostNamed)]})
		if err != nil {
			return err
		}
		for _, r := range rows {
			x.Entries = append(x.Entries, entryName(cat, r))
		}
		out.Names = append(out.Names, x)
	}
	out.Asked = len(lacking)
	return c.JSON(out)
}

func (s *Server) ListPins(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Sources.Pins(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Pin{}
	for _, r := range rows {
		out = append(out, Pin{Ref: r.Ref, SourceLabel: r.SourceLabel, Path: r.EntryPath})
	}
	return c.JSON(out)
}

func (s *Server) PutPin(c fiber.Ctx, id ProjectID) error {
	b, err := body[PutPinJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Sources.Pin(c.Context(), id, b.Ref, b.Entry); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) DeletePin(c fiber.Ctx, id ProjectID, p DeletePinParams) error {
	if err := s.svc.Sources.Unpin(c.Context(), id, p.Ref); err != nil {
		return err
	}
	return c.SendStatus(204)
}

// selections

func selectionOf(x Selection) (project.Selection, error) {
	sel, err := same[project.Selection](x)
	if err == nil && sel.Filter != nil && !Kind(sel.Filter.Kind).Valid() {
		err = bad(400, "there is no kind %q", sel.Filter.Kind)
	}
	return sel, err
}

func (s *Server) sendSelection(c fiber.Ctx, id ProjectID, digest string, sel project.Selection) error {
	got, err := s.svc.Sources.Select(c.Context(), id, sel)
	if err != nil {
		return err
	}
	out := Selected{Digest: digest, Entries: len(got.Rows), Bytes: got.Bytes, Missing: append([]string{}, got.Missing...)}
	if out.Selection, err = same[Selection](sel); err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) KeepSelection(c fiber.Ctx, id ProjectID) error {
	b, err := body[KeepSelectionJSONRequestBody](c)
	if err != nil {
		return err
	}
	sel, err := selectionOf(b)
	if err != nil {
		return err
	}
	digest, err := s.svc.Sources.KeepSelection(c.Context(), id, sel)
	if err != nil {
		return err
	}
	return s.sendSelection(c, id, digest, sel)
}

func (s *Server) GetSelection(c fiber.Ctx, id ProjectID, digest string) error {
	sel, err := s.svc.Sources.SelectionAt(c.Context(), id, digest)
	if err != nil {
		return err
	}
	return s.sendSelection(c, id, digest, sel)
}
