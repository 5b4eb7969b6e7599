// Package run is one whole carry-out, held together: the gate, reading the drive
// again, records, compiling, carrying, the proof, the trail. A rehearsal is the
// same on a copy that is thrown away. The bench commands and the web application
// use it alike.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jadetrail/core/prove"

	"jadetrail/core/facts"

	"jadetrail/core/ran"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Sentinel errors. Nothing was written when one of them is returned.
var (
	ErrPending = errors.New("an earlier run on this drive is not finished")
	ErrSerial  = errors.New("the serial check failed")
	ErrChanged = errors.New("the drive has changed since the plan was made")
	ErrRoom    = errors.New("there is not enough room to work")
	ErrTrail   = errors.New("the trail does not verify")
	// ErrLead tells that only the lead may do it.
	ErrLead = errors.New("only the lead may do that")
	// ErrNotBegun tells that a run was stopped on request before its first write.
	ErrNotBegun = errors.New("stopped before the run was begun; nothing was written")
)

// Blocked is the answer that a plan cannot be carried out.
type Blocked struct {
	Obstacles []plan.Obstacle
}

func (b *Blocked) Error() string {
	var t []string
	for _, o := range b.Obstacles {
		if !slices.Contains(t, o.Text) { // of several steps
			t = append(t, o.Text)
		}
	}
	return strings.Join(t, " ") + " Nothing was written."
}

// Options of a carry-out.
type Options struct {
	facts.Sources // what the plan must know, and where the run keeps what it is

	// SavePC keeps the facts about the PC when a run has changed them. It may be called
	// again with the same facts. PCRef is kept for a later resume.
	SavePC   func(*pc.Facts) error
	PCRef    string
	Plan     *plan.Plan
	Expect   *layout.Layout // the drive as the plan was made for it; nil for as it is
	Who, Job string
	Serial   string // the end of the serial number, as typed
	// SerialLast is how many characters of it the check asks for, 0 for four; more where
	// another drive's ends alike.
	SerialLast int
	Alike      bool // another drive in a bay looks like this one
	Rehearse   bool
	// Compare asks for every file that stays to be read before and after, and compared.
	Compare  bool
	TrailRef string // kept for a later resume
	// Besides finds what else the installation holds of a partition, beside what a run knows;
	// BesidesLooked is where it looks.
	Besides       func(d trail.Drive, span layout.Span) ([]Holding, error)
	BesidesLooked []string
	// Verify checks the trail before a carry-out; nil where it was checked otherwise. One that
	// does not verify is gone on with only for a reason, which Despite gives.
	Verify  func(ctx context.Context) (*trail.Report, error)
	Despite string
	// Before is told what the steps lead to, with all that is to be known of it, before anything is
	// written; nil for nobody.
	Before func([]plan.Column)
	// ProveAfter is how old the verification of a backup may be in whose name something is deleted; 0 for
	// ProveAfter's.
	ProveAfter time.Duration
	Books      Books // nil where acts are not written down before
	Now        func() time.Time
	Report     func(carry.Progress)
	// Journal wraps the journal's file; nil for as it is.
	Journal func(disk.File) disk.File
}

// proving is the drive, as something is proven on it.
func (o Options) proving() prove.Drive {
	return prove.Drive{Dev: o.Dev, PC: o.PC, Shelf: o.Shelf, Report: o.Report}
}

// Result of a run.
type Result struct {
	Run     string   `json:"run"`
	Records []string `json:"records"`
	Marks   []string `json:"marks"`
	Good    string   `json:"good,omitempty"` // the entry that marks the state as good
	Undone  bool     `json:"undone,omitempty"`
	Void    bool     `json:"void,omitempty"` // it came to an end before anything was written
	// Notes are what is to be known of the steps: what is written over, what comes back with other
	// contents, which paths change.
	Notes []Note `json:"notes"`
	// Arrivals are the files that were put into volumes.
	Arrivals []ran.Arrival  `json:"arrivals,omitempty"`
	Layout   *layout.Layout `json:"-"`
	Columns  []plan.Column  `json:"-"`
	Bytes    disk.Bytes     `json:"bytes_rewritten"`
	// Written is what was put on the drive for that, now; the rest is empty.
	Written disk.Bytes `json:"bytes_written"`
	Zeroed  disk.Bytes `json:"bytes_zeroed"` // made zeros besides
	Took    ran.Took   `json:"seconds"`
	// Report is what the run says of itself, nil of one that did nothing.
	Report *ran.Report `json:"-"`
}

