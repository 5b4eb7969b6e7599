// Package plan says what steps lead to. It is pure: layouts and facts in,
// layouts, obstacles and what is still missing out. It never touches a drive.
package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/form"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
)

// Do is what a step does.
type Do string

// The steps carried out so far.
const (
	Delete    Do = "delete"
	Grow      Do = "grow"
	BringBack Do = "bring-back"
	Mend      Do = "mend"      // one copy of a GPT from the other
	CopyBack  Do = "copy-back" // files of a backup into a volume
	// Of the drive's PC.
	ParkRecovery   Do = "park-recovery"
	UseRecovery    Do = "use-recovery"
	DropStartEntry Do = "drop-start-entry"
	StartOrder     Do = "start-order"
	NoteIdentity   Do = "note-identity"
	Label          Do = "label" // of a volume
	Retag          Do = "retag" // another type, name, attributes or active flag in the table
	CopyOut        Do = "copy-out"
	Absorb         Do = "absorb"    // one volume's files into a folder of another
	Rebuild        Do = "rebuild"   // a partition as a record has it
	Clear          Do = "clear"     // everything, and an empty table
	Container      Do = "container" // of logical volumes
	Restart        Do = "restart"   // of the PC, around all steps that follow
)

// AsksSerial tells whether steps are carried out only once somebody has read the drive's serial number
// from its label: before anything is deleted, and, on a drive that looks like another one in a bay,
// before anything is written to more than its table.
func AsksSerial(steps []Step, alike bool) bool {
	return slices.ContainsFunc(steps, func(s Step) bool { return s.Deletes() || alike && s.Writes() })
}

// Plan is steps in their order.
type Plan struct {
	Version int    `json:"version"`
	Steps   []Step `json:"steps"`
}

// Sentinel errors of Parse.
var (
	ErrMalformed = errors.New("the plan cannot be read")
)

// maxBytes bounds a plan or a goal.
const maxBytes = 1 << 20

// Decode reads one JSON value into v, at most 1 MiB of it; what is wrong is told as bad.
func Decode(b []byte, v any, bad error) error {
	if len(b) > maxBytes {
		return fmt.Errorf("%w: it is longer than 1 MiB", bad)
	}
	if err := form.Read(b, v); err != nil {
		return fmt.Errorf("%w: %w", bad, err)
	}
	return nil
}

// Parse reads a plan from JSON, at most 1 MiB of it and 1000 steps.
func Parse(b []byte) (*Plan, error) {
	var p Plan
	if err := Decode(b, &p, ErrMalformed); err != nil {
		return nil, err
	}
	if p.Version != 1 {
		return nil, fmt.Errorf("%w: its version is %d, not 1", ErrMalformed, p.Version)
	}
	if len(p.Steps) == 0 || len(p.Steps) > 1000 {
		return nil, fmt.Errorf("%w: it has %d steps", ErrMalformed, len(p.Steps))
	}
	for i, s := range p.Steps {
		if err := s.Valid(); err != nil {
			return nil, fmt.Errorf("%w: step %d: %v", ErrMalformed, i+1, err)
		}
	}
	return &p, nil
}

// Code of an obstacle or of something missing.
type Code string

// The obstacles.
const (
	NoSuch         Code = "no-such-partition"
	IsStart        Code = "start-system"
	OnlyEFI        Code = "only-efi"
	SetMember      Code = "set-member"
	Held           Code = "held"
	InTheWay       Code = "in-the-way"
	NoGap          Code = "no-gap"
	GapTooSmall    Code = "gap-too-small"
	NotResizable   Code = "not-resizable"
	NoVolume       Code = "no-volume"
	Sealed         Code = "sealed"
	BadPlaces      Code = "bad-clusters"
	Hibernated     Code = "hibernated"
	ReadOnly       Code = "read-only"
	Removable      Code = "removable"
	LetterTaken    Code = "letter-taken"
	Inside         Code = "inside-container"
	Outside        Code = "outside-container"
	FifthPrimary   Code = "fifth-primary"
	BeyondMBR      Code = "beyond-mbr"
	OtherDrive     Code = "other-drive"
	GapBefore      Code = "gap-before"
	LastCluster    Code = "last-cluster"
	RestorePoints  Code = "restore-points"
	NoFind         Code = "no-find"
	RecordAltered  Code = "record-altered"
	Doubted        Code = "doubtful"
	WrongContents  Code = "wrong-contents"
	NotKnown       Code = "not-known"
	TooLarge       Code = "too-large"
	TooSmall       Code = "too-small"
	HasVolumes     Code = "has-volumes"
	NoNeighbour    Code = "no-neighbour"
	Full           Code = "full"
	NotReadable    Code = "not-readable"
	NoPC           Code = "no-pc"
	NotYet         Code = "not-yet"
	NotClean       Code = "not-clean"
	Unsound        Code = "unsound"
	BadAmount      Code = "bad-amount"
	TableUnsafe    Code = "table-unsafe"
	NoRecord       Code = "no-record"
	NoBackup       Code = "no-backup"
	NowhereToGo    Code = "nowhere-to-go"
	TableFull      Code = "table-full"
	ReleaseMissing Code = "release-missing"
	BackupMissing  Code = "backup-missing"
	WaiverMissing  Code = "waiver-missing"
	LeadMissing    Code = "lead-missing"
	DamageMissing  Code = "damage-missing"
	NotParked      Code = "not-parked"
	NotInOrder     Code = "not-in-order"
	NoSystem       Code = "no-system"
	NothingToDo    Code = "nothing-to-do"
	RecoveryInUse  Code = "recovery-in-use"
	IsShelf        Code = "is-shelf"
	StartEntryLeft Code = "start-entry"
	PlaceNamed     Code = "place-named"
	PathsChange    Code = "paths-change"
	LessKept       Code = "less-kept"
	TooMuch        Code = "too-much"
	OverRecord     Code = "over-record"
)

