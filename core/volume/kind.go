package volume

// Kind of a file system, in the words of the bench commands.
type Kind string

// The kinds recognised.
const (
	NTFS    Kind = "ntfs"
	FAT12   Kind = "fat12"
	FAT16   Kind = "fat16"
	FAT32   Kind = "fat32"
	ExFAT   Kind = "exfat"
	Ext2    Kind = "ext2"
	Ext3    Kind = "ext3"
	Ext4    Kind = "ext4"
	ReFS    Kind = "refs"
	Btrfs   Kind = "btrfs"
	XFS     Kind = "xfs"
	APFS    Kind = "apfs"
	HFSPlus Kind = "hfsplus"
	Swap    Kind = "swap"
	ISO     Kind = "iso9660"
	Sealed  Kind = "sealed"
	LVM     Kind = "lvm"
	Member  Kind = "set-member"
	Unknown Kind = "unknown"
)

// ability is what this program can do with the volumes of a kind.
type ability struct {
	opens   bool // look into them
	changes bool // change their size, and put files into them
}

var abilities = map[Kind]ability{
	NTFS:  {opens: true, changes: true},
	FAT12: {opens: true, changes: true},
	FAT16: {opens: true, changes: true},
	FAT32: {opens: true, changes: true},
	ExFAT: {opens: true},
	Ext2:  {opens: true},
	Ext3:  {opens: true},
	Ext4:  {opens: true},
}

// Opens tells that volumes of the kind can be looked into.
func (k Kind) Opens() bool { return abilities[k].opens }

// Changes tells that volumes of the kind can be resized, and that files can be put into them.
func (k Kind) Changes() bool { return abilities[k].changes }

// IsFAT tells that it is a FAT, whatever the width of its entries (FAT specification, 3.5).
func (k Kind) IsFAT() bool { return k == FAT12 || k == FAT16 || k == FAT32 }

// IsExt tells that it is one of the family of ext.
func (k Kind) IsExt() bool { return k == Ext2 || k == Ext3 || k == Ext4 }

// IsLinux tells that it is of a kind that Linux systems are put on.
func (k Kind) IsLinux() bool { return k.IsExt() || k == Btrfs || k == XFS }