// Note is something to be known of a step.
type Note struct {
	Step int       `json:"step"` // from 1
	Code plan.Code `json:"code"`
	Text string    `json:"text"`
}

// notes are all of a plan.
func notes(columns []plan.Column) []Note {
	out := []Note{}
	for i, c := range columns {
		for _, n := range c.Notes {
			out = append(out, Note{i + 1, n.Code, n.Text})
		}
	}
	return out
}

// prepared is a run worked out on a copy, to the last byte, before anything is
// written.
type prepared struct {
	before  *layout.Layout // the drive as it is
	was     *survey.Survey // of that
	sv      *survey.Survey
	over    *disk.Overlay // the copy as it is so far
	pc      *pc.Facts     // as they are so far
	columns []plan.Column
	script  script.Script
	at      int // the step at hand
	meta    *ran.Meta
	records []prepRecord
	sources map[string]io.ReaderAt
	close   []func() error

	// moved tells that bytes were moved about on the copy. What it does not hold itself it
	// then reads from the drive's former places, so that it is of no use once they are
	// written to.
	moved bool

	gathered map[string]*shelf.Gathered
	compared map[string]*shelf.Compared // places of records with their backups
	promised *promised
	// sound tells of the volumes that steps touch whether they check sound as they are then;
	// checked gives the same of all volumes as they were before.
	sound    map[int]bool
	checked  chan map[int]bool
	checking sync.WaitGroup
}

// checkAll checks the volumes as they are, meanwhile. It reads the drive by itself.
func (p *prepared) checkAll(o Options) {
	p.checked = make(chan map[int]bool, 1)
	p.checking.Go(func() {
		sound := map[int]bool{}
		defer func() { p.checked <- sound }()
		if o.Rehearse {
			return
		}
		sv, err := survey.Read(o.Dev, o.PC)
		if err != nil {
			return // who reads it for the plan says so
		}
		for n, v := range sv.Volumes {
			sound[n] = v.Check().FirstError() == nil
			delete(sv.Volumes, n) // what it has read is not needed any more
		}
	})
}

type prepRecord struct {
	rec *trail.Record
	c   trail.Contents
}

func (p *prepared) release() {
	p.checking.Wait() // also of a run that is refused: then nothing reads the drive any more
	for _, f := range p.close {
		f()
	}
}

