package facts

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Stage is where a standing is worked out: a drive, or a copy of it on which a run has come some way.
type Stage struct {
	Dev    disk.Device
	Survey *survey.Survey
	Own    []seek.Cover // what the run at hand has written, and which partitions it had, so far

	now  []seek.Cover // what lies there, once that was read
	past *past        // what is known of the runs and deletions there, once that was read
}

// before reads what is known of runs and deletions; of files that are no runs nothing is said.
func (at *Stage) before(o Sources) (*past, error) {
	if at.past != nil {
		return at.past, nil
	}
	dirs, err := os.ReadDir(o.Runs)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	p := &past{used: map[string][]disk.Range{}}
	for _, d := range dirs {
		if !d.IsDir() {
			continue
		}
		m, r, err := ran.Read(o.Runs, d.Name())
		if errors.Is(err, ran.ErrNothing) {
			continue
		}
		x := ranThere{meta: m, ended: r}
		if err == nil {
			x.wrote, x.known, err = ran.Wrote(filepath.Join(o.Runs, m.ID))
		}
		if err != nil {
			p.unknown++
			continue
		}
		p.runs = append(p.runs, x)
		if x.wroteOn(o, o.Named(at.Survey.Layout)) {
			p.back = append(p.back, x.broughtBack()...)
		}
	}
	if p.records, err = o.Records.All(); err != nil {
		return nil, err
	}
	if o.Left != nil {
		if p.left, err = o.Left(); err != nil {
			return nil, err
		}
	}
	if p.changed, err = p.changedElsewhere(o, o.Named(at.Survey.Layout)); err != nil {
		return nil, err
	}
	at.past = p
	return p, nil
}

// asItIs is the drive itself.
func asItIs(o Sources, sv *survey.Survey) *Stage { return &Stage{Dev: o.Dev, Survey: sv} }

// lies is what lies there now, and what the run at hand did.
func (at *Stage) lies() []seek.Cover {
	if at.now == nil {
		at.now = append(seek.Living(at.Dev, at.Survey, 0), at.Own...)
	}
	return slices.Clip(at.now)
}

// liesSince is what lies there now, over the place of what was lost at a time. Of what a partition has in use that
// came back since, nobody knows whether it is that or what was lost.
func (at *Stage) liesSince(o Sources, lost time.Time) ([]seek.Cover, error) {
	p, err := at.before(o)
	if err != nil {
		return nil, err
	}
	out := slices.Clone(at.lies())
	sector := at.Survey.Layout.Sector
	for _, q := range at.Survey.Layout.Partitions() {
		if !p.backSince(q, lost) {
			continue
		}
		own := disk.Range{Start: q.Start.Offset(sector), End: q.Start.Offset(sector) + q.Bytes}
		for i, c := range out {
			if c.Why == seek.Lies && c.State == seek.Taken && c.From >= own.Start && c.To <= own.End {
				out[i].State = seek.Unsure
			}
		}
	}
	return out, nil
}

// since lists what has come to lie over a drive's places since a deletion: what partitions there were
// meanwhile, what was in use in those that are gone again, and what runs wrote.
func (at *Stage) since(o Sources, rec *trail.Record) ([]seek.Cover, error) {
	p, err := at.before(o)
	if err != nil {
		return nil, err
	}
	covers := p.anywhere(o.Dev.Size())
	if p.elsewhere(rec) != "" {
		covers = append(covers, seek.Cover{
			From: 0, To: o.Dev.Size(), State: seek.Unsure, By: "whoever had the drive elsewhere", Why: seek.Had,
		})
	}
	back := p.lastBack(rec)
	for _, x := range p.runs {
		m, r := x.meta, x.ended
		own := rec.Run == m.ID
		// Whether what it wrote is there still, nobody knows.
		stale := m.Begun.Before(p.changed) || !m.Begun.After(back)
		if !x.cameAfter(rec) || !x.wroteOn(o, rec.Drive) {
			continue
		}
		all := &x.wrote
		state, written := seek.Taken, all.From(0)
		layouts := []*layout.Layout{m.Before, m.After}
		switch {
		case r == nil: // it is open
			state = seek.Unsure
		case r.Ended == ran.EndUndone: // all else was brought back, and compared
			state, written, layouts = seek.Unsure, all.Unkept, layouts[:1]
		default:
			if own {
				written = all.From(rec.Step)
			}
			if stale {
				state = seek.Unsure
			}
		}
		if own {
			layouts = layouts[1:]
		}
		by := "the run " + m.ID
		for _, w := range written {
			covers = append(covers, seek.Cover{From: w.Start, To: w.End, State: state, By: by, Why: seek.Wrote})
		}
		if !x.known { // of a run by an earlier version of this program
			covers = append(covers, seek.Cover{From: 0, To: o.Dev.Size(), State: seek.Unsure, By: by, Why: seek.Wrote})
		}
		for _, l := range layouts {
			covers = append(covers, tenants(l)...)
		}
	}
	later, err := p.deletedAfter(o, rec)
	return append(covers, later...), err
}

