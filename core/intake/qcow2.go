package intake

import (
	"compress/flate"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
)

// qcow2 is an image whose clusters are found by two levels of tables.
type qcow2 struct {
	f       *os.File
	file    disk.Bytes
	size    disk.Bytes
	cluster disk.Bytes
	bits    uint
	l1      []uint64
	packed  byte // 0 deflate, 1 zstd
	l2At    uint64
	l2      []byte
}

// Places of a cluster's data in a table's entry.
const (
	qcowOffset   = 0x00fffffffffffe00
	qcowPacked   = 1 << 62
	qcowCopied   = 1 << 63
	qcowZeroFlag = 1
)

func openQcow2(f *os.File, file disk.Bytes) (*qcow2, error) {
	bad := func(format string, args ...any) (*qcow2, error) {
		return nil, fmt.Errorf("%w: as qcow2 it is not valid: %s", ErrFormat, fmt.Sprintf(format, args...))
	}
	h := make([]byte, 112)
	if n, err := f.ReadAt(h, 0); err != nil && (err != io.EOF || n < 72) {
		return bad("its header is cut off")
	}
	version := be.Uint32(h[4:])
	q := &qcow2{f: f, file: file, bits: uint(be.Uint32(h[20:]))}
	switch {
	case version != 2 && version != 3:
		return bad("it is of version %d", version)
	case be.Uint64(h[8:]) != 0:
		return bad("it holds only the differences to another image, which is needed too")
	case be.Uint32(h[32:]) != 0:
		return bad("it is encrypted")
	case q.bits < 9 || q.bits > 21:
		return bad("its clusters have 2^%d bytes", q.bits)
	}
	if version == 3 {
		features := be.Uint64(h[72:])
		if features&4 != 0 {
			return bad("its data lie in another file")
		}
		if features&8 != 0 {
			q.packed = h[104]
		}
		if rest := features &^ 0xb; rest != 0 { // dirty and corrupt marks, kind of compression
			return bad("it has features that are not known (%x)", rest)
		}
		if features&2 != 0 {
			return bad("it is marked as damaged")
		}
		if q.packed > 1 {
			return bad("its compression is of kind %d", q.packed)
		}
	}
	n := be.Uint64(h[24:])
	if n == 0 || n > uint64(MaxSize) {
		return bad("it claims %d bytes", n)
	}
	q.size, q.cluster = disk.Bytes(n).Up(512), 1<<q.bits
	entries, at := be.Uint32(h[36:]), be.Uint64(h[40:])
	per := q.cluster / 8 * q.cluster
	if need := (q.size + per - 1) / per; disk.Bytes(entries) < need || entries > 4<<20 || at+uint64(entries)*8 > uint64(file) {
		return bad("its first table has %d entries at byte %d", entries, at)
	}
	raw := make([]byte, entries*8)
	if _, err := f.ReadAt(raw, int64(at)); err != nil {
		return bad("its first table cannot be read")
	}
	q.l1 = make([]uint64, entries)
	for i := range q.l1 {
		q.l1[i] = be.Uint64(raw[8*i:])
	}
	return q, nil
}

func (q *qcow2) block(off disk.Bytes, buf []byte) ([]byte, disk.Bytes, error) {
	per := q.cluster / 8
	c := off / q.cluster
	into := off - c*q.cluster
	n := q.cluster - into
	table := q.l1[c/per] & qcowOffset
	if table == 0 {
		return nil, (per-c%per)*q.cluster - into, nil
	}
	if table != q.l2At || q.l2 == nil {
		if table+uint64(q.cluster) > uint64(q.file) {
			return nil, 0, errors.New("a table of clusters lies beyond the file's end")
		}
		q.l2, q.l2At = make([]byte, q.cluster), table
		if _, err := q.f.ReadAt(q.l2, int64(table)); err != nil {
			q.l2 = nil
			return nil, 0, err
		}
	}
	e := be.Uint64(q.l2[8*(c%per):])
	b := buf[:n]
	switch at := e & qcowOffset; {
	case e&qcowPacked != 0:
		whole, err := q.unpack(e)
		if err != nil {
			return nil, 0, err
		}
		copy(b, whole[into:])
	case e&qcowZeroFlag != 0 || at == 0:
		return nil, n, nil
	case disk.Bytes(at) >= q.file:
		return nil, 0, errors.New("a cluster lies beyond the file's end")
	default:
		// The last cluster of the file may be cut short; it is zeros behind.
		k, err := q.f.ReadAt(b, int64(at)+int64(into))
		if err != nil && err != io.EOF {
			return nil, 0, err
		}
		clear(b[k:])
	}
	return b, n, nil
}

