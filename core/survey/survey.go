// Package survey reads a drive: its table, what lies in each partition, what
// each is for, and what is wrong.
package survey

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"unicode"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/form"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/sign"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// Survey is a drive as read, with what is needed to go on working on it.
type Survey struct {
	Layout  *layout.Layout
	Table   *table.Table
	Sign    *sign.Sign // of a run that is open on the drive, nil for none
	volumes volumes
	looked  *sync.Map // see Remembered; nil for a drive that may be written to
}

// Identity of a drive, from IMAGE.drive.json beside an image that carries none
// itself.
type Identity struct {
	Model     string `json:"model"`
	Serial    string `json:"serial"`
	Removable bool   `json:"removable,omitempty"`
	// ReadOnly tells that the drive is attached for evidence; nothing on it may change.
	ReadOnly bool `json:"read_only,omitempty"`
}

// Bounds of what stands beside an image, and of a text on a drive's label.
const (
	maxIdentity = 64 * disk.KiB
	maxLabel    = 200
)

// ReadIdentity reads the identity beside an image; a missing file is an empty
// identity.
func ReadIdentity(image string) (Identity, error) {
	var id Identity
	b, err := disk.ReadSmall(image+".drive.json", maxIdentity)
	if errors.Is(err, fs.ErrNotExist) {
		return id, nil
	}
	if err == nil {
		err = form.ReadOf(b, &id)
	}
	long := len(id.Model) > maxLabel || len(id.Serial) > maxLabel
	if err == nil && (long || strings.ContainsFunc(id.Model+id.Serial, unicode.IsControl)) {
		id, err = Identity{}, errors.New("its model or its serial number is none that a label has")
	}
	if err != nil {
		return id, fmt.Errorf("the drive's identity beside %s cannot be read: %w", image, err)
	}
	return id, nil
}

// Apart compares a drive with the others in the shop. last is how many characters of
// the end of its serial number tell it from all of them, at least 4; alike are those
// that look the same by model and size, or whose serial numbers end alike.
func Apart(id Identity, size disk.Bytes, others map[string]Seen) (last int, alike []string) {
	last = 4
	serial := PlainSerial(id.Serial)
	for name, o := range others {
		same, other := 0, PlainSerial(o.Serial)
		for same < min(len(serial), len(other)) && serial[len(serial)-1-same] == other[len(other)-1-same] {
			same++
		}
		if same >= 4 {
			last = max(last, min(same+1, len(serial)))
		}
		if same >= 4 || id.Model != "" && strings.EqualFold(id.Model, o.Model) && size == o.Size {
			alike = append(alike, name)
		}
	}
	slices.Sort(alike)
	return last, alike
}

// PlainSerial is a serial number as it is compared: in capitals, without dashes and spaces.
func PlainSerial(s string) string {
	return strings.ToUpper(strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || unicode.Is(unicode.Pd, r) {
			return -1
		}
		return r
	}, s))
}

// Seen is another drive, as far as it must be told apart.
type Seen struct {
	Identity
	Size disk.Bytes
}

// Window is the part of the drive that a partition takes.
func Window(dev disk.Device, s layout.Span) *disk.Window {
	return disk.NewWindow(dev, s.Start.Offset(dev.SectorBytes()), s.Bytes)
}

// Read reads the drive. facts may be nil; without them no system is the start
// system. Only a failing device is an error; what is wrong with the drive is a
// finding.
func Read(dev disk.Device, facts *pc.Facts) (*Survey, error) {
	t, err := table.Read(dev)
	if err != nil {
		return nil, err
	}
	s := &Survey{Table: t}
	l := &layout.Layout{
		Scheme: string(t.Scheme), Size: dev.Size(), Sector: dev.SectorBytes(), DiskID: t.DiskID,
		FirstUsable: t.FirstUsable, LastUsable: t.LastUsable, Slots: t.Slots(), Findings: append(finding.List{}, t.Findings...),
	}
	open, err := sign.Find(dev)
	if err != nil {
		return nil, err
	}
	if s.Sign = open; open != nil { // told before all else: what follows is of a drive in the middle of a change
		l.Findings = append(unfinished(open), l.Findings...)
	}
	if t.Scheme == table.None {
		return s, s.whole(dev, l, facts)
	}
	last := l.Size.At(l.Sector) - 1
	var parts []layout.Span
	for _, e := range t.Entries {
		p := span(e, l.Sector)
		if t.Scheme == table.MBR {
			p.UniqueID = layout.PlaceID(t.DiskID, p.Start.Offset(l.Sector))
		}
		if e.End >= e.Start && e.End <= last && roles[e.TypeID] != layout.Container {
			found, err := recognise.Open(Window(dev, p))
			if err != nil {
				return nil, fmt.Errorf("partition %d: %w", e.Slot, err)
			}
			p.Volume = found.Info
			l.Findings = append(l.Findings, found.Findings.On(e.Slot)...)
			if found.Volume != nil {
				s.volumes.add(e.Slot, found.Volume)
			}
		}
		s.judge(&p, e, facts)
		l.Findings = append(l.Findings, s.disagreements(p)...)
		parts = append(parts, p)
	}
	s.Layout = l.With(parts)
	return s, nil
}

