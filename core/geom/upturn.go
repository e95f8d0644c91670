package geom

import "math"

// UpTurn is a turn about up by degrees, counter-clockwise seen from above.
func (b Basis) UpTurn(degrees float64) Quat {
	if b.Handed == Left { // its angles count the other way round
		degrees = -degrees
	}
	return AxisAngle(b.Up.Vec(), degrees*math.Pi/180)
}
