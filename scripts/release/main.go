// Release builds the command line for Linux, macOS and Windows as archives with
// checksums. The same commit gives the same bytes on any machine.
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// platform is a system and the processor it runs on.
type platform struct{ system, processor string }

var platforms = []platform{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
	{"windows", "amd64"}, {"windows", "arm64"}}

func main() {
	out := flag.String("o", "dist", "the folder to write")
	version := flag.String("version", "", "the version; empty is what the sources say")
	flag.Parse()
	if err := run(*out, *version); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func run(out, version string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	var sums []string
	for _, p := range platforms {
		program, err := build(p, version)
		if err != nil {
			return err
		}
		name, archive, err := pack(p, version, program)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(out, name), archive, 0o644); err != nil {
			return err
		}
		fmt.Printf("%s  %.1f MB\n", name, float64(len(archive))/1e6)
		sums = append(sums, fmt.Sprintf("%x  %s", sha256.Sum256(archive), name))
	}
	slices.Sort(sums)
	return os.WriteFile(filepath.Join(out, "SHA256SUMS"), []byte(strings.Join(sums, "\n")+"\n"), 0o644)
}

// build compiles the command line without anything of the machine in it.
func build(p platform, version string) ([]byte, error) {
	dir, err := os.MkdirTemp("", "release")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	flags := "-s -w"
	if version != "" {
		flags += " -X excavate/internal/version.Version=" + version
	}
	to := filepath.Join(dir, "excavate")
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags", flags, "-o", to, "./cmd/excavate")
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+p.system, "GOARCH="+p.processor)
	if text, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%s/%s: %w\n%s", p.system, p.processor, err, text)
	}
	return os.ReadFile(to)
}

// member is a file of an archive.
type member struct {
	name string
	data []byte
	mode int64
}

// pack puts a program and what goes with it into the archive that its system's
// users expect.
func pack(p platform, version string, program []byte) (name string, data []byte, err error) {
	folder := strings.Join([]string{"excavate", version, p.system, p.processor}, "-")
	folder = strings.ReplaceAll(folder, "--", "-")
	list := []member{{"excavate", program, 0o755}}
	if p.system == "windows" {
		list[0].name += ".exe"
	}
	for _, f := range []string{"README.md", "CHANGELOG.md", "internal/notices/notices.txt"} {
		text, err := os.ReadFile(f)
		if err != nil {
			return "", nil, err
		}
		list = append(list, member{filepath.Base(f), text, 0o644})
	}
	if p.system == "windows" {
		data, err = zipped(folder, list)
		return folder + ".zip", data, err
	}
	data, err = tarred(folder, list)
	return folder + ".tar.gz", data, err
}

// made is the time that files have: none of a build's own, so that the same
// sources give the same bytes.
var made = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

func tarred(folder string, list []member) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	t := tar.NewWriter(z)
	for _, m := range list {
		h := &tar.Header{Name: folder + "/" + m.name, Mode: m.mode, Size: int64(len(m.data)), ModTime: made}
		if err := t.WriteHeader(h); err != nil {
			return nil, err
		}
		if _, err := t.Write(m.data); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func zipped(folder string, list []member) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, m := range list {
		h := &zip.FileHeader{Name: folder + "/" + m.name, Method: zip.Deflate, Modified: made}
		h.SetMode(os.FileMode(m.mode))
		w, err := z.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(m.data); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