// unfinished tells of the run that is open on a drive, as its sign says.
func unfinished(s *sign.Sign) (l finding.List) {
	if s.Run == "" {
		l.Add(
			finding.Error, UnfinishedRun,
			"A run on this drive is not finished; the sign that says so is damaged and does not tell which. What is read from the drive cannot be relied on.",
		)
		return l
	}
	l.Add(
		finding.Error, UnfinishedRun,
		"A run on this drive, begun %s, is not finished (%s). What is read from the drive cannot be relied on until it is finished or taken back.",
		s.Begun.Local().Format("2 Jan 2006 15:04"), s.Run,
	)
	return l
}

// UnfinishedRun is the code of the finding that a run on the drive is open.
const UnfinishedRun = "unfinished-run"

// whole reads a drive without a table: a volume may take all of it.
func (s *Survey) whole(dev disk.Device, l *layout.Layout, facts *pc.Facts) error {
	found, err := recognise.Open(dev)
	if err != nil {
		return err
	}
	var parts []layout.Span
	switch {
	case found.Info == nil:
		l.Findings.Add(finding.Note, "no-table", "The drive has no partition table, and nothing is on it.")
	case found.Info.Kind == volume.Unknown:
		l.Findings.Add(
			finding.Note, "no-table",
			"The drive has no partition table. Something is on it, but no file system that is known.",
		)
	default:
		l.Findings.Add(
			finding.Note, "no-table", "The drive has no partition table: a %s volume takes it whole.",
			found.Info.Kind,
		)
		p := span(table.Entry{Slot: 1, Start: 0, End: dev.Size().At(l.Sector) - 1}, l.Sector)
		p.Volume, p.UniqueID = found.Info, layout.PlaceID("none-"+found.Info.Serial, 0)
		l.Findings = append(l.Findings, found.Findings.On(1)...)
		if found.Volume != nil {
			s.volumes.add(1, found.Volume)
		}
		s.judge(&p, table.Entry{Slot: 1}, facts)
		parts = append(parts, p)
	}
	s.Layout = l.With(parts)
	return nil
}

func span(e table.Entry, sector disk.Bytes) layout.Span {
	return layout.Span{
		Kind: layout.Partition, Number: e.Slot, Start: e.Start, End: e.End, Bytes: max(e.Bytes(sector), 0),
		TypeID: e.TypeID, TypeName: table.TypeName(e.TypeID), UniqueID: e.UniqueID, Name: e.Name,
		Attributes: fmt.Sprintf("0x%016x", e.Attributes), Active: e.Active, Hidden: e.Hidden, Container: e.Container, Record: e.Record,
	}
}

var roles = map[string]layout.Role{
	table.TypeEFI: layout.EFI, table.TypeReserved: layout.Reserved, table.TypeRecovery: layout.Recovery,
	table.TypeOEM: layout.OEM, table.TypeOEM2: layout.OEM, table.TypeSwap: layout.Swap,
	"ef": layout.EFI, "27": layout.Recovery, "12": layout.OEM, "82": layout.Swap, "05": layout.Container, "0f": layout.Container,
	"85": layout.Container, "15": layout.Container, "1f": layout.Container,
}

var members = map[string]bool{
	table.TypeDynamic: true, table.TypeDynMeta: true, table.TypePool: true, table.TypeRAID: true, "42": true, "fd": true,
}

