package step

import (
	"errors"
	"fmt"

	"excavate/core/geom"
	"excavate/core/scene"
)

var errNoUp = errors.New("nothing declares which way is up: change the basis first")

// lengths writes a vector in metres, or in units where these are not known.
func lengths(s *scene.Scene, v geom.Vec3) string {
	unit, name := s.Basis.MetresPerUnit, "m"
	if unit == 0 {
		unit, name = 1, "units"
	}
	return fmt.Sprintf("%.4g, %.4g, %.4g %s", unit*v[0]+0, unit*v[1]+0, unit*v[2]+0, name)
}
