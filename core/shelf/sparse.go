package shelf

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/zeebo/blake3"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// A file with holes stands in the tar without them, in GNU tar's sparse format 1.0: the member's
// contents are a map of what follows, in decimal lines and filled up to a block, and then the
// pieces of data. The holes stand in the extended header besides, for the list to be made from the
// tar alone.
const (
	keySparse = "GNU.sparse."
	// The writer of tars leaves keys of that beginning out, so they go in as this one, which is
	// as long.
	keySparseIn = "GNU,sparse."
	keyHoles    = "JADETRAIL.holes"
	// maxHoles is how many holes a file may have to be kept so: with more, the map is longer than
	// what it saves.
	maxHoles = 1 << 14
)

// member is the contents of a file in the tar: its pieces of data one behind the other, with
// zeros between.
type member struct {
	tar   io.ReaderAt
	at    disk.Bytes
	size  disk.Bytes
	holes []volume.Extent
}

// Holes implements volume.Sparse.
func (m member) Holes() []volume.Extent { return m.holes }

// ReadAt implements io.ReaderAt.
func (m member) ReadAt(b []byte, off int64) (n int, err error) {
	if off < 0 || disk.Bytes(off) >= m.size {
		return 0, io.EOF
	}
	if rest := int64(m.size) - off; int64(len(b)) > rest {
		b, err = b[:rest], io.EOF
	}
	for n < len(b) {
		pos := disk.Bytes(off) + disk.Bytes(n)
		before, next, in := disk.Bytes(0), m.size, false // holes before pos, and where what lies there ends
		for _, h := range m.holes {
			if pos < h.Off {
				next = h.Off
				break
			}
			if in = pos < h.Off+h.Len; in {
				next = h.Off + h.Len
				break
			}
			before += h.Len
		}
		part := b[n:min(len(b), n+int(min(next-pos, 1<<30)))]
		if in {
			clear(part)
		} else if k, err := m.tar.ReadAt(part, int64(m.at+pos-before)); k < len(part) {
			return n + k, err
		}
		n += len(part)
	}
	return n, err
}

// stored is how long a file's contents are in the tar, and whether its holes can be such.
func (e *Entry) stored() (disk.Bytes, bool) {
	end := disk.Bytes(0)
	for _, h := range e.Holes {
		if h.Off < end || h.Len <= 0 || h.Off > e.Bytes-h.Len {
			return 0, false
		}
		end = h.Off + h.Len
	}
	return e.Bytes - volume.LengthOf(e.Holes), e.Bytes >= 0
}

// data are the pieces between the holes; the last one is where the file ends.
func (e *Entry) data() (out []volume.Extent) {
	at := disk.Bytes(0)
	for _, h := range e.Holes {
		if h.Off > at {
			out = append(out, volume.Extent{Off: at, Len: h.Off - at})
		}
		at = h.Off + h.Len
	}
	return append(out, volume.Extent{Off: at, Len: e.Bytes - at})
}

// holesOf reads what the extended header says of holes.
func holesOf(text string) (out []volume.Extent) {
	for _, pair := range strings.Split(text, ",") {
		off, n, ok := strings.Cut(pair, "+")
		from, err := strconv.ParseInt(off, 10, 64)
		long, err2 := strconv.ParseInt(n, 10, 64)
		if !ok || err != nil || err2 != nil || len(out) == maxHoles {
			return nil
		}
		out = append(out, volume.Extent{Off: disk.Bytes(from), Len: disk.Bytes(long)})
	}
	return out
}

// sparseMember writes a file without its holes. What breaks off is filled up with zeros, as in member.
func (a *archiver) sparseMember(h *tar.Header, e *Entry, r io.ReaderAt) error {
	pieces := e.data()
	lines := []string{strconv.Itoa(len(pieces))}
	for _, p := range pieces {
		lines = append(lines, strconv.FormatInt(int64(p.Off), 10), strconv.FormatInt(int64(p.Len), 10))
	}
	chart := []byte(strings.Join(lines, "\n") + "\n")
	chart = append(chart, make([]byte, -len(chart)&(tarBlock-1))...)
	var holes []string
	for _, x := range e.Holes {
		holes = append(holes, fmt.Sprintf("%d+%d", x.Off, x.Len))
	}
	stored, ok := e.stored()
	if !ok {
		return errors.New("the holes of " + e.Path + " do not follow each other")
	}
	for key, value := range map[string]string{"major": "1", "minor": "0", "name": h.Name, "realsize": strconv.FormatInt(int64(e.Bytes), 10)} {
		h.PAXRecords[keySparseIn+key] = value
	}
	h.PAXRecords[keyHoles] = strings.Join(holes, ",")
	dir, name := path.Split(h.Name)
	h.Name, h.Size = dir+"GNUSparseFile.0/"+name, int64(len(chart))+int64(stored)
	first := a.buf[:min(pieces[0].Len, disk.Bytes(len(a.buf)))]
	if n, err := r.ReadAt(first, int64(pieces[0].Off)); n < len(first) {
		a.lost(e, err)
		return nil
	}
	if err := a.header(h); err != nil {
		return err
	}
	if _, err := a.out.Write(chart); err != nil {
		return err
	}
	e.At = a.out.at
	whole, at := blake3.New(), disk.Bytes(0)
	for _, p := range pieces {
		if err := zeros(a.out.ctx, whole, p.Off-at); err != nil {
			return err
		}
		if err := a.pour(whole, r, e, p); err != nil {
			return err
		}
		at = p.Off + p.Len
	}
	if e.Unreadable == "" {
		e.Hash = hex.EncodeToString(whole.Sum(nil))
	}
	_, err := a.out.Write(make([]byte, -stored&(tarBlock-1)))
	return err
}

var blankMiB [disk.MiB]byte

// zeros hashes so many of them. A hole may be far longer than the drive.
func zeros(ctx context.Context, h *blake3.Hasher, n disk.Bytes) error {
	for ; n > 0 && ctx.Err() == nil; n -= disk.MiB {
		h.Write(blankMiB[:min(n, disk.MiB)])
	}
	return ctx.Err()
}

// unmasked gives the keys of a sparse file their own names, in the extended header behind its block.
// They stand first there, and nothing else that reads so is touched.
func unmasked(header []byte, h *tar.Header) []byte {
	out := bytes.Clone(header[:tarBlock])
	rest := header[tarBlock:]
	for key, value := range h.PAXRecords {
		if name, ok := strings.CutPrefix(key, keySparseIn); ok {
			rest = bytes.Replace(rest, []byte(" "+key+"="+value+"\n"), []byte(" "+keySparse+name+"="+value+"\n"), 1)
		}
	}
	return append(out, rest...)
}
