// Package seek searches a drive for lost partitions, and judges what it finds.
//
// Structures that volumes and tables leave at known places (boot sectors and their copies,
// superblocks, tables and chains that are not in use) claim that a volume lies around them.
// Each claim is judged by what else can be read there: only bytes count. A claim that is only
// the former extent of a volume that lives on, or lies inside a file, is a ghost.
package seek

import (
	"cmp"
	"context"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/ntfs"
)

// Confidence is how far a find can be believed.
type Confidence string

// The words for it.
const (
	Sure     Confidence = "sure"
	Likely   Confidence = "likely"
	Doubtful Confidence = "doubtful"
)

// Find is a lost partition.
type Find struct {
	Start  disk.LBA    `json:"start_lba"`
	End    disk.LBA    `json:"end_lba"`
	Bytes  disk.Bytes  `json:"bytes"`
	Kind   volume.Kind `json:"kind"`
	Label  string      `json:"label"`
	Serial string      `json:"serial"`
	Ghost  bool        `json:"ghost"`
	// Inferred tells that a ghost is one by where it lies, or by a record of a file that may be
	// older than it: it is likely and not certain. It can be brought back, as a doubtful find can.
	Inferred   bool       `json:"inferred,omitempty"`
	Confidence Confidence `json:"confidence"`
	Reasons    []string   `json:"reasons"`
	// Told is what told of it, and At where on the drive that lies, by which it is found again.
	Told []Source   `json:"told_by"`
	At   disk.Bytes `json:"told_at"`
	// Opens tells that its root folder can be read, once what can be is rebuilt.
	Opens bool `json:"opens"`
	// Mend says what of it can be rebuilt from a copy, "" for nothing.
	Mend string `json:"mend,omitempty"`
	// Over are the partitions that lie in its place now; Holds the volume as far as it can be
	// measured.
	Over  []Over       `json:"over,omitempty"`
	Holds *volume.Info `json:"volume,omitempty"`
	// What a table or record tells of it, "" where none does.
	TypeID     string   `json:"type_id,omitempty"`
	UniqueID   string   `json:"unique_id,omitempty"`
	Name       string   `json:"name,omitempty"`
	Attributes string   `json:"attributes,omitempty"`
	Chain      disk.LBA `json:"chain_lba,omitempty"` // of its record in a container's chain
	Record     string   `json:"record,omitempty"`

	dev     disk.Device
	repairs []Repair
	from    []claim // what told of it
	weight  int     // how much speaks for it, to choose between two of the same
	volume  volume.Volume
	agrees  bool // the structures that can be read are its own
	files   *places
	used    []disk.Range // read when first asked for
	mapped  bool         // they are known
	// It does not begin where partitions begin, and nothing says that this one began there.
	stray bool
	named disk.Bytes // where the record lies that names the file that it lies in, 0 for none
	// identity is what it is known by where only its table of files tells of it.
	identity string
}

// Repair is bytes of a volume that are rebuilt from their copy, at a place counted from the
// volume's start.
type Repair struct {
	Off  disk.Bytes
	Data []byte
}

// Repairs are what of the volume is to be rebuilt before it is in order: its start from the
// copy, or the copy from its start.
func (f *Find) Repairs() []Repair { return f.repairs }

// Volume is the find's volume, to be looked into; nil where it cannot be. Nothing of it is
// written.
func (f *Find) Volume() volume.Volume { return f.volume }

// Own tells that what can be read of its structures is its own, and not another volume's.
func (f *Find) Own() bool { return f.agrees }

// Device is the find's place, its damaged start rebuilt where it can be. Nothing is written to
// the drive.
func (f *Find) Device() disk.Device { return f.dev }

// Forget lets go of what the find has read: it can be shown then, and not looked into.
func (f *Find) Forget() {
	f.volume, f.dev, f.from, f.repairs, f.files, f.used = nil, nil, nil, nil, nil, nil
}