// CarryOut carries a plan out, or rehearses it.
func CarryOut(ctx context.Context, o Options) (*Result, error) {
	// 1. A drive with an open run is closed to everything else, whatever its name is now.
	if err := Closed(o); err != nil {
		return nil, err
	}
	if !o.Rehearse {
		if err := serialCheck(o); err != nil {
			return nil, err
		}
	}
	// 2. What is entered in a trail must be worth something.
	despite, err := verified(ctx, o)
	if err != nil {
		return nil, err
	}
	// 3. All of it is worked out on a copy, to the last byte.
	began := time.Now()
	p, err := prepare(o)
	if p != nil {
		defer p.release()
	}
	if err != nil {
		if p != nil {
			err = hurt(o.Dev, p.before, err, false)
		}
		return nil, err
	}
	if despite != "" {
		p.meta.Entries[0].Text += ". " + despite
		p.meta.Entries[0].Reason = strings.TrimSpace(o.Despite)
	}
	p.onDrive(o.Dev)
	res := &Result{
		Run: p.meta.ID, Records: p.meta.Kept, Marks: []string{}, Layout: p.meta.After, Columns: p.columns,
		Notes: notes(p.columns), Bytes: p.script.Rewritten(), Zeroed: p.script.Zeroed(),
	}
	if o.Before != nil {
		o.Before(p.columns)
	}
	if o.Rehearse {
		return res, nil
	}
	if err := p.proveBackups(ctx, o); err != nil {
		return nil, err
	}
	var less lean
	if p.script, less, err = roomFor(o.Runs, o.Dev, p.script); err != nil {
		return nil, err
	}
	if less.forever >= 0 {
		p.meta.Entries[0].Text += fmt.Sprintf(
			". From step %d on it cannot be taken back: %s", less.forever+1, noRoomToKeep,
		)
	}
	if less.gone || p.promised.weakens {
		p.meta.Entries[0].Text += ". What was gone before and lies in places that it writes over is not kept to be taken back: that would be too much for the bench"
	}
	// 4. What the run is, and the records of what it deletes, become durable.
	if p.meta.Sign, err = p.signPlace(o.Dev); err != nil {
		return nil, err
	}
	dir := filepath.Join(o.Runs, p.meta.ID)
	if err := p.keep(o, dir); err != nil {
		return nil, errors.Join(err, gaveUp(o, p.meta))
	}
	// 5. Then its journal, and the note that there is one.
	c, f, err := carry.BeginIn(
		ctx, filepath.Join(dir, ran.JournalFile), o.Dev, p.script, p.meta.Journal(), o.Journal, o.Report,
	)
	if errors.Is(err, carry.ErrStopped) {
		err = ErrNotBegun
	}
	if err != nil {
		return nil, errors.Join(hurt(o.Dev, p.before, err, false), gaveUp(o, p.meta))
	}
	defer f.Close()
	if err := noteBegun(o, p.meta, c); err != nil {
		return nil, err
	}
	res.Took.Prepare = time.Since(began).Seconds()
	return finish(ctx, o, p.meta, c, p, res)
}

// verified checks the trail. For one that does not verify it returns what the trail is to say of
// that, where there is a reason to go on all the same.
func verified(ctx context.Context, o Options) (despite string, err error) {
	if o.Verify == nil || o.Rehearse {
		return "", nil
	}
	r, err := o.Verify(ctx)
	switch {
	case errors.Is(err, context.Canceled):
		return "", ErrNotBegun
	case err != nil:
		return "", fmt.Errorf("whether the trail is whole cannot be told: %w. Nothing was written", err)
	}
	if r.Sound() {
		return "", nil
	}
	if strings.TrimSpace(o.Despite) == "" {
		return "", fmt.Errorf(
			"%w: %s %d in all. Nothing was written. Look into it first, or give a reason to go on all the same",
			ErrTrail, r.Problems[0], len(r.Problems),
		)
	}
	return fmt.Sprintf("Begun although the trail does not verify: %s", r.Problems[0]), nil
}

// serialCheck compares what was typed of the drive's serial number with it. Dashes and spaces do not count, and
// more than is asked for does as well.
func serialCheck(o Options) error {
	s := survey.PlainSerial(o.Identity.Serial)
	if s == "" || !plan.AsksSerial(o.Plan.Steps, o.Alike) {
		return nil
	}
	n := min(max(o.SerialLast, 4), len(s))
	typed := survey.PlainSerial(o.Serial)
	if typed == "" {
		return fmt.Errorf(
			"%w: the last %d characters of this drive's serial number are asked for, without dashes. Nothing was written. Read them from the drive's label",
			ErrSerial, n,
		)
	}
	if !strings.HasSuffix(s, typed) {
		return fmt.Errorf(
			"%w: the last %d characters are asked for, and the serial number of this drive does not end in %q. Nothing was written. Look at the drive's label and try again",
			ErrSerial, n, o.Serial,
		)
	}
	if len(typed) < n {
		return fmt.Errorf(
			"%w: the last %d characters are asked for, without dashes, and %q is %d of them. Nothing was written. Read the others from the drive's label too",
			ErrSerial, n, o.Serial, len(typed),
		)
	}
	return nil
}

