package trial

import (
	"context"
	"errors"
	"fmt"
	"strconv"

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

// Layout is the trial as a layout: what is kept of it.
func (m *Mesh) Layout() string {
	order := "little"
	if m.BigEndian {
		order = "big"
	}
	count, form := m.IndexCount, m.Form
	if form == "" {
		form = "list"
	}
	switch form {
	case "list":
		count /= 3
	case "quads":
		count /= 4
	}
	width := m.IndexFormat
	if width == "" {
		width = "u16"
	}
	restart := ""
	if m.Restart {
		restart = ", restart: " + map[string]string{"u8": "0xff", "u16": "0xffff", "u32": "0xffffffff"}[width]
	}
	return fmt.Sprintf(`layout: trial
kind: model
order: %s
recognise: [{at: 0, bytes: "00"}]
fields: [{begin: "bytes[0]"}]
model:
  parts:
    each: '[0]'
    mesh: '"trial"'
    vertices: {at: %d, count: %d, stride: %d}
    attributes:
      - {is: position, at: 0, format: %s, scale: %s}
    triangles: {at: %d, count: %d, format: %s, form: %s%s}
`, order, m.At, m.Count, m.Stride, strconv.Quote(m.Format), strconv.FormatFloat(m.Scale, 'f', -1, 64), m.IndicesAt, count, strconv.Quote(width), strconv.Quote(form), restart)
}

// Scene reads the trial.
func (m *Mesh) Scene(ctx context.Context, in layout.Input) (*scene.Scene, error) {
	l, err := layout.Compile("trial", []byte(m.Layout()))
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
