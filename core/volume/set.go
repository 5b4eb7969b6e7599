package volume

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash"
	"io"
	"math/bits"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
)

// Set is a set of clusters, counted from 0.
type Set struct {
	w []uint64
	n int64
}

// NewSet returns an empty set of up to n clusters.
func NewSet(n int64) Set { return Set{make([]uint64, (n+63)/64), n} }

// Has tells whether i is in the set.
func (s Set) Has(i int64) bool { return s.w[i/64]>>(i%64)&1 != 0 }

// Add puts [from, to) into the set and tells whether any of it was there.
func (s Set) Add(from, to int64) (twice bool) {
	for i := from; i < to; {
		w, n := i/64, min(64-i%64, to-i)
		m := (^uint64(0) >> (64 - n)) << (i % 64)
		twice = twice || s.w[w]&m != 0
		s.w[w] |= m
		i += n
	}
	return twice
}

// Words is how many words of 64 bits the set has, and Word one of them: the set as a
// bitmap.
func (s Set) Words() int64 { return int64(len(s.w)) }

// Word is the i-th word of the set.
func (s Set) Word(i int64) uint64 { return s.w[i] }

// Count is how many are in the set.
func (s Set) Count() (n int64) {
	for _, w := range s.w {
		n += int64(bits.OnesCount64(w))
	}
	return n
}

// Each calls f for each stretch [from, to) of the set, in order.
func (s Set) Each(f func(from, to int64)) {
	for i := int64(0); i < s.n; {
		if s.w[i/64]>>(i%64) == 0 {
			i += 64 - i%64
			continue
		}
		i += int64(bits.TrailingZeros64(s.w[i/64] >> (i % 64)))
		from := i
		for i < s.n && s.w[i/64]>>(i%64)&1 != 0 {
			i += int64(bits.TrailingZeros64(^(s.w[i/64] >> (i % 64))))
			if i%64 != 0 || i >= s.n {
				break
			}
		}
		if i = min(i, s.n); from < i {
			f(from, i)
		}
	}
}

// Compare adds to l in what the clusters that files use and those that the volume
// marks as used disagree.
func (s Set) Compare(marked Set, l *finding.List) {
	var lost, unmarked int
	for i, w := range s.w {
		lost += bits.OnesCount64(marked.w[i] &^ w)
		unmarked += bits.OnesCount64(w &^ marked.w[i])
	}
	if unmarked > 0 {
		l.Add(finding.Error, "bitmap-disagrees", "%d clusters hold data, but the volume calls them free.", unmarked)
	}
	if lost > 0 {
		l.Add(finding.Warning, "clusters-lost", "%d clusters are marked as used, but no file uses them.", lost)
	}
}

// plain is a stretch of a bitmap that is all clear, and one that is all set.
var plain = [2][512]byte{1: [512]byte(bytes.Repeat([]byte{0xff}, 512))}

// EachSet calls f for each stretch [from, to) of bits that are set among the first n
// of a bitmap, in order. The bitmap is read in pieces, and looked at 64 bits at a time;
// where it goes on as it was, 512 bytes at a time.
func EachSet(r io.ReaderAt, n int64, f func(from, to int64) error) error {
	const piece = 256 << 10
	end := (n + 7) / 8
	buf := make([]byte, min(piece, end+8))
	start := int64(-1) // of the stretch that is open
	for at := int64(0); at < end; at += piece {
		b := buf[:min(piece, end-at)]
		if k, err := r.ReadAt(b, at); err != nil && (err != io.EOF || k < len(b)) {
			return err
		}
		for len(b)%8 != 0 {
			b = append(b, 0)
		}
		for i := 0; i < len(b); i += 8 {
			w := binary.LittleEndian.Uint64(b[i:])
			first := (at + int64(i)) * 8
			if w == 0 && start < 0 || w == ^uint64(0) && start >= 0 {
				same := &plain[w&1]
				for rest := b[i+8:]; len(rest) >= len(same) && bytes.Equal(rest[:len(same)], same[:]); rest = rest[len(same):] {
					i += len(same)
				}
				continue
			}
			for bit := 0; bit < 64; {
				if start < 0 {
					bit += bits.TrailingZeros64(w >> bit)
					if bit >= 64 || w>>bit == 0 {
						break
					}
					start = first + int64(bit)
					continue
				}
				if bit += bits.TrailingZeros64(^(w >> bit)); bit >= 64 {
					break
				}
				from, to := start, min(first+int64(bit), n)
				if start = -1; from < to {
					if err := f(from, to); err != nil {
						return err
					}
				}
			}
		}
	}
	if start >= 0 && start < n {
		return f(start, n)
	}
	return nil
}

// HashStored hashes what a device has stored from one byte to another, with its
// place; holes are not read.
func HashStored(h hash.Hash, dev disk.Device, from, to disk.Bytes) error {
	const block = 4 * disk.KiB
	buf := make([]byte, 1<<20)
	for at := from; at < to; {
		start, end, ok := dev.Data(at)
		if !ok || start >= to {
			return nil
		}
		// In blocks counted from the first byte, so that it does not matter where holes end.
		start = from + (max(start, at) - from).Down(block)
		end = min(from+(min(end, to)-from).Up(block), to)
		for at = start; at < end; {
			b := buf[:min(disk.Bytes(len(buf)), end-at)]
			if _, err := dev.ReadAt(b, int64(at)); err != nil {
				return err
			}
			// Zeros count the same whether they are a hole or not.
			for i := 0; i < len(b); i += int(block) {
				p := b[i:min(i+int(block), len(b))]
				if !disk.Zeros(p) {
					fmt.Fprintf(h, "%d\n", int64(at)+int64(i))
					h.Write(p)
				}
			}
			at += disk.Bytes(len(b))
		}
	}
	return nil
}

// HashFiles hashes every file's path, length, date and place, and returns the hash
// of all in hex.
func HashFiles(h hash.Hash, v Volume) (string, error) {
	files, err := v.Files()
	if err != nil {
		return "", err
	}
	for _, f := range files {
		fmt.Fprintf(
			h, "%s\x00%s\x00%d\x00%d\x00%s\x00%v %d\n", f.Path, f.Kind, f.Bytes, f.ID, Stamp(f.Modified), f.Extents,
			f.Unwritten,
		)
	}
	return fmt.Sprintf("%x", h.Sum(nil)), nil
}

// Mapped tells whether a volume's map of its clusters is exactly what lies in them: what files
// use is marked, and nothing else is. What is wrong with copies of the volume's start does not
// count, nor a folder of NTFS, whose files are found without it.
func Mapped(v Volume) bool {
	for _, f := range v.Check() {
		switch f.Code {
		case "clusters-lost", "free-count":
			return false
		case "boot-checksum", "boot-copy-differs", "boot-copy-missing", "mirror-differs", "mirror-unreadable", "mirror-absurd", "folder-damaged":
		default:
			if f.Severity == finding.Error {
				return false
			}
		}
	}
	return true
}
