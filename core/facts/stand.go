package facts

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Today is how a deleted partition stands today in its former place.
type Today struct {
	*seek.Stand
	// Returns are the bytes that the record kept and that the place does not hold any more, where
	// nothing lies over them: they go back to where they were. They count as untouched.
	Returns []seek.Repair
	// Elsewhere tells why somebody else may have written to the drive since, "" where nothing speaks for that.
	Elsewhere string
}

// StandOf works out how the formerly used part of a deleted partition stands today. c is what comparing
// its place with its backup has shown, nil for nothing.
func StandOf(o Sources, sv *survey.Survey, rec *trail.Record, c *shelf.Compared) (*Today, error) {
	return asItIs(o, sv).of(o, rec, c)
}

// entriesOf are the places of a table's entries, and entriesIn those of a layout's partitions.
func entriesOf(t *table.Table) (out [][2]disk.LBA) {
	for _, e := range t.Entries {
		out = append(out, [2]disk.LBA{e.Start, e.End})
	}
	return inOrder(out)
}

func entriesIn(l *layout.Layout) (out [][2]disk.LBA) {
	if l.Scheme == "none" { // a volume that takes all of the drive has no entry
		return nil
	}
	for _, p := range l.Partitions() {
		out = append(out, [2]disk.LBA{p.Start, p.End})
	}
	return inOrder(out)
}

func inOrder(list [][2]disk.LBA) [][2]disk.LBA {
	slices.SortFunc(list, func(a, b [2]disk.LBA) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	return list
}

// tenants are the places that partitions had: their volumes could write there.
func tenants(l *layout.Layout) []seek.Cover {
	var out []seek.Cover
	if l == nil {
		return nil
	}
	for _, p := range l.Partitions() {
		if p.Role == layout.Container {
			continue
		}
		out = append(out, seek.Cover{
			From: p.Start.Offset(l.Sector), To: (p.End + 1).Offset(l.Sector), State: seek.Unsure, By: p.Title(),
			Why: seek.Had,
		})
	}
	return out
}

// InUse are the ranges that a record's partition had in use, counted from its start.
func InUse(o Sources, rec *trail.Record) (used []disk.Range, err error) {
	if rec.Erased {
		return nil, nil
	}
	b, err := o.Records.Blob(rec, trail.BlobRanges)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b, &used); err != nil {
		return nil, fmt.Errorf("%w: what was in use cannot be read: %v", trail.ErrNoRecord, err)
	}
	return used, nil
}

// forPlan is what a plan must know of it: shares, and the files that do not come back as they were.
func (s *Today) forPlan(rec *trail.Record, files []volume.File, sector disk.Bytes) *plan.Stand {
	out := &plan.Stand{Used: s.Used, Untouched: s.Untouched, Taken: s.Taken, Unknown: s.Unknown}
	for _, r := range s.Returns {
		out.Returns += disk.Bytes(len(r.Data))
	}
	start := rec.Span.Start.Offset(sector)
	s.Tables(files, start)
	ofFiles(out, s.Stand, files, start)
	return out
}

// ofFiles adds which files of a volume that begins at start do not come back as they were, and how much
// of what is taken its own tables had.
func ofFiles(out *plan.Stand, s *seek.Stand, files []volume.File, start disk.Bytes) {
	var all []disk.Range
	for _, f := range files {
		name := f.Path
		if f.Stream != "" {
			name += ":" + f.Stream
		}
		switch s.File(f, start).State {
		case seek.Taken:
			out.Wrong = append(out.Wrong, name)
		case seek.Unsure:
			out.Doubted++
		}
		for _, e := range f.Extents {
			if e.Off >= 0 {
				all = append(all, disk.Range{Start: start + e.Off, End: start + e.Off + e.Len})
			}
		}
	}
	slices.Sort(out.Wrong)
	contents := disk.NewSet(all)
	for _, p := range s.Pieces {
		if p.State != seek.Taken {
			continue
		}
		for _, r := range contents.Outside(disk.Range{Start: p.Off, End: p.Off + p.Len}) {
			out.Tables += r.Len()
		}
	}
}