// judge decides what a partition is for: by its type, its attributes, what lies
// in it, and the PC's facts.
func (s *Survey) judge(p *layout.Span, e table.Entry, facts *pc.Facts) {
	role, known := roles[e.TypeID]
	switch {
	case facts != nil && facts.Starts(p.UniqueID):
		role = layout.StartSystem
	case known:
	case s.startsPC(facts) && p.Volume != nil && HoldsLoaders(p.Volume.Kind, s.Volume(e.Slot)):
		role = layout.EFI // whatever the type says: the PC starts from this drive
	case isSystem(s.Volume(e.Slot)):
		role = layout.OtherSystem
	case e.Attributes&table.AttrRequired != 0:
		role = layout.OEM
	case p.Volume != nil && p.Volume.Kind == volume.Swap:
		role = layout.Swap
	case p.Volume != nil && p.Volume.Kind != volume.Unknown:
		role = layout.Data
	default:
		role = layout.Unknown
	}
	if p.Role = role; role == layout.OtherSystem && facts != nil {
		p.Note = layout.NoteUnstarted
		if facts.InOrder(p.UniqueID) {
			p.Note = layout.NoteOffered
		}
	}
	p.Member = members[e.TypeID]
	switch role {
	case layout.EFI, layout.Reserved, layout.Recovery, layout.OEM:
		p.Protected = true
	default:
		p.Protected = e.Attributes&(table.AttrRequired|table.AttrReadOnly) != 0 || s.recoversFrom(p)
	}
	p.Personal = s.personal(p)
	if facts != nil {
		for id, letter := range facts.Letters {
			if strings.EqualFold(id, p.UniqueID) {
				p.Letter = letter
			}
		}
		for id, by := range facts.Held {
			if facts.State == pc.Running && strings.EqualFold(id, p.UniqueID) {
				p.Held, p.Loses = by, facts.Loses[id]
			}
		}
		if role == layout.StartSystem && facts.State == pc.Running && p.Held == "" {
			p.Held = "the running system"
		}
		if p.Volume != nil {
			has := func(ids []string) bool {
				return slices.ContainsFunc(ids, func(id string) bool { return strings.EqualFold(id, p.UniqueID) })
			}
			p.Volume.Hibernated = p.Volume.Hibernated || has(facts.Hibernated)
			p.Volume.RestorePoints = p.Volume.RestorePoints || has(facts.RestorePoints)
		}
	}
}

// recoversFrom tells that a partition which is called data holds a recovery image.
func (s *Survey) recoversFrom(p *layout.Span) bool {
	v := s.Volume(p.Number)
	return p.Role == layout.Data && v != nil && p.Volume.Kind == volume.NTFS && holdsRecovery(v)
}

// personal tells whether what a partition holds may be somebody's. What it holds says more than its type:
// files in something called recovery that is none are files of a person, and what nobody can look into may be.
func (s *Survey) personal(p *layout.Span) bool {
	v := s.Volume(p.Number)
	if p.Volume == nil {
		return false
	}
	switch p.Role {
	case layout.Recovery:
		return v == nil || !holdsRecovery(v) && holdsFiles(v) || mayHoldPersons(v)
	case layout.EFI:
		return v == nil || !has(v, "EFI") && holdsFiles(v) || mayHoldPersons(v)
	case layout.OEM:
		return v != nil && mayHoldPersons(v)
	case layout.Swap:
		return p.Volume.Kind != volume.Swap
	case layout.Reserved: // a few bytes that were left in one are no volume
		return p.Volume.Kind != volume.Unknown
	}
	return true
}

// holdsFiles tells whether there is anything in a volume, as far as its root folder can be read.
func holdsFiles(v volume.Volume) bool {
	list, _, err := v.List("", "", 1)
	return err != nil || len(list) > 0
}

// people are folders that persons have, and the ends of names that only their files have: makers and systems
// keep pictures and texts of their own.
var (
	people = []string{
		"users", "home", "documents and settings", "documents", "my documents", "pictures", "photos", "music",
		"videos", "desktop",
	}
	theirEnds = strings.Fields(".doc .docx .odt .xls .xlsx .ods .ppt .pptx .odp .pages .numbers .pst .ost .eml .mbox .heic .cr2 .cr3 .nef .arw .dng")
)

// persons tells whether a volume has what only persons have, in its root folder or in a folder there; err where
// that cannot be read.
func persons(v volume.Volume) (has bool, err error) {
	list, _, err := v.List("", "", 500)
	if err != nil {
		return false, err
	}
	folders := 0
	for _, f := range list {
		name := strings.ToLower(path.Base(f.Path))
		if f.Kind != volume.Folder {
			has = has || endsAsTheirs(f)
			continue
		}
		has = has || slices.Contains(people, name)
		if folders++; has || folders > 50 {
			continue
		}
		inside, _, err := v.List(f.Path, "", 500)
		if err != nil {
			return false, err
		}
		has = slices.ContainsFunc(inside, endsAsTheirs)
	}
	return has, nil
}