// prepare reads the drive, lays the plan out on it, and does every step on a
// copy: what is later written is known to lead where the plan says.
func prepare(o Options) (*prepared, error) {
	now, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	if o.Expect != nil {
		now.Layout.Serial = o.Identity.Serial
		if d := layout.Differ(o.Expect, now.Layout); len(d) > 0 {
			return nil, fmt.Errorf(
				"%w. %s Nothing was written. Look at the drive again and lay the plan anew", ErrChanged,
				strings.Join(d, " "),
			)
		}
	}
	p := &prepared{
		before: now.Layout, was: now, sv: now, pc: o.PC, sources: map[string]io.ReaderAt{},
		gathered: map[string]*shelf.Gathered{}, compared: map[string]*shelf.Compared{}, sound: map[int]bool{},
		promised: newPromised(o.Dev, now),
	}
	facts, err := facts.GatherInto(o.Sources, now, o.Plan.Steps, p.gathered, p.compared)
	for _, g := range p.gathered {
		p.close = append(p.close, g.Close)
	}
	if err != nil {
		return p, err
	}
	for _, g := range facts.Gone {
		for _, r := range g.Needs {
			p.promised.asked = p.promised.asked.Put(r)
		}
	}
	cols := plan.Lay(now.Layout, facts, o.Plan.Steps)
	blocked := &Blocked{}
	for _, c := range cols {
		blocked.Obstacles = append(blocked.Obstacles, c.Obstacles...)
		if !o.Rehearse {
			blocked.Obstacles = append(blocked.Obstacles, c.Missing...)
		}
	}
	if len(blocked.Obstacles) > 0 {
		return p, blocked
	}
	id, err := newID("r", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return p, err
	}
	p.columns = cols
	var titles []string
	for _, c := range cols {
		titles = append(titles, c.Title)
	}
	p.meta = &ran.Meta{
		Version: ran.Version, ID: id, Home: o.Runs, Image: o.Image, DiskID: now.Layout.DiskID, Begun: o.Now(), Who: o.Who, Job: o.Job, Shelf: o.Shelf.Dir, Shelves: o.Shelf.Volumes,
		Records: o.Records.Dir, Trail: o.TrailRef, Kept: []string{}, Plan: o.Plan, Titles: titles, PC: o.PC, PCRef: o.PCRef, Before: now.Layout, Prints: map[string]string{}, Identity: o.Identity,
	}
	if err := p.freeze(o.Dev); err != nil {
		return p, err
	}
	if err := p.enter(o, trail.Entry{Act: trail.ActPlan, Text: wordPlan(titles), Before: now.Layout, After: cols[len(cols)-1].Layout}); err != nil {
		return p, err
	}
	p.checkAll(o)
	for i, c := range cols {
		if err := p.step(o, i, c, facts); err != nil {
			return p, err
		}
	}
	if err := p.fingerprints(); err != nil {
		return p, err
	}
	for n, sound := range <-p.checked {
		if _, touched := p.sound[n]; !touched {
			p.sound[n] = sound
		}
	}
	if err := p.intact(now); err != nil {
		return p, fmt.Errorf("the plan does not leave the files as they are: %w. Nothing was written", err)
	}
	if p.pc != nil && o.PC.State == pc.Running && p.pc.State == pc.Off { // it comes up again
		up := *p.pc
		p.meta.PCDuring, up.State = p.pc, pc.Running
		p.pc = &up
	}
	if p.meta.After = p.sv.Layout; p.pc != o.PC {
		p.meta.PCAfter = p.pc
		if o.SavePC == nil && !o.Rehearse {
			return p, fmt.Errorf("%w. Nothing was written", errNoPlace)
		}
	}
	if p.meta.Start, err = prove.StartChecks(p.over, now.Layout, p.sv, o.PC, p.pc); err != nil {
		return p, err
	}
	return p, p.prints()
}

// freeze leaves the copy as it is and goes on with a copy of it.
func (p *prepared) freeze(dev disk.Device) error {
	over, err := disk.NewOverlay(dev, "")
	if err == nil {
		p.close = append(p.close, over.Close)
		p.over = over
	}
	return err
}

