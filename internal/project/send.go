package project

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"excavate/core/delivery"
	"excavate/core/target"
	"excavate/internal/receiver"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Receiver is one that deliveries can be sent to.
type Receiver struct {
	ID      string
	Name    string
	Kind    string
	Targets []string
	Address string
	Note    string // why it is not reached
}

// SetReceivers says where receivers are.
func (s *Deliveries) SetReceivers(addresses []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.receivers = addresses
}

// receiverID is by which a receiver is named: its host and port.
func receiverID(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Host
	}
	return strings.TrimPrefix(address, "http://")
}

// Receivers asks the receivers who they are.
func (s *Deliveries) Receivers(ctx context.Context) (out []Receiver) {
	s.mu.Lock()
	list := append([]string{}, s.receivers...)
	s.mu.Unlock()
	ctx, stop := context.WithTimeout(ctx, 2*time.Second)
	defer stop()
	for _, address := range list {
		x := Receiver{ID: receiverID(address), Name: address, Address: address, Targets: []string{}}
		c, err := receiver.New(address, s.hosts)
		if err == nil {
			var a receiver.About
			if a, err = c.About(ctx); err == nil {
				x.Name, x.Kind, x.Targets = a.Name, a.Kind, a.Targets
			}
		}
		if err != nil {
			x.Note = err.Error()
		}
		out = append(out, x)
	}
	return out
}

func (s *Deliveries) receiverOf(id string) (*receiver.Client, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, address := range s.receivers {
		if receiverID(address) == id {
			c, err := receiver.New(address, s.hosts)
			if err != nil {
				return nil, errorf(Invalid, "%v", err)
			}
			return c, nil
		}
	}
	return nil, errorf(NotFound, "there is no receiver %s", id)
}

// Sent is what came of sending a delivery.
type Sent struct {
	Receiver string  `json:"receiver"`
	Try      int64   `json:"try"` // tells one sending from the next
	Name     string  `json:"name"`
	State    string  `json:"state"` // waiting, sending, taken, failed
	Error    string  `json:"error,omitempty"`
	Seconds  float64 `json:"seconds"`
	Taken    []Taken `json:"taken"` // each asset of the package
}

// List is what a receiver said of one asset.
type Taken struct {
	Asset    string           `json:"asset"`
	Error    string           `json:"error,omitempty"`
	Seen     string           `json:"seen,omitempty"` // blob of the picture
	Report   *receiver.Report `json:"report"`
	Outcomes []target.Outcome `json:"outcomes"`
}

// Send queues a delivery for a receiver.
func (s *Deliveries) Send(ctx context.Context, d db.Delivery, to string) error {
	if _, err := s.receiverOf(to); err != nil {
		return err
	}
	sent := Sent{Receiver: to, Try: time.Now().UnixNano(), State: "sending", Taken: []Taken{}}
	if err := s.store.DeliverySent(ctx, db.DeliverySentParams{Sent: asJSON(sent), ID: d.ID}); err != nil {
		return err
	}
	if _, err := s.pool.Add(ctx, d.ProjectID, "send", "Sending "+d.Name, idArgs{d.ID, sent.Try}); err != nil {
		return err
	}
	return s.store.TouchProject(ctx, d.ProjectID)
}

func (s *Deliveries) doSend(ctx context.Context, t *work.Task) error {
	var a idArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	d, err := s.store.GetDelivery(ctx, a.ID)
	if err != nil {
		return nil // it is gone
	}
	var was *Sent
	if json.Unmarshal(d.Sent, &was) != nil || was == nil || was.Try != a.Try {
		return nil // another sending was asked for since
	}
	defer s.store.TouchProject(context.WithoutCancel(ctx), d.ProjectID)
	start := time.Now()
	sent, err := s.send(ctx, d, was.Receiver, t)
	if err != nil {
		if ctx.Err() == nil {
			s.stopSend(ctx, d.ID, was.Try, err.Error())
		}
		return err
	}
	sent.Try = was.Try
	sent.Seconds = time.Since(start).Seconds()
	return s.store.DeliverySent(ctx, db.DeliverySentParams{Sent: asJSON(sent), ID: d.ID})
}

// stopSend says why a delivery was not sent. try is the sending that it is about;
// 0 is the one that stands.
func (s *Deliveries) stopSend(ctx context.Context, id, try int64, why string) error {
	d, err := s.store.GetDelivery(ctx, id)
	if err != nil {
		return nil // it is gone
	}
	var x *Sent
	if json.Unmarshal(d.Sent, &x) != nil || x == nil || x.State == "taken" || x.State == "failed" ||
		try != 0 && x.Try != try {
		return nil
	}
	x.State, x.Error = "failed", why
	return s.store.DeliverySent(ctx, db.DeliverySentParams{Sent: asJSON(x), ID: id})
}

