package api

import (
	"mime"
	"strings"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/internal/project"

	"github.com/gofiber/fiber/v3"
)

// keep lets the browser keep an answer: a digest names the same scene for good.
func keep(c fiber.Ctx, mime string, b []byte) error {
	c.Set("Content-Type", mime)
	c.Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Send(b)
}

// attach sends a file that the browser saves under a name.
func attach(c fiber.Ctx, name string, data []byte) error {
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	return c.Send(data)
}

func (s *Server) SceneInventory(c fiber.Ctx, digest Digest) error {
	b, err := s.svc.Scenes.Inventory(digest)
	if err != nil {
		return err
	}
	return keep(c, "application/json", b)
}

func (s *Server) SceneRig(c fiber.Ctx, digest Digest, p SceneRigParams) error {
	b, err := s.svc.Scenes.Rig(digest, value(p.Against))
	if err != nil {
		return err
	}
	return keep(c, "application/json", b)
}

func (s *Server) SceneMotion(c fiber.Ctx, digest Digest, motion int) error {
	b, err := s.svc.Scenes.Motion(digest, motion)
	if err != nil {
		return err
	}
	return keep(c, "application/json", b)
}

func (s *Server) SceneClues(c fiber.Ctx, digest Digest) error {
	list, err := s.svc.Scenes.Clues(digest)
	if err != nil {
		return err
	}
	return c.JSON(list)
}

func (s *Server) SceneUV(c fiber.Ctx, digest Digest, p SceneUVParams) error {
	b, err := s.svc.Scenes.UV(digest, p.Mesh, p.Part, p.Set)
	if err != nil {
		return err
	}
	return keep(c, "image/png", b)
}

func (s *Server) ScenePicture(c fiber.Ctx, digest Digest, n int, p ScenePictureParams) error {
	data, mime, _, err := s.svc.Scenes.Picture(digest, n)
	if err != nil {
		return err
	}
	if p.Show != nil && !p.Show.Valid() {
		return bad(400, "show %q: say all, colour, r, g, b or a", *p.Show)
	}
	if show := value(p.Show); show != "" && show != "all" {
		img, err := pixel.DecodePicture(data, mime)
		if err != nil {
			return project.Unreadable(err)
		}
		if data, err = pixel.PNG(channel(pixel.ToNRGBA(img), string(show))); err != nil {
			return err
		}
		mime = "image/png"
	}
	return keep(c, mime, data)
}

func (s *Server) ScenePictureFile(c fiber.Ctx, digest Digest, n int, p ScenePictureFileParams) error {
	data, from, name, err := s.svc.Scenes.Picture(digest, n)
	if err != nil {
		return err
	}
	img, err := pixel.DecodePicture(data, from)
	if err != nil {
		return project.Unreadable(err)
	}
	o := pixel.WriteOptions{Texels: pixel.Format(value(p.Texels)), Mips: value(p.Mips)}
	if o.Meaning, err = s.svc.Scenes.MeaningOf(digest, n); err != nil {
		return err
	}
	out, _, err := pixel.Write(p.Format, pixel.ToNRGBA(img), o)
	if err != nil {
		return bad(400, "%v", err)
	}
	if i := strings.LastIndexByte(name, '.'); i > 0 {
		name = name[:i]
	}
	name += pixel.Writable(p.Format).Ending
	return attach(c, name, out)
}

func (s *Server) ScenePictureAppraisal(c fiber.Ctx, digest Digest, n int) error {
	b, err := s.svc.Scenes.Appraisal(digest, n)
	if err != nil {
		return err
	}
	return keep(c, "application/json", b)
}

func (s *Server) ScenePictureDifference(c fiber.Ctx, digest Digest, n int, p ScenePictureDifferenceParams) error {
	b, err := s.svc.Scenes.PictureDifference(digest, n, p.With, p.Other)
	if err != nil {
		return err
	}
	return keep(c, "image/png", b)
}

func (s *Server) CompareScenes(c fiber.Ctx, digest Digest, p CompareScenesParams) error {
	x, err := s.svc.Scenes.Compare(digest, p.With, value(p.Tolerance))
	if err != nil {
		return err
	}
	return c.JSON(x)
}

func (s *Server) SceneDistances(c fiber.Ctx, digest Digest, p SceneDistancesParams) error {
	b, err := s.svc.Scenes.Distances(digest, p.With, value(p.Tolerance))
	if err != nil {
		return err
	}
	return keep(c, "model/gltf-binary", b)
}

func (s *Server) PutBasis(c fiber.Ctx, id int64) error {
	d, err := body[Decision](c)
	if err != nil {
		return err
	}
	var b geom.Basis
	for _, x := range []struct {
		to   *geom.Axis
		text string
	}{{&b.Up, d.Up}, {&b.Front, d.Front}} {
		if x.text != "" {
			if *x.to, err = geom.ParseAxis(x.text); err != nil {
				return bad(400, "%v", err)
			}
		}
	}
	b.Handed, b.MetresPerUnit = geom.Handedness(d.Handedness), d.MetresPerUnit
	if err := s.svc.Finds.SetBasis(c.Context(), id, &b); err != nil {
		return err
	}
	return c.Status(202).JSON(struct{}{})
}

func (s *Server) DeleteBasis(c fiber.Ctx, id int64) error {
	if err := s.svc.Finds.SetBasis(c.Context(), id, nil); err != nil {
		return err
	}
	return c.Status(202).JSON(struct{}{})
}