// Obstacle is why something cannot be done. Clears names what would clear it.
type Obstacle struct {
	Code       Code     `json:"code"`
	Partitions []int    `json:"partitions"`
	Text       string   `json:"text"`
	Clears     []string `json:"clears,omitempty"`
	// Ask is what the lead is to be asked, nil where nothing is for the lead alone.
	Ask *Ask `json:"-"`
}

func (o Obstacle) Error() string { return o.Text }

// AsksFor tells that the lead is needed to lift something.
func (o Obstacle) AsksFor(l Lifts) bool { return o.Ask != nil && o.Ask.Lifts == l }

func NewObstacle(code Code, text string, parts ...int) *Obstacle {
	if parts == nil {
		parts = []int{}
	}
	return &Obstacle{Code: code, Partitions: parts, Text: text}
}

func (o *Obstacle) ClearedBy(ways ...string) *Obstacle {
	o.Clears = append(o.Clears, ways...)
	return o
}

// Backup is what stands for a partition's contents.
type Backup struct {
	ID       string
	Verified bool
	Same     bool // made from the state in which the partition is now
	Away     bool // its shelf has left its bay since it was verified
	Foreign  bool // the shop has not signed it
	// Lost is why its contents are not as they were verified, "" where nothing speaks for that.
	Lost string
	// Coverage tells that it is no backup: all its contents were proven to be on
	// another volume too.
	Coverage bool
	// Kind is image or files; Made and Checked are when it was made and last verified.
	Kind          string
	Made, Checked time.Time
}

// Record is what a plan needs to know of a deletion's record.
type Record struct {
	Span layout.Span
	// Altered tells that it is not as it was entered in the trail: nothing is done on its word.
	Altered bool
	// Stand is how its place stands, nil where it is on another drive or the record kept no
	// contents.
	Stand *Stand
	// Backup from which the partition can be rebuilt, empty for none; Fills is how much it writes then.
	Backup string
	Fills  disk.Bytes
}

// Facts is what a plan depends on beside the layout.
type Facts struct {
	// StartsHere tells that the PC starts from this drive.
	StartsHere bool
	// Loaders are the loader files in EFI partitions, by unique id, of those that could be
	// read. NoStartCode tells that the first sector of a drive with an MBR holds no code.
	Loaders     map[string][]string
	NoStartCode bool
	// Lead tells that whoever carries the plan out answers for the lead; Approvals are what the
	// lead has approved of, where it is still as it was then.
	Lead      bool
	Approvals []Approval
	// TableTrouble is why the table must not be changed, empty when it can be.
	TableTrouble string
	// NoTable tells that the drive has no table at all.
	NoTable bool
	// Mended is the drive after its table has been mended, by the copy that is kept;
	// MendTrouble is why that cannot be done.
	Mended      map[int]Mended
	MendTrouble string
	// ReadOnly tells that the drive is attached for evidence; Removable that it is
	// a stick or a card.
	ReadOnly, Removable bool
	// Lacks are the expected letters that are missing, by unique id.
	Lacks map[string]pc.Missing
	// PC is what is known of the drive's PC, nil for nothing.
	PC *pc.Facts
	// Asleep names the volumes of this PC, on any of its drives, whose system is
	// hibernated.
	Asleep []string
	// Shelved are the partitions that backups are kept in, with the title of the shelf.
	Shelved map[int]string
	// Elsewhere are the largest gaps of the other drives of the job.
	Elsewhere []Elsewhere
	// Insides is what only the files of a volume show, where they were read.
	Insides map[int]InsideFacts
	Backups map[int]Backup
	// Deleted tells that the trail knows of a deletion from this drive that was carried
	// out; Records are only those that steps name.
	Deleted bool
	Records map[string]Record
	// Finds are what a search has found, by their first sector; only those that steps name.
	Finds map[disk.LBA]Found
	// Left are the unique ids of partitions that were deleted from the drive and are not there:
	// their letters are free.
	Left []string
	// Gone are the partitions that could be brought back in their place.
	Gone []Gone
	// Images are the backups of whole partitions that steps name.
	Images map[string]Image
	// Arriving are the files that steps bring back, by Step.Arrival.
	Arriving map[string]Arriving
	// Room is what the bench has free for runs, 0 where that is not known.
	Room disk.Bytes
	// Rate is what the drive was measured to write in a second, 0 for not yet.
	Rate disk.Bytes
	// kept are the volumes whose files the plan itself copies out and brings back.
	kept     map[int]bool
	entries  entries      // what is wrong with those of the table, as it is at the step at hand
	personal map[int]bool // what may have been somebody's when the plan began, or came to hold something that may
	starting map[int]bool // what a PC may have started from when the plan began
	asking   asking       // of the step at hand
	made     map[int]bool // what the plan makes or brings back
	names    *names
	NewIDs   []string // unique ids for the steps that need one
	NewID    string   // the one of the step at hand
}

