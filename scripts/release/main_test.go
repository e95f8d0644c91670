package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"testing"
)

// Archives hold the program, ready to run, with what goes along; made twice
// they have the same bytes.
func TestPack(t *testing.T) {
	if err := os.Chdir("../.."); err != nil {
		t.Fatal(err)
	}
	program := bytes.Repeat([]byte("program"), 1000)
	for p, want := range map[platform]string{{"linux", "amd64"}: "excavate-1.2-linux-amd64.tar.gz",
		{"windows", "arm64"}: "excavate-1.2-windows-arm64.zip"} {
		name, a, err := pack(p, "1.2", program)
		if err != nil || name != want {
			t.Fatalf("%s, %v", name, err)
		}
		_, b, err := pack(p, "1.2", program)
		if err != nil || !bytes.Equal(a, b) {
			t.Errorf("%s: packed again it has other bytes, %v", name, err)
		}
		var got []byte
		var mode os.FileMode
		n := 0
		if p.system == "windows" {
			z, err := zip.NewReader(bytes.NewReader(a), int64(len(a)))
			if err != nil {
				t.Fatal(err)
			}
			n, mode = len(z.File), z.File[0].Mode()
			f, err := z.Open("excavate-1.2-windows-arm64/excavate.exe")
			if err != nil {
				t.Fatal(err)
			}
			got, _ = io.ReadAll(f)
		} else {
			z, err := gzip.NewReader(bytes.NewReader(a))
			if err != nil {
				t.Fatal(err)
			}
			for r := tar.NewReader(z); ; n++ {
				h, err := r.Next()
				if err != nil {
					break
				}
				if h.Name == "excavate-1.2-linux-amd64/excavate" {
					mode = h.FileInfo().Mode()
					got, _ = io.ReadAll(r)
				}
			}
		}
		if !bytes.Equal(got, program) || mode.Perm()&0o100 == 0 || n != 4 {
			t.Errorf("%s: %d bytes, mode %v, %d files", name, len(got), mode, n)
		}
	}
	name, _, err := pack(platform{"linux", "arm64"}, "", program)
	if err != nil || name != "excavate-linux-arm64.tar.gz" {
		t.Errorf("%s, %v", name, err)
	}
}