func endsAsTheirs(f volume.File) bool {
	return f.Kind == volume.Plain && slices.Contains(theirEnds, strings.ToLower(path.Ext(f.Path)))
}

// mayHoldPersons is persons, and so of what cannot be read.
func mayHoldPersons(v volume.Volume) bool {
	has, err := persons(v)
	return has || err != nil
}

// calledRecovery tells whether a partition or its volume has a name that says recovery.
func calledRecovery(p layout.Span) bool {
	name := strings.ToLower(p.Volume.Label + " " + p.Name)
	return slices.ContainsFunc([]string{"recovery", "restore", "winre", "rescue"}, func(x string) bool { return strings.Contains(name, x) })
}

// RoleOf is what a partition is for by its type and its contents, where neither attributes nor
// a PC tell.
func RoleOf(typeID string, v volume.Volume) layout.Role {
	switch role, known := roles[typeID]; {
	case known:
		return role
	case isSystem(v):
		return layout.OtherSystem
	}
	return layout.Data
}

// startsPC tells that the PC starts from the drive.
func (s *Survey) startsPC(facts *pc.Facts) bool {
	return facts != nil && s.Table.DiskID != "" && strings.EqualFold(facts.StartDrive, s.Table.DiskID)
}

// HoldsLoaders tells whether a volume of a kind holds loaders where a PC looks for them: in folders of the
// folder EFI, of a FAT (UEFI 2.10, 13.3.1.3).
func HoldsLoaders(kind volume.Kind, v volume.Volume) bool {
	if v == nil || kind != volume.FAT32 && kind != volume.FAT16 {
		return false
	}
	dirs, _, err := v.List("EFI", "", 50)
	if err != nil {
		return false
	}
	loader := func(f volume.File) bool { return f.Kind == volume.Plain && strings.EqualFold(path.Ext(f.Path), ".efi") }
	return slices.ContainsFunc(dirs, func(d volume.File) bool {
		if d.Kind != volume.Folder {
			return false
		}
		list, _, err := v.List(d.Path, "", 200)
		return err == nil && slices.ContainsFunc(list, loader)
	})
}

// isSystem tells whether a volume holds an operating system, by its folders.
func isSystem(vol volume.Volume) bool {
	v, ok := vol.(volume.FolderFinder)
	return ok && (v.HasFolders("Windows", "System32", "config") || v.HasFolders("etc", "init.d"))
}

// contents is what a partition is by the table and what it holds.
type contents struct {
	layout.Span
	typed  layout.Role // by its type alone
	kind   volume.Kind // of what it holds, "" for nothing
	opened volume.Volume
	theirs bool // persons have files where none should be, as far as that can be read
}

// contentsOf looks at a partition.
func (s *Survey) contentsOf(p layout.Span) *contents {
	c := &contents{Span: p, typed: roles[p.TypeID], opened: s.Volume(p.Number)}
	if p.Volume != nil {
		c.kind = p.Volume.Kind
	}
	if c.opened != nil && (c.typed == layout.EFI || c.typed == layout.Recovery || p.Role == layout.OEM) {
		c.theirs, _ = persons(c.opened)
	}
	return c
}

// disagreement is one way in which a partition's type and contents do not fit together.
type disagreement struct {
	severity finding.Severity
	code     string
	is       func(s *Survey, c *contents) bool
	text     func(c *contents) string
}

// plain is a text that is the same for every partition.
func plain(text string) func(*contents) string { return func(*contents) string { return text } }

// fatTypes are the types of an MBR that are for FAT.
var fatTypes = []string{"01", "04", "06", "0b", "0c", "0e"}

// allDisagreements are all ways, in the order in which they are looked for: of a partition the first counts. They are
// entered when the program starts, because what looks at contents asks for findings too.
var allDisagreements []disagreement

