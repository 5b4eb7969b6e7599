// Package layout is a drive as pure data: its partitions and gaps in the order
// of their place.
package layout

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/volume"
)

// Kind tells partitions and gaps apart.
type Kind string

// The kinds of span.
const (
	Partition Kind = "partition"
	Gap       Kind = "gap"
)

// Role is what a partition is for.
type Role string

// The roles.
const (
	StartSystem Role = "start-system"
	OtherSystem Role = "other-system"
	Data        Role = "data"
	EFI         Role = "efi"
	Reserved    Role = "reserved"
	Recovery    Role = "recovery"
	OEM         Role = "oem"
	Swap        Role = "swap"
	Container   Role = "container"
	Unknown     Role = "unknown"
)

// Why a gap is one.
type Why string

// The reasons.
const (
	Free      Why = "free"
	Alignment Why = "alignment"
	Table     Why = "table"
	InChain   Why = "container" // the record of a logical volume lies in it
)

// Span is one partition or gap. End is included.
type Span struct {
	Kind       Kind       `json:"kind"`
	Number     int        `json:"number"`
	Start      disk.LBA   `json:"start_lba"`
	End        disk.LBA   `json:"end_lba"`
	Bytes      disk.Bytes `json:"bytes"`
	TypeID     string     `json:"type_id"`
	TypeName   string     `json:"type_name"`
	UniqueID   string     `json:"unique_id"`
	Name       string     `json:"name"`
	Attributes string     `json:"attributes"`
	Active     bool       `json:"active"`
	Hidden     bool       `json:"hidden,omitempty"`
	Container  int        `json:"container"`
	Record     disk.LBA   `json:"record_lba,omitempty"` // of a logical volume, in its container's chain
	Role       Role       `json:"role"`
	Protected  bool       `json:"protected"`
	Letter     string     `json:"letter,omitempty"`
	Held       string     `json:"held,omitempty"`
	Loses      string     `json:"loses,omitempty"`  // by force, where it is held
	Member     bool       `json:"member,omitempty"` // of a multi-drive set
	// Personal tells that its contents may be somebody's: by its role, or because it does not hold
	// what its type says.
	Personal bool         `json:"personal,omitempty"`
	Volume   *volume.Info `json:"volume,omitempty"`
	Note     string       `json:"note,omitempty"` // what tells it from others of its role
	Why      Why          `json:"why,omitempty"`
}

// MarshalJSON implements json.Marshaler: a gap has fewer fields.
func (s Span) MarshalJSON() ([]byte, error) {
	if s.Kind == Gap {
		return json.Marshal(struct {
			Kind      Kind       `json:"kind"`
			Start     disk.LBA   `json:"start_lba"`
			End       disk.LBA   `json:"end_lba"`
			Bytes     disk.Bytes `json:"bytes"`
			Container int        `json:"container"`
			Why       Why        `json:"why"`
		}{s.Kind, s.Start, s.End, s.Bytes, s.Container, s.Why})
	}
	type plain Span
	return json.Marshal(plain(s))
}

// Notes of systems that the PC does not start by default.
const (
	NoteUnstarted = "Nothing starts it: an old copy, or a system of another PC."
	NoteOffered   = "The PC can start it, when asked."
)

// Title names a partition for people: its letter and label, or its role.
func (s Span) Title() string {
	if s.Letter != "" {
		return s.Letter + ": " + s.Called()
	}
	return s.Called()
}

// Called is a partition's title without its letter.
func (s Span) Called() string {
	names := map[Role]string{
		EFI: "EFI", Reserved: "Reserved", Recovery: "Recovery", OEM: "OEM", Swap: "Swap", Container: "Container",
		Unknown: "Unknown", OtherSystem: "System", Data: "Data", StartSystem: "System",
	}
	t := names[s.Role]
	if s.Volume != nil && s.Volume.Label != "" && (s.Personal || s.Role != EFI && s.Role != Recovery && s.Role != OEM) {
		t = s.Volume.Label
	} else if (s.Role == Unknown || s.Role == Data) && s.Name != "" && !strings.EqualFold(s.Name, "Basic data partition") { // which says nothing
		t = s.Name
	}
	return t
}

// Drive names a drive: by what stands on its label, and by the id in its table at the time.
type Drive struct {
	DiskID string `json:"disk_id,omitempty"`
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
}

