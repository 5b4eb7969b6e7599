package volume

import "time"

// Detail is what a file system keeps of a file beside its name, date and contents.
// What it does not keep is zero or empty.
type Detail struct {
	Created    time.Time `json:"created,omitzero"`
	Accessed   time.Time `json:"accessed,omitzero"`
	Changed    time.Time `json:"changed,omitzero"` // of the file's record
	Attributes uint32    `json:"attributes,omitempty"`
	// Short is the 8.3 name beside a long one.
	Short string `json:"short,omitempty"`
	// Descriptor is the self-relative security descriptor ([MS-DTYP] 2.4.6).
	Descriptor []byte `json:"descriptor,omitempty"`
	// Reparse is the whole reparse point, its tag first ([MS-FSCC] 2.1.2).
	Reparse []byte `json:"reparse,omitempty"`
	// Extended are the file's extended attributes, as FILE_FULL_EA_INFORMATION has them
	// ([MS-FSCC] 2.4.16), one behind the other.
	Extended []byte `json:"extended_attributes,omitempty"`
	// ObjectID is the 16 to 64 bytes of the file's object id.
	ObjectID []byte `json:"object_id,omitempty"`
}

// Attributes of files, as FAT and NTFS have them ([MS-FSCC] 2.6).
const (
	AttrReadOnly = 0x0001
	AttrHidden   = 0x0002
	AttrSystem   = 0x0004
	AttrArchive  = 0x0020
	AttrSparse   = 0x0200
	AttrReparse  = 0x0400
	AttrPacked   = 0x0800
	AttrSealed   = 0x4000
)

// Detailer is a volume that keeps more of its files than their names, dates and
// contents.
type Detailer interface {
	// Detail returns what is kept of a file that Files, Walk, List or Stat returned.
	Detail(File) (Detail, error)
}
