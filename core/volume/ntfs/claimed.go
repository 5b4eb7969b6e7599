package ntfs

import "jadetrail/core/disk"

// Claimed is how long the volume's table of files knows the volume to be, in bytes of whole
// clusters: the list of bad clusters is as long as the volume. It tells whose table of files it
// is where a boot sector may be of an earlier size. ok is false where it cannot be read.
func (v *Volume) Claimed() (n disk.Bytes, ok bool) {
	s, err := v.system(recBadClus, atData, "$Bad")
	if err != nil {
		return 0, false
	}
	return s.size, true
}

// Length is how long the volume is by its boot sector, in bytes of whole clusters.
func (v *Volume) Length() disk.Bytes { return v.boot.bytes() }

// TableAt is where the table of files begins.
func (v *Volume) TableAt() disk.Bytes { return disk.Bytes(v.boot.mft) * v.boot.cluster }
