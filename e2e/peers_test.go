package e2e

import (
	"math"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"excavate/core/tangent"
	"excavate/core/words"
)

// peer runs a package that is not ours over lists of numbers.
func peer(t *testing.T, job string, in map[string][]byte, args ...string) (dir string, said []byte) {
	t.Helper()
	dir = t.TempDir()
	for name, b := range in {
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command("node", append([]string{"peers.mjs", job, dir}, args...)...)
	cmd.Stderr = os.Stderr
	said, err := cmd.Output()
	if err != nil {
		t.Fatalf("%s: %v", job, err)
	}
	return dir, said
}

// Tangents of surfaces with seams, mirrored pictures, flat and doubled
// triangles are those that the method's own package computes.
func TestTangentsAsAnotherPackageHasThem(t *testing.T) {
	for seed := range int64(12) {
		p, n, uv, tri := crumpled(rand.New(rand.NewSource(seed)))
		ours := tangent.Of(tri, p, n, uv)
		dir, _ := peer(t, "tangents", map[string][]byte{
			"positions": words.Bytes(corners(p, tri, 3)), "normals": words.Bytes(corners(n, tri, 3)), "uvs": words.Bytes(corners(uv, tri, 2))})
		b, err := os.ReadFile(filepath.Join(dir, "tangents"))
		if err != nil {
			t.Fatal(err)
		}
		theirs := words.Of[float32](b)
		if len(theirs) != len(ours) {
			t.Fatalf("%d numbers, theirs %d", len(ours), len(theirs))
		}
		wrong := 0
		for i := 0; i < len(ours); i += 4 {
			// Its sign is for pictures whose v counts from below.
			dot := ours[i]*theirs[i] + ours[i+1]*theirs[i+1] + ours[i+2]*theirs[i+2]
			if theirs[i] == 0 && theirs[i+1] == 0 && theirs[i+2] == 0 {
				dot = 1 // directions that cancel out: ours says some unit vector, as glTF demands
			}
			if math.Abs(float64(dot)-1) > 1e-4 || ours[i+3] != -theirs[i+3] {
				if wrong++; wrong < 4 {
					t.Errorf("seed %d, triangle %d, corner %d: %v, theirs %v", seed, i/12, i/4%3, ours[i:i+4], theirs[i:i+4])
				}
			}
		}
		if wrong > 0 {
			t.Errorf("seed %d: %d of %d corners differ", seed, wrong, len(ours)/4)
		}
	}
}

func corners(v []float32, tri []uint32, per int) (out []float32) {
	for _, k := range tri {
		out = append(out, v[int(k)*per:int(k)*per+per]...)
	}
	return out
}

// crumpled is a surface with a mirrored half, a seam, triangles turned round,
// doubled, without area, and without area in the picture.
func crumpled(r *rand.Rand) (p, n, uv []float32, tri []uint32) {
	const w = 14
	for y := range w {
		for x := range w {
			p = append(p, float32(x), float32(y), float32(r.NormFloat64()))
			q := [3]float64{0.4 * r.NormFloat64(), 0.4 * r.NormFloat64(), 1}
			l := math.Sqrt(q[0]*q[0] + q[1]*q[1] + q[2]*q[2])
			n = append(n, float32(q[0]/l), float32(q[1]/l), float32(q[2]/l))
			u := float32(x) / w
			if x > w/2 { // mirrored
				u = 1 - u
			}
			if y > w/2 { // a seam
				u += float32(r.Intn(2))
			}
			uv = append(uv, u+0.01*r.Float32(), float32(y)/w)
		}
	}
	for y := range w - 1 {
		for x := range w - 1 {
			a := uint32(y*w + x)
			for _, t := range [][3]uint32{{a, a + 1, a + w + 1}, {a, a + w + 1, a + w}} {
				switch r.Intn(20) {
				case 0:
					t[1], t[2] = t[2], t[1]
				case 1:
					t[2] = t[1]
				case 2:
					uv[2*t[1]], uv[2*t[1]+1] = uv[2*t[0]], uv[2*t[0]+1]
				case 3:
					tri = append(tri, t[:]...)
				}
				tri = append(tri, t[:]...)
			}
		}
	}
	return p, n, uv, tri
}
