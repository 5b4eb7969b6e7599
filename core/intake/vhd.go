package intake

import (
	"encoding/binary"
	"fmt"
	"os"

	"jadetrail/core/disk"
)

const (
	vhdCookie  = "conectix"
	vhdDynamic = "cxsparse"
	vhdBlock   = 2 * disk.MiB
)

// vhd is a Virtual Hard Disk image. bat has for each block the sector where its
// bitmap and then its data lie; nil for a fixed one, which is raw.
type vhd struct {
	f     *os.File
	file  disk.Bytes
	size  disk.Bytes
	bat   []uint32
	unit  disk.Bytes
	skip  disk.Bytes // of a block's bitmap
	bits  []byte
	known int64 // block whose bitmap is in bits
}

var be = binary.BigEndian

// vhdSum is the one's complement of the sum of all bytes but the checksum's own.
func vhdSum(b []byte, at int) uint32 {
	sum := uint32(0)
	for i, c := range b {
		if i < at || i >= at+4 {
			sum += uint32(c)
		}
	}
	return ^sum
}

func openVHD(f *os.File, file disk.Bytes) (*vhd, error) {
	bad := func(format string, args ...any) (*vhd, error) {
		return nil, fmt.Errorf("%w: as a VHD it is not valid: %s", ErrFormat, fmt.Sprintf(format, args...))
	}
	b := make([]byte, 512)
	if _, err := f.ReadAt(b, int64(file)-512); err != nil {
		return nil, err
	}
	if string(b[:8]) != vhdCookie || vhdSum(b, 64) != be.Uint32(b[64:]) {
		// A dynamic one has a copy of the footer at its start.
		if _, err := f.ReadAt(b, 0); err != nil {
			return nil, err
		}
		if string(b[:8]) != vhdCookie || vhdSum(b, 64) != be.Uint32(b[64:]) {
			return bad("the checksum of its footer does not match")
		}
	}
	v := &vhd{f: f, file: file, known: -1}
	if n := be.Uint64(b[48:]); n == 0 || n > uint64(MaxSize) || n%512 != 0 {
		return bad("it claims %d bytes", n)
	}
	v.size = disk.Bytes(be.Uint64(b[48:]))
	switch kind := be.Uint32(b[60:]); kind {
	case 2:
		if v.size > file-512 {
			return bad("it claims %d bytes and has %d", v.size, file-512)
		}
		return v, nil
	case 3:
	case 4:
		return bad("it holds only the differences to another image, which is needed too")
	default:
		return bad("it is of kind %d", kind)
	}
	h := make([]byte, 1024)
	at := be.Uint64(b[16:])
	if at > uint64(file) {
		return bad("its header lies at byte %d", at)
	}
	if _, err := f.ReadAt(h, int64(at)); err != nil {
		return bad("its header cannot be read")
	}
	if string(h[:8]) != vhdDynamic || vhdSum(h, 36) != be.Uint32(h[36:]) {
		return bad("the checksum of its header does not match")
	}
	count, unit, table := be.Uint32(h[28:]), be.Uint32(h[32:]), be.Uint64(h[16:])
	if unit < 4096 || unit&(unit-1) != 0 || unit > 256<<20 || disk.Bytes(count)*disk.Bytes(unit) < v.size || count > 1<<24 || table+uint64(count)*4 > uint64(file) {
		return bad("it claims %d blocks of %d bytes", count, unit)
	}
	v.unit = disk.Bytes(unit)
	v.skip = (v.unit / 512 / 8).Up(512)
	raw := make([]byte, count*4)
	if _, err := f.ReadAt(raw, int64(table)); err != nil {
		return bad("its table of blocks cannot be read")
	}
	v.bat = make([]uint32, count)
	for i := range v.bat {
		v.bat[i] = be.Uint32(raw[4*i:])
	}
	return v, nil
}

func (v *vhd) block(off disk.Bytes, buf []byte) ([]byte, disk.Bytes, error) {
	i := int64(off / v.unit)
	into := off - disk.Bytes(i)*v.unit
	if v.bat[i] == 0xffffffff {
		return nil, v.unit - into, nil
	}
	at := disk.Bytes(v.bat[i]) * 512
	n := min(v.unit-into, disk.Bytes(len(buf)))
	if at+v.skip+into+n > v.file {
		return nil, 0, fmt.Errorf("block %d lies beyond the file's end", i)
	}
	if v.known != i {
		v.bits = make([]byte, v.skip)
		if _, err := v.f.ReadAt(v.bits, int64(at)); err != nil {
			return nil, 0, err
		}
		v.known = i
	}
	b := buf[:n]
	if _, err := v.f.ReadAt(b, int64(at+v.skip+into)); err != nil {
		return nil, 0, err
	}
	for s := disk.Bytes(0); s < n; s += 512 { // sectors that were never written read as zeros
		if k := (into + s) / 512; v.bits[k/8]>>(7-k%8)&1 == 0 {
			clear(b[s:min(s+512, n)])
		}
	}
	return b, n, nil
}