// unpack decodes a compressed cluster: its place, and how many sectors of 512 bytes
// it reaches into behind the first.
func (q *qcow2) unpack(e uint64) ([]byte, error) {
	x := 62 - (q.bits - 8)
	at := e & (1<<x - 1)
	sectors := e >> x & (1<<(q.bits-8) - 1)
	n := (sectors+1)*512 - at&511
	if at >= uint64(q.file) {
		return nil, errors.New("a compressed cluster lies beyond the file's end")
	}
	in := io.NewSectionReader(q.f, int64(at), int64(min(n, uint64(q.file)-at)))
	out := make([]byte, q.cluster)
	var r io.Reader
	if q.packed == 1 {
		z, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20))
		if err != nil {
			return nil, err
		}
		defer z.Close()
		r = z
	} else {
		r = flate.NewReader(in)
	}
	if _, err := io.ReadFull(r, out); err != nil {
		return nil, fmt.Errorf("a compressed cluster is damaged: %w", err)
	}
	return out, nil
}

// writeQcow2 writes version 3 with clusters of 64 KiB: header, tables of
// reference counts, first table, then each second table before its clusters.
func writeQcow2(dev disk.Device, f *os.File, tell func(disk.Bytes) error) error {
	const bits = 16
	const cluster = disk.Bytes(1) << bits
	per := cluster / 8
	entries := (dev.Size() + per*cluster - 1) / (per * cluster)
	l1Len := (entries * 8).Up(cluster)
	l1 := make([]byte, l1Len)
	at := cluster + l1Len // the header's cluster, then the first table
	var l2 []byte
	l2Of := disk.Bytes(-1)
	flush := func() error {
		if l2Of < 0 {
			return nil
		}
		_, err := f.WriteAt(l2, int64(be.Uint64(l1[8*l2Of:])&qcowOffset))
		return err
	}
	err := stored(dev, cluster, func(off disk.Bytes, b []byte) error {
		if disk.Zeros(b) {
			return tell(off)
		}
		c := off / cluster
		if i := c / per; i != l2Of {
			if err := flush(); err != nil {
				return err
			}
			l2, l2Of = make([]byte, cluster), i
			be.PutUint64(l1[8*i:], uint64(at)|qcowCopied)
			at += cluster
		}
		be.PutUint64(l2[8*(c%per):], uint64(at)|qcowCopied)
		if _, err := f.WriteAt(b, int64(at)); err != nil {
			return err
		}
		at += cluster
		return tell(off)
	})
	if err == nil {
		err = flush()
	}
	if err != nil {
		return err
	}
	// Reference counts of 16 bits: a block counts 32768 clusters, its own too.
	const counts = cluster / 2
	used := at / cluster
	blocks, tables := disk.Bytes(0), disk.Bytes(1)
	for (used+tables+blocks+counts-1)/counts > blocks {
		blocks = (used + tables + blocks + counts - 1) / counts
		tables = (blocks*8 + cluster - 1) / cluster
	}
	table := make([]byte, tables*cluster)
	total := used + tables + blocks
	for i := range blocks {
		be.PutUint64(table[8*i:], uint64((used+tables+i)*cluster))
		block := make([]byte, cluster)
		for k := disk.Bytes(0); k < counts && i*counts+k < total; k++ {
			be.PutUint16(block[2*k:], 1)
		}
		if _, err := f.WriteAt(block, int64((used+tables+i)*cluster)); err != nil {
			return err
		}
	}
	h := make([]byte, cluster)
	copy(h, "QFI\xfb")
	be.PutUint32(h[4:], 3)
	be.PutUint32(h[20:], bits)
	be.PutUint64(h[24:], uint64(dev.Size()))
	be.PutUint32(h[36:], uint32(entries))
	be.PutUint64(h[40:], uint64(cluster))
	be.PutUint64(h[48:], uint64(used*cluster))
	be.PutUint32(h[56:], uint32(tables))
	be.PutUint32(h[96:], 4) // bits of a count, as a power of two
	be.PutUint32(h[100:], 104)
	for off, b := range map[disk.Bytes][]byte{0: h, cluster: l1, used * cluster: table} {
		if _, err := f.WriteAt(b, int64(off)); err != nil {
			return err
		}
	}
	return f.Truncate(int64(total * cluster))
}
