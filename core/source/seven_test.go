package source_test

import (
	"context"
	"encoding/binary"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"excavate/core/source"
)

// Archives of every method and with every kind of header are read as the
// system's tool packed them.
func TestSevenZipMethods(t *testing.T) {
	dir, files := tree(t)
	out := t.TempDir()
	for _, how := range []string{"", "-mhc=off", "-ms=off", "-ms=off -mhc=off", "-m0=lzma", "-m0=lzma2 -mmt=2", "-m0=ppmd", "-m0=copy", "-m0=deflate", "-m0=bzip2 -mhc=off", "-m0=bcj -m1=lzma", "-m0=bcj2 -m1=lzma -m2=lzma -m3=lzma -mb0:1 -mb0s1:2 -mb0s2:3", "-m0=delta:4 -m1=lzma2", "-mtc=on -mta=on"} {
		p := filepath.Join(out, strings.ReplaceAll("a"+how, ":", "_")+".7z")
		tool(t, dir, "7z", append(append([]string{"a", "-bd", "-y"}, strings.Fields(how)...), p, ".")...)
		s := openWith(t, p, source.Options{})
		if s.Format != "7z" {
			t.Errorf("%s is a %s", how, s.Format)
		}
		holds(t, s, files)
	}
}

// seven is a 7z whose header is what is given, with the right checksums.
func seven(header string) []byte {
	b := append([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), make([]byte, 24)...)
	binary.LittleEndian.PutUint64(b[20:], uint64(len(header)))
	binary.LittleEndian.PutUint32(b[28:], crc32.ChecksumIEEE([]byte(header)))
	binary.LittleEndian.PutUint32(b[8:], crc32.ChecksumIEEE(b[12:32]))
	return append(b, header...)
}

// A header that declares more than it has room for is refused before room is
// made for it.
func TestSevenZipHeadersThatLie(t *testing.T) {
	const (
		much    = "\xf0\xff\xff\xff\xff"     // 2^32-1
		packs   = "\x06\x00\x01\x09\x01\x00" // one packed stream of one byte
		unpacks = "\x07\x0b\x01\x00\x01\x00\x0c\x01\x00"
	)
	for header, want := range map[string]string{
		"\x01\x05" + much + "\x00\x00":                                                              "declares 4294967295 files",
		"\x01\x04\x00\x05" + much + "\x00\x00":                                                      "declares 4294967295 files",
		"\x01\x04\x06\x00" + much + "\x00\x00":                                                      "declares 4294967295 packed streams",
		"\x01\x04" + packs + "\x07\x0b" + much + "\x00":                                             "declares 4294967295 folders",
		"\x01\x04" + packs + "\x07\x0b\x01\x00" + much:                                              "a folder of 4294967295 coders",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x00":                                                 "a folder of 0 coders",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x10" + much + "\x01":                             "a coder of 4294967295 and 1 streams",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x20" + much:                                      "ends too soon",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x23\x03\x01\x01\x05\x5d\xff\xff\xff\xff":         "wants 4294967295 bytes of memory",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x21\x21\x01\x29":                                 "wants 18446744073709551615 bytes of memory",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x10\x01\x02":                                     "1 streams in and 2 out",
		"\x01\x04" + packs + "\x07\x0b\x01\x00\x01\x10\x03\x01\x00\x01\x02":                         "use 3 packed streams, and there are 1",
		"\x01\x04" + packs + unpacks + "\x08\x0d" + much:                                            "declares 4294967295 files in folders",
		"\x01\x04" + packs + unpacks + "\x08\x07\x00":                                               "end with 7",
		"\x17" + packs + "\x07\x0b\x01\x00\x01\x00\x0c\xff\xff\xff\xff\xff\xff\xff\xff\x00\x00\x00": "would unpack to",
		"\x17\x06\x00\x01\x09" + much + "\x00\x07\x0b\x01\x00\x01\x00\x0c\x01\x00\x00":              "outside the file",
		"\x17" + packs + "\x07\x0b\x01\x00\x01\x04\x06\xf1\x07\x01\x0c\x01\x00\x00":                 "encrypted",
		"\x17" + packs + "\x07\x0b\x01\x00\x01\x03\x04\x01\x08\x0c\x01\x00\x00":                     "not read (040108)",
		"\x17\x06\x00\x01\x09\x12\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x12\x00\x00":                  "again and again", // it unpacks to itself
		"\x05": "begins with 5",
	} {
		p := write(t, "lies.7z", seven(header))
		_, err := source.Open(context.Background(), p, source.Options{})
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", header, err, want)
		}
	}
	// Cut off, and with a start that was changed.
	dir, _ := tree(t)
	p := filepath.Join(t.TempDir(), "a.7z")
	tool(t, dir, "7z", "a", "-bd", "-y", p, ".")
	whole, err := os.ReadFile(p)
	if err != nil {
		t.Fatal(err)
	}
	changed := append([]byte{}, whole...)
	changed[13]++
	for want, b := range map[string][]byte{"it is cut off": whole[:len(whole)*2/3], "do not have their checksum": changed} {
		if _, err := source.Open(context.Background(), write(t, "b.7z", b), source.Options{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

// FuzzSevenHeader has the checksums of its headers right, so that what they say
// is looked at.
func FuzzSevenHeader(f *testing.F) {
	f.Add("\x01\x04\x06\x00\x01\x09\x01\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x01\x00\x08\x0a\x01\x00\x00\x00\x00\x00\x00\x05\x01\x11\x05\x00a\x00\x00\x00\x00\x00")
	f.Add("\x01\x05\x02\x0e\x01\xc0\x11\x09\x00a\x00\x00\x00b\x00\x00\x00\x00\x00")
	f.Add("\x17\x06\x00\x01\x09\x12\x00\x07\x0b\x01\x00\x01\x01\x00\x0c\x12\x00\x00")
	f.Add("\x01\x04\x06\x00\x02\x09\x01\x01\x00\x07\x0b\x01\x00\x02\x01\x21\x13\x03\x03\x01\x1b\x02\x01\x00\x01\x00\x01\x0c\x01\x01\x00\x08\x0d\x02\x09\x01\x00\x00\x05\x02\x00\x00")
	f.Fuzz(func(t *testing.T, header string) {
		if len(header) > 1<<12 {
			return
		}
		p := filepath.Join(t.TempDir(), "a.7z")
		if err := os.WriteFile(p, seven(header), 0o644); err != nil {
			t.Fatal(err)
		}
		s, err := source.Open(context.Background(), p, source.Options{})
		if err != nil {
			return
		}
		defer s.Close()
		for i := range s.Entries() {
			if s.Entries()[i].Size < 1<<20 {
				s.Read(i) //nolint:errcheck // that it ends is what counts
			}
		}
	})
}
