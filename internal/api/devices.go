package api

import (
	"context"
	"time"

	"excavate/core/parallel"
	"excavate/internal/device"
	"excavate/internal/store/db"

	"github.com/gofiber/fiber/v3"
)

// deviceOut asks a device how it is; one that is gone is no error.
func (s *Server) deviceOut(ctx context.Context, d db.Device) Device {
	out := Device{Id: d.ID, Address: d.Address, Kind: d.Kind, Name: d.Name}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	_, c, err := s.svc.Devices.Get(ctx, d.ID)
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
	rows, err := s.svc.Devices.List(c.Context(), id)
	if err != nil {
		return err
	}
	out := make([]Device, len(rows))
	var wg parallel.Group
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
	d, err := s.svc.Devices.Connect(c.Context(), id, b.Address, value(b.Token))
	if err != nil {
		return err
	}
	return c.Status(201).JSON(s.deviceOut(c.Context(), d))
}

func (s *Server) DisconnectDevice(c fiber.Ctx, id int64) error {
	if err := s.svc.Devices.Disconnect(c.Context(), id); err != nil {
		return err
	}
	return c.SendStatus(204)
}

func (s *Server) ListOffers(c fiber.Ctx, id int64) error {
	list, err := s.svc.Devices.Offers(c.Context(), id)
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
	b, err := s.svc.Devices.Thumb(c.Context(), id, p.Offer)
	if err != nil {
		return err
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
	d, err := s.svc.Devices.Control(c.Context(), id, string(b.Do), value(b.Frames))
	if err != nil {
		return err
	}
	return c.JSON(s.deviceOut(c.Context(), d))
}

func (s *Server) PullOffers(c fiber.Ctx, id int64) error {
	b, err := body[PullOffersJSONRequestBody](c)
	if err != nil {
		return err
	}
	if _, err := s.svc.Devices.Pull(c.Context(), id, b.Offers); err != nil {
		return err
	}
	return c.Status(202).Send(nil)
}

func (s *Server) ListNearby(c fiber.Ctx) error { return c.JSON(s.svc.Devices.Nearby()) }