// Over is a partition that lies in the place of a find, all or in part.
type Over struct {
	Number int        `json:"partition"`
	Title  string     `json:"title"`
	Bytes  disk.Bytes `json:"bytes"`
}

// Title names a find for people.
func (f Find) Title() string { return f.Span().Title() }

// Span is the find as a partition.
func (f Find) Span() layout.Span {
	return layout.Span{
		Kind: layout.Partition, Start: f.Start, End: f.End, Bytes: f.Bytes, TypeID: f.TypeID, UniqueID: f.UniqueID,
		Name: f.Name, Attributes: f.Attributes, Record: f.Chain, Role: layout.Data, Volume: f.Holds,
	}
}

// Hint is a place that something outside the drive tells of: a record of the trail.
type Hint struct {
	Record string
	Span   layout.Span
}

func (h Hint) claim(sector disk.Bytes) claim {
	p, at := h.Span, h.Span.Start.Offset(sector)
	attrs, _ := strconv.ParseUint(strings.TrimPrefix(p.Attributes, "0x"), 16, 64)
	return claim{
		start: at, size: p.Bytes, by: ByRecord, at: at, record: h.Record,
		entry: table.Entry{TypeID: p.TypeID, UniqueID: p.UniqueID, Name: p.Name, Attributes: attrs, Record: p.Record},
	}
}

// Progress of a search.
type Progress struct {
	Done, Total disk.Bytes // of what is to be read
	Finds       int
}

// Search is a search of one drive.
type Search struct {
	Dev    disk.Device
	Survey *survey.Survey
	Hints  []Hint
	// Report is told of progress now and then, and of each find when it is first seen.
	Report func(Progress)

	mu     sync.Mutex
	seen   map[[2]disk.Bytes]bool // structures, by where they lie and what they claim
	claims []claim
	files  []told
	named  []disk.Bytes // where the records lie by which finds were judged
	judge  *judge
}

// New prepares a search.
func New(dev disk.Device, sv *survey.Survey, hints []Hint) *Search {
	return &Search{Dev: dev, Survey: sv, Hints: hints, seen: map[[2]disk.Bytes]bool{}, judge: newJudge(dev, sv)}
}

// told is what a record of a file tells, with where it lies.
type told struct {
	ntfs.Told
	at disk.Bytes
}

// Limits of the files that are kept to tell what lies inside of one: an image of a drive is not
// smaller.
const (
	smallest = disk.MiB
	mostTold = 100_000
)

// tell keeps what the record of a file tells that may lie at the start of b, which is read at a
// place of the drive.
func (s *Search) tell(b []byte, at disk.Bytes) {
	t, ok := ntfs.Tell(b)
	if !ok || t.Bytes < smallest {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if key := [2]disk.Bytes{at, -1}; len(s.files) < mostTold && !s.seen[key] {
		s.seen[key] = true
		s.files = append(s.files, told{*t, at})
	}
}

// sector looks at what begins in a sector of a piece, in which there was a hit.
func (s *Search) sector(b []byte, at disk.Bytes) {
	if string(b[:4]) != "FILE" || le.Uint32(b[44:]) == 0 || len(b) < 4096 { // a table's first record, or all of one is not there
		s.add(at)
		return
	}
	s.tell(b[:4096], at)
}

// add keeps the claims of the structure that may lie at a place. One that a living volume has
// there claims nothing.
func (s *Search) add(at disk.Bytes) {
	if b, err := disk.ReadFull(s.Dev, at, min(4096, s.Dev.Size()-at)); err == nil {
		s.tell(b, at)
	}
	all := claims(s.Dev, at)
	if slices.ContainsFunc(all, func(c claim) bool { return c.kind != "" && s.judge.lives(c) }) {
		return
	}
	for _, c := range all {
		s.put(c)
	}
}

func (s *Search) put(c claim) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := [2]disk.Bytes{c.at, c.start}
	if c.by == ByTable || c.by == ByChain || c.by == ByRecord {
		key[0] = -c.at - 1
	}
	if s.judge.lives(c) || s.seen[key] {
		return
	}
	s.seen[key] = true
	s.claims = append(s.claims, c)
}

