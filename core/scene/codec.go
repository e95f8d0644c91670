package scene

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"excavate/core/numlist"
)

// The stored form of a scene is a JSON header with everything but the flat
// slices, then the slices in the order in which bulk visits them, each as a
// length and little-endian elements. It is deterministic, so that its SHA-256
// is the scene's digest, and it is private to one version of Excavate: caches
// hold it, deliveries do not.

const codecMagic = "EXSC0002"

// bulk visits every flat slice. The order is part of the stored form.
func (s *Scene) bulk(f32 func(*[]float32), u32 func(*[]uint32), u16 func(*[]uint16), b func(*[]byte)) {
	for i := range s.Meshes {
		for j := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[j]
			f32(&p.Positions)
			f32(&p.Normals)
			f32(&p.Tangents)
			u16(&p.Joints)
			f32(&p.Weights)
			u32(&p.Triangles)
			u32(&p.Lines)
			u32(&p.Points)
			for k := range p.UVs {
				f32(&p.UVs[k].Data)
			}
			for k := range p.Colours {
				f32(&p.Colours[k].Data)
			}
			for k := range p.Morphs {
				f32(&p.Morphs[k].Positions)
				f32(&p.Morphs[k].Normals)
				f32(&p.Morphs[k].Tangents)
			}
		}
	}
	for i := range s.Meshes {
		if v := s.Meshes[i].Volume; v != nil {
			u32(&v.Index)
			u16(&v.Blocks)
		}
	}
	for i := range s.Pictures {
		b(&s.Pictures[i].Data)
	}
	for i := range s.Skins {
		f32(&s.Skins[i].InverseBind)
	}
	for i := range s.Motions {
		for j := range s.Motions[i].Channels {
			f32(&s.Motions[i].Channels[j].Times)
			f32(&s.Motions[i].Channels[j].Values)
		}
	}
}

// Encode returns the stored form.
func (s *Scene) Encode() ([]byte, error) {
	head, err := json.Marshal(s)
	if err != nil {
		return nil, fmt.Errorf("encode scene %q: %w", s.Name, err)
	}
	size := len(codecMagic) + 8 + len(head)
	count := func(n int) { size += 8 + n }
	s.bulk(func(p *[]float32) { count(4 * len(*p)) }, func(p *[]uint32) { count(4 * len(*p)) },
		func(p *[]uint16) { count(2 * len(*p)) }, func(p *[]byte) { count(len(*p)) })
	out := make([]byte, 0, size)
	out = append(out, codecMagic...)
	out = binary.LittleEndian.AppendUint64(out, uint64(len(head)))
	out = append(out, head...)
	// A length of ^0 marks a nil slice: "none" and "of length zero" differ.
	put := func(isNil bool, b []byte) {
		n := uint64(len(b))
		if isNil {
			n = ^uint64(0)
		}
		out = append(binary.LittleEndian.AppendUint64(out, n), b...)
	}
	s.bulk(func(p *[]float32) { put(*p == nil, numlist.Bytes(*p)) },
		func(p *[]uint32) { put(*p == nil, numlist.Bytes(*p)) },
		func(p *[]uint16) { put(*p == nil, numlist.Bytes(*p)) }, func(p *[]byte) { put(*p == nil, *p) })
	return out, nil
}

// Decode reads the stored form. The scene may share the bytes.
func Decode(b []byte) (*Scene, error) {
	if len(b) < len(codecMagic)+8 || string(b[:len(codecMagic)]) != codecMagic {
		return nil, fmt.Errorf("not a stored scene of this version")
	}
	at := uint64(len(codecMagic))
	var bad error
	take := func(n uint64) []byte {
		if bad != nil || n > uint64(len(b))-at {
			if bad == nil {
				bad = fmt.Errorf("stored scene is cut off at byte %d of %d", at, len(b))
			}
			return nil
		}
		v := b[at : at+n : at+n]
		at += n
		return v
	}
	length := func() (uint64, bool) {
		v := take(8)
		if v == nil {
			return 0, false
		}
		n := binary.LittleEndian.Uint64(v)
		return n, n != ^uint64(0)
	}
	n, _ := length()
	head := take(n)
	if bad != nil {
		return nil, bad
	}
	s := &Scene{}
	d := json.NewDecoder(bytes.NewReader(head))
	if err := d.Decode(s); err != nil {
		return nil, fmt.Errorf("stored scene: %w", err)
	}
	s.bulk(func(p *[]float32) { fill(p, length, take) }, func(p *[]uint32) { fill(p, length, take) },
		func(p *[]uint16) { fill(p, length, take) }, func(p *[]byte) {
			if n, ok := length(); ok {
				*p = take(n)
			}
		})
	if bad != nil {
		return nil, bad
	}
	return s, s.Validate()
}

func fill[T numlist.Word](p *[]T, length func() (uint64, bool), take func(uint64) []byte) {
	n, ok := length()
	if !ok {
		return
	}
	*p = numlist.Of[T](take(n))
}

// Digest is the SHA-256 of the stored form, in hexadecimal.
func (s *Scene) Digest() (string, error) {
	b, err := s.Encode()
	if err != nil {
		return "", err
	}
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:]), nil
}
