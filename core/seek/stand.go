package seek

import (
	"cmp"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// State is what has become of a place since its partition was deleted or lost.
type State string

// The states.
const (
	Untouched State = "untouched" // nothing has had the place since
	Taken     State = "taken"     // something else lies there, or was written there
	Unsure    State = "unknown"   // something had the place, and nobody knows what it wrote
)

// Piece is a stretch of the drive that was in use then, in bytes, with what has become of it.
type Piece struct {
	Off   disk.Bytes `json:"off"`
	Len   disk.Bytes `json:"len"`
	State State      `json:"state"`
	By    string     `json:"by,omitempty"`
}

// Stand is how the formerly used part of a partition stands today.
type Stand struct {
	Used      disk.Bytes `json:"used"`
	Untouched disk.Bytes `json:"untouched"`
	Taken     disk.Bytes `json:"taken"`
	Unknown   disk.Bytes `json:"unknown"`
	By        []ByWhom   `json:"by,omitempty"`
	Pieces    []Piece    `json:"-"`
	doubted   bool       // not all of what belongs to no file is as it was: see Tables
	// Whole tells that nobody knows what was in use: all of the place counts as if it had been.
	Whole bool `json:"whole,omitempty"`
}

// ByWhom is how much of a partition's place something has taken.
type ByWhom struct {
	Title string     `json:"title"`
	Bytes disk.Bytes `json:"bytes"`
}

// Cover is a stretch of the drive with what is known of it.
type Cover struct {
	From, To disk.Bytes
	State    State
	By       string
	Why      Evidence
}

// Evidence is what a cover rests on: where several speak of a place, the strongest counts.
type Evidence int

// The kinds of evidence, the strongest last.
const (
	Had      Evidence = iota // something had the place, and could write there
	Wrote                    // it was written to
	Compared                 // its bytes were compared with what they were
	Lies                     // something lies there now
)

// Living lists what lies on a drive now: what its partitions have in use is taken; what they
// have not was theirs to write to, so that nobody knows. except is the first sector of a
// partition that is left out, 0 for none.
func Living(dev disk.Device, sv *survey.Survey, except disk.LBA) []Cover {
	var out []Cover
	sec := sv.Layout.Sector
	for _, r := range sv.Table.Ranges() {
		out = append(out, Cover{r.Start, r.End, Taken, "the partition table", Lies})
	}
	for _, l := range newJudge(dev, sv).living {
		if l.span.Start == except && except != 0 {
			continue
		}
		out = append(out, Cover{l.start, l.start + l.span.Bytes, Unsure, l.span.Title(), Had})
		if l.span.Record != 0 {
			out = append(out, Cover{
				l.span.Record.Offset(sec), (l.span.Record + 1).Offset(sec), Taken, "the partition table", Lies,
			})
		}
		for _, r := range l.inUse() {
			out = append(out, Cover{r.Start, r.End, Taken, l.span.Title(), Lies})
		}
	}
	return out
}

// Stands works out what has become of the ranges that were in use. rest is what is so of a
// place that nothing covers.
func Stands(used []disk.Range, covers []Cover, rest State) *Stand {
	// Every cover begins and ends somewhere; between two such places one thing is so.
	type edge struct {
		at   disk.Bytes
		i    int
		open bool
	}
	edges := make([]edge, 0, 2*len(covers))
	for i, c := range covers {
		if c.From < c.To {
			edges = append(edges, edge{c.From, i, true}, edge{c.To, i, false})
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Compare(a.at, b.at) })
	used = slices.Clone(used)
	slices.SortFunc(used, func(a, b disk.Range) int { return cmp.Compare(a.Start, b.Start) })
	s := &Stand{}
	by := map[string]int{}
	open := map[int]bool{}
	add := func(from, to disk.Bytes) {
		p := Piece{Off: from, Len: to - from, State: rest}
		first := -1
		for i := range open {
			c := covers[i]
			if first < 0 || c.Why > covers[first].Why || c.Why == covers[first].Why && i < first {
				first = i
			}
		}
		if first >= 0 {
			p.State, p.By = covers[first].State, covers[first].By
		}
		s.Used += p.Len
		switch p.State {
		case Untouched:
			s.Untouched += p.Len
		case Taken:
			s.Taken += p.Len
			i, known := by[p.By]
			if !known {
				i, by[p.By] = len(s.By), len(s.By)
				s.By = append(s.By, ByWhom{Title: p.By})
			}
			s.By[i].Bytes += p.Len
		default:
			s.Unknown += p.Len
		}
		if n := len(s.Pieces); n > 0 && s.Pieces[n-1].Off+s.Pieces[n-1].Len == p.Off && s.Pieces[n-1].State == p.State && s.Pieces[n-1].By == p.By {
			s.Pieces[n-1].Len += p.Len
			return
		}
		s.Pieces = append(s.Pieces, p)
	}
	k := 0
	move := func(to disk.Bytes) { // takes the edges up to a place
		for ; k < len(edges) && edges[k].at <= to; k++ {
			if edges[k].open {
				open[edges[k].i] = true
			} else {
				delete(open, edges[k].i)
			}
		}
	}
	for _, r := range used {
		for at := r.Start; at < r.End; {
			move(at)
			end := r.End
			if k < len(edges) {
				end = min(end, edges[k].at)
			}
			add(at, end)
			at = end
		}
	}
	slices.SortStableFunc(s.By, func(a, b ByWhom) int { return cmp.Compare(b.Bytes, a.Bytes) })
	return s
}

// OfFile is how a file's contents stand.
type OfFile struct {
	Untouched, Taken, Unknown disk.Bytes
	// State is Taken where any of it is, else Unsure where any of it is not known.
	State State
}

// Tables notes whether all that was in use and belongs to no file, the file system's own tables, is untouched.
// What is kept in them stands as they do.
func (s *Stand) Tables(files []volume.File, start disk.Bytes) {
	var all []disk.Range
	for _, f := range files {
		for _, e := range f.Extents {
			if e.Off >= 0 {
				all = append(all, disk.Range{Start: start + e.Off, End: start + e.Off + e.Len})
			}
		}
	}
	of := disk.NewSet(all)
	s.doubted = slices.ContainsFunc(s.Pieces, func(p Piece) bool {
		return p.State != Untouched && len(of.Outside(disk.Range{Start: p.Off, End: p.Off + p.Len})) > 0
	})
}

// File works out how a file of the partition stands, which begins at start. What is kept in the file
// system's own tables stands as they do, as far as Tables has noted that.
func (s *Stand) File(f volume.File, start disk.Bytes) OfFile {
	var o OfFile
	if s.doubted && len(f.Extents) == 0 && f.Kind == volume.Plain && f.Bytes > 0 {
		return OfFile{Unknown: f.Bytes, State: Unsure}
	}
	for _, e := range f.Extents {
		if e.Off < 0 {
			continue
		}
		from, to := start+e.Off, start+e.Off+e.Len
		i, _ := slices.BinarySearchFunc(s.Pieces, from, func(p Piece, at disk.Bytes) int {
			if p.Off+p.Len <= at {
				return -1
			}
			return 1
		})
		for ; i < len(s.Pieces) && s.Pieces[i].Off < to; i++ {
			p := s.Pieces[i]
			n := min(to, p.Off+p.Len) - max(from, p.Off)
			switch p.State {
			case Untouched:
				o.Untouched += n
			case Taken:
				o.Taken += n
			default:
				o.Unknown += n
			}
		}
	}
	switch {
	case o.Taken > 0:
		o.State = Taken
	case o.Unknown > 0:
		o.State = Unsure
	default:
		o.State = Untouched
	}
	return o
}

// Stand works out how the place of a find stands on the drive as it is. Nobody knows what has
// been written where nothing lies now.
func (f *Find) Stand(dev disk.Device, sv *survey.Survey) *Stand {
	used, known := f.InUse(sv.Layout.Sector)
	s := Stands(used, Living(dev, sv, 0), Unsure)
	s.Whole = !known
	return s
}

// InUse are the ranges of the drive that a find has in use: those that its own map names, where
// that is as its files say (volume.Mapped), and else all of its place, with known not set. A
// kind that has no map uses all of it.
func (f *Find) InUse(sector disk.Bytes) (ranges []disk.Range, known bool) {
	if f.used == nil {
		start := f.Start.Offset(sector)
		f.used = []disk.Range{{Start: start, End: start + f.Bytes}}
		switch {
		case f.Kind == volume.Swap || f.Kind == volume.Sealed:
			f.mapped = true
		case f.volume != nil && f.agrees && volume.Mapped(f.volume):
			l := living{span: f.Span(), start: start, v: f.volume}
			f.used, f.mapped = l.inUse(), true
		}
	}
	return f.used, f.mapped
}
