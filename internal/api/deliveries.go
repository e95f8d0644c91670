package api

import (
	"fmt"
	"io"

	"excavate/core/delivery"
	"excavate/core/scene"
	"excavate/core/target"
	"excavate/core/terms"
	"excavate/internal/project"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

// rehearsal

func stepsOf[T any](list []T, out func(T) ChainStep) *[]ChainStep {
	if list == nil {
		return nil
	}
	steps := make([]ChainStep, len(list))
	for i, x := range list {
		steps[i] = out(x)
	}
	return &steps
}

func findingOut(f *target.Finding, since int, r *project.Rehearsed) Finding {
	x := Finding{Rule: f.Rule, Severity: FindingSeverity(f.Severity), Title: f.Title, Where: optional(f.Where),
		Why:      optional(f.Why),
		MendText: optional(f.MendText), Evidence: optional(f.Evidence), Mends: stepsOf(f.Mends, stepOut)}
	if len(f.Things) > 0 {
		list := make([]FoundThing, len(f.Things))
		for i, t := range f.Things {
			list[i] = FoundThing{Kind: FoundThingKind(t.Kind), Name: t.Name, Index: t.Index}
		}
		x.Things = &list
	}
	if f.Ask != nil {
		q := FindingQuestion{Text: f.Ask.Text}
		for _, a := range f.Ask.Answers {
			q.Answers = append(q.Answers, struct {
				Mends []ChainStep `json:"mends"`
				Text  string      `json:"text"`
			}{*stepsOf(a.Mends, stepOut), a.Text})
		}
		x.Ask = &q
	}
	if since >= 0 && since < len(r.Bands) {
		x.Since, x.SinceTitle = ptr(since), ptr(r.Bands[since].Title)
	}
	return x
}

func (s *Server) Rehearse(c fiber.Ctx, id ChainID) error {
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	r, err := s.svc.Rehearsals.Rehearse(c.Context(), row)
	if err != nil {
		return err
	}
	if err := s.svc.Rehearsals.Causes(r); err != nil {
		return err
	}
	out := Rehearsal{Ready: r.Ready, Running: ptr(r.Running), Target: targetOut(r.Sheet),
		Findings: []Finding{}, Scene: optional(r.Scene),
		AfterStep: ptr(r.AfterStep), Milliseconds: optional(r.Milliseconds), Error: optional(r.Error)}
	for i := range r.Findings {
		out.Findings = append(out.Findings, findingOut(&r.Findings[i], r.Since[i], r))
	}
	out.Stops, out.Warns, out.Holds = target.Count(r.Findings)
	if r.Stats != nil {
		st, err := same[Stats](r.Stats)
		if err != nil {
			return err
		}
		out.Stats = &st
	}
	return c.JSON(out)
}

func (s *Server) MendAll(c fiber.Ctx, id ChainID) error {
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	m, added, err := s.svc.Rehearsals.MendAll(c.Context(), row)
	if err != nil {
		return err
	}
	stops, warns, _ := target.Count(m.Findings)
	out, err := same[Mended](map[string]any{"added": added, "left": stops + warns,
		"deeds": append([]target.Deed{}, m.Deeds...)})
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) RehearseMany(c fiber.Ctx, id ProjectID, p RehearseManyParams) error {
	table, waiting, err := s.svc.Rehearsals.RehearseMany(c.Context(), id, value(p.Targets))
	if err != nil {
		return err
	}
	out, err := same[RehearsalTable](map[string]any{"rehearsals": table.Rehearsals, "waiting": waiting,
		"rows": table.Rows()})
	if err != nil {
		return err
	}
	return c.JSON(out)
}

// deliveries

func deliveryOut(d db.Delivery) (Delivery, error) {
	out := Delivery{Id: d.ID, Chain: d.ChainID, Name: d.Name, State: DeliveryState(d.State),
		Error: optional(d.Error), Size: d.Size, Created: d.Created, Purpose: optional(d.Purpose)}
	var err error
	if out.Manifest, err = same[*map[string]any](d.Manifest); err != nil {
		return out, err
	}
	also, err := same[[]DeliveryAlso](d.Also)
	if err != nil {
		return out, err
	}
	if len(also) > 0 {
		out.Also = &also
	}
	if out.Stops, err = project.Stops(d); err != nil {
		return out, err
	}
	out.Sent, err = same[*map[string]any](d.Sent)
	return out, err
}

// orderOf reads what is to be delivered; nothing is the sheet's own, for
// oneself.
func orderOf(b Order) project.Order {
	o := project.Order{Purpose: terms.Myself,
		Options: delivery.Options{Format: value(b.Format), Longest: value(b.Longest), Quality: value(b.Quality)}}
	if b.Purpose != nil {
		o.Purpose = terms.Purpose(*b.Purpose)
	}
	o.Also = value(b.Also)
	if b.Levels != nil {
		o.Options.Levels = *b.Levels
	}
	if l := b.Layout; l != nil {
		o.Options.Layout = &target.Delivery{Folder: value(l.Folder), Model: value(l.Model),
			Pictures: value(l.Pictures), Motions: value(l.Motions),
			SearchFile: value(l.SearchFile), SearchLine: value(l.SearchLine)}
		if l.PictureFormat != nil {
			o.Options.Layout.Picture = string(*l.PictureFormat)
		}
	}
	if w := b.Show; w != nil {
		o.Options.Show = &delivery.Show{Width: w.Width, Height: w.Height, Turn: value(w.Turn),
			Tilt: value(w.Tilt), Background: value(w.Background), Figure: value(w.Figure), Frames: value(w.Frames)}
	}
	if b.Roles != nil {
		o.Options.Roles = map[scene.Role]delivery.PictureOptions{}
		for role, p := range *b.Roles {
			x := delivery.PictureOptions{Longest: value(p.Longest), Quality: value(p.Quality)}
			if p.Format != nil {
				x.Format = string(*p.Format)
			}
			o.Options.Roles[scene.Role(role)] = x
		}
	}
	return o
}

func (s *Server) Compose(c fiber.Ctx, id ChainID) error {
	b, err := body[ComposeJSONRequestBody](c)
	if err != nil {
		return err
	}
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	x, err := s.svc.Deliveries.Compose(c.Context(), row, orderOf(b))
	if err != nil {
		return err
	}
	out, err := same[Composed](map[string]any{"ready": x.Ready, "running": x.Running, "folders": x.Folders,
		"search": x.Search, "stops": x.Stops, "files": x.Files, "notes": x.Notes, "again": x.Again, "size": x.Size,
		"refused": x.Refused})
	if err != nil {
		return err
	}
	return c.JSON(out)
}

func (s *Server) Deliver(c fiber.Ctx, id ChainID, p DeliverParams) error {
	var b DeliverJSONRequestBody
	if len(c.Body()) > 0 {
		var err error
		if b, err = body[DeliverJSONRequestBody](c); err != nil {
			return err
		}
	}
	row, err := s.svc.Chains.Get(c.Context(), id)
	if err != nil {
		return err
	}
	order := orderOf(b)
	order.Send = value(p.Send)
	n, err := s.svc.Deliveries.Create(c.Context(), row, order, value(p.Despite))
	if err != nil {
		return err
	}
	return s.sendDelivery(c, n, 201)
}

func (s *Server) sendDelivery(c fiber.Ctx, id int64, status int) error {
	d, err := s.svc.Deliveries.Get(c.Context(), id)
	if err != nil {
		return err
	}
	out, err := deliveryOut(d)
	if err != nil {
		return err
	}
	return c.Status(status).JSON(out)
}

func (s *Server) ListDeliveries(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Deliveries.List(c.Context(), id)
	if err != nil {
		return err
	}
	list := []Delivery{}
	for _, r := range rows {
		d, err := deliveryOut(r)
		if err != nil {
			return err
		}
		if d.Also != nil { // hundreds of manifests for each change of the list
			for i := range *d.Also {
				(*d.Also)[i].Manifest = nil
			}
		}
		list = append(list, d)
	}
	return c.JSON(list)
}

func (s *Server) GetDelivery(c fiber.Ctx, id DeliveryID) error { return s.sendDelivery(c, id, 200) }

func (s *Server) DeliveryFile(c fiber.Ctx, id DeliveryID) error {
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/zip")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", d.Name))
	return c.SendFile(s.svc.Deliveries.File(d))
}

