package api

import (
	"encoding/json"

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
	p, err := s.svc.Pick(digest, rule)
	if err != nil {
		return err
	}
	return c.JSON(p)
}
