package main

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
)

var program = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "excavate-cli-*")
	if err != nil {
		return "", err
	}
	bin := filepath.Join(dir, "excavate")
	out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput()
	if err != nil {
		return "", errors.New(string(out))
	}
	return bin, nil
})

func TestMain(m *testing.M) {
	code := m.Run()
	if bin, err := program(); err == nil {
		os.RemoveAll(filepath.Dir(bin))
	}
	os.Exit(code)
}

// run runs the program itself, in a folder.
func run(t *testing.T, dir, stdin string, args ...string) (out, said string, status int) {
	t.Helper()
	bin, err := program()
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command(bin, args...)
	c.Dir = dir
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	c.Stdin = bytes.NewReader([]byte(stdin))
	err = c.Run()
	var x *exec.ExitError
	if err != nil && !errors.As(err, &x) {
		t.Fatal(err)
	}
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

// put writes files below a folder, by their paths.
func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		p := filepath.Join(dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// shade is a small picture of one colour.
func shade(r, g, b byte) string {
	img := image.NewNRGBA(image.Rect(0, 0, 4, 4))
	for i := range 16 {
		img.Set(i%4, i/4, color.NRGBA{r, g, b, 255})
	}
	var buf bytes.Buffer
	if err := png.Encode(&buf, img); err != nil {
		panic(err)
	}
	return buf.String()
}
