package api

import (
	"context"
	"time"

	"excavate/core/cores"
	"excavate/internal/device"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

// deviceOut asks a device how it is; one that is gone is no error.
func (s *Server) deviceOut(ctx context.Context, d db.Device) Device {
	out := Device{Id: d.ID, Address: d.Address, Kind: d.Kind, Name: d.Name}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	_, c, err := s.svc.Device(ctx, d.ID)
	if err == nil {
		if d.Kind == "console" {
			var st device.State
			if st, err = c.State(ctx); err == nil {
				out.Frame, out.Running = &st.Frame, &st.Running
			}
		} else {
			_, err = c.About(ctx)
		}
	}
	out.Online = err == nil
	if err != nil {
		out.Error = ptr(err.Error())
	}
	return out
}

func (s *Server) ListDevices(c fiber.Ctx, id ProjectID) error {
	rows, err := s.svc.Store.ListDevices(c.Context(), id)
	if err != nil {
		return err
	}
	out := make([]Device, len(rows))
	var wg cores.Group
	for i, r := range rows {
		wg.Go(func() { out[i] = s.deviceOut(c.Context(), r) })
	}
	wg.Wait()
	return c.JSON(out)
}

func (s *Server) ConnectDevice(c fiber.Ctx, id ProjectID) error {
	b, err := body[ConnectDeviceJSONRequestBody](c)
	if err != nil {
		return err
	}
	d, err := s.svc.Connect(c.Context(), id, b.Address, value(b.Token))
	if err != nil {
		return err
	}
	return c.Status(201).JSON(s.deviceOut(c.Context(), d))
}

func (s *Server) DisconnectDevice(c fiber.Ctx, id int64) error {
	if err := s.svc.Disconnect(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) ListOffers(c fiber.Ctx, id int64) error {
	list, err := s.svc.Offers(c.Context(), id)
	if err != nil {
		return err
	}
	out := []Offer{}
	for _, o := range list {
		x := Offer{Id: o.ID, Kind: o.Kind, Name: o.Name, Size: o.Size, About: o.About, Group: o.Group, Thumb: o.Thumb}
		if o.Terms != nil {
			x.Terms, x.Short = ptr(termsOut(*o.Terms)), ptr(o.Terms.Short())
		}
		out = append(out, x)
	}
	return c.JSON(out)
}

func (s *Server) OfferThumb(c fiber.Ctx, id int64, p OfferThumbParams) error {
	_, client, err := s.svc.Device(c.Context(), id)
	if err != nil {
		return err
	}
	b, err := client.Thumb(c.Context(), p.Offer)
	if err != nil {
		return bad(502, "%v", err)
	}
	c.Set("Content-Type", "image/png")
	c.Set("Cache-Control", "private, max-age=60")
	return c.Send(b)
}

func (s *Server) ControlDevice(c fiber.Ctx, id int64) error {
	b, err := body[ControlDeviceJSONRequestBody](c)
	if err != nil {
		return err
	}
	d, client, err := s.svc.Device(c.Context(), id)
	if err != nil {
		return err
	}
	if _, err := client.Control(c.Context(), string(b.Do), value(b.Frames)); err != nil {
		return bad(502, "%v", err)
	}
	if err := s.svc.Store.TouchProject(c.Context(), d.ProjectID); err != nil {
		return err
	}
	return c.JSON(s.deviceOut(c.Context(), d))
}

func (s *Server) PullOffers(c fiber.Ctx, id int64) error {
	b, err := body[PullOffersJSONRequestBody](c)
	if err != nil {
		return err
	}
	if _, err := s.svc.Pull(c.Context(), id, b.Offers); err != nil {
		return err
	}
	return c.Status(202).Send(nil)
}

func (s *Server) ListNearby(c fiber.Ctx) error { return c.JSON(s.svc.Nearby()) }