func (at *Stage) of(o Sources, rec *trail.Record, c *shelf.Compared) (*Today, error) {
	sector := at.Dev.SectorBytes()
	start := rec.Span.Start.Offset(sector)
	if rec.Erased || start < 0 || start+rec.Span.Bytes > at.Dev.Size() {
		return &Today{Stand: &seek.Stand{}}, nil
	}
	used, err := at.had(o, rec)
	if err != nil {
		return nil, err
	}
	covers, err := at.liesSince(o, rec.Time)
	if err != nil {
		return nil, err
	}
	var lies []disk.Range
	for _, x := range covers {
		if x.Why == seek.Lies {
			lies = append(lies, disk.Range{Start: x.From, End: x.To})
		}
	}
	out := &Today{}
	same := func(r disk.Range) {
		covers = append(covers, seek.Cover{From: r.Start, To: r.End, State: seek.Untouched, Why: seek.Compared})
	}
	if out.Returns, err = at.kept(o, rec, disk.NewSet(lies), same); err != nil {
		return nil, err
	}
	if c != nil {
		for _, r := range c.Alike {
			same(disk.Range{Start: start + r.Start, End: start + r.End})
		}
		for _, r := range c.Other {
			covers = append(covers, seek.Cover{
				From: start + r.Start, To: start + r.End, State: seek.Taken, By: "something that its backup has not",
				Why: seek.Compared,
			})
		}
	}
	past, err := at.since(o, rec)
	if err != nil {
		return nil, err
	}
	out.Stand, out.Elsewhere = seek.Stands(used, append(covers, past...), seek.Untouched), at.past.elsewhere(rec)
	return out, nil
}

// had are the ranges of the drive that a record's partition had in use.
func (at *Stage) had(o Sources, rec *trail.Record) ([]disk.Range, error) {
	used, err := InUse(o, rec)
	start := rec.Span.Start.Offset(at.Dev.SectorBytes())
	for i := range used {
		used[i].Start, used[i].End = used[i].Start+start, used[i].End+start
	}
	return used, err
}

// needs is what of a deleted partition may still be as it was, without reading what its record kept: every
// page asks for it, of every record.
func (at *Stage) needs(o Sources, rec *trail.Record) (disk.Set, error) {
	used, err := at.had(o, rec)
	if err != nil {
		return nil, err
	}
	past, err := at.since(o, rec)
	if err != nil {
		return nil, err
	}
	lies, err := at.liesSince(o, rec.Time)
	if err != nil {
		return nil, err
	}
	return Needs(seek.Stands(used, append(lies, past...), seek.Untouched)), nil
}

