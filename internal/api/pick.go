package api

import (
	"encoding/json"

	"excavate/core/pick"

	"github.com/gofiber/fiber/v3"
)

func (s *Server) PickOfScene(c fiber.Ctx, digest Digest) error {
	b, err := body[PickOfSceneJSONRequestBody](c)
	if err != nil {
		return err
	}
	rule, err := json.Marshal(b.Where)
	if err != nil {
		return err
	}
	p, err := s.svc.Scenes.Pick(digest, rule)
	if err != nil {
		return err
	}
	return c.JSON(p)
}

func (s *Server) ProposalsOfScene(c fiber.Ctx, digest Digest) error {
	b, err := body[ProposalsOfSceneJSONRequestBody](c)
	if err != nil {
		return err
	}
	t := pick.Things{Nodes: given(b.Nodes), Materials: given(b.Materials), Pictures: given(b.Pictures)}
	for _, p := range given(b.Parts) {
		t.Parts = append(t.Parts, [2]int{p[0], p[1]})
	}
	list, err := s.svc.Scenes.RulesFor(digest, t)
	if err != nil {
		return err
	}
	return c.JSON(list)
}

// given is a list that may be left out.
func given[T any](list *[]T) []T {
	if list == nil {
		return nil
	}
	return *list
}

func (s *Server) TrialOfStep(c fiber.Ctx, digest Digest) error {
	b, err := body[TrialOfStepJSONRequestBody](c)
	if err != nil {
		return err
	}
	steps, err := stepsIn([]ChainStep{b.Step})
	if err != nil {
		return err
	}
	t, err := s.svc.Chains.Try(c.Context(), b.Project, digest, b.Key, steps[0])
	if err != nil {
		return err
	}
	return c.JSON(t)
}
