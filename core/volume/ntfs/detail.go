package ntfs

import (
	"fmt"
	"slices"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// Bounds of what is read of security descriptors.
const (
	maxSDS        = 256 * disk.MiB
	maxDescriptor = 64 << 10
	sdsBlock      = 256 << 10 // descriptors are kept in blocks, each followed by a copy of it
)

// Detail implements volume.Detailer.
func (v *Volume) Detail(f volume.File) (volume.Detail, error) {
	var d volume.Detail
	r, err := v.record(int64(f.ID))
	if err != nil {
		return d, err
	}
	recs := []*record{r}
	if r.find(atList, "") != nil {
		refs, err := v.extensions(r)
		if err != nil {
			return d, err
		}
		for _, n := range refs {
			x, err := v.record(n)
			if err != nil || int64(x.base&(1<<48-1)) != r.num {
				return d, fmt.Errorf("%w: record %d, which extends %s (%v)", volume.ErrDamaged, n, f.Path, err)
			}
			recs = append(recs, x)
		}
	}
	sid := uint32(0)
	for _, x := range recs {
		for _, a := range x.attrs {
			switch {
			case a.typ == atStandard && len(a.value) >= 48:
				for i, t := range []*time.Time{&d.Created, nil, &d.Changed, &d.Accessed} {
					if t != nil {
						*t = toTime(le.Uint64(a.value[8*i:]))
					}
				}
				d.Attributes = le.Uint32(a.value[stdAttributes:])
				if len(a.value) >= 56 {
					sid = le.Uint32(a.value[stdSecurity:])
				}
			case a.typ == atFileName && len(a.value) >= 66 && a.value[65] == 2 && len(a.value) >= 66+2*int(a.value[64]):
				d.Short = text16(a.value[66 : 66+2*int(a.value[64])])
			case a.typ == atObjectID && len(a.value) >= 16:
				d.ObjectID = slices.Clone(a.value)
			case a.typ == atReparse || a.typ == atSecurity || a.typ == atEA:
				s, err := v.join([]attr{a})
				if err != nil {
					return d, err
				}
				b, err := s.all(maxDescriptor)
				if err != nil {
					return d, err
				}
				switch a.typ {
				case atReparse:
					d.Reparse = b
				case atEA:
					d.Extended = b
				default:
					d.Descriptor = b
				}
			}
		}
	}
	if d.Descriptor == nil && sid != 0 {
		all, err := v.descriptors()
		if err != nil {
			return d, err
		}
		d.Descriptor = all.byID[sid]
	}
	return d, nil
}

// descriptors are the security descriptors of a volume that its files share.
type descriptors struct {
	byID map[uint32][]byte
	ids  map[string]uint32
	last uint32
	end  int64 // of the last one in $SDS
}

// descriptors reads what $Secure keeps, once.
func (v *Volume) descriptors() (*descriptors, error) {
	if v.secure != nil {
		return v.secure, nil
	}
	out := &descriptors{byID: map[uint32][]byte{}, ids: map[string]uint32{}, last: 0xff}
	s, err := v.system(recSecure, atData, "$SDS")
	if err != nil {
		return nil, err
	}
	if s.size > maxSDS {
		return nil, fmt.Errorf("%w: $Secure claims %s of descriptors", volume.ErrDamaged, s.size)
	}
	rows, _, err := v.rows(recSecure, "$SII")
	if err != nil {
		return nil, err
	}
	for _, x := range rows {
		if len(x.data) < 20 {
			continue
		}
		id, at, n := le.Uint32(x.data[sdsID:]), int64(le.Uint64(x.data[sdsOffset:])), int64(le.Uint32(x.data[sdsLength:]))
		if n < 20+20 || n > maxDescriptor+20 || at < 0 || at > int64(s.size)-n {
			return nil, fmt.Errorf("%w: $Secure places descriptor %d beyond its end", volume.ErrDamaged, id)
		}
		b := make([]byte, n)
		if _, err := s.ReadAt(b, at); err != nil {
			return nil, err
		}
		if le.Uint32(b[sdsID:]) != id {
			return nil, fmt.Errorf("%w: $Secure holds another descriptor in the place of %d", volume.ErrDamaged, id)
		}
		d := b[sdsHead:]
		out.byID[id] = d
		if _, known := out.ids[string(d)]; !known {
			out.ids[string(d)] = id
		}
		out.last, out.end = max(out.last, id), max(out.end, at+n)
	}
	v.secure = out
	return out, nil
}