// prints notes the fingerprint that every volume will have afterwards.
func (p *prepared) prints() error {
	for n, v := range p.sv.Volumes {
		f, err := v.Fingerprint()
		if err != nil {
			return fmt.Errorf("partition %d: %w", n, err)
		}
		p.meta.Prints[fmt.Sprint(n)] = f
	}
	return nil
}

// fingerprints notes what every volume was like before that the plan touches; the others are as they
// will be afterwards.
func (p *prepared) fingerprints() error {
	p.meta.Were = map[string]string{}
	touched := p.script.Origins()
	for n, v := range p.was.Volumes {
		if q, ok := p.before.Find(n); ok && !touched.Touches(q.Start.Offset(p.before.Sector), q.Bytes) {
			continue
		}
		f, err := v.Fingerprint()
		if err != nil {
			return fmt.Errorf("partition %d: %w", n, err)
		}
		p.meta.Were[fmt.Sprint(n)] = f
	}
	return nil
}

// record gathers what is kept of a deletion.
func (p *prepared) record(o Options, dev disk.Device, c plan.Column, facts plan.Facts) (*trail.Record, error) {
	span, _ := p.sv.Layout.Find(c.Number)
	w := survey.Window(dev, *span)
	v := p.sv.Volumes[c.Number]
	id, err := newID("d", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return nil, err
	}
	rec := &trail.Record{
		ID: id, Time: o.Now(), Who: o.Who, Run: p.meta.ID, Step: p.at,
		Drive: o.Named(p.sv.Layout), Span: *span, Reason: c.Step.Release, Before: p.sv.Layout,
	}
	if slices.Contains(c.Waived, c.Number) {
		rec.Waiver = c.Step.Waiver
	}
	if b, ok := c.Standing[c.Number]; ok && b.Verified && b.Same {
		if rec.Backup = b.ID; b.Coverage {
			rec.Backup, rec.Coverage = "", b.ID
		}
	}
	for _, e := range p.sv.Table.Entries {
		if e.Slot == c.Number {
			rec.Entry = e.Raw
		}
	}
	if rec.TableBefore, err = stretches(dev, p.sv); err != nil {
		return nil, err
	}
	var k trail.Contents
	if rec.Erased = c.Step.Erase; rec.Erased {
		p.records = append(p.records, prepRecord{rec, k})
		p.meta.Kept = append(p.meta.Kept, id)
		return rec, nil
	}
	if k.First, k.Last, err = trail.Edges(w); err != nil {
		return nil, err
	}
	k.Ranges = [][2]disk.Bytes{{0, w.Size()}}
	if v != nil {
		if rec.Fingerprint, err = v.Fingerprint(); err != nil {
			return nil, err
		}
		if k.Files, err = v.Files(); err != nil {
			return nil, err
		}
		if k.Ranges, _, err = shelf.Ranges(w, v); err != nil {
			return nil, err
		}
	} else if span.Volume != nil {
		if rec.Fingerprint, err = shelf.Fingerprint(w, nil); err != nil {
			return nil, err
		}
	}
	p.records = append(p.records, prepRecord{rec, k})
	p.meta.Kept = append(p.meta.Kept, id)
	return rec, nil
}

func stretches(dev disk.Device, sv *survey.Survey) ([]trail.Stretch, error) {
	var out []trail.Stretch
	for _, r := range sv.Table.Ranges() {
		b, err := disk.ReadFull(dev, r[0], r[1]-r[0])
		if err != nil {
			return nil, err
		}
		out = append(out, trail.Stretch{Off: r[0], Data: b})
	}
	return out, nil
}

// enter composes an entry of the run; it is added to the trail once the journal
// is durable.
func (p *prepared) enter(o Options, e trail.Entry) error {
	id, err := newID("e", o.Now().UTC().Format("20060102-150405.000"), o.Random)
	e.ID, e.Time, e.Who, e.Job, e.Run, e.Drive = id, o.Now(), o.Who, o.Job, p.meta.ID, o.Named(p.sv.Layout)
	p.meta.Entries = append(p.meta.Entries, e)
	return err
}

func wordPlan(titles []string) string {
	return fmt.Sprintf("Plan of %d steps begun: %s", len(titles), strings.Join(titles, ", "))
}
