package trial

import (
	"context"
	"errors"

	"excavate/core/layout"
	"excavate/core/scene"
)

// Mesh is bytes on trial as points, or with indices as a mesh.
type Mesh struct {
	At            int64
	Stride, Count int
	Format        string // of the position
	Scale         float64
	BigEndian     bool
	IndicesAt     int64
	IndexCount    int // 0: points
	IndexFormat   string
	Form          string // list, strip, fan or quads
	Restart       bool   // the highest number begins a new strip or fan
}

// Scene reads the trial.
func (m *Mesh) Scene(ctx context.Context, in layout.Input) (*scene.Scene, error) {
	kept := m.Fragment()
	l, err := layout.Compile("trial", []byte(kept.Document("trial", []byte{0})))
	if err == nil {
		var s *scene.Scene
		if s, err = l.Scene(ctx, in, layout.Surroundings{}); err == nil {
			return s, nil
		}
	}
	var le *layout.Error
	if errors.As(err, &le) {
		return nil, errors.New(le.Msg)
	}
	return nil, err
}
