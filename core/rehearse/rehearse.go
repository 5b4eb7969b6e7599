// Package rehearse works a plan out on a copy of the drive, to the last byte, before anything is written: each step is
// done, read back and compared with what the plan says of it. What comes of it is a script with its sources, the
// records of what is deleted, and the entries of the trail. Nothing but the copy is written to.
package rehearse

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// ErrChanged tells that the drive is not the one that the plan was made for.
var ErrChanged = errors.New("the drive has changed since the plan was made")

// ErrNoPlace tells that what the plan changes of a PC could not be kept.
var ErrNoPlace = errors.New("the plan changes the facts about the PC, and there is no place to keep them")

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

// Run is a run worked out on a copy, to the last byte, before anything is
// written.
type Run struct {
	Before  *layout.Layout // the drive as it is
	Was     *survey.Survey // of that
	Survey  *survey.Survey
	Over    *disk.Overlay // the copy as it is so far
	pc      *pc.Facts     // as they are so far
	Columns []plan.Column
	Script  script.Script
	at      int // the step at hand
	Meta    *ran.Meta
	Records []prepRecord
	Sources map[string]io.ReaderAt
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
	Sound    map[int]bool
	checked  chan map[int]bool
	checking sync.WaitGroup
}

// Release lets go of the copy, and of what was opened for it.
func (p *Run) Release() {
	p.checking.Wait() // also of a run that is refused: then nothing reads the drive any more
	for _, f := range p.close {
		f()
	}
}

// Prepare reads the drive, lays the plan out on it, and does every step on a
// copy: what is later written is known to lead where the plan says.
func Prepare(o Options) (*Run, error) {
	now, err := asExpected(o)
	if err != nil {
		return nil, err
	}
	p := &Run{
		Before: now.Layout, Was: now, Survey: now, pc: o.PC, Sources: map[string]io.ReaderAt{},
		gathered: map[string]*shelf.Gathered{}, compared: map[string]*shelf.Compared{}, Sound: map[int]bool{},
		promised: newPromised(o.Dev, now),
	}
	known, err := p.gather(o)
	if err != nil {
		return p, err
	}
	p.Columns = plan.Lay(now.Layout, known, o.Plan.Steps)
	if against := standing(p.Columns, o); len(against) > 0 {
		return p, &Blocked{against}
	}
	if err := p.begin(o); err != nil {
		return p, err
	}
	p.checkAll(o)
	for i, c := range p.Columns {
		if err := p.step(o, i, c, known); err != nil {
			return p, err
		}
	}
	return p, p.conclude(o)
}

// asExpected reads the drive; one that is not as the plan was made for it is refused.
func asExpected(o Options) (*survey.Survey, error) {
	now, err := survey.Read(o.Dev, o.PC)
	if err != nil || o.Expect == nil {
		return now, err
	}
	now.Layout.Serial = o.Identity.Serial
	if d := layout.Differ(o.Expect, now.Layout); len(d) > 0 {
		return nil, fmt.Errorf(
			"%w. %s Nothing was written. Look at the drive again and lay the plan anew", ErrChanged, strings.Join(d, " "),
		)
	}
	return now, nil
}

// gather gathers what the plan must know; what could still be brought back is kept by the run while there is room.
func (p *Run) gather(o Options) (plan.Facts, error) {
	known, err := facts.GatherInto(o.Sources, p.Was, o.Plan.Steps, p.gathered, p.compared)
	for _, g := range p.gathered {
		p.close = append(p.close, g.Close)
	}
	for _, g := range known.Gone {
		for _, r := range g.Needs {
			p.promised.asked = p.promised.asked.Put(r)
		}
	}
	return known, err
}

// standing is what stands against steps; of a rehearsal, not what the gate still asks for.
func standing(columns []plan.Column, o Options) (out []plan.Obstacle) {
	for _, c := range columns {
		out = append(out, c.Obstacles...)
		if !o.Rehearse {
			out = append(out, c.Missing...)
		}
	}
	return out
}

