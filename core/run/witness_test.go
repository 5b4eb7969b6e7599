package run

import (
	"encoding/binary"
	"errors"
	"hash/maphash"
	"io"
	"os"
	"testing"
)

// sectorOf is how a witness counts, whatever the drive's own sectors are.
const sectorOf = 512

// writing is what somebody's file holds: every 512 bytes say whose they are and where they belong.
func writing(who uint32, n int) []byte {
	b := make([]byte, n*sectorOf)
	for i := range n {
		x := b[i*sectorOf:][:sectorOf]
		copy(x, "WITNESS:")
		binary.LittleEndian.PutUint32(x[8:], who)
		binary.LittleEndian.PutUint32(x[12:], uint32(i))
		state := uint64(who)<<32 | uint64(i) | 1
		for at := 16; at < sectorOf; at += 8 {
			state ^= state << 13
			state ^= state >> 7
			state ^= state << 17
			binary.LittleEndian.PutUint64(x[at:], state)
		}
	}
	return b
}

// witness looks at a drive's image by itself: it knows every sector's contents and whose they are, and
// nothing of tables, file systems, runs or records. It shares no code with what is held against it.
type witness struct {
	t    *testing.T
	path string
	seed maphash.Seed
}

// look is what a witness saw: a mark of each sector's contents, and the file and place in it that the sector
// says it belongs to.
type look struct {
	mark []uint64
	who  []uint32 // 0 for nobody
	part []uint32
}

// look reads all of the drive.
func (w *witness) look() look {
	w.t.Helper()
	f, err := os.Open(w.path)
	if err != nil {
		w.t.Fatal(err)
	}
	defer f.Close()
	var l look
	b := make([]byte, 1<<20)
	for {
		n, err := io.ReadFull(f, b)
		for at := 0; at+sectorOf <= n; at += sectorOf {
			l.mark = append(l.mark, w.of(b[at:at+sectorOf]))
			who, part := whose(b[at : at+sectorOf])
			l.who, l.part = append(l.who, who), append(l.part, part)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return l
		}
		if err != nil {
			w.t.Fatal(err)
		}
	}
}

func (w *witness) of(sector []byte) uint64 { return maphash.Bytes(w.seed, sector) }

// whose tells what a sector belongs to, 0 where it does not say so or is not whole.
func whose(sector []byte) (who, part uint32) {
	if string(sector[:8]) != "WITNESS:" {
		return 0, 0
	}
	who, part = binary.LittleEndian.Uint32(sector[8:]), binary.LittleEndian.Uint32(sector[12:])
	state := uint64(who)<<32 | uint64(part) | 1
	for at := 16; at < sectorOf; at += 8 {
		state ^= state << 13
		state ^= state >> 7
		state ^= state << 17
		if binary.LittleEndian.Uint64(sector[at:]) != state {
			return 0, 0
		}
	}
	return who, part
}

// stretch is a piece of the drive, in bytes.
type stretch struct{ off, len int64 }

// same tells in how many of the sectors of a stretch two looks differ.
func (l look) differ(before look, s stretch) (n int) {
	for i := s.off / sectorOf; i < (s.off+s.len)/sectorOf; i++ {
		if l.mark[i] != before.mark[i] {
			n++
		}
	}
	return n
}

// file tells whose file lies in stretches, one after the other: 0 where they hold no file, or not all of it.
func (l look) file(at []stretch, size int64) uint32 { return l.fileWith(at, size, nil) }

// fileWith is file with other contents in some sectors.
func (l look) fileWith(at []stretch, size int64, other map[int64][]byte) (who uint32) {
	part := uint32(0)
	for _, s := range at {
		for i := s.off / sectorOf; i < (s.off+s.len)/sectorOf && int64(part)*sectorOf < size; i++ {
			its, nth := l.who[i], l.part[i]
			if b, is := other[i]; is {
				its, nth = whose(b)
			}
			if its == 0 || nth != part || who != 0 && its != who {
				return 0
			}
			who = its
			part++
		}
	}
	if int64(part)*sectorOf < size {
		return 0
	}
	return who
}
