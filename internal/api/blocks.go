package api

import (
	"excavate/core/delivery"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

func (s *Server) SceneBlocks(c fiber.Ctx, digest Digest, p SceneBlocksParams) error {
	b, err := s.svc.Scenes.Blocks(digest)
	if err != nil {
		return err
	}
	var data []byte
	switch p.Format {
	case SceneBlocksParamsFormatTxt:
		data = b.Text()
	case SceneBlocksParamsFormatJson:
		data, err = b.JSON()
	default:
		data, err = b.PDF(c.Context())
	}
	if err != nil {
		return project.Unreadable(err)
	}
	return attach(c, delivery.FileName(b.Name, "."+string(p.Format)), data)
}
