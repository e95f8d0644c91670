package project

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"excavate/core/find"
	"excavate/core/terms"
	"excavate/internal/device"
	"excavate/internal/store/db"
	"excavate/internal/work"
)

// Devices are live outside systems that projects are connected to.
type Devices struct {
	*common
	sources *Sources

	mu      sync.Mutex
	nearby  []Nearby
	clients map[int64]*device.Client
	offered map[int64][][]device.Offer // lists as devices gave them, oldest first
}

// Connect asks the device at an address who it is and keeps it with the
// project.
func (s *Devices) Connect(ctx context.Context, project int64, address, token string) (db.Device, error) {
	if len(address) > 300 || len(token) > 300 {
		return db.Device{}, errorf(Invalid, "an address and a token have at most 300 letters each")
	}
	c, err := device.New(address, token, s.hosts)
	if err != nil {
		return db.Device{}, errorf(Invalid, "%v", err)
	}
	a, err := c.About(ctx)
	if err != nil {
		return db.Device{}, deviceErr(err)
	}
	if len(a.Name) > 200 || len(a.Kind) > 32 {
		return db.Device{}, errorf(Unreachable, "the device has a name that is too long")
	}
	if err := s.store.PutDevice(ctx, db.PutDeviceParams{ProjectID: project, Address: c.Address(), Kind: a.Kind,
		Name: a.Name}); err != nil {
		return db.Device{}, err
	}
	d, err := s.store.DeviceByAddress(ctx, db.DeviceByAddressParams{ProjectID: project, Address: c.Address()})
	if err != nil {
		return d, err
	}
	if err := s.keepToken(d.ID, token); err != nil {
		return d, err
	}
	s.mu.Lock()
	s.clients[d.ID] = c
	s.mu.Unlock()
	return d, s.store.TouchProject(ctx, project)
}

func deviceErr(err error) error {
	var r *device.Refused
	if errors.As(err, &r) && r.Status == 401 {
		return errorf(Forbidden, "%v", err)
	}
	return errorf(Unreachable, "%v", err)
}