func (s *Server) PlaceDelivery(c fiber.Ctx, id DeliveryID) error {
	b, err := body[PlaceDeliveryJSONRequestBody](c)
	if err != nil {
		return err
	}
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	placed, err := s.svc.Deliveries.Place(d, b.Folder, value(b.Search))
	if err != nil {
		return err
	}
	list := func(l []string) []string { return append([]string{}, l...) }
	out := []Placed{}
	for _, x := range placed {
		p := Placed{Folder: x.Folder, Made: list(x.Made), Replaced: list(x.Replaced), Same: list(x.Same),
			Kept: list(x.Kept), Backup: optional(x.Backup)}
		if x.Search != nil {
			p.SearchFile, p.SearchLine = ptr(x.Search.File), ptr(x.Search.Line)
		}
		out = append(out, p)
	}
	return c.JSON(out)
}

func (s *Server) VerifyDelivery(c fiber.Ctx, id DeliveryID) error {
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	v, err := s.svc.Deliveries.Verify(c.Context(), d)
	if err != nil {
		return err
	}
	return c.JSON(Verified{Files: v.Files, Faults: faultsOut(v.Faults), Cannot: optional(v.Cannot),
		Same: v.Again.Same, Differ: faultsOut(v.Again.Differ), Notes: append([]string{}, v.Again.Notes...)})
}

