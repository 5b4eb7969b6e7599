package run

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"jadetrail/core/ran"

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

// stage is where a standing is worked out: a drive, or a copy of it on which a run has come some way.
type stage struct {
	dev disk.Device
	sv  *survey.Survey
	own []seek.Cover // what the run at hand has written, and which partitions it had, so far

	now  []seek.Cover // what lies there, once that was read
	past *past        // what is known of the runs and deletions there, once that was read
}

// past is what the runs and records of an installation tell of where was written.
type past struct {
	runs    []ranThere
	records []*trail.Record
	used    map[string][][2]disk.Bytes // what records' partitions had in use, by their ids
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
		return !b.at.Before(since) && (b.span.Start == span.Start || SamePartition(b.span, span))
	})
}

// lastBack is when a record's partition was brought back last, zero for never since its deletion. What was written to
// its place before then may have been made good.
func (p *past) lastBack(rec *trail.Record) (at time.Time) {
	for _, b := range p.back {
		if !b.at.Before(rec.Time) && b.at.After(at) && b.span.Start == rec.Span.Start && SamePartition(b.span, rec.Span) {
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
func (r *ranThere) wroteOn(o Options, d trail.Drive) bool {
	void := r.ended != nil && r.ended.Ended == ran.EndVoid
	return !void && (&ran.Folder{Meta: r.meta}).IsOn(d, sizeOn(o), o.Image)
}

// before reads what is known of runs and deletions; of files that are no runs nothing is said.
func (at *stage) before(o Options) (*past, error) {
	if at.past != nil {
		return at.past, nil
	}
	dirs, err := os.ReadDir(o.Runs)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	p := &past{used: map[string][][2]disk.Bytes{}}
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
		if x.wroteOn(o, drive(o, at.sv.Layout)) {
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
	if p.changed, err = p.changedElsewhere(o, drive(o, at.sv.Layout)); err != nil {
		return nil, err
	}
	at.past = p
	return p, nil
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
func (p *past) changedElsewhere(o Options, on trail.Drive) (at time.Time, err error) {
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

// OnDrive is the partition that a record is of, where it is on the drive again: by its id, or, where it came
// back with another, by its place and its volume. nil where it is not.
func OnDrive(l *layout.Layout, rec *trail.Record) *layout.Span {
	for _, p := range l.Partitions() {
		if p.UniqueID == rec.Span.UniqueID || p.Start == rec.Span.Start && SamePartition(p, rec.Span) {
			return &p
		}
	}
	return nil
}

// asItIs is the drive itself.
func asItIs(o Options, sv *survey.Survey) *stage { return &stage{dev: o.Dev, sv: sv} }

// lies is what lies there now, and what the run at hand did.
func (at *stage) lies() []seek.Cover {
	if at.now == nil {
		at.now = append(seek.Living(at.dev, at.sv, 0), at.own...)
	}
	return slices.Clip(at.now)
}

// liesSince is what lies there now, over the place of what was lost at a time. Of what a partition has in use that
// came back since, nobody knows whether it is that or what was lost.
func (at *stage) liesSince(o Options, lost time.Time) ([]seek.Cover, error) {
	p, err := at.before(o)
	if err != nil {
		return nil, err
	}
	out := slices.Clone(at.lies())
	sector := at.sv.Layout.Sector
	for _, q := range at.sv.Layout.Partitions() {
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

// Today is how a deleted partition stands today in its former place.
type Today struct {
	*seek.Stand
	// Returns are the bytes that the record kept and that the place does not hold any more, where
	// nothing lies over them: they go back to where they were. They count as untouched.
	Returns []seek.Repair
	// Elsewhere tells why somebody else may have written to the drive since, "" where nothing speaks for that.
	Elsewhere string
}

// since lists what has come to lie over a drive's places since a deletion: what partitions there were
// meanwhile, what was in use in those that are gone again, and what runs wrote.
func (at *stage) since(o Options, rec *trail.Record) ([]seek.Cover, error) {
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
			covers = append(covers, seek.Cover{From: w[0], To: w[1], State: state, By: by, Why: seek.Wrote})
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

// deletedAfter are the places that partitions had which were deleted after a record's, and what they had
// in use. Of the record's own, where it came back meanwhile, nobody knows what its PC wrote.
func (p *past) deletedAfter(o Options, rec *trail.Record) (covers []seek.Cover, err error) {
	back := p.lastBack(rec)
	for _, x := range p.records {
		if x.ID == rec.ID || !x.Drive.Same(rec.Drive) || x.Time.Before(rec.Time) || x.Run == rec.Run && x.Step <= rec.Step {
			continue
		}
		start := x.Span.Start.Offset(x.Before.Sector)
		covers = append(covers, seek.Cover{
			From: start, To: start + x.Span.Bytes, State: seek.Unsure, By: x.Span.Title(), Why: seek.Had,
		})
		if x.Span.Start == rec.Span.Start && SamePartition(x.Span, rec.Span) || x.Time.Before(p.changed) || !x.Time.After(back) || p.backSince(x.Span, rec.Time) {
			continue
		}
		used, read := p.used[x.ID]
		if !read {
			used, err = inUse(o, x)
			if err != nil && !errors.Is(err, trail.ErrNoRecord) { // else it cannot be told any more
				return nil, err
			}
			p.used[x.ID] = used
		}
		for _, r := range used {
			covers = append(covers, seek.Cover{
				From: start + r[0], To: start + r[1], State: seek.Taken, By: x.Span.Title() + ", deleted since",
				Why: seek.Wrote,
			})
		}
	}
	return covers, nil
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

// inUse are the ranges that a record's partition had in use, counted from its start.
func inUse(o Options, rec *trail.Record) (used [][2]disk.Bytes, err error) {
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

// StandOf works out how the formerly used part of a deleted partition stands today. c is what comparing
// its place with its backup has shown, nil for nothing.
func StandOf(o Options, sv *survey.Survey, rec *trail.Record, c *shelf.Compared) (*Today, error) {
	return asItIs(o, sv).of(o, rec, c)
}

func (at *stage) of(o Options, rec *trail.Record, c *shelf.Compared) (*Today, error) {
	sector := at.dev.SectorBytes()
	start := rec.Span.Start.Offset(sector)
	if rec.Erased || start < 0 || start+rec.Span.Bytes > at.dev.Size() {
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
func (at *stage) had(o Options, rec *trail.Record) ([][2]disk.Bytes, error) {
	used, err := inUse(o, rec)
	start := rec.Span.Start.Offset(at.dev.SectorBytes())
	for i := range used {
		used[i][0], used[i][1] = used[i][0]+start, used[i][1]+start
	}
	return used, err
}

// needs is what of a deleted partition may still be as it was, without reading what its record kept: every
// page asks for it, of every record.
func (at *stage) needs(o Options, rec *trail.Record) (disk.Set, error) {
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
func (at *stage) kept(o Options, rec *trail.Record, lies disk.Set, same func(disk.Range)) ([]seek.Repair, error) {
	sector, start := at.dev.SectorBytes(), rec.Span.Start.Offset(at.dev.SectorBytes())
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
		now, err := disk.ReadFull(at.dev, start+off, n)
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

// standing is what a plan must know of a record's place.
func (at *stage) standing(o Options, rec *trail.Record, c *shelf.Compared) (*plan.Stand, *Today, error) {
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
	return t.forPlan(rec, files, at.dev.SectorBytes()), t, nil
}

// compare compares a record's place with its backup, and notes what that shows.
func (at *stage) compare(o Options, rec *trail.Record, m *shelf.Manifest, into map[string]*shelf.Compared) error {
	c, err := o.Shelf.Compare(survey.Window(at.dev, rec.Span), m)
	if err == nil {
		into[rec.ID] = &c
	}
	return err
}

// FindStands works out how the place of a find stands. Of what nothing is known to have taken, only a
// record of its deletion can tell that it is as it was.
func FindStands(o Options, sv *survey.Survey, x *seek.Find) (*seek.Stand, error) {
	return asItIs(o, sv).find(o, x)
}

func (at *stage) find(o Options, x *seek.Find) (*seek.Stand, error) {
	used, known := x.InUse(at.sv.Layout.Sector)
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

// recordOf is the record of a find's deletion, as the trail has it; nil where there is none.
func recordOf(o Options, x *seek.Find) (*trail.Record, error) {
	if x.Record == "" {
		return nil, nil
	}
	rec, hash, err := o.Records.Load(x.Record)
	if errors.Is(err, trail.ErrNoRecord) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	bad, err := altered(o, rec, hash)
	if err != nil || bad || rec.Erased || rec.Span.Start != x.Start {
		return nil, err
	}
	return rec, nil
}

// afterLoss is what runs wrote after the last one that found or left a partition where the find begins: it was
// lost by then.
func (at *stage) afterLoss(o Options, x *seek.Find) ([]seek.Cover, error) {
	p, err := at.before(o)
	if err != nil {
		return nil, err
	}
	begins := func(l *layout.Layout) bool {
		return l == nil || slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return p.Start == x.Start })
	}
	var there time.Time // when it was there last
	for _, r := range p.runs {
		if m := r.meta; r.wroteOn(o, drive(o, at.sv.Layout)) && (begins(m.Before) || begins(m.After)) && m.Begun.After(there) {
			there = m.Begun
		}
	}
	var covers []seek.Cover // the rest is not known anyway
	for _, r := range p.runs {
		m := r.meta
		ended := r.ended != nil && r.ended.Ended != ran.EndUndone
		if !ended || !m.Begun.After(there) || !r.wroteOn(o, drive(o, at.sv.Layout)) {
			continue
		}
		for _, w := range r.wrote.From(0) {
			covers = append(covers, seek.Cover{
				From: w[0], To: w[1], State: seek.Taken, By: "the run " + m.ID, Why: seek.Wrote,
			})
		}
	}
	return covers, nil
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
