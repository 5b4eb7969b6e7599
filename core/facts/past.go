package facts

import (
	"errors"
	"slices"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/seek"
	"jadetrail/core/table"
	"jadetrail/core/trail"
)

// past is what the runs and records of an installation tell of where was written.
type past struct {
	runs    []ranThere
	records []*trail.Record
	used    map[string][]disk.Range // what records' partitions had in use, by their ids
	// unknown is how many runs there are of which nothing can be read: they may have written
	// anywhere.
	unknown int
	// left are the times at which the drive was taken out of a bay. changed is the last time at which its
	// table was found to be another than the run before had left it, zero for never.
	left    []time.Time
	changed time.Time
	back    []cameBack
}

// cameBack is a partition that a run has brought back in its place. What its own maps call its files lies there
// as far as nothing else had come to lie there: nobody wrote it anew.
type cameBack struct {
	at   time.Time
	span layout.Span
}

// backSince tells that a partition was brought back since a time.
func (p *past) backSince(span layout.Span, since time.Time) bool {
	return slices.ContainsFunc(p.back, func(b cameBack) bool {
		return !b.at.Before(since) && (b.span.Start == span.Start || layout.SamePartition(b.span, span))
	})
}

// lastBack is when a record's partition was brought back last, zero for never since its deletion. What was written to
// its place before then may have been made good.
func (p *past) lastBack(rec *trail.Record) (at time.Time) {
	for _, b := range p.back {
		if !b.at.Before(rec.Time) && b.at.After(at) && b.span.Start == rec.Span.Start && layout.SamePartition(b.span, rec.Span) {
			at = b.at
		}
	}
	return at
}

// broughtBack are the partitions that the run brought back.
func (r *ranThere) broughtBack() (out []cameBack) {
	if r.ended != nil && r.ended.Ended == ran.EndUndone {
		return nil
	}
	for _, e := range r.meta.Entries {
		if e.Act != trail.ActBringBack || e.After == nil {
			continue
		}
		if p, ok := e.After.Find(e.Partition); ok {
			out = append(out, cameBack{r.meta.Begun, *p})
		}
	}
	return out
}

// ranThere is one run, with where it wrote.
type ranThere struct {
	meta  *ran.Meta
	ended *ran.Report // nil of one that is open
	wrote ran.Places
	known bool // that was kept
}

// cameAfter tells that a run came after a record's deletion, or was the run of that.
func (r *ranThere) cameAfter(rec *trail.Record) bool {
	switch {
	case rec.Run == r.meta.ID:
		return true
	case rec.Run == "" && r.meta.Begun.Equal(rec.Time):
		return false
	}
	return !r.meta.Begun.Before(rec.Time)
}

// wroteOn tells that a run may have written to a drive.
func (r *ranThere) wroteOn(o Sources, d trail.Drive) bool {
	void := r.ended != nil && r.ended.Ended == ran.EndVoid
	return !void && (&ran.Folder{Meta: r.meta}).IsOn(d, o.Drive.Size(), o.Image)
}

// anywhere is what a run can have done of which nothing is known.
func (p *past) anywhere(size disk.Bytes) []seek.Cover {
	if p.unknown == 0 {
		return nil
	}
	return []seek.Cover{{From: 0, To: size, State: seek.Unsure, By: "a run whose folder cannot be read", Why: seek.Wrote}}
}

// elsewhere tells why somebody else may have written to a record's drive since; nobody here knows where.
func (p *past) elsewhere(rec *trail.Record) string {
	switch {
	case slices.ContainsFunc(p.left, rec.Time.Before):
		return "The drive has been out of its bay since, and what was written to it then nobody here knows."
	case rec.Time.Before(p.changed):
		return "The drive's table was not as the last run had left it: somebody changed the drive elsewhere, and nobody here knows what else was written to it."
	}
	return ""
}

// changedElsewhere is the last time at which a drive's table was found to be another than the run before had
// left it, now or as another run began; zero for never. Somebody else may have written to the drive then, and
// nobody here knows where.
func (p *past) changedElsewhere(o Sources, on trail.Drive) (at time.Time, err error) {
	var mine []ranThere
	for _, x := range p.runs {
		if x.wroteOn(o, on) {
			mine = append(mine, x)
		}
	}
	slices.SortStableFunc(mine, func(a, b ranThere) int { return a.meta.Begun.Compare(b.meta.Begun) })
	differs := func(l *layout.Layout, scheme string, is [][2]disk.LBA) bool {
		return l != nil && (l.Scheme != scheme || !slices.Equal(entriesIn(l), is))
	}
	for i, x := range mine {
		if i > 0 && x.meta.Before != nil && differs(mine[i-1].leaves(), x.meta.Before.Scheme, entriesIn(x.meta.Before)) {
			at = x.meta.Begun
		}
	}
	if len(mine) == 0 {
		return at, nil
	}
	now, err := table.Read(o.Dev)
	if last := &mine[len(mine)-1]; err == nil && differs(last.leaves(), string(now.Scheme), entriesOf(now)) {
		at = last.meta.Begun.AddDate(100, 0, 0) // at some time since, later than all that is known
	}
	return at, err
}

// leaves is how a run has left its drive, nil where that is not known.
func (r *ranThere) leaves() *layout.Layout {
	switch {
	case r.ended == nil || r.ended.Ended == ran.EndLeft:
		return nil
	case r.ended.Ended == ran.EndUndone:
		return r.meta.Before
	}
	return r.meta.After
}

// OnDrive is the partition that a record is of, where it is on the drive again: by its id, or, where it came
// back with another, by its place and its volume. nil where it is not.
func OnDrive(l *layout.Layout, rec *trail.Record) *layout.Span {
	for _, p := range l.Partitions() {
		if p.UniqueID == rec.Span.UniqueID || p.Start == rec.Span.Start && layout.SamePartition(p, rec.Span) {
			return &p
		}
	}
	return nil
}

// deletedAfter are the places that partitions had which were deleted after a record's, and what they had
// in use. Of the record's own, where it came back meanwhile, nobody knows what its PC wrote.
func (p *past) deletedAfter(o Sources, rec *trail.Record) (covers []seek.Cover, err error) {
	back := p.lastBack(rec)
	for _, x := range p.records {
		if x.ID == rec.ID || !x.Drive.Same(rec.Drive) || x.Time.Before(rec.Time) || x.Run == rec.Run && x.Step <= rec.Step {
			continue
		}
		start := x.Span.Start.Offset(x.Before.Sector)
		covers = append(covers, seek.Cover{
			From: start, To: start + x.Span.Bytes, State: seek.Unsure, By: x.Span.Title(), Why: seek.Had,
		})
		if x.Span.Start == rec.Span.Start && layout.SamePartition(x.Span, rec.Span) || x.Time.Before(p.changed) || !x.Time.After(back) || p.backSince(x.Span, rec.Time) {
			continue
		}
		used, read := p.used[x.ID]
		if !read {
			used, err = InUse(o, x)
			if err != nil && !errors.Is(err, trail.ErrNoRecord) { // else it cannot be told any more
				return nil, err
			}
			p.used[x.ID] = used
		}
		for _, r := range used {
			covers = append(covers, seek.Cover{
				From: start + r.Start, To: start + r.End, State: seek.Taken, By: x.Span.Title() + ", deleted since",
				Why: seek.Wrote,
			})
		}
	}
	return covers, nil
}