// begin gives the run its id, and says what it is.
func (p *Run) begin(o Options) error {
	id, err := NewID("r", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return err
	}
	var titles []string
	for _, c := range p.Columns {
		titles = append(titles, c.Title)
	}
	p.Meta = &ran.Meta{
		Version: ran.Version, ID: id, Home: o.Runs, Image: o.Image, DiskID: p.Before.DiskID, Begun: o.Now(),
		Who: o.Who, Job: o.Job, Shelf: o.Shelf.Dir, Shelves: o.Shelf.Volumes, Records: o.Records.Dir,
		Trail: o.TrailRef, Kept: []string{}, Plan: o.Plan, Titles: titles, PC: o.PC, PCRef: o.PCRef,
		Before: p.Before, Prints: map[string]string{}, Identity: o.Identity,
	}
	if err := p.freeze(o.Dev); err != nil {
		return err
	}
	return p.Enter(o, trail.Entry{
		Act: trail.ActPlan, Text: wordPlan(titles), Titles: titles, Before: p.Before,
		After: p.Columns[len(p.Columns)-1].Layout,
	})
}

// conclude notes, once every step was done on the copy, what the drive will be like, and that the files stay as
// they are.
func (p *Run) conclude(o Options) (err error) {
	if err := p.fingerprints(); err != nil {
		return err
	}
	for n, sound := range <-p.checked {
		if _, touched := p.Sound[n]; !touched {
			p.Sound[n] = sound
		}
	}
	if err := p.Intact(p.Was); err != nil {
		return fmt.Errorf("the plan does not leave the files as they are: %w. Nothing was written", err)
	}
	if p.pc != nil && o.PC.State == pc.Running && p.pc.State == pc.Off { // it comes up again
		up := *p.pc
		p.Meta.PCDuring, up.State = p.pc, pc.Running
		p.pc = &up
	}
	if p.Meta.After = p.Survey.Layout; p.pc != o.PC {
		p.Meta.PCAfter = p.pc
		if o.SavePC == nil && !o.Rehearse {
			return fmt.Errorf("%w. Nothing was written", ErrNoPlace)
		}
	}
	if p.Meta.Start, err = prove.StartChecks(p.Over, p.Before, p.Survey, o.PC, p.pc); err != nil {
		return err
	}
	return p.prints()
}

// checkAll checks the volumes as they are, meanwhile. It reads the drive by itself.
func (p *Run) checkAll(o Options) {
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
		for n, v := range sv.Volumes() {
			sound[n] = v.Check().FirstError() == nil
			sv.Forget(n) // what it has read is not needed any more
		}
	})
}

// freeze leaves the copy as it is and goes on with a copy of it.
func (p *Run) freeze(dev disk.Device) error {
	over, err := disk.NewOverlay(dev, "")
	if err == nil {
		p.close = append(p.close, over.Close)
		p.Over = over
	}
	return err
}

// prints notes the fingerprint that every volume will have afterwards.
func (p *Run) prints() error {
	for n, v := range p.Survey.Volumes() {
		f, err := v.Fingerprint()
		if err != nil {
			return fmt.Errorf("partition %d: %w", n, err)
		}
		p.Meta.Prints[fmt.Sprint(n)] = f
	}
	return nil
}

// fingerprints notes what every volume was like before that the plan touches; the others are as they
// will be afterwards.
func (p *Run) fingerprints() error {
	p.Meta.Were = map[string]string{}
	touched := p.Script.Origins()
	for n, v := range p.Was.Volumes() {
		if q, ok := p.Before.Find(n); ok && !touched.Touches(q.Start.Offset(p.Before.Sector), q.Bytes) {
			continue
		}
		f, err := v.Fingerprint()
		if err != nil {
			return fmt.Errorf("partition %d: %w", n, err)
		}
		p.Meta.Were[fmt.Sprint(n)] = f
	}
	return nil
}

// Enter composes an entry of the run; it is added to the trail once the journal
// is durable.
func (p *Run) Enter(o Options, e trail.Entry) error {
	id, err := NewID("e", o.Now().UTC().Format("20060102-150405.000"), o.Random)
	e.ID, e.Time, e.Who, e.Job, e.Run, e.Drive = id, o.Now(), o.Who, o.Job, p.Meta.ID, o.Named(p.Survey.Layout)
	p.Meta.Entries = append(p.Meta.Entries, e)
	return err
}

func wordPlan(titles []string) string {
	return fmt.Sprintf("Plan of %d steps begun: %s", len(titles), strings.Join(titles, ", "))
}