func faultsOut(list []delivery.Fault) []DeliveryFault {
	out := []DeliveryFault{}
	for _, f := range list {
		out = append(out, DeliveryFault(f))
	}
	return out
}

// receivers

func (s *Server) ListReceivers(c fiber.Ctx) error {
	out := []Receiver{}
	for _, r := range s.svc.Deliveries.Receivers(c.Context()) {
		out = append(out, Receiver{Id: r.ID, Name: r.Name, Kind: r.Kind,
			Targets: append([]string{}, r.Targets...), Address: r.Address, Note: optional(r.Note)})
	}
	return c.JSON(out)
}

func (s *Server) SendDelivery(c fiber.Ctx, id DeliveryID) error {
	b, err := body[SendDeliveryJSONRequestBody](c)
	if err != nil {
		return err
	}
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	if err := s.svc.Deliveries.Send(c.Context(), d, b.Receiver); err != nil {
		return err
	}
	return s.sendDelivery(c, id, 202)
}

func (s *Server) AfterUpdate(c fiber.Ctx, id DeliveryID) error {
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	n, gone, err := s.svc.Deliveries.AfterUpdate(c.Context(), d)
	if err != nil {
		return err
	}
	return c.JSON(Survived{Files: n, Gone: append([]string{}, gone...)})
}

func (s *Server) DeliverySeen(c fiber.Ctx, id DeliveryID, p DeliverySeenParams) error {
	d, err := s.svc.Deliveries.Ready(c.Context(), id)
	if err != nil {
		return err
	}
	png, err := s.svc.Deliveries.Seen(c.Context(), d, value(p.Asset))
	if err != nil {
		return err
	}
	c.Set("Content-Type", "image/png")
	return c.Send(png)
}

// recipes

func (s *Server) ProjectRecipe(c fiber.Ctx, id ProjectID) error {
	r, err := s.svc.Projects.Recipe(c.Context(), id)
	if err != nil {
		return err
	}
	text, err := r.JSON()
	if err != nil {
		return err
	}
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", delivery.FileName(r.Name, ".recipe.json")))
	return c.Send(text)
}

// recipeText reads a recipe that is sent.
func recipeText(c fiber.Ctx) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(bodyReader(c), mostProjectFile+1))
	if err == nil && len(b) > mostProjectFile {
		err = bad(413, "a recipe has at most %d MB", mostProjectFile>>20)
	}
	return b, err
}

func (s *Server) LookAtRecipe(c fiber.Ctx) error {
	b, err := recipeText(c)
	if err != nil {
		return err
	}
	_, x, err := s.svc.Projects.LookAtRecipe(c.Context(), b)
	if err != nil {
		return err
	}
	out := RecipeLook{Name: x.Name, Whole: x.Whole, SignedBy: optional(x.By), Problem: optional(x.Problem),
		Lines: append([]string{}, x.Lines...)}
	out.Sources = out.Sources[:0:0]
	for _, f := range x.Sources {
		out.Sources = append(out.Sources, struct {
			Name string  `json:"name"`
			Path *string `json:"path,omitempty"`
			Same bool    `json:"same"`
		}{f.Name, optional(f.Path), f.Same})
	}
	if out.Sources == nil {
		out.Sources = append(out.Sources, out.Sources...)
	}
	return c.JSON(out)
}

func (s *Server) OpenRecipe(c fiber.Ctx, p OpenRecipeParams) error {
	b, err := recipeText(c)
	if err != nil {
		return err
	}
	id, remarks, err := s.svc.Projects.OpenRecipe(c.Context(), b, value(p.Changed))
	if err != nil {
		return err
	}
	made, err := s.projectNow(c, id, 0)
	if err != nil {
		return err
	}
	return c.Status(201).JSON(Imported{Project: made, Remarks: append([]string{}, remarks...)})
}