// kept compares what a record kept of its partition's start and end with what is there now, sector by
// sector, and returns what is to be put back. same is told of what is as it was, or will be.
func (at *Stage) kept(o Sources, rec *trail.Record, lies disk.Set, same func(disk.Range)) ([]seek.Repair, error) {
	sector, start := at.Dev.SectorBytes(), rec.Span.Start.Offset(at.Dev.SectorBytes())
	var returns []seek.Repair
	for _, part := range []struct {
		name string
		end  bool
	}{{trail.BlobFirst, false}, {trail.BlobLast, true}} {
		was, err := o.Records.Blob(rec, part.name)
		if err != nil {
			return nil, err
		}
		off, n := disk.Bytes(0), disk.Bytes(len(was))
		if n > rec.Span.Bytes {
			return nil, fmt.Errorf("%w: it kept more than the partition had", trail.ErrNoRecord)
		}
		if part.end {
			off = rec.Span.Bytes - n
		}
		now, err := disk.ReadFull(at.Dev, start+off, n)
		if err != nil {
			return nil, err
		}
		for i := disk.Bytes(0); i < n; i += sector {
			end := min(i+sector, n)
			r := disk.Range{Start: start + off + i, End: start + off + end}
			if bytes.Equal(now[i:end], was[i:end]) {
				same(r)
				continue
			}
			if lies.Meets(r) {
				continue
			}
			same(r)
			if k := len(returns) - 1; k >= 0 && returns[k].Off+disk.Bytes(len(returns[k].Data)) == off+i {
				returns[k].Data = append(returns[k].Data, was[i:end]...)
			} else {
				returns = append(returns, seek.Repair{Off: off + i, Data: slices.Clone(was[i:end])})
			}
		}
	}
	return returns, nil
}

// Standing is what a plan must know of a record's place.
func (at *Stage) Standing(o Sources, rec *trail.Record, c *shelf.Compared) (*plan.Stand, *Today, error) {
	t, err := at.of(o, rec, c)
	if err != nil {
		return nil, nil, err
	}
	var files []volume.File
	if t.Taken+t.Unknown > 0 {
		if files, err = o.Records.FileList(rec); err != nil {
			return nil, nil, err
		}
	}
	return t.forPlan(rec, files, at.Dev.SectorBytes()), t, nil
}

// compare compares a record's place with its backup, and notes what that shows.
func (at *Stage) compare(o Sources, rec *trail.Record, m *shelf.Manifest, into map[string]*shelf.Compared) error {
	c, err := o.Shelf.Compare(survey.Window(at.Dev, rec.Span), m)
	if err == nil {
		into[rec.ID] = &c
	}
	return err
}

// Find works out how the place of a find stands.
func (at *Stage) Find(o Sources, x *seek.Find) (*seek.Stand, error) {
	used, known := x.InUse(at.Survey.Layout.Sector)
	rest := seek.Unsure
	rec, err := recordOf(o, x)
	if err != nil {
		return nil, err
	}
	var past []seek.Cover
	var lost time.Time // at some time
	if rec != nil {
		rest, lost = seek.Untouched, rec.Time
		past, err = at.since(o, rec)
	} else {
		past, err = at.afterLoss(o, x)
	}
	if err != nil {
		return nil, err
	}
	covers, err := at.liesSince(o, lost)
	if err != nil {
		return nil, err
	}
	s := seek.Stands(used, append(covers, past...), rest)
	s.Whole = !known
	return s, nil
}

// afterLoss is what runs wrote after the last one that found or left a partition where the find begins: it was
// lost by then.
func (at *Stage) afterLoss(o Sources, x *seek.Find) ([]seek.Cover, error) {
	p, err := at.before(o)
	if err != nil {
		return nil, err
	}
	begins := func(l *layout.Layout) bool {
		return l == nil || slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return p.Start == x.Start })
	}
	var there time.Time // when it was there last
	for _, r := range p.runs {
		if m := r.meta; r.wroteOn(o, o.Named(at.Survey.Layout)) && (begins(m.Before) || begins(m.After)) && m.Begun.After(there) {
			there = m.Begun
		}
	}
	var covers []seek.Cover // the rest is not known anyway
	for _, r := range p.runs {
		m := r.meta
		ended := r.ended != nil && r.ended.Ended != ran.EndUndone
		if !ended || !m.Begun.After(there) || !r.wroteOn(o, o.Named(at.Survey.Layout)) {
			continue
		}
		for _, w := range r.wrote.From(0) {
			covers = append(covers, seek.Cover{
				From: w.Start, To: w.End, State: seek.Taken, By: "the run " + m.ID, Why: seek.Wrote,
			})
		}
	}
	return covers, nil
}
