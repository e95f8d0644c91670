package api

import (
	"archive/zip"
	"bufio"
	"bytes"
	"fmt"
	"mime"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/internal/project"
	"excavate/internal/shipped"

	"github.com/gofiber/fiber/v3"
)

func (s *Server) FindFile(c fiber.Ctx, id int64, p FindFileParams) error {
	w := shipped.Writers.Named(p.Format)
	if w == nil {
		return bad(400, "%q is no format that is written", p.Format)
	}
	sc, name, err := s.svc.Finds.SceneOf(c.Context(), id)
	if err != nil {
		return err
	}
	files, _, err := w.Write(sc, name)
	if err != nil {
		return bad(422, "%v", err)
	}
	data, file := files[0].Data, files[0].Name
	if len(files) > 1 {
		var buf bytes.Buffer
		z := zip.NewWriter(&buf)
		for _, f := range files {
			to, err := z.Create(f.Name)
			if err != nil {
				return err
			}
			if _, err := to.Write(f.Data); err != nil {
				return err
			}
		}
		if err := z.Close(); err != nil {
			return err
		}
		data, file = buf.Bytes(), file+".zip"
	}
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": file}))
	return c.Send(data)
}

// FindsFile streams a ZIP: each find's files as they are made, so that only one
// is in memory at a time.
func (s *Server) FindsFile(c fiber.Ctx, id ProjectID, p FindsFileParams) error {
	w := shipped.Writers.Named(p.Format)
	if w == nil {
		return bad(400, "%q is no format that is written", p.Format)
	}
	list, err := s.svc.Finds.DecodedIn(c.Context(), id, p.Finds)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/zip")
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": "finds" + w.Ending + ".zip"}))
	return c.SendStreamWriter(func(to *bufio.Writer) {
		defer func() { // this runs beside the handler, where survive does not reach
			if r := recover(); r != nil {
				s.fault("saving several finds", r)
			}
		}()
		z := zip.NewWriter(to)
		var names distinct.Names
		for _, x := range list {
			folder := names.Name(flat.FileName(x.Name), " ")
			if err := s.zipFind(z, folder, x.Scene, x.Name, w); err != nil {
				s.log("saving %s: %v", x.Name, err)
				return // the ZIP has no end, so that nobody takes it for whole
			}
		}
		z.Close()
		to.Flush()
	})
}

// zipFind adds a find's files to a ZIP, or the reason why it has none.
func (s *Server) zipFind(z *zip.Writer, folder, digest, name string, w *format.Writer) error {
	put := func(name string, data []byte) error {
		to, err := z.Create(folder + "/" + name)
		if err == nil {
			_, err = to.Write(data)
		}
		return err
	}
	sc, err := s.svc.Scenes.Get(digest)
	if err != nil {
		return err
	}
	files, _, err := w.Write(sc, name)
	if err != nil {
		return put("not saved.txt", fmt.Appendf(nil, "%s cannot be saved as %s: %v\n", name, w.Title, err))
	}
	for _, f := range files {
		if err := put(f.Name, f.Data); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) FindFileChoices(c fiber.Ctx, id int64) error {
	sc, name, err := s.svc.Finds.SceneOf(c.Context(), id)
	if err != nil {
		return err
	}
	out := []SaveChoice{}
	for _, x := range shipped.Writers.Choices(sc, name) {
		choice := SaveChoice{Format: x.Writer.Name, Title: x.Writer.Title, Ending: x.Writer.Ending, Losses: x.Losses}
		choice.Notes = make([]struct {
			Loss bool   `json:"loss"`
			Text string `json:"text"`
		}, len(x.Notes))
		for i, n := range x.Notes {
			choice.Notes[i].Loss, choice.Notes[i].Text = n.Loss, n.Text
		}
		if x.Refused != "" {
			choice.Refused = &x.Refused
		}
		out = append(out, choice)
	}
	return c.JSON(out)
}

func (s *Server) ListFormats(c fiber.Ctx) error { return c.JSON(shipped.All()) }

func (s *Server) ListGallery(c fiber.Ctx, id ProjectID) error {
	list, err := s.svc.Finds.Gallery(c.Context(), id)
	if err != nil {
		return err
	}
	return c.JSON(list)
}

func (s *Server) FindAll(c fiber.Ctx, id ProjectID) error {
	f, err := body[project.Filter](c)
	if err != nil {
		return err
	}
	n, err := s.svc.Finds.FindAll(c.Context(), id, f)
	if err != nil {
		return err
	}
	return c.Status(202).JSON(map[string]int{"models": n})
}

func (s *Server) PutTogether(c fiber.Ctx, id ProjectID) error {
	b, err := body[PutTogetherJSONRequestBody](c)
	if err != nil {
		return err
	}
	name := strings.TrimSpace(b.Name)
	if name == "" {
		return bad(400, "what is put together needs a name")
	}
	n, err := s.svc.Finds.PutTogether(c.Context(), id, name, b.Finds)
	if err != nil {
		return err
	}
	return s.sendFind(c, 201, n)
}
