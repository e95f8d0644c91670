package api

import (
	"mime"

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
		return err
	}
	name := b.Name
	if name == "" {
		name = "blocks"
	}
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name + "." + string(p.Format)}))
	return c.Send(data)
}