// Limits of the likely places, so that they are looked at in a moment on any drive.
const (
	mostLikely = 2000 // places
	nearStart  = 64   // of a gap, in MiB
)

// Likely looks where a lost partition is likeliest: where records tell of one, in tables that
// are not in use, at the ends and on the grid of gaps and in volumes' free room near their
// edges. It reads a few sectors at each of at most 2000 places.
func (s *Search) Likely(ctx context.Context) error {
	l := s.Survey.Layout
	sec := l.Sector
	var at []disk.Bytes
	around := func(start, n disk.Bytes) { // a volume from start on
		// A table of files and the copy of its first records mostly begin at the same clusters of
		// 4 KiB: 786,432 and 2.
		at = append(
			at, start, start+sec, start+2*512, start+6*sec, start+12*sec, start+4096-512, start+n-sec, start+8192,
			start+3*disk.GiB,
		)
	}
	for _, h := range s.Hints {
		around(h.Span.Start.Offset(sec), h.Span.Bytes)
		s.put(h.claim(sec))
	}
	at = append(at, sec, l.Size-sec) // headers of a GPT
	for _, p := range l.Spans {
		from, to := p.Start.Offset(sec), (p.End + 1).Offset(sec)
		// Behind a volume and before it lay others, and their ends are on the grid.
		at = append(at, to-sec, to-512)
		if p.Kind != layout.Gap {
			at = append(at, from-sec)
			continue
		}
		around(from, to-from)
		at = append(at, from+63*sec)
		first := from.Up(disk.Grid)
		for k := disk.Bytes(0); k < nearStart && first+k*disk.Grid < to; k++ {
			around(first+k*disk.Grid, 0)
		}
		for k := first.Up(disk.GiB); k < to && len(at) < 8*mostLikely; k += disk.GiB {
			around(k, 0)
		}
	}
	read := 0
	for _, x := range at {
		if x < 0 || x+512 > l.Size || x%512 != 0 {
			continue
		}
		if start, _, ok := s.Dev.Data(x); !ok || start >= x+512 {
			continue
		}
		if err := ctx.Err(); err != nil || read >= mostLikely {
			return err
		}
		read++
		s.add(x)
	}
	return s.chase()
}

// chase looks where what was found points to: the other end of a volume, the places that an
// old table or chain names.
func (s *Search) chase() error {
	for i := 0; i < len(s.claims); i++ {
		c := s.claims[i]
		for _, x := range []disk.Bytes{c.start, c.start + 1024, c.start + 4096 - 512, c.start + c.size - s.Survey.Layout.Sector, c.start + 6*s.Survey.Layout.Sector} {
			if x >= 0 && x%512 == 0 && x+512 <= s.Dev.Size() {
				s.add(x)
			}
		}
		if len(s.claims) > maxClaims {
			break
		}
	}
	return nil
}

// maxClaims bounds what is kept: a drive full of structures is searched to its end, and the
// first of them are judged.
const maxClaims = 100_000

// piece is how much is read at once; it stays in the processor's cache.
const piece = 256 * disk.KiB

