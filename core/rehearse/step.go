package rehearse

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"jadetrail/core/compile"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// doing is one step while it is done on the copy.
type doing struct {
	*Run
	o      Options
	i      int // which one, from 0
	c      plan.Column
	facts  plan.Facts
	before *survey.Survey // the copy as it was
	given  compile.Given  // what it needs beside the drive
	entry  trail.Entry    // what the trail will say of it
}

// notWritten says of an error that it ended the step while nothing was written yet.
func (d *doing) notWritten(err error) error {
	return fmt.Errorf("step %d, %s: %w. Nothing was written", d.i+1, d.c.Title, err)
}

// step does one step on the copy and reads the copy back.
func (p *Run) step(o Options, i int, c plan.Column, facts plan.Facts) error {
	p.at = i
	before, arrived := p.Survey, len(p.Meta.Arrivals)
	c.Step = c.Step.WithFolder(asThere(before.Volume(c.Number), c.Step.Folder()))
	d := &doing{Run: p, o: o, i: i, c: c, facts: facts, before: before}
	d.given = compile.Given{Gone: map[string]compile.Gone{}, Now: o.Now(), Dev: p.Over}
	d.entry = trail.Entry{Act: trail.Act(c.Step.Do()), Partition: c.Number, Before: before.Layout}
	d.entry.Text = c.Told()
	for _, lifts := range []plan.Lifts{plan.LiftType, plan.LiftPlace} {
		if a := c.ApprovedFor(c.Number, lifts); a != nil {
			d.entry.Lead, d.entry.Approval = a.Lead, a.ID
		}
	}
	// 1. What goes by what a volume says of itself asks for one that checks sound.
	k := kinds[c.Step.Do()]
	if k.resizes {
		if err := soundFirst(before, c); err != nil {
			return err
		}
	}
	// 2. What its kind keeps, enters and brings in.
	if k.prepare != nil {
		if err := k.prepare(d); err != nil {
			return err
		}
	}
	// 3. What comes from another volume of the drive.
	p.passed(c)
	if c.From != 0 {
		if err := d.bringAcross(); err != nil {
			return err
		}
	}
	p.pc = c.PC
	// 4. Its bytes.
	done, err := compile.Step(p.Survey, c, d.given)
	if err != nil {
		return d.notWritten(err)
	}
	s := done.Script
	if !c.Portions && c.NoReturn != "" && !c.Step.Erases() { // an erasing has its own, behind the table
		s = append(script.Script{{Kind: script.NoReturn, Text: "from here on " + c.NoReturn}}, s...)
	}
	if a := done.Arrival; a != nil && len(p.Meta.Arrivals) > arrived { // an empty volume has nothing that arrives
		d.arrivedAs(a)
	}
	// 5. They lead on the copy to what was planned, and damage no volume.
	s, after, err := p.through(i, c, s, d.given)
	if err != nil {
		return err
	}
	if differs := layout.Differ(c.Layout, after.Layout); len(differs) > 0 {
		return fmt.Errorf(
			"step %d, %s, does not lead where it should: %s Nothing was written", i+1, c.Title,
			strings.Join(differs, " "),
		)
	}
	if err := d.unharmed(after); err != nil {
		return err
	}
	// 6. It is done, and its records know what the drive is like after it.
	p.Script = append(p.Script, s...)
	p.Survey = after
	d.entry.After = after.Layout
	for _, r := range p.Records {
		if r.Record.After != nil {
			continue
		}
		r.Record.After = after.Layout
		if r.Record.TableAfter, err = stretches(p.Over, after); err != nil {
			return err
		}
	}
	return p.Enter(o, d.entry)
}

// bringAcross finds out what comes from another volume of the drive, and opens it.
func (d *doing) bringAcross() error {
	c := d.c
	d.Sound[c.From] = false // something may be taken out of there
	a := ran.Arrival{Number: c.Number, From: c.From, Base: c.Base, Folder: c.Step.Folder()}
	if c.Portions {
		var err error
		if a.Portion, d.given.Onto, err = d.portions(d.o, d.i, c, d.facts); err != nil {
			return d.notWritten(err)
		}
		d.given.Dev = d.Over
	}
	if err := d.across(&a); err != nil {
		return d.notWritten(err)
	}
	// What cannot be read cannot come along, and must not go with the place it was in.
	if len(a.Lost) > 0 && (c.Moves || c.Absorbed != 0 || c.Hold != nil) {
		return d.notWritten(wouldBeLost(&a))
	}
	d.given.Files, d.given.Source = a.In, a.Source()
	if a.Portion > 1 {
		a.Folders = 0 // they were made with the first portion
	}
	if len(a.In) > 0 {
		d.Meta.Arrivals = append(d.Meta.Arrivals, a)
	}
	return nil
}

// arrivedAs tells the entry what becomes of the files that come in.
func (d *doing) arrivedAs(a *volume.Arrival) {
	last := &d.Meta.Arrivals[len(d.Meta.Arrivals)-1]
	last.Renamed, last.Notes = a.Renamed, a.Notes
	d.entry.Text += " into " + cmp.Or(a.Folder, "the root")
	if len(last.Lost) > 0 {
		d.entry.Text += fmt.Sprintf("; %d could not be read in the backup", len(last.Lost))
	}
	for _, n := range last.Notes {
		d.entry.Text += "; " + n
	}
}