// Mended is a drive whose table has been mended, and why the table must not be
// changed even then.
type Mended struct {
	Layout  *layout.Layout
	Trouble string
}

// Elsewhere is room on another drive.
type Elsewhere struct {
	Bay  string
	Room disk.Bytes
}

// InsideFacts is what the files of a volume show.
type InsideFacts struct {
	// LastFile holds the volume's last used cluster; Fixed tells that it cannot be
	// moved.
	LastFile string
	Fixed    bool
	// Folders are those of people's files, the largest first.
	Folders []Folder
}

// Folder is one with what is below it.
type Folder struct {
	Path  string
	Bytes disk.Bytes
}

// Told is a step and what it leads to in one line. A title may end with a letter and its colon.
func (c *Column) Told() string { return strings.TrimSuffix(c.Title, ":") + ": " + c.Detail }

// Column is one planned step and the drive after it.
type Column struct {
	Step      Step           `json:"step"`
	Number    int            `json:"number"` // of the partition concerned
	Title     string         `json:"title"`
	Detail    string         `json:"detail"`
	Layout    *layout.Layout `json:"layout"` // nil behind an obstacle
	Obstacles []Obstacle     `json:"obstacles"`
	Missing   []Obstacle     `json:"missing"` // what the gate still asks for
	// Notes are consequences that nothing is asked for, but that somebody should know.
	Notes []Obstacle `json:"notes,omitempty"`
	Place Place      `json:"place,omitempty"`
	// PC is what is known of the PC after the step, nil for nothing.
	PC *pc.Facts `json:"-"`
	// Standing are the backups that stand for the partitions as the step finds them.
	Standing map[int]Backup `json:"-"`
	// Waived are the partitions that go without a backup by the step's waiver.
	Waived []int `json:"-"`
	// Approved is what the lead has approved of that the step needs.
	Approved []Approval `json:"-"`
	// From is the partition, and below which folder, that a step takes files from; 0
	// for none.
	From int    `json:"-"`
	Base string `json:"-"`
	// Moves tells that what it takes is gone from there afterwards.
	Moves bool `json:"-"`
	// Portions tells that the files go over in portions: the volume that they leave gives up
	// what they took, and the other one grows by that.
	Portions bool `json:"portions,omitempty"`
	// Hold is where files wait that a step copies out to another volume, nil for none;
	// Backup is the backup that stands for them on the shelf, "" while none does.
	Hold   *Hold  `json:"-"`
	Backup string `json:"-"`
	// Fills is how much a backup of a whole partition writes where it is put, or what a record kept.
	Fills disk.Bytes `json:"-"`
	// Waits is about how much comes from the shelf once it is there.
	Waits disk.Bytes `json:"-"`
	// Absorbed is the partition whose files a step moved into another; Cleared are those
	// that were taken off the drive all together.
	Absorbed int           `json:"-"`
	Cleared  []layout.Span `json:"-"`
	// Over are the records of partitions that cannot be brought back in their place after
	// the step.
	Over []string `json:"over,omitempty"`
	// NoReturn says why a run that has begun this step can only be finished, "" when it
	// can be taken back.
	NoReturn string `json:"no_return,omitempty"`
}

// Place is how a bring-back is done.
type Place string

// The ways of bringing back.
const (
	InPlace    Place = "in-place"    // the entry alone; the contents are still there
	FromBackup Place = "from-backup" // the contents come from the backup
)