func init() {
	allDisagreements = []disagreement{
		{
			finding.Warning, "efi-without-fat", func(_ *Survey, c *contents) bool { return c.typed == layout.EFI && !c.kind.IsFAT() },
			plain("is of the type EFI system, but holds no FAT volume: a PC cannot start from it."),
		},
		{
			finding.Warning, "efi-without-loader",
			func(_ *Survey, c *contents) bool {
				return c.typed == layout.EFI && c.opened != nil && !has(c.opened, "EFI")
			},
			plain("is of the type EFI system, but holds no loaders (no folder EFI)."),
		},
		{
			finding.Note, "efi-by-contents",
			func(_ *Survey, c *contents) bool { return c.typed != layout.EFI && c.Role == layout.EFI },
			plain("holds loaders on the drive that the PC starts from, though its type is not EFI system."),
		},
		{
			finding.Warning, "recovery-empty",
			func(_ *Survey, c *contents) bool { return c.typed == layout.Recovery && c.kind == "" },
			plain("is of the type recovery, but holds nothing."),
		},
		{
			finding.Warning, "recovery-without-image",
			func(_ *Survey, c *contents) bool {
				return c.typed == layout.Recovery && c.opened != nil && !holdsRecovery(c.opened)
			},
			plain("is of the type recovery, but holds no recovery image."),
		},
		{
			finding.Warning, "persons-files", func(_ *Survey, c *contents) bool { return c.theirs },
			func(c *contents) string {
				return fmt.Sprintf("is %s by its type, but holds folders or files such as persons have.", c.Role)
			},
		},
		{
			finding.Warning, "reserved-with-volume",
			func(_ *Survey, c *contents) bool {
				return c.typed == layout.Reserved && c.kind != "" && c.kind != volume.Unknown
			},
			func(c *contents) string {
				return fmt.Sprintf("is of the type reserved, but holds a %s volume.", c.kind)
			},
		},
		{
			finding.Note, "recovery-by-contents",
			func(s *Survey, c *contents) bool { return c.typed == "" && s.recoversFrom(&c.Span) },
			plain("holds a recovery image, though its type does not say so: it is protected as one."),
		},
		{
			finding.Warning, "name-and-contents",
			func(_ *Survey, c *contents) bool {
				return c.Personal && c.opened != nil && calledRecovery(c.Span) && !holdsRecovery(c.opened) && holdsFiles(c.opened)
			},
			func(c *contents) string {
				return fmt.Sprintf(
					"is called %q, but holds no recovery image: what is in it may be somebody's files.",
					cmp.Or(c.Volume.Label, c.Name),
				)
			},
		},
		{
			finding.Note, "swap-with-volume",
			func(_ *Survey, c *contents) bool {
				return c.typed == layout.Swap && c.kind != "" && c.kind != volume.Swap
			},
			func(c *contents) string {
				return fmt.Sprintf("is of the type swap, but holds a %s volume.", c.kind)
			},
		},
		{
			finding.Note, "type-and-contents",
			func(_ *Survey, c *contents) bool {
				return c.kind.IsLinux() && slices.Contains([]string{table.TypeBasic, "07", "0b", "0c"}, c.TypeID)
			},
			func(c *contents) string {
				return fmt.Sprintf(
					"has a type for other systems (%s), but holds a %s volume; some programs offer to format it.",
					c.TypeName, c.kind,
				)
			},
		},
		{
			finding.Note, "type-and-contents",
			func(_ *Survey, c *contents) bool { return c.kind.IsFAT() && c.TypeID == "07" },
			func(c *contents) string {
				return fmt.Sprintf("has the type 07, which is for NTFS and exFAT, but holds a %s volume.", c.kind)
			},
		},
		{
			finding.Note, "type-and-contents",
			func(_ *Survey, c *contents) bool {
				return (c.kind == volume.NTFS || c.kind == volume.ExFAT) && slices.Contains(fatTypes, c.TypeID)
			},
			func(c *contents) string {
				return fmt.Sprintf("has a type for FAT (%s), but holds a %s volume.", c.TypeID, c.kind)
			},
		},
		{
			finding.Note, "type-and-contents",
			func(_ *Survey, c *contents) bool {
				return (c.kind == volume.NTFS || c.kind.IsFAT()) && (c.TypeID == table.TypeLinux || c.TypeID == "83")
			},
			func(c *contents) string {
				return fmt.Sprintf("has a type for Linux, but holds a %s volume.", c.kind)
			},
		},
	}
}