// unharmed refuses a step after which a volume has trouble that it did not have, unless that was said and accepted.
func (d *doing) unharmed(after *survey.Survey) error {
	d.Sound[d.c.Number] = false // until it is checked
	v := after.Volume(d.c.Number)
	if v == nil || d.c.Step.Do() == plan.Delete {
		return nil
	}
	trouble, sound := newTrouble(d.before.Volume(d.c.Number), v)
	d.Sound[d.c.Number] = sound
	switch {
	case trouble == nil:
	case strings.TrimSpace(plan.Of[plan.BringingBack](d.c.Step).Damaged) != "":
		d.entry.Text += ". Its file system does not check sound: " + trouble.Text
	default:
		return fmt.Errorf(
			"step %d, %s, would damage the volume: %s Nothing was written", d.i+1, d.c.Title, trouble.Text,
		)
	}
	return nil
}

// soundFirst refuses to make a volume larger or smaller that does not check sound: what its file system says
// of itself is what the rest goes by.
func soundFirst(before *survey.Survey, c plan.Column) error {
	v := before.Volume(c.Number)
	if v == nil {
		return nil
	}
	f := v.Check().FirstError()
	if f == nil {
		return nil
	}
	text := fmt.Sprintf("%s: its file system does not check sound (%s), so its size is not changed. "+
		"Have its own system's check mend it first.", c.Title, strings.TrimSuffix(f.Text, "."))
	return &Blocked{[]plan.Obstacle{{
		Code: plan.Unsound, Partitions: []int{c.Number}, Text: text, Clears: []string{"check"},
	}}}
}

// do does operations of a step on the copy, and reads the copy back. It returns them with what
// undo needs besides.
func (p *Run) do(i int, c plan.Column, s script.Script) (script.Script, *survey.Survey, error) {
	for j := range s {
		s[j].Step = i
	}
	s, err := p.promised.keep(s)
	if err == nil {
		err = s.Try(p.Over, p.Sources, p.moved)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("step %d, %s: %w. Nothing was written", i+1, c.Title, err)
	}
	p.moved = p.moved || s.Moves()
	after, err := survey.Read(p.Over, p.pc)
	if err == nil { // as the step has it, or on its way there
		after.Relabel(c.Layout, p.Survey.Layout)
	}
	return s, after, err
}

// through does the script of a step on the copy, and what of the step can be worked out only
// then. It returns all of it, and the copy as it is afterwards.
func (p *Run) through(i int, c plan.Column, s script.Script, given compile.Given) (script.Script, *survey.Survey, error) {
	s, after, err := p.do(i, c, s)
	if err != nil {
		return nil, nil, err
	}
	further := func(more script.Script, err error) error {
		if err != nil {
			return fmt.Errorf("step %d, %s: %w. Nothing was written", i+1, c.Title, err)
		}
		if more, after, err = p.do(i, c, more); err == nil {
			s = append(s, more...)
		}
		return err
	}
	// A volume can be made to fill its place only once it is there.
	if q, ok := c.Layout.Find(c.Number); ok && given.Image.Backup != nil && q.Volume != nil && given.Image.Backup.Bytes < q.Bytes {
		if err := further(compile.GrowWithin(after, c.Number)); err != nil {
			return nil, nil, err
		}
	}
	is, ok := after.Layout.Find(c.Number)
	then := kinds[c.Step.Do()].then
	if !ok || then == nil {
		return s, after, nil
	}
	to, _ := c.Layout.Find(c.Number)
	more, err := then(after, c, is, to, p.Over)
	if err == nil && len(more) == 0 {
		return s, after, nil
	}
	err = further(more, err)
	return s, after, err
}

// passed notes what of the files that came into volumes a step takes on from there, or
// away with the whole volume.
func (p *Run) passed(c plan.Column) {
	for j := range p.Meta.Arrivals {
		was := &p.Meta.Arrivals[j]
		_, stays := c.Layout.Find(was.Number)
		folder := was.Folder + "/"
		if !stays || c.Moves && was.Number == c.From && len(folder) > len(c.Base) && strings.EqualFold(folder[:len(c.Base)+1], c.Base+"/") {
			was.Passed = true
		}
	}
}

// newTrouble is an error of a volume that was not there before the step; sound tells that
// there is none at all.
func newTrouble(before, after volume.Volume) (trouble *finding.Finding, sound bool) {
	found := after.Check()
	if found.FirstError() == nil {
		return nil, true
	}
	had := map[string]bool{}
	if before != nil {
		for _, f := range before.Check() {
			had[f.Text] = true
		}
	}
	for _, f := range found {
		if f.Severity == finding.Error && !had[f.Text] {
			return &f, false
		}
	}
	return nil, false
}

// asThere is a folder as its names are written in a volume that has it: whether they are in capitals is
// nothing to tell them apart by.
func asThere(v volume.Volume, folder string) string {
	if v == nil || folder == "" {
		return folder
	}
	at := ""
	for name := range strings.SplitSeq(strings.Trim(strings.ReplaceAll(folder, `\`, "/"), "/"), "/") {
		for from := ""; ; {
			list, next, err := v.List(at, from, 1000)
			if i := slices.IndexFunc(list, func(f volume.File) bool {
				return f.Stream == "" && f.Kind == volume.Folder && strings.EqualFold(path.Base(f.Path), name)
			}); i >= 0 {
				name = path.Base(list[i].Path)
			}
			if from = next; err != nil || next == "" {
				break
			}
		}
		at = path.Join(at, name)
	}
	return at
}
