package extract

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"

	"excavate/core/disk"
	"excavate/core/parallel"
	"excavate/core/source"

	"github.com/klauspost/compress/flate"
)

// packedInMemory is the size up to which an entry is packed in memory, side
// by side with others; larger ones are streamed one by one.
const packedInMemory = 16 << 20

type packedEntry struct {
	i    int
	h    *zip.FileHeader
	body []byte
	err  error
	size int64
}

// runZip writes the entries to a ZIP that appears under its name when it is
// whole. What a killed run had written is taken over as it is.
func (r *running) runZip(ctx context.Context) (err error) {
	part := r.Zip + ".part"
	var old *source.Source
	if r.sum.Resumed > 0 {
		if err := os.Rename(part, part+".old"); err == nil {
			old, _ = source.Open(ctx, part+".old", source.Options{})
		}
		defer os.Remove(part + ".old")
	}
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		f.Close()
		// A run that is stopped keeps its part if there is a journal to go on
		// from.
		if err != nil && r.journal == nil {
			os.Remove(part)
		}
	}()
	z := zip.NewWriter(f)
	full := func(err error) error {
		if disk.Full(err) {
			return fmt.Errorf("the disk of %s is full; %d of %d entries are written. Make room and go on", filepath.Dir(r.Zip), r.entries.Load()-r.sum.Failed, len(r.Plan.Items))
		}
		return err
	}
	if old != nil {
		defer old.Close()
	}
	for i := range r.done {
		if !r.done[i] {
			continue
		}
		k := -1
		if old != nil {
			k = old.Lookup(r.Plan.Items[i].To)
		}
		if k < 0 { // a failure, or lost with the part
			if r.failed(i) {
				continue
			}
			r.done[i] = false
			r.sum.Resumed--
			r.progress(-1, -max(0, r.entry(i).Size))
			continue
		}
		in, err := old.Stream(k)
		if err != nil {
			return err
		}
		w, err := z.CreateHeader(&zip.FileHeader{Name: r.Plan.Items[i].To, Method: zip.Deflate})
		if err == nil {
			_, err = io.Copy(w, in)
		}
		in.Close()
		if err != nil {
			return full(err)
		}
	}
	workers := runtime.GOMAXPROCS(0)
	todo := make(chan []int, workers)
	ready := make(chan packedEntry, 2*workers)
	var wg sync.WaitGroup
	for range workers {
		wg.Go(func() {
			for unit := range todo {
				for _, i := range unit {
					if ctx.Err() != nil {
						return
					}
					select {
					case ready <- r.pack(i):
					case <-ctx.Done():
						return
					}
				}
			}
		})
	}
	go func() { r.units(ctx, todo); wg.Wait(); close(ready) }()
	var fatal error
	for p := range ready {
		if fatal != nil || ctx.Err() != nil {
			continue // let the workers end
		}
		err := p.err
		if err == nil {
			err = r.write(ctx, z, &p)
			if err != nil && (ctx.Err() != nil || full(err) != err || errors.Is(err, errHalfWritten)) {
				fatal = full(err)
				r.cancel(fatal)
				continue
			}
		}
		if err == nil { // the journal must not be ahead of the file
			err = z.Flush()
		}
		r.finish(p.i, err)
	}
	if fatal != nil {
		return fatal
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, name := range r.Plan.Folders {
		if _, err := z.Create(name + "/"); err != nil {
			return full(err)
		}
	}
	if err := z.Close(); err != nil {
		return full(err)
	}
	if err := f.Sync(); err != nil {
		return full(err)
	}
	return os.Rename(part, r.Zip)
}

// failed tells whether an entry is done in the sense that it has failed.
func (r *running) failed(i int) bool {
	p := r.entry(i).Path
	for _, f := range r.sum.Failures {
		if f.Entry == p {
			return true
		}
	}
	return false
}

// pack reads and packs a small entry; a large one is left to write.
func (r *running) pack(i int) (p packedEntry) {
	e, it := r.entry(i), &r.Plan.Items[i]
	p = packedEntry{i: i, size: e.Size, h: &zip.FileHeader{Name: it.To, Method: zip.Deflate}}
	defer parallel.Caught(&p.err)
	if e.Size > packedInMemory {
		return p
	}
	data, err := r.Sources[it.Source].Read(it.Entry)
	if err != nil {
		p.err = err
		return p
	}
	var buf bytes.Buffer
	w, _ := flate.NewWriter(&buf, flate.DefaultCompression)
	w.Write(data)
	w.Close()
	p.h.CRC32, p.h.UncompressedSize64, p.size = crc32.ChecksumIEEE(data), uint64(len(data)), int64(len(data))
	p.body = buf.Bytes()
	if len(p.body) >= len(data) {
		p.h.Method, p.body = zip.Store, data
	}
	p.h.CompressedSize64 = uint64(len(p.body))
	if p.body == nil {
		p.body = []byte{}
	}
	return p
}

// errHalfWritten ends a ZIP: an entry broke off after its first bytes were
// written.
var errHalfWritten = errors.New("an entry broke off half way")

func (r *running) write(ctx context.Context, z *zip.Writer, p *packedEntry) error {
	if p.body != nil {
		w, err := z.CreateRaw(p.h)
		if err == nil {
			_, err = w.Write(p.body)
		}
		if err == nil {
			r.progress(0, p.size)
		}
		return err
	}
	it := &r.Plan.Items[p.i]
	// A large entry is read once to see that it is sound: what is in a ZIP
	// cannot be taken back.
	in, err := r.Sources[it.Source].Stream(it.Entry)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, in)
	in.Close()
	if err != nil {
		return err
	}
	if in, err = r.Sources[it.Source].Stream(it.Entry); err != nil {
		return err
	}
	defer in.Close()
	w, err := z.CreateHeader(p.h)
	if err != nil {
		return err
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	for {
		k, rerr := in.Read(*buf)
		if _, err := w.Write((*buf)[:k]); err != nil {
			return errors.Join(errHalfWritten, err)
		}
		r.progress(0, int64(k))
		if rerr == io.EOF {
			return nil
		}
		if rerr != nil {
			return errors.Join(errHalfWritten, rerr)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
}