// Same tells that two names may be of the same drive: by their serial numbers where both have
// one, else by the ids in their tables. A table may be made anew, and two drives may have the same.
func (d Drive) Same(o Drive) bool {
	if d.Serial != "" && o.Serial != "" {
		return strings.EqualFold(d.Serial, o.Serial)
	}
	return d.DiskID != "" && strings.EqualFold(d.DiskID, o.DiskID)
}

// Drive names the drive that a layout is of, as far as the layout tells.
func (l *Layout) Drive() Drive { return Drive{DiskID: l.DiskID, Serial: l.Serial} }

// PlaceID names a partition of an MBR, which has no unique id of its own, as a PC
// does: by the drive's signature and the partition's first byte.
func PlaceID(diskID string, start disk.Bytes) string {
	return fmt.Sprintf("%s:%d", diskID, int64(start))
}

// Layout is a drive at one moment.
type Layout struct {
	Scheme      string       `json:"scheme"`
	Size        disk.Bytes   `json:"size_bytes"`
	Sector      disk.Bytes   `json:"sector_bytes"`
	DiskID      string       `json:"disk_id"`
	Serial      string       `json:"serial,omitempty"` // on the drive's label, where a plan is made for that drive alone
	FirstUsable disk.LBA     `json:"first_usable_lba"`
	LastUsable  disk.LBA     `json:"last_usable_lba"`
	Slots       int          `json:"slots"` // entries that the table has room for
	Findings    finding.List `json:"findings"`
	Spans       []Span       `json:"spans"`
}

// Own is a copy of which the spans and findings can be changed.
func (l *Layout) Own() Layout {
	own := *l
	own.Findings, own.Spans = slices.Clone(l.Findings), slices.Clone(l.Spans)
	return own
}

// Find returns the partition with the given number.
func (l *Layout) Find(number int) (*Span, bool) {
	for i := range l.Spans {
		if l.Spans[i].Kind == Partition && l.Spans[i].Number == number {
			return &l.Spans[i], true
		}
	}
	return nil, false
}

// Has tells that a partition with a unique id is there.
func (l *Layout) Has(id string) bool {
	is := func(s Span) bool { return s.Kind == Partition && strings.EqualFold(s.UniqueID, id) }
	return slices.ContainsFunc(l.Spans, is)
}

// Partitions returns the partitions only.
func (l *Layout) Partitions() []Span {
	out := make([]Span, 0, len(l.Spans))
	for i := range l.Spans {
		if l.Spans[i].Kind != Gap {
			out = append(out, l.Spans[i])
		}
	}
	return out
}

// ByPlace returns the partitions in the order of their places.
func (l *Layout) ByPlace() []Span {
	parts := l.Partitions()
	slices.SortFunc(parts, func(a, b Span) int { return cmp.Compare(a.Start, b.Start) })
	return parts
}

// Head is the first sector that belongs to a partition: of a logical volume that of its record in the container's
// chain.
func (s *Span) Head() disk.LBA {
	if s.Record != 0 {
		return s.Record
	}
	return s.Start
}

// GapAt returns the free gap that begins at sector lba, inside the given container
// or with 0 outside.
func (l *Layout) GapAt(lba disk.LBA, container int) (Span, bool) {
	for _, s := range l.Spans {
		if s.Kind == Gap && s.Why == Free && s.Start == lba && s.Container == container {
			return s, true
		}
	}
	return Span{}, false
}