// vhdFooter describes an image of the given size; data is where a dynamic one's
// header lies.
func vhdFooter(size disk.Bytes, kind uint32, data uint64) []byte {
	b := make([]byte, 512)
	copy(b, vhdCookie)
	be.PutUint32(b[8:], 2)
	be.PutUint32(b[12:], 0x00010000)
	be.PutUint64(b[16:], data)
	copy(b[28:], "jdtr")
	be.PutUint32(b[32:], 0x00010000)
	copy(b[36:], "Wi2k")
	be.PutUint64(b[40:], uint64(size))
	be.PutUint64(b[48:], uint64(size))
	c, h, s := vhdGeometry(size)
	be.PutUint16(b[56:], c)
	b[58], b[59] = h, s
	be.PutUint32(b[60:], kind)
	copy(b[68:], "JadeTrailHandOut")
	be.PutUint32(b[64:], vhdSum(b, 64))
	return b
}

// vhdGeometry is the specification's appendix, "CHS calculation".
func vhdGeometry(size disk.Bytes) (cylinders uint16, heads, sectors byte) {
	total := min(int64(size/512), 65535*16*255)
	var c, h, s int64
	if total >= 65535*16*63 {
		s, h = 255, 16
		c = total / s
	} else {
		s = 17
		c = total / s
		if h = (c + 1023) / 1024; h < 4 {
			h = 4
		}
		if c >= h*1024 || h > 16 {
			s, h = 31, 16
			c = total / s
		}
		if c >= h*1024 {
			s, h = 63, 16
			c = total / s
		}
	}
	return uint16(c / h), byte(h), byte(s)
}

// vhdMost is the largest image that the format can say.
const vhdMost = 2040 * disk.GiB

func writeVHD(dev disk.Device, f *os.File, dynamic bool, tell func(disk.Bytes) error) error {
	if dev.Size() > vhdMost {
		return fmt.Errorf(
			"%w: a VHD ends at %s, and the drive has %s; hand it out in another form", ErrFormat, vhdMost, dev.Size(),
		)
	}
	if dev.SectorBytes() != 512 {
		return fmt.Errorf(
			"%w: a VHD has sectors of 512 bytes, and the drive has %d; hand it out in another form", ErrFormat,
			dev.SectorBytes(),
		)
	}
	if !dynamic {
		if err := writeStored(dev, f, tell); err != nil {
			return err
		}
		_, err := f.WriteAt(vhdFooter(dev.Size(), 2, 1<<64-1), int64(dev.Size()))
		return err
	}
	count := (dev.Size() + vhdBlock - 1) / vhdBlock
	table := make([]byte, (count * 4).Up(512))
	for i := range table {
		table[i] = 0xff
	}
	footer := vhdFooter(dev.Size(), 3, 512)
	h := make([]byte, 1024)
	copy(h, vhdDynamic)
	be.PutUint64(h[8:], 1<<64-1)
	be.PutUint64(h[16:], 1536)
	be.PutUint32(h[24:], 0x00010000)
	be.PutUint32(h[28:], uint32(count))
	be.PutUint32(h[32:], uint32(vhdBlock))
	be.PutUint32(h[36:], vhdSum(h, 36))
	at := disk.Bytes(1536 + len(table))
	bits := make([]byte, 512)
	for i := range bits {
		bits[i] = 0xff
	}
	err := stored(dev, vhdBlock, func(off disk.Bytes, b []byte) error {
		if disk.Zeros(b) {
			return tell(off)
		}
		be.PutUint32(table[4*(off/vhdBlock):], uint32(at/512))
		if _, err := f.WriteAt(bits, int64(at)); err != nil {
			return err
		}
		if _, err := f.WriteAt(b, int64(at)+512); err != nil {
			return err
		}
		at += 512 + vhdBlock
		return tell(off)
	})
	if err != nil {
		return err
	}
	for off, b := range map[disk.Bytes][]byte{0: footer, 512: h, 1536: table, at: footer} {
		if _, err := f.WriteAt(b, int64(off)); err != nil {
			return err
		}
	}
	return nil
}
