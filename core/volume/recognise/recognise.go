// Package recognise tells what file system lies on a device, and opens those
// that can be looked into.
package recognise

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
	"jadetrail/core/volume/fat"
	"jadetrail/core/volume/ntfs"
)

// Found is what lies on a device. Volume is nil for what is handled whole only,
// Info is nil where there is nothing.
type Found struct {
	Info     *volume.Info
	Volume   volume.Volume
	Findings finding.List
}

// Open looks at the device. Only a failing device is an error.
func Open(dev disk.Device) (Found, error) {
	var f Found
	v, err := openers(dev)
	switch {
	case err == nil:
		info, err := v.Info()
		if err == nil {
			f.Info, f.Volume = &info, v
			if info.TotalBytes > dev.Size() {
				f.Findings.Add(finding.Error, "volume-too-long", "The volume claims %s, but its partition has %s.", info.TotalBytes, dev.Size())
			}
			return f, nil
		}
		if !errors.Is(err, volume.ErrDamaged) {
			return f, err
		}
		f.Info = &volume.Info{Kind: info.Kind, TotalBytes: dev.Size()}
		f.Findings.Add(finding.Error, "volume-damaged", "%s.", err)
		return f, nil
	case errors.Is(err, volume.ErrDamaged):
		f.Info = &volume.Info{Kind: volume.Unknown, TotalBytes: dev.Size()}
		f.Findings.Add(finding.Error, "volume-damaged", "%s.", err)
		return f, nil
	case !errors.Is(err, volume.ErrNotThis):
		return f, err
	}
	if info := signature(dev); info != nil {
		f.Info = info
		return f, nil
	}
	some, err := anything(dev)
	if some {
		f.Info = &volume.Info{Kind: volume.Unknown, TotalBytes: dev.Size()}
	}
	return f, err
}

func openers(dev disk.Device) (volume.Volume, error) {
	v, err := ntfs.Open(dev)
	if err == nil {
		return v, nil
	}
	if !errors.Is(err, volume.ErrNotThis) {
		return nil, err
	}
	w, err := fat.Open(dev)
	if err == nil {
		return w, nil
	}
	return nil, err
}

// signature recognises what is handled whole by its well-known marks.
func signature(dev disk.Device) *volume.Info {
	info := &volume.Info{TotalBytes: dev.Size()}
	b, err := disk.ReadFull(dev, 0, min(dev.Size(), 8192))
	if err != nil || len(b) < 4096 {
		return nil
	}
	le := binary.LittleEndian
	switch {
	case string(b[3:11]) == "EXFAT   ":
		info.Kind = volume.ExFAT
	case string(b[:6]) == "LUKS\xba\xbe" || string(b[3:11]) == "-FVE-FS-":
		info.Kind = volume.Sealed
	case string(b[512:520]) == "LABELONE":
		info.Kind = volume.LVM
	case string(b[4086:4096]) == "SWAPSPACE2":
		info.Kind = volume.Swap
	case b[1024+56] == 0x53 && b[1024+57] == 0xef:
		// The features decide the generation: a journal makes ext3, extents or
		// wide block numbers ext4.
		compat, incompat := le.Uint32(b[1024+92:]), le.Uint32(b[1024+96:])
		info.Kind = volume.Ext2
		if compat&4 != 0 {
			info.Kind = volume.Ext3
		}
		if incompat&(0x40|0x80|0x200) != 0 {
			info.Kind = volume.Ext4
		}
		info.Label = strings.TrimRight(string(b[1024+120:1024+136]), "\x00")
		info.Serial = hex.EncodeToString(b[1024+104 : 1024+120])
		if k := le.Uint32(b[1024+24:]); k <= 6 {
			info.ClusterBytes = 1024 << k
		}
		info.Clean = le.Uint16(b[1024+58:])&1 != 0
	default:
		return nil
	}
	return info
}

// anything tells whether the device holds any byte but zero. At most the first
// 64 MiB that the device has stored are read; what holds more counts as
// something.
func anything(dev disk.Device) (bool, error) {
	const limit = 64 * disk.MiB
	var read disk.Bytes
	buf := make([]byte, 256<<10)
	for at := disk.Bytes(0); ; {
		start, end, ok := dev.Data(at)
		if !ok {
			return false, nil
		}
		for start < end {
			n := min(end-start, disk.Bytes(len(buf)))
			if _, err := dev.ReadAt(buf[:n], int64(start)); err != nil {
				return false, err
			}
			for _, c := range buf[:n] {
				if c != 0 {
					return true, nil
				}
			}
			if read += n; read > limit {
				return true, nil
			}
			start += n
		}
		at = end
	}
}
