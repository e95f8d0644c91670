package api

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"strings"
	"time"

	"excavate/core/step"
	"excavate/internal/notices"
	"excavate/internal/project"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

var _ ServerInterface = (*Server)(nil)

// body reads a JSON body and refuses what the contract does not know.
func body[T any](c fiber.Ctx) (T, error) { return bodyUpTo[T](c, maxBody) }

func bodyUpTo[T any](c fiber.Ctx, most int64) (v T, err error) {
	d := json.NewDecoder(io.LimitReader(bodyReader(c), most))
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil {
		return v, bad(400, "the request's body is not what this address takes: %v", err)
	}
	if _, err := d.Token(); err != io.EOF {
		return v, bad(400, "something follows the request's body")
	}
	return v, nil
}

func bodyReader(c fiber.Ctx) io.Reader {
	if r := c.Request().BodyStream(); r != nil {
		return r
	}
	return strings.NewReader(string(c.Body()))
}

func ptr[T any](v T) *T { return &v }

// optional is nil for the zero value.
func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

// same turns a value into a type of the contract that has the same JSON.
func same[T any](v any) (out T, err error) {
	b, ok := v.(json.RawMessage)
	if !ok {
		if b, err = json.Marshal(v); err != nil {
			return out, err
		}
	}
	err = json.Unmarshal(b, &out)
	return out, err
}

func (s *Server) ListProjects(c fiber.Ctx) error {
	rows, err := s.svc.Projects.List(c.Context())
	if err != nil {
		return err
	}
	out := []Project{}
	for _, r := range rows {
		out = append(out, projectOut(r))
	}
	return c.JSON(out)
}

// projectNow is a project as it is now; chain is that of which the last stages
// are counted, see project.Tally.
func (s *Server) projectNow(c fiber.Ctx, id, chain int64) (Project, error) {
	t, err := s.svc.Projects.Tally(c.Context(), id, chain)
	if err != nil {
		return Project{}, err
	}
	p := projectOut(t.TalliesRow)
	if t.Chain != nil {
		p.Counts.Chain, p.Counts.ChainName = &t.Chain.ID, &t.Chain.Name
	}
	p.Counts.Steps, p.Counts.Rehearsed, p.Counts.Stops, p.Counts.Warns = t.Steps, t.Rehearsed, t.Stops, t.Warns
	return p, nil
}

func (s *Server) sendProject(c fiber.Ctx, status int, id int64) error {
	p, err := s.projectNow(c, id, 0)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(p)
}

func (s *Server) CreateProject(c fiber.Ctx) error {
	b, err := body[CreateProjectJSONRequestBody](c)
	if err != nil {
		return err
	}
	id, err := s.svc.Projects.Create(c.Context(), strings.TrimSpace(b.Name))
	if err != nil {
		return err
	}
	return s.sendProject(c, 201, id)
}

func (s *Server) GetProject(c fiber.Ctx, id ProjectID, p GetProjectParams) error {
	out, err := s.projectNow(c, id, value(p.Chain))
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) PatchProject(c fiber.Ctx, id ProjectID) error {
	b, err := body[PatchProjectJSONRequestBody](c)
	if err != nil {
		return err
	}
	if err := s.svc.Projects.Rename(c.Context(), id, b.Name); err != nil {
		return err
	}
	return s.sendProject(c, 200, id)
}