// With returns a copy of the layout with the given partitions and the gaps that
// lie between them.
func (l *Layout) With(parts []Span) *Layout {
	out := *l
	parts = slices.Clone(parts)
	slices.SortStableFunc(parts, func(a, b Span) int { return int(min(max(a.Start-b.Start, -1), 1)) })
	out.Spans = make([]Span, 0, 2*len(parts)+6)
	inside := 0
	gap := func(from, to disk.LBA, why Why) {
		if to < from {
			return
		}
		if why == Free && l.room(from, to) < disk.Grid {
			why = Alignment
		}
		out.Spans = append(out.Spans, Span{
			Kind: Gap, Start: from, End: to, Bytes: (to - from + 1).Offset(l.Sector), Container: inside, Why: why,
		})
	}
	next := disk.LBA(0)
	if l.Scheme != "none" {
		gap(0, l.FirstUsable-1, Table)
		next = l.FirstUsable
	}
	last := l.Size.At(l.Sector) - 1
	end := last
	if l.Scheme != "none" {
		end = min(l.LastUsable, last)
	}
	for _, p := range parts {
		if p.Container != 0 {
			continue
		}
		gap(next, min(p.Start-1, end), Free)
		out.Spans = append(out.Spans, p)
		next = max(next, p.End+1)
		if p.Role != Container {
			continue
		}
		// Inside: the first record begins the container, each other one stands
		// before its volume.
		inside = p.Number
		at := p.Start
		if !slices.ContainsFunc(parts, func(q Span) bool { return q.Container == inside && q.Record == at }) {
			gap(at, at, InChain)
			at++
		}
		for _, q := range parts {
			if q.Container != inside {
				continue
			}
			if q.Record >= at && q.Record < q.Start {
				gap(at, q.Record-1, Free)
				gap(q.Record, q.Start-1, InChain)
			} else {
				gap(at, q.Start-1, Free)
			}
			out.Spans = append(out.Spans, q)
			at = max(at, q.End+1)
		}
		gap(at, p.End, Free)
		inside = 0
	}
	gap(next, end, Free)
	gap(max(end+1, next), last, Table)
	return &out
}

// room is how much of [from, to] is left between 1 MiB boundaries.
func (l *Layout) room(from, to disk.LBA) disk.Bytes {
	return (to + 1).Offset(l.Sector).Down(disk.Grid) - from.Offset(l.Sector).Up(disk.Grid)
}

// Room is how much of a gap a new, aligned partition can take.
func (l *Layout) Room(gap Span) disk.Bytes { return max(l.room(gap.Start, gap.End), 0) }

// holds tells that there is a file system that is known; a place may look like none, or
// like an unknown one, by what was there before.
func (s *Span) holds() bool { return s.Volume != nil && s.Volume.Kind != volume.Unknown }

// Differ says in what two layouts differ, one sentence a difference; what
// changes by itself (how full a volume is) does not count.
func Differ(a, b *Layout) []string {
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if a.Serial != "" && b.Serial != "" && !strings.EqualFold(a.Serial, b.Serial) {
		say("It is another drive: its serial number is %s instead of %s.", b.Serial, a.Serial)
	}
	if a.Scheme != b.Scheme || a.DiskID != b.DiskID || a.Size != b.Size || a.Sector != b.Sector {
		say(
			"It is another drive, or its table was made anew: %s %s of %s instead of %s %s of %s.", b.Scheme,
			b.DiskID, b.Size, a.Scheme, a.DiskID, a.Size,
		)
	}
	for _, p := range a.Partitions() {
		q, ok := b.Find(p.Number)
		if !ok {
			say("Partition %d (%s, %s) is not there.", p.Number, p.Title(), p.Bytes)
			continue
		}
		if p.Start != q.Start || p.End != q.End {
			say("Partition %d lies at sectors %d to %d instead of %d to %d.", p.Number, q.Start, q.End, p.Start, p.End)
		}
		if p.TypeID != q.TypeID || p.UniqueID != q.UniqueID || p.Attributes != q.Attributes || p.Name != q.Name || p.Active != q.Active {
			say("Partition %d has another type, id, name or attributes.", p.Number)
		}
		switch {
		case p.holds() != q.holds():
			say("Partition %d: a file system appeared or is gone.", p.Number)
		case p.holds() && (p.Volume.Kind != q.Volume.Kind || p.Volume.Label != q.Volume.Label || p.Volume.Serial != q.Volume.Serial || p.Volume.TotalBytes != q.Volume.TotalBytes || p.Volume.ClusterBytes != q.Volume.ClusterBytes):
			say(
				"Partition %d holds %s %q of %s instead of %s %q of %s.", p.Number, q.Volume.Kind, q.Volume.Label,
				q.Volume.TotalBytes, p.Volume.Kind, p.Volume.Label, p.Volume.TotalBytes,
			)
		}
	}
	for _, q := range b.Partitions() {
		if _, ok := a.Find(q.Number); !ok {
			say("Partition %d (%s, %s) is new.", q.Number, q.Title(), q.Bytes)
		}
	}
	return out
}