// disagreements are the findings when a partition's type and contents do not fit together, and what else its
// contents say that somebody should know.
func (s *Survey) disagreements(p layout.Span) finding.List {
	var l finding.List
	say := func(severity finding.Severity, code, text string) {
		l = append(l, finding.Finding{
			Code: code, Severity: severity, Partition: p.Number, Text: fmt.Sprintf("Partition %d %s", p.Number, text),
		})
	}
	c := s.contentsOf(p)
	for _, d := range allDisagreements {
		if d.is(s, c) {
			say(d.severity, d.code, d.text(c))
			break
		}
	}
	v := p.Volume
	if v != nil && v.Hibernated {
		say(
			finding.Warning, "hibernated",
			"holds a system that was put to sleep and will go on writing from what it remembers: nothing on this "+
				"PC's drives is changed before it was started and shut down fully.",
		)
	}
	if p.Hidden && p.Role == layout.Data {
		say(finding.Note, "hidden", "is hidden from its PC by the table.")
	}
	if v != nil && v.ClusterBytes > 0 && v.TotalBytes > 0 && (c.kind == volume.NTFS || c.kind.IsLinux()) &&
		p.Bytes-v.TotalBytes > 2*disk.MiB {
		say(
			finding.Note, "volume-shorter",
			fmt.Sprintf("is %s longer than its volume; that room is not used.", p.Bytes-v.TotalBytes),
		)
	}
	return l
}

// NotLookedInto are the partitions that hold something which nobody can look into here: no check says anything
// of their contents.
func (s *Survey) NotLookedInto() (out []layout.Span) {
	for _, p := range s.Layout.Partitions() {
		if p.Volume != nil && s.Volume(p.Number) == nil {
			out = append(out, p)
		}
	}
	return out
}

// has tells whether a file or folder of this name lies in a folder, "" for the root.
func has(v volume.Volume, name string) bool {
	list, _, err := v.List("", "", 500)
	return err == nil && slices.ContainsFunc(list, func(f volume.File) bool { return strings.EqualFold(f.Path, name) })
}

// holdsRecovery tells whether a volume has a recovery image: a large file in the folder Recovery or right below
// it that is none of a person's, as a film is.
func holdsRecovery(v volume.Volume) bool {
	for _, dir := range []string{"Recovery", "Recovery/WindowsRE", "sources"} {
		list, _, err := v.List(dir, "", 200)
		if err == nil && slices.ContainsFunc(list, func(f volume.File) bool {
			return f.Kind == volume.Plain && f.Bytes >= 16*disk.MiB && !volume.OfPeople(f.Path)
		}) {
			return true
		}
	}
	return false
}

// Relabel gives the logical volumes of an MBR the numbers by which other layouts of the
// drive know those at the same places, the first that does; what is new gets numbers behind
// them.
func (s *Survey) Relabel(likes ...*layout.Layout) {
	numbers, most := map[int]int{}, 4
	var known []layout.Span
	for _, like := range likes {
		for _, p := range like.Partitions() {
			most = max(most, p.Number)
			if p.Container != 0 {
				known = append(known, p)
			}
		}
	}
	for _, p := range s.Layout.Partitions() {
		if p.Container == 0 {
			continue
		}
		if i := slices.IndexFunc(known, func(q layout.Span) bool { return q.Start == p.Start }); i >= 0 {
			numbers[p.Number] = known[i].Number
		} else {
			most++
			numbers[p.Number] = most
		}
	}
	if len(numbers) == 0 {
		return
	}
	s.Table.Relabel(numbers)
	s.volumes.relabel(numbers)
	for i := range s.Layout.Spans {
		if p := &s.Layout.Spans[i]; p.Kind == layout.Partition && p.Container != 0 {
			p.Number = numbers[p.Number]
		}
	}
	for i, f := range s.Layout.Findings {
		if to, ok := numbers[f.Partition]; ok {
			s.Layout.Findings[i].Partition = to
		}
	}
}

// counter is a volume that counts the sectors before it, in sectors of its own length.
type counter interface {
	Hidden() uint32
	SectorBytes() disk.Bytes
}

// Check returns what is wrong with the table and with every volume, whose own
// structures are compared with each other.
func (s *Survey) Check() finding.List {
	out := append(finding.List{}, s.Layout.Findings...)
	for _, p := range s.Layout.Partitions() {
		v := s.Volume(p.Number)
		if v == nil {
			continue
		}
		out = append(out, v.Check().On(p.Number)...)
		if h, ok := v.(counter); ok && disk.LBA(h.Hidden()) != p.Start.Offset(s.Layout.Sector).At(h.SectorBytes()) {
			out = append(out, finding.Finding{Code: "hidden-sectors", Severity: finding.Note, Partition: p.Number,
				Text: fmt.Sprintf("The volume's boot sector counts %d sectors before it, but it begins at sector %d.", h.Hidden(), p.Start)})
		}
	}
	return out
}