// Whole goes through every sector from a place on that an earlier call returned, 0 for the
// drive's start, and returns how far it came. Holes are not read. A stop is no error.
func (s *Search) Whole(ctx context.Context, from disk.Bytes) (reached disk.Bytes, err error) {
	type part struct{ at, n disk.Bytes }
	var parts []part
	total := disk.Bytes(0)
	for at := from; ; {
		start, end, ok := s.Dev.Data(at)
		if !ok {
			break
		}
		start = max(start, from).Down(512)
		for x := start; x < end; x += 8 * piece {
			parts = append(parts, part{x, min(8*piece, end-x)})
		}
		total += end - start
		at = end
	}
	var next, done atomic.Int64
	finished := make([]atomic.Bool, len(parts))
	var g errgroup.Group
	for range runtime.GOMAXPROCS(0) {
		g.Go(func() error {
			b := make([]byte, piece)
			for {
				i := int(next.Add(1)) - 1
				if i >= len(parts) || ctx.Err() != nil {
					return nil
				}
				p := parts[i]
				for at := p.at; at < p.at+p.n; at += piece {
					n := min(piece, p.at+p.n-at, s.Dev.Size()-at)
					if err := s.sectors(b[:n], at); err != nil {
						return err
					}
				}
				finished[i].Store(true)
				d := disk.Bytes(done.Add(int64(p.n)))
				if s.Report != nil {
					s.Report(Progress{Done: d, Total: total, Finds: s.count()})
				}
			}
		})
	}
	err = g.Wait()
	reached = s.Dev.Size()
	for i := range parts {
		if !finished[i].Load() {
			reached = parts[i].at
			break
		}
	}
	if err == nil {
		err = s.chase()
	}
	return reached, err
}

// Look looks at single places, such as those that an earlier search noted.
func (s *Search) Look(at ...disk.Bytes) error {
	for _, x := range at {
		if x >= 0 && x%512 == 0 && x+512 <= s.Dev.Size() {
			s.add(x)
		}
	}
	return s.chase()
}

// Told are the places of the structures that were seen, and of the records of files by which
// finds were judged (Finds), for a later search to look at again.
func (s *Search) Told() []disk.Bytes {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := slices.Clone(s.named)
	for _, c := range s.claims {
		if c.kind != "" || c.by != ByRecord {
			out = append(out, c.at)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func (s *Search) count() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.claims)
}

// sectors looks at every sector of a piece. What cannot be read is passed over.
func (s *Search) sectors(b []byte, at disk.Bytes) error {
	if _, err := s.Dev.ReadAt(b, int64(at)); err != nil {
		for off := disk.Bytes(0); off+512 <= disk.Bytes(len(b)); off += 512 {
			if _, err := s.Dev.ReadAt(b[off:off+512], int64(at+off)); err == nil && hit(b[off:off+512]) {
				s.sector(b[off:off+512], at+off)
			}
		}
		return nil
	}
	for off := 0; off+512 <= len(b); off += 512 {
		if hit(b[off : off+512]) {
			s.sector(b[off:], at+disk.Bytes(off))
		}
	}
	return nil
}

// Finds judges what has been seen so far: the finds in the order of the drive, those that are
// surest first where they share a place.
func (s *Search) Finds() []Find {
	s.mu.Lock()
	all, files := slices.Clone(s.claims), slices.Clone(s.files)
	s.mu.Unlock()
	out := s.judge.all(all, files)
	slices.SortStableFunc(out, func(a, b Find) int {
		return cmp.Or(cmp.Compare(a.Start, b.Start), cmp.Compare(b.weight, a.weight))
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := range out {
		if at := out[i].named; at != 0 {
			s.named = append(s.named, at)
		}
	}
	return out
}

// Again judges anew what a structure at byte told says of a partition that begins at sector
// start, nil for nothing any more. What lies where partitions are likeliest counts too, and what
// lies at seen, where an earlier search saw something: by these a find may be a ghost.
func Again(dev disk.Device, sv *survey.Survey, start disk.LBA, told disk.Bytes, hints []Hint, seen []disk.Bytes) (*Find, error) {
	s := New(dev, sv, hints)
	if err := s.Likely(context.Background()); err != nil {
		return nil, err
	}
	if err := s.Look(append(slices.Clone(seen), told)...); err != nil {
		return nil, err
	}
	var there *Find
	for _, f := range s.Finds() {
		if f.Start == start && (there == nil || there.At != told && f.At == told) {
			there = &f
		}
	}
	return there, nil
}
