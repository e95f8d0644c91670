package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"excavate/core/geom"
	"excavate/core/nearest"
	"excavate/core/numlist"
	"excavate/core/reduce"
	"excavate/core/tangent"
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
			"positions": numlist.Bytes(corners(p, tri, 3)), "normals": numlist.Bytes(corners(n, tri, 3)),
			"uvs": numlist.Bytes(corners(uv, tri, 2))})
		b, err := os.ReadFile(filepath.Join(dir, "tangents"))
		if err != nil {
			t.Fatal(err)
		}
		theirs := numlist.Of[float32](b)
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
					t.Errorf("seed %d, triangle %d, corner %d: %v, theirs %v",
						seed, i/12, i/4%3, ours[i:i+4], theirs[i:i+4])
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

// Reduced to the same count, our surface lies no farther from the original than
// a fifth more than that of another package.
func TestReducedAsWellAsByAnotherPackage(t *testing.T) {
	for name, f := range map[string]func(x, y float64) [3]float64{
		"hills": func(x, y float64) [3]float64 { return [3]float64{x, y, 0.1 * math.Sin(7*x) * math.Cos(9*y)} },
		"ball": func(x, y float64) [3]float64 {
			a, b := 2*math.Pi*x, math.Pi*y
			return [3]float64{math.Sin(b) * math.Cos(a), math.Cos(b), -math.Sin(b) * math.Sin(a)}
		},
		"roof": func(x, y float64) [3]float64 { return [3]float64{x, y, math.Max(0, 0.3-math.Abs(x-0.5))} },
		"dented": func(x, y float64) [3]float64 {
			return [3]float64{x, y, 0.02*math.Sin(40*x)*math.Sin(40*y) - 0.3*math.Exp(-30*((x-0.4)*(x-0.4)+(y-0.6)*(y-0.6)))}
		},
	} {
		p, tri := swept(100, f)
		for _, share := range []int{4, 20, 100} {
			want := len(tri) / 3 / share
			res, err := reduce.Of(context.Background(), []reduce.Mesh{{Triangles: tri, Positions: p, Shown: 1}}, want, math.Inf(1))
			if err != nil {
				t.Fatal(err)
			}
			dir, _ := peer(t, "simplify", map[string][]byte{"triangles": numlist.Bytes(tri),
				"positions": numlist.Bytes(p)}, fmt.Sprint(3*want))
			b, err := os.ReadFile(filepath.Join(dir, "reduced"))
			if err != nil {
				t.Fatal(err)
			}
			theirs := numlist.Of[uint32](b)
			a, c := off(p, tri, res.Triangles[0]), off(p, tri, theirs)
			t.Logf("%s to 1/%d: %d triangles, %.3g off; theirs %d, %.3g off", name, share, len(res.Triangles[0])/3, a, len(theirs)/3, c)
			if len(res.Triangles[0]) > max(len(theirs), 3*want) {
				t.Errorf("%s to 1/%d: %d triangles, theirs %d",
					name, share, len(res.Triangles[0])/3, len(theirs)/3)
			}
			// Where theirs stops earlier the errors are not of the same count.
			if 20*len(theirs) < 21*len(res.Triangles[0]) && a > 1.2*c+1e-7 {
				t.Errorf("%s to 1/%d: %g off, theirs %g", name, share, a, c)
			}
		}
	}
}

// swept is a surface of n x n cells.
func swept(n int, f func(x, y float64) [3]float64) (p []float32, tri []uint32) {
	for y := range n + 1 {
		for x := range n + 1 {
			v := f(float64(x)/float64(n), float64(y)/float64(n))
			p = append(p, float32(v[0]), float32(v[1]), float32(v[2]))
			if x < n && y < n {
				a, w := uint32(y*(n+1)+x), uint32(n+1)
				tri = append(tri, a, a+1, a+w+1, a, a+w+1, a+w)
			}
		}
	}
	return p, tri
}

// off is the root of the mean squared distance between a surface and what is
// left of it, measured from the vertices of both.
func off(p []float32, was, is []uint32) float64 {
	sum, n := 0.0, 0
	for _, way := range [][2][]uint32{{was, is}, {is, was}} {
		var to []geom.Vec3
		for _, v := range way[1] {
			to = append(to, geom.At(p, v))
		}
		s := nearest.New(to)
		var from []geom.Vec3
		for i := 0; i+2 < len(way[0]); i += 3 {
			a, b, c := geom.At(p, way[0][i]), geom.At(p, way[0][i+1]), geom.At(p, way[0][i+2])
			from = append(from, a, a.Add(b).Add(c).Mul(1.0/3))
		}
		for _, d := range s.Distances(from) {
			sum += d * d
		}
		n += len(from)
	}
	return math.Sqrt(sum / float64(n))
}

// BenchmarkPeers tells our times against those of other packages, in one run.
func BenchmarkPeers(b *testing.B) {
	p, tri := swept(708, func(x, y float64) [3]float64 { return [3]float64{x, y, 0.1 * math.Sin(7*x) * math.Cos(9*y)} })
	var said struct{ Milliseconds float64 }
	run := func(job string, in map[string][]byte, args ...string) float64 {
		dir := b.TempDir()
		for name, data := range in {
			if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
				b.Fatal(err)
			}
		}
		out, err := exec.Command("node", append([]string{"peers.mjs", job, dir}, args...)...).Output()
		if err != nil || json.Unmarshal(out, &said) != nil {
			b.Fatal(job, err)
		}
		return said.Milliseconds
	}
	b.Run("reduce", func(b *testing.B) {
		for b.Loop() {
			if _, err := reduce.Of(context.Background(), []reduce.Mesh{{Triangles: tri, Positions: p, Shown: 1}}, len(tri)/30, math.Inf(1)); err != nil {
				b.Fatal(err)
			}
		}
		ours := float64(b.Elapsed().Milliseconds()) / float64(b.N)
		b.ReportMetric(ours/run("simplify", map[string][]byte{"triangles": numlist.Bytes(tri),
			"positions": numlist.Bytes(p)}, fmt.Sprint(len(tri)/30*3)), "times-theirs")
	})
	b.Run("tangents", func(b *testing.B) {
		normals, uvs := make([]float32, len(p)), make([]float32, len(p)/3*2)
		for i := 0; i < len(p); i += 3 {
			normals[i+2] = 1
			uvs[i/3*2], uvs[i/3*2+1] = p[i], p[i+1]
		}
		for b.Loop() {
			tangent.Of(tri, p, normals, uvs)
		}
		ours := float64(b.Elapsed().Milliseconds()) / float64(b.N)
		b.ReportMetric(ours/run("tangents", map[string][]byte{"positions": numlist.Bytes(corners(p, tri, 3)),
			"normals": numlist.Bytes(corners(normals, tri, 3)), "uvs": numlist.Bytes(corners(uvs, tri, 2))}),
			"times-theirs")
	})
}