// send sends the assets of a delivery one after the other. What the receiver
// says goes into the package, beside each manifest.
func (s *Deliveries) send(ctx context.Context, d db.Delivery, to string, t *work.Task) (*Sent, error) {
	c, err := s.receiverOf(to)
	if err != nil {
		return nil, err
	}
	about, err := c.About(ctx)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(s.blobs.Path(d.File))
	if err != nil {
		return nil, err
	}
	list, err := delivery.Open(data)
	if err != nil {
		return nil, err
	}
	out := &Sent{Receiver: to, Name: about.Name, State: "taken", Taken: []Taken{}}
	said := make([][]byte, len(list))
	for i, o := range list {
		x, err := s.sendOne(ctx, c, about, o, func(n int64) {
			t.Progress(int64(i)*d.Size+n, int64(len(list))*d.Size, "bytes")
		})
		if err != nil {
			if i > 0 {
				err = fmt.Errorf("%s was taken, then: %w", counted(i, "asset", "assets"), err)
			}
			return nil, err
		}
		out.Taken = append(out.Taken, *x)
		if said[i], err = json.MarshalIndent(map[string]any{"receiver": about.Name, "report": x.Report,
			"outcomes": x.Outcomes}, "", "  "); err != nil {
			return nil, err
		}
	}
	if data, err = delivery.WithReceived(data, said); err != nil {
		return nil, err
	}
	file, err := s.blobs.Put(data)
	if err != nil {
		return nil, err
	}
	return out, s.store.DeliveryFile(ctx, db.DeliveryFileParams{File: file, Size: int64(len(data)), ID: d.ID})
}

// sendOne sends one asset, and holds what the receiver says against what the
// rehearsal foretold when it was made.
func (s *Deliveries) sendOne(ctx context.Context, c *receiver.Client, about receiver.About, o *delivery.Opened,
	progress func(int64)) (*Taken, error) {
	m := &o.Manifest
	sheet, err := s.sheets.sheetNamed(ctx, m.Target)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(about.Targets, sheet.ID) {
		return nil, errorf(Conflict, "%s imports by %s; the delivery was made for %s", about.Name,
			strings.Join(about.Targets, ", "), m.Target)
	}
	search := ""
	if m.Search != nil {
		search = m.Search.Line
	}
	zip, err := o.Alone()
	if err != nil {
		return nil, err
	}
	report, err := c.Send(ctx, sheet.ID, zip, search, progress)
	if err != nil {
		return nil, err
	}
	out := &Taken{Asset: m.Asset, Report: report}
	png, err := c.Seen(ctx)
	if err != nil {
		out.Error = "what arrived could not be looked at: " + err.Error()
	} else if out.Seen, err = s.blobs.Put(png); err != nil {
		return nil, err
	}
	var findings []target.Finding
	for _, f := range m.Findings {
		findings = append(findings, target.Finding{Rule: f.Rule, Severity: f.Severity, Title: f.Title,
			Where: f.Where})
	}
	for _, f := range m.Held {
		findings = append(findings, target.Finding{Rule: f, Severity: target.Holds})
	}
	out.Outcomes = append([]target.Outcome{}, target.Compare(findings, about.Checks, report.Log, sheet.Sheet.Rules)...)
	return out, nil
}

// Seen is the receiver's picture of an asset that arrived.
func (s *Deliveries) Seen(_ context.Context, d db.Delivery, asset int) ([]byte, error) {
	var x *Sent
	if err := json.Unmarshal(d.Sent, &x); err != nil {
		return nil, err
	}
	if x == nil || asset < 0 || asset >= len(x.Taken) || x.Taken[asset].Seen == "" {
		return nil, errorf(NotFound, "no receiver has shown this")
	}
	return os.ReadFile(s.blobs.Path(x.Taken[asset].Seen))
}

// AfterUpdate lets the receiver that took a delivery update itself, and tells
// how many files the delivery has and which of them are gone afterwards.
func (s *Deliveries) AfterUpdate(ctx context.Context, d db.Delivery) (files int, gone []string, err error) {
	var x *Sent
	if err := json.Unmarshal(d.Sent, &x); err != nil {
		return 0, nil, err
	}
	if x == nil || x.State != "taken" {
		return 0, nil, errorf(Conflict, "no receiver has taken this delivery")
	}
	c, err := s.receiverOf(x.Receiver)
	if err != nil {
		return 0, nil, err
	}
	data, err := os.ReadFile(s.blobs.Path(d.File))
	if err != nil {
		return 0, nil, err
	}
	list, err := delivery.Open(data)
	if err != nil {
		return 0, nil, err
	}
	left, err := c.Update(ctx)
	if err != nil {
		return 0, nil, errorf(Conflict, "%s: %v", x.Name, err)
	}
	for _, o := range list {
		for _, f := range o.Manifest.Files {
			if files++; !slices.Contains(left, f.Path) {
				gone = append(gone, f.Path)
			}
		}
	}
	return files, gone, nil
}

// Place puts a delivery's files into a folder that may be written to,
// each asset into one of its own.
func (s *Deliveries) Place(d db.Delivery, folder string, search bool) ([]*delivery.Placed, error) {
	to, err := s.extractions.allowedOutput(folder, "folder")
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(s.blobs.Path(d.File))
	if err != nil {
		return nil, err
	}
	list, err := delivery.Open(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", d.Name, err)
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return nil, errorf(Invalid, "%v", err)
	}
	var out []*delivery.Placed
	for i, o := range list {
		p, err := delivery.Place(to, o, search)
		if err != nil {
			if i > 0 {
				err = fmt.Errorf("%s of %d put there, then: %w", counted(i, "asset", "assets"), len(list), err)
			}
			return nil, errorf(Conflict, "%v", err)
		}
		out = append(out, p)
	}
	return out, nil
}
