package ntfs

// Where the fields of the structures on a volume lie, in bytes from the start of each. All numbers are
// little-endian.

// The boot sector: the BIOS parameter block and its extension.
const (
	bootOEM         = 3  // "NTFS" and four spaces
	bootSectorBytes = 11 // 2 bytes
	bootPerCluster  = 13 // 1 byte: sectors in a cluster, above 0x80 a negative power of two
	bootTrack       = 24 // 2 bytes: sectors in a track
	bootHeads       = 26 // 2 bytes
	bootHidden      = 28 // 4 bytes: sectors before the volume
	bootSectors     = 40 // 8 bytes: sectors of the volume, without the copy of this one at its end
	bootTable       = 48 // 8 bytes: the cluster at which $MFT begins
	bootMirror      = 56 // 8 bytes: that of $MFTMirr
	bootRecord      = 64 // 1 byte, signed: clusters in a file record, or a negative power of two in bytes
	bootIndex       = 68 // 1 byte, signed: the same of an index block
	bootSerial      = 72 // 8 bytes
)

// The header of a file record segment, "FILE"; an index block, "INDX", begins with the same two fields.
const (
	hdrFixups       = 4  // 2 bytes: where the update sequence array begins
	hdrFixupCount   = 6  // 2 bytes: its numbers, one for each 512 bytes and one before them
	hdrSequence     = 16 // 2 bytes: how often the record was used
	hdrLinks        = 18 // 2 bytes: names of the file
	hdrFirst        = 20 // 2 bytes: where the first attribute begins
	hdrFlags        = 22 // 2 bytes: in use, a folder
	hdrUsed         = 24 // 4 bytes: of the record
	hdrAllocated    = 28 // 4 bytes: for the record
	hdrBase         = 32 // 8 bytes: reference to the base record, 0 in that itself
	hdrNextInstance = 40 // 2 bytes: number of the next attribute
	hdrNumber       = 44 // 4 bytes: of the record
)

// The header of an attribute record: what all have, then what follows in one whose value is in the record
// (resident), and in one whose value is in clusters (nonresident).
const (
	attrLength      = 4  // 4 bytes: of the attribute record
	attrNonResident = 8  // 1 byte
	attrNameLength  = 9  // 1 byte: in characters
	attrNameOffset  = 10 // 2 bytes
	attrFlags       = 12 // 2 bytes: compressed, encrypted, sparse
	attrInstance    = 14 // 2 bytes

	attrValueLength  = 16 // 4 bytes
	attrValueOffset  = 20 // 2 bytes
	attrIndexed      = 22 // 1 byte
	attrResidentHead = 24 // length of this header

	attrLowest      = 16 // 8 bytes: the first virtual cluster that the runs map
	attrHighest     = 24 // 8 bytes: the last one
	attrRuns        = 32 // 2 bytes: where the mapping pairs begin
	attrUnit        = 34 // 1 byte: power of two of the clusters in a compression unit
	attrAllocated   = 40 // 8 bytes
	attrSize        = 48 // 8 bytes
	attrInitialised = 56 // 8 bytes: the valid data length
	attrRunsHead    = 64 // length of this header, but for
	attrTaken       = 64 // 8 bytes, of a compressed or sparse one: what is allocated in all
)

// $STANDARD_INFORMATION begins with four times of 8 bytes: made, modified, changed, read.
const (
	stdModified   = 8
	stdChanged    = 16
	stdAttributes = 32 // 4 bytes
	stdSecurity   = 52 // 4 bytes: the number of a descriptor in $Secure
)

// $FILE_NAME begins with the reference of the folder; an index of names has it as its keys.
const (
	fnTimes      = 8  // four of 8 bytes
	fnAllocated  = 40 // 8 bytes
	fnSize       = 48 // 8 bytes
	fnAttributes = 56 // 4 bytes
	fnReparse    = 60 // 4 bytes: the tag of a reparse point, or 2 bytes: the size of extended attributes
	fnLength     = 64 // 1 byte: in characters
	fnSpace      = 65 // 1 byte: POSIX, Win32, DOS
	fnText       = 66
)

// An entry of $ATTRIBUTE_LIST begins with the type of the attribute.
const (
	lstLength     = 4  // 2 bytes: of the entry
	lstNameLength = 6  // 1 byte: in characters
	lstNameOffset = 7  // 1 byte
	lstLowest     = 8  // 8 bytes: the first virtual cluster that this record maps
	lstReference  = 16 // 8 bytes: of the record
	lstInstance   = 24 // 2 bytes
	lstName       = 26
)

// $INDEX_ROOT begins with the type of the attribute that is indexed; an index block holds a part of the same tree.
const (
	rootCollation = 4  // 4 bytes
	rootBlock     = 8  // 4 bytes: bytes in an index block
	rootPerBlock  = 12 // 1 byte: clusters in an index block, or sectors where they are larger
	rootHeader    = 16 // the index header

	blkVCN    = 16 // 8 bytes: where the block lies in $INDEX_ALLOCATION
	blkHeader = 24 // the index header
)

// An entry of an index begins with the reference of the file, or in a view index with 2 bytes: where its data lies.
const (
	entDataLength = 2  // 2 bytes, in a view index
	entLength     = 8  // 2 bytes: of the entry
	entKeyLength  = 10 // 2 bytes
	entFlags      = 12 // 2 bytes: has a child, is the last
	entKey        = 16
)

// The header of a security descriptor in $Secure:$SDS begins with its hash.
const (
	sdsID     = 4  // 4 bytes
	sdsOffset = 8  // 8 bytes: where it lies in the stream
	sdsLength = 16 // 4 bytes: with this header
	sdsHead   = 20 // length of this header
)
