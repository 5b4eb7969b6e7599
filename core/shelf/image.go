package shelf

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"slices"

	"github.com/zeebo/blake3"

	"jadetrail/core/digest"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Fingerprint of a partition as it is: of the metadata, or of all contents when
// it cannot be looked into.
func Fingerprint(dev disk.Device, v volume.Volume) (string, error) {
	if v != nil {
		return v.Fingerprint()
	}
	h := blake3.New()
	if _, err := io.CopyBuffer(h, io.NewSectionReader(dev, 0, int64(dev.Size())), make([]byte, 1<<20)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Ranges returns what of the partition is copied: everything, or when the volume
// is clean and its map of clusters agrees with its files, all but the free
// clusters (left is then true).
func Ranges(dev disk.Device, v volume.Volume) (ranges []disk.Range, left bool, err error) {
	whole := []disk.Range{{Start: 0, End: dev.Size()}}
	if v == nil {
		return whole, false, nil
	}
	info, err := v.Info()
	if err != nil || !info.Clean || !v.Agrees() {
		return whole, false, nil
	}
	err = v.Allocated(func(a, b disk.Bytes) error {
		if n := len(ranges); n > 0 && ranges[n-1].End == a {
			ranges[n-1].End = b
		} else {
			ranges = append(ranges, disk.Range{Start: a, End: b})
		}
		return nil
	})
	return ranges, true, err
}

// readPiece fills b with the bytes at off: what lies in ranges and is stored on
// the device, zeros elsewhere. Where there is nothing at all it leaves b as it is
// and says so; the piece is then zeros.
func readPiece(dev disk.Device, ranges []disk.Range, b []byte, off disk.Bytes) (bool, error) {
	end := off + disk.Bytes(len(b))
	i, _ := slices.BinarySearchFunc(ranges, off, func(r disk.Range, x disk.Bytes) int {
		if r.End <= x {
			return -1
		}
		return 1
	})
	some := false
	for ; i < len(ranges) && ranges[i].Start < end; i++ {
		for at, stop := max(ranges[i].Start, off), min(ranges[i].End, end); at < stop; {
			s, e, ok := dev.Data(at)
			if !ok || s >= stop {
				break
			}
			s, e = max(s, at), min(e, stop)
			if !some {
				clear(b)
			}
			if _, err := dev.ReadAt(b[s-off:e-off], int64(s)); err != nil {
				return some, err
			}
			some, at = true, e
		}
	}
	return some, nil
}

// room is an upper bound of what a backup of the partition takes: all that is
// stored in the ranges, and a frame for each piece.
func room(dev disk.Device, ranges []disk.Range) disk.Bytes {
	n := (dev.Size()/pieceBytes + 1) * 1024
	for _, r := range ranges {
		for at := r.Start; at < r.End; {
			s, e, ok := dev.Data(at)
			if !ok || s >= r.End {
				break
			}
			n += min(e, r.End) - max(s, at)
			at = e
		}
	}
	return n + n/1000
}

// imageOf is the whole partition, piece by piece.
func imageOf(r Request, m *Manifest) (source, error) {
	ranges, left, err := Ranges(r.Dev, r.Volume)
	if err != nil {
		return source{}, err
	}
	if m.LeftOut = left; left {
		m.Allocated = ranges
	}
	size := r.Dev.Size()
	return source{total: size, room: room(r.Dev, ranges), pieces: func(ctx context.Context, l line) error {
		for off := disk.Bytes(0); off < size; off += pieceBytes {
			j := &job{i: int(off / pieceBytes), raw: l.stock.get(min(pieceBytes, size-off))}
			some, err := readPiece(r.Dev, ranges, j.raw, off)
			if err != nil {
				return fmt.Errorf("the partition cannot be read at byte %d: %w", off, err)
			}
			if j.zero = !some; j.zero {
				n := len(j.raw)
				l.stock.put(j.raw)
				j.raw = blank().raw[:n]
			}
			if err := l.send(ctx, j); err != nil {
				return err
			}
		}
		return nil
	}, done: func(draft) error {
		if r.Volume == nil { // all contents were read: their hash is the fingerprint
			m.From.Fingerprint = m.Hash
		}
		return nil
	}}, nil
}

// Compared is the outcome of comparing a place on a drive with a backup.
type Compared struct {
	Same    disk.Bytes `json:"same_bytes"`
	Differ  disk.Bytes `json:"differ_bytes"`
	Unknown disk.Bytes `json:"unknown_bytes"` // free clusters, of which no backup knows, and what could not be read in it
	// Alike are the ranges of the place that are the same, Other those that are not, both in order.
	Alike, Other disk.Set `json:"-"`
}

// Compare compares a partition's place with its backup: piece by piece by their hashes, and sector by
// sector where those differ.
func (s *Shelf) Compare(dev disk.Device, m *Manifest) (Compared, error) {
	var c Compared
	known := disk.Set{{Start: 0, End: m.Bytes}}
	if m.LeftOut {
		var ranges []disk.Range
		for _, r := range m.Allocated {
			ranges = append(ranges, disk.Range{Start: r.Start, End: r.End})
		}
		known = disk.NewSet(ranges)
	}
	c.Unknown = m.Bytes - known.Bytes()
	ranges := make([]disk.Range, len(known))
	for i, r := range known {
		ranges[i] = disk.Range{Start: r.Start, End: r.End}
	}
	var from *Reader // opened where it is needed
	defer func() {
		if from != nil {
			from.Close()
		}
	}()
	part, was := make([]byte, maxPiece), make([]byte, maxPiece)
	for _, p := range m.Pieces {
		now, was := part[:p.Len], was[:p.Len]
		some, err := readPiece(dev, ranges, now, p.Off)
		if err != nil {
			return c, err
		}
		if !some {
			clear(now)
		}
		in := known.Within(disk.Range{Start: p.Off, End: p.Off + p.Len})
		if !some && p.Zero || digest.Of(now, p.Off).String() == p.Hash {
			for _, r := range in {
				c.same(r)
			}
			continue
		}
		clear(was)
		if !p.Zero {
			if from == nil {
				if from, err = s.Reader(m); err != nil {
					return c, err
				}
			}
			if n, _ := from.ReadAt(was, int64(p.Off)); n < len(was) { // nobody can say what was there
				for _, r := range in {
					c.Unknown += r.Len()
				}
				continue
			}
		}
		for _, r := range in {
			c.sectors(r, now[r.Start-p.Off:r.End-p.Off], was[r.Start-p.Off:r.End-p.Off])
		}
	}
	return c, nil
}

func (c *Compared) same(r disk.Range) {
	c.Same += r.Len()
	c.Alike = c.Alike.Put(r)
}

// sectors compares a range, in steps of the smallest sector there is.
func (c *Compared) sectors(r disk.Range, now, was []byte) {
	const sector = 512
	for at := disk.Bytes(0); at < r.Len(); at += sector {
		end := min(at+sector, r.Len())
		x := disk.Range{Start: r.Start + at, End: r.Start + end}
		if bytes.Equal(now[at:end], was[at:end]) {
			c.same(x)
			continue
		}
		c.Differ += x.Len()
		c.Other = c.Other.Put(x)
	}
}

// NewOrigin describes where a backup comes from.
func NewOrigin(l *layout.Layout, s layout.Span, model, serial string) Origin {
	return Origin{DiskID: l.DiskID, Model: model, Serial: serial, Sector: l.Sector, Span: s}
}