// Get is a device that was connected, with a client for it.
func (s *Devices) Get(ctx context.Context, id int64) (db.Device, *device.Client, error) {
	d, err := s.store.GetDevice(ctx, id)
	if d, err = Known(d, err, "device", id); err != nil {
		return d, nil, err
	}
	s.mu.Lock()
	c := s.clients[id]
	s.mu.Unlock()
	if c != nil {
		return d, c, nil
	}
	token, err := s.tokenOf(id)
	if err != nil {
		return d, nil, err
	}
	if c, err = device.New(d.Address, token, s.hosts); err != nil {
		return d, nil, errorf(Forbidden, "%v", err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clients[id] = c
	return d, c, nil
}

// Offers lists what a device offers now.
func (s *Devices) Offers(ctx context.Context, id int64) ([]device.Offer, error) {
	_, c, err := s.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	list, err := c.Offers(ctx)
	if err != nil {
		return nil, deviceErr(err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.offered[id] = append(s.offered[id], list)
	if n := len(s.offered[id]); n > offersKept {
		s.offered[id] = s.offered[id][n-offersKept:]
	}
	return list, nil
}

// offersKept is how many lists of a device are remembered: a console that
// runs offers another frame each time, and what was chosen is of an older one.
const offersKept = 32

// Disconnect forgets a device. What was pulled in from it stays.
func (s *Devices) Disconnect(ctx context.Context, id int64) error {
	d, err := s.store.GetDevice(ctx, id)
	if d, err = Known(d, err, "device", id); err != nil {
		return err
	}
	if err := s.store.DeleteDevice(ctx, id); err != nil {
		return err
	}
	if err := s.keepToken(id, ""); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.clients, id)
	delete(s.offered, id)
	s.mu.Unlock()
	return s.store.TouchProject(ctx, d.ProjectID)
}

type pullArgs struct {
	Device int64          `json:"device"`
	Name   string         `json:"name"`
	Folder string         `json:"folder"`
	Offers []device.Offer `json:"offers"`
}

// Pull queues the fetching of offers. They become one source.
func (s *Devices) Pull(ctx context.Context, id int64, offers []string) (int64, error) {
	d, _, err := s.Get(ctx, id)
	if err != nil {
		return 0, err
	}
	want := map[string]bool{}
	for _, o := range offers {
		want[o] = true
	}
	a := pullArgs{Device: id}
	s.mu.Lock()
	for i := len(s.offered[id]) - 1; i >= 0 && len(want) > 0; i-- {
		for _, o := range s.offered[id][i] {
			if want[o.ID] {
				a.Offers = append(a.Offers, o)
				a.Name = o.Group
				delete(want, o.ID)
			}
		}
	}
	s.mu.Unlock()
	if len(want) > 0 {
		return 0, errorf(Conflict, "the device no longer offers what was chosen; look again")
	}
	if len(a.Offers) == 0 {
		return 0, errorf(Invalid, "nothing was chosen")
	}
	a.Name = d.Name + " · " + a.Name
	a.Folder = fmt.Sprintf("%d-%x", id, digestOf(a.Offers))
	job, err := s.pool.Add(ctx, d.ProjectID, "pull", "Pulling in "+a.Name, a)
	return job, err
}

// doPull fetches offers into a folder of ours and mounts it. What has arrived
// stays, so that the next try goes on.
func (s *Devices) doPull(ctx context.Context, t *work.Task) error {
	var a pullArgs
	if err := t.Args(&a); err != nil {
		return err
	}
	d, c, err := s.Get(ctx, a.Device)
	if err != nil {
		return err
	}
	dir := filepath.Join(s.pulled(), a.Folder, "files")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	var total, done int64
	for _, o := range a.Offers {
		total += o.Size
	}
	n := int64(len(a.Offers))
	shared := sharedTerms(a.Offers, d).Stated()
	for i, o := range a.Offers {
		t.Progress(int64(i), n, "files")
		err := c.Fetch(ctx, o, filepath.Join(dir, filepath.FromSlash(o.Name)), func(at int64) { t.Bytes(done+at, total) })
		if err != nil {
			return err
		}
		done += o.Size
		own := slices.ContainsFunc(a.Offers, func(x device.Offer) bool { return x.Name == find.TermsFile(o.Name) })
		if err := keepTerms(filepath.Join(dir, filepath.FromSlash(o.Name)), o, shared || own); err != nil {
			return err
		}
	}
	t.Progress(n, n, "files")
	// The parts are gone; what is mounted is only what was offered.
	id, err := s.sources.addSource(ctx, db.CreateSourceParams{ProjectID: d.ProjectID, Path: dir, Label: a.Name,
		Origin: "device", Rights: asJSON(sharedTerms(a.Offers, d))})
	if k, ok := KindOf(err); ok && k == Conflict { // pulled in before: look again
		rows, err := s.store.ListSources(ctx, d.ProjectID)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if r.Path == dir {
				id = r.ID
			}
		}
		return s.sources.Reindex(ctx, id)
	}
	return err
}

// keepTerms writes what the device says of a file beside it, where neither the
// source as a whole (shared) nor a file of the device's own says it.
func keepTerms(name string, o device.Offer, shared bool) error {
	if o.Terms == nil || shared || !o.Terms.Stated() {
		return nil
	}
	return writeWhole(find.TermsFile(name), asJSON(o.Terms))
}

// sharedTerms are the terms that all offers have.
func sharedTerms(list []device.Offer, d db.Device) terms.Terms {
	var out terms.Terms
	for i, o := range list {
		if o.Terms == nil || i > 0 && *o.Terms != out {
			return terms.Terms{}
		}
		out = *o.Terms
	}
	if out.Stated() && out.Evidence == "" {
		out.Evidence = d.Name + " at " + d.Address
	}
	return out
}

func digestOf(list []device.Offer) []byte {
	sum := sha256.Sum256(asJSON(list))
	return sum[:6]
}

// List lists the devices that a project is connected to.
func (s *Devices) List(ctx context.Context, project int64) ([]db.Device, error) {
	return s.store.ListDevices(ctx, project)
}

// Thumb is a device's own picture of what it offers, as PNG.
func (s *Devices) Thumb(ctx context.Context, id int64, offer string) ([]byte, error) {
	_, c, err := s.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	b, err := c.Thumb(ctx, offer)
	if err != nil {
		return nil, errorf(Unreachable, "%v", err)
	}
	return b, nil
}

// Control has a device run, stop or step.
func (s *Devices) Control(ctx context.Context, id int64, do string, frames int) (db.Device, error) {
	d, c, err := s.Get(ctx, id)
	if err != nil {
		return d, err
	}
	if _, err := c.Control(ctx, do, frames); err != nil {
		return d, errorf(Unreachable, "%v", err)
	}
	return d, s.store.TouchProject(ctx, d.ProjectID)
}
