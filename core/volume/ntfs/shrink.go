package ntfs

import (
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/script"
	"jadetrail/core/volume"
)

// ErrUsed tells that something lies behind where a volume is to end.
var ErrUsed = errors.New("something lies behind the new end of the volume")

// Shrink returns the script that makes the volume as long as a partition of the given size,
// places counted from the volume's start. Nothing is moved: what lies behind the new end
// must be free (ErrUsed). The boot sector gets the new size, a copy of it goes to the new
// end; $Bitmap and $BadClus end there too (records 6 and 8, and their copies as far as
// $MFTMirr goes). The clusters of $Bitmap itself stay its own.
//
// A volume that is not clean, or whose bitmap and run lists disagree, is refused
// (volume.ErrNotClean, volume.ErrDamaged).
func (v *Volume) Shrink(size disk.Bytes) (script.Script, error) {
	if err := v.Clean(); err != nil {
		return nil, err
	}
	o := v.boot
	sectors := int64(size/o.sector) - 1
	clusters := sectors / int64(o.cluster/o.sector)
	if clusters >= o.clusters || clusters < 1 {
		return nil, ErrTooSmall
	}
	if !v.Agrees() {
		return nil, fmt.Errorf(
			"%w: the files and the bitmap of clusters disagree, or a record cannot be read", volume.ErrDamaged,
		)
	}
	if free, err := v.free(clusters, o.clusters); err != nil || !free {
		return nil, errors.Join(err, ErrUsed)
	}
	bitmap, bits, err := v.cutBitmap(clusters)
	if err != nil {
		return nil, err
	}
	bad, err := v.cutBadClus(clusters)
	if err != nil {
		return nil, err
	}
	var s script.Script
	// The copy that is left behind is written anew as it is, so that undo brings it back
	// whatever comes to lie there.
	if at := disk.Bytes(le.Uint64(o.raw[40:])) * o.sector; at+o.sector <= v.dev.Size() {
		copied, err := disk.ReadFull(v.dev, at, o.sector)
		if err != nil {
			return nil, err
		}
		s.Put(at, copied)
	}
	b := o.withSectors(sectors)
	s.Put(disk.Bytes(sectors)*o.sector, b[:o.sector])
	s.Barrier("copy of the boot sector at the new end")
	s.Put(0, b)
	s.Barrier("volume made smaller")
	st, err := v.system(recBitmap, atData, "")
	if err != nil {
		return nil, err
	}
	if err := v.putStream(&s, st, clusters/64*8, bits); err != nil {
		return nil, err
	}
	if err := v.putRecords(&s, bitmap, bad); err != nil {
		return nil, err
	}
	s.Barrier("bitmap and records cut")
	return s, nil
}

// putRecords writes the records of $Bitmap and $BadClus, and their copies.
func (v *Volume) putRecords(s *script.Script, bitmap, bad []byte) error {
	n, mirror, err := v.mirrored()
	if err != nil {
		return err
	}
	for _, x := range []struct {
		num int64
		raw []byte
	}{{recBitmap, bitmap}, {recBadClus, bad}} {
		if err := v.putStream(s, v.mft, x.num*int64(v.boot.record), x.raw); err != nil {
			return err
		}
		if x.num < n {
			if err := v.putStream(s, mirror, x.num*int64(v.boot.record), x.raw); err != nil {
				return err
			}
		}
	}
	return nil
}

// cutBitmap returns the record of $Bitmap for so many clusters, and the last eight bytes of
// its contents, in which the bits behind the end are set.
func (v *Volume) cutBitmap(clusters int64) (record, last []byte, err error) {
	r, a, err := v.onePiece(recBitmap, "")
	if err != nil {
		return nil, nil, err
	}
	size := (clusters + 63) / 64 * 8
	if disk.Bytes(size) > a.size {
		return nil, nil, fmt.Errorf("%w: $Bitmap covers fewer clusters than the volume has", volume.ErrDamaged)
	}
	st, err := v.system(recBitmap, atData, "")
	if err != nil {
		return nil, nil, err
	}
	from := clusters / 64 * 8
	last = make([]byte, size-from)
	if _, err := st.ReadAt(last, from); err != nil && len(last) > 0 {
		return nil, nil, err
	}
	put(last, from*8, clusters, size*8, true)
	record, err = resize(
		r, a, a.runs, disk.Bytes(runsEnd(a.runs, 0))*v.boot.cluster, disk.Bytes(size), disk.Bytes(size),
	)
	return record, last, err
}

// cutBadClus makes $BadClus:$Bad as long as the volume; what it would lose is a hole, since
// a bad cluster counts as used.
func (v *Volume) cutBadClus(clusters int64) ([]byte, error) {
	r, a, err := v.onePiece(recBadClus, "$Bad")
	if err != nil {
		return nil, err
	}
	var runs []run
	for _, x := range a.runs {
		if x.vcn >= clusters {
			break
		}
		x.n = min(x.n, clusters-x.vcn)
		runs = append(runs, x)
	}
	size := disk.Bytes(clusters) * v.boot.cluster
	return resize(r, a, runs, size, size, min(a.initialised, size))
}