func (s *Server) DeleteProject(c fiber.Ctx, id ProjectID) error {
	if err := s.svc.Projects.Delete(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) CopyProject(c fiber.Ctx, id ProjectID) error {
	b, err := body[CopyProjectJSONRequestBody](c)
	if err != nil {
		return err
	}
	made, err := s.svc.Projects.Copy(c.Context(), id, b.Name)
	if err != nil {
		return err
	}
	return s.sendProject(c, 201, made)
}

func (s *Server) ExportProject(c fiber.Ctx, id ProjectID) error {
	doc, err := s.svc.Projects.Export(c.Context(), id)
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": doc.Name + ".excavate.json"}))
	return c.Send(append(b, '\n'))
}

// mostProjectFile is how many bytes the file of a project may have.
const mostProjectFile = 64 << 20

func (s *Server) ImportProject(c fiber.Ctx) error {
	b, err := io.ReadAll(io.LimitReader(bodyReader(c), mostProjectFile+1))
	if err != nil {
		return err
	}
	if len(b) > mostProjectFile {
		return bad(413, "the file of a project has at most %d MB", mostProjectFile>>20)
	}
	id, remarks, err := s.svc.Projects.Import(c.Context(), b)
	if err != nil {
		return err
	}
	p, err := s.projectNow(c, id, 0)
	if err != nil {
		return err
	}
	return c.Status(201).JSON(Imported{Project: p, Remarks: append([]string{}, remarks...)})
}

func projectOut(r db.TalliesRow) Project {
	return Project{Id: r.ID, Name: r.Name, Version: r.Version, Counts: Counts{
		Sources: int(r.Sources), Entries: int(r.Entries), SourceProblems: int(r.SourceProblems), Finds: int(r.Finds),
		Incomplete: int(r.Incomplete), Chains: int(r.Chains), Deliveries: int(r.Deliveries),
	}}
}

// finds

func findOut(f *project.Found) (Find, error) {
	out := Find{Id: f.ID, EntryPath: f.EntryPath, SourceLabel: f.SourceLabel, Name: f.Name, State: FindState(f.State),
		Entry: optional(f.Entry)}
	var err error
	if out.Error, err = same[*Error](f.Error); err != nil {
		return out, err
	}
	if out.Model, err = same[*Model](f.Model); err != nil {
		return out, err
	}
	if len(f.Chains) > 0 {
		out.Chains = &f.Chains
	}
	return out, nil
}

func (s *Server) ListFinds(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Finds.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := make([]Find, len(rows))
	for i := range rows {
		if out[i], err = findOut(&rows[i]); err != nil {
			return err
		}
	}
	return c.JSON(out)
}

func (s *Server) sendFind(c fiber.Ctx, status int, id int64) error {
	row, err := s.svc.Finds.Found(c.Context(), id)
	if err != nil {
		return err
	}
	f, err := findOut(row)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(f)
}

func (s *Server) CreateFind(c fiber.Ctx, id ProjectID) error {
	b, err := body[CreateFindJSONRequestBody](c)
	if err != nil {
		return err
	}
	f, err := s.svc.Finds.Create(c.Context(), id, b.Entry)
	if err != nil {
		return err
	}
	return s.sendFind(c, 201, f)
}

func (s *Server) GetFind(c fiber.Ctx, id int64) error { return s.sendFind(c, 200, id) }

func (s *Server) FindSources(c fiber.Ctx, id int64) error {
	row, err := s.svc.Finds.Get(c.Context(), id)
	if err != nil {
		return err
	}
	list, err := s.svc.Finds.SourcesOf(c.Context(), row)
	if err != nil {
		return err
	}
	out := []Origin{}
	for _, o := range list {
		x := Origin{Source: o.Source, Entries: o.Entries, Sha256: optional(o.SHA256), Text: optional(o.Text), Short: ptr(value(o.Rights).Short())}
		if o.Rights != nil {
			x.Rights = ptr(termsOut(*o.Rights))
		}
		out = append(out, x)
	}
	return c.JSON(out)
}

func (s *Server) DeleteFind(c fiber.Ctx, id int64) error {
	if err := s.svc.Bin.TakeOutFind(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) ListTaken(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Bin.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Taken{}
	for _, r := range rows {
		t := Taken{Id: r.ID, Kind: TakenKind(r.Kind), Name: r.Name, Made: r.Made.UTC().Format(time.RFC3339)}
		if err := json.Unmarshal(r.Also, &t.Also); err != nil {
			return err
		}
		out = append(out, t)
	}
	return c.JSON(out)
}

func (s *Server) PutBack(c fiber.Ctx, id ProjectID, taken int64) error {
	if err := s.svc.Bin.PutBack(c.Context(), id, taken); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) DecodeFind(c fiber.Ctx, id int64) error {
	if err := s.svc.Jobs.DecodeAgain(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(202)
}

// scenes

func (s *Server) SceneThumb(c fiber.Ctx, digest Digest, p SceneThumbParams) error {
	b, err := s.svc.Scenes.Thumb(digest, p.Read != nil && *p.Read == ReadAsTarget)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "image/png")
	c.Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Send(b)
}

func (s *Server) SceneView(c fiber.Ctx, digest Digest, p SceneViewParams) error {
	b, err := s.svc.Scenes.View(digest, p.Read != nil && *p.Read == ReadAsTarget)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "model/gltf-binary")
	c.Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Send(b)
}

// Notices are the licences of all that is in the program.
func (s *Server) Notices(c fiber.Ctx) error {
	c.Set("Content-Type", "text/plain; charset=utf-8")
	return c.SendString("Excavate " + s.svc.Version + "\n\n" + notices.Text)
}

// kinds of step and target sheets

func (s *Server) ListSteps(c fiber.Ctx) error {
	out := []StepKind{}
	for _, k := range step.All() {
		x := StepKind{Name: k.Name, Title: k.Title, Purpose: k.Purpose, Family: string(k.Family), Order: k.Order, On: optional(StepKindOn(k.On))}
		if err := json.Unmarshal(k.Schema, &x.Schema); err != nil {
			return err
		}
		out = append(out, x)
	}
	return c.JSON(out)
}

// jobs

func jobOut(j db.Job) Job {
	out := Job{Id: j.ID, Kind: j.Kind, Title: j.Title, State: JobState(j.State), Done: j.Done, Total: j.Total, Unit: j.Unit, Bytes: j.Bytes, BytesTotal: j.BytesTotal, Error: optional(j.Error)}
	if j.Started.Valid {
		end := time.Now()
		if j.Ended.Valid {
			end = j.Ended.Time
		}
		out.Seconds = max(0, end.Sub(j.Started.Time).Seconds())
	}
	return out
}

func (s *Server) ListJobs(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Jobs.Recent(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Job{}
	for _, r := range rows {
		out = append(out, jobOut(r))
	}
	return c.JSON(out)
}

func (s *Server) CancelJob(c fiber.Ctx, id int64) error {
	if err := s.svc.Jobs.Cancel(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

// ProjectEvents streams what changes: the project's version and its jobs. The
// database is asked four times a second, so that work of other processes
// shows as well.
func (s *Server) ProjectEvents(c fiber.Ctx, id ProjectID) error {
	c.Set("Content-Type", "text/event-stream")
	c.Set("Cache-Control", "no-cache")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer func() {
			if r := recover(); r != nil {
				_ = s.fault("the events of a project", r) // the page connects again
			}
		}()
		ctx, cancel := context.WithTimeout(context.Background(), time.Hour) // the page connects again
		defer cancel()
		version := int64(-1)
		sent := map[int64]string{}
		send := func(event string, v any) error {
			b, err := json.Marshal(v)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, b)
			return err
		}
		for tick := 0; ctx.Err() == nil; tick++ {
			p, err := s.svc.Projects.Get(ctx, id)
			if err != nil {
				return
			}
			jobs, err := s.svc.Jobs.Recent(ctx, id)
			if err != nil {
				return
			}
			for i := len(jobs) - 1; i >= 0; i-- {
				out := jobOut(jobs[i])
				key := fmt.Sprint(out.State, out.Done, out.Total, out.Bytes)
				if sent[out.Id] != key {
					sent[out.Id] = key
					if send("job", out) != nil {
						return
					}
				}
			}
			if p.Version != version {
				version = p.Version
				if send("changed", map[string]int64{"version": version}) != nil {
					return
				}
			}
			if tick%40 == 0 {
				fmt.Fprint(w, ": alive\n\n")
			}
			if w.Flush() != nil {
				return
			}
			time.Sleep(250 * time.Millisecond)
		}
	})
}
