package rehearse

import (
	"errors"
	"fmt"
	"strings"

	"jadetrail/core/compile"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
)

var bringingBack = kind{prepare: (*doing).bringBack}

// bringBack gathers what a step needs that brings a partition back, and completes its entry.
func (d *doing) bringBack() error {
	step := plan.Of[plan.BringingBack](d.c.Step)
	d.entry.Reason = strings.TrimSpace(step.Damaged)
	if step.Find != 0 {
		return d.found()
	}
	rec, _, err := d.o.Records.Load(step.Record)
	if err != nil {
		return err
	}
	d.entry.Record = rec.ID
	g := compile.Gone{Entry: rec.Entry}
	for _, t := range rec.TableBefore {
		g.Table = append(g.Table, t.Data)
	}
	d.entry.Backup = d.facts.Records[rec.ID].Backup
	switch d.c.Place {
	case plan.FromBackup:
		m, err := d.o.Shelf.Load(d.entry.Backup)
		if err != nil {
			return err
		}
		r, err := d.o.Shelf.Reader(m)
		if err != nil {
			return err
		}
		d.close = append(d.close, r.Close)
		d.Sources[m.ID], g.Backup, g.Raw = r, m, r
		d.Meta.Backups = append(d.Meta.Backups, m.ID)
	case plan.InPlace:
		// As it is when the step comes to it: an earlier one may have written there.
		stand, today, err := d.stage(d.o).Standing(d.o.Sources, rec, d.compared[rec.ID])
		if err != nil {
			return err
		}
		if err := accepted(d.c, stand); err != nil {
			return err
		}
		d.given.Found = today.Returns
		if x := d.compared[rec.ID]; x != nil {
			d.entry.Text += fmt.Sprintf(
				"; compared with its backup: %s the same, %s different, %s unknown", x.Same, x.Differ, x.Unknown,
			)
		}
	}
	d.entry.Text += told(d.c)
	d.given.Gone[rec.ID] = g
	return nil
}

// found gathers what a step needs that brings back what a search has found.
func (d *doing) found() error {
	step := plan.Of[plan.BringingBack](d.c.Step)
	x, err := facts.Find(d.o.Sources, d.Over, d.Survey, step.Find, step.Told)
	if errors.Is(err, facts.ErrNoFind) {
		return fmt.Errorf(
			"step %d, %s: %w: it is not there any more. Nothing was written", d.i+1, d.c.Title, compile.ErrCannot,
		)
	}
	if err != nil {
		return err
	}
	s, err := d.stage(d.o).Find(d.o.Sources, x)
	if err != nil {
		return err
	}
	stand := facts.StandOfFind(s, x, d.Survey.Layout.Sector)
	if err := accepted(d.c, &stand); err != nil {
		return err
	}
	d.given.Found, d.entry.Record = x.Repairs(), x.Record
	if x.Mend != "" && x.Mend != d.facts.Finds[step.Find].Mend { // its place was not free before
		d.entry.Text += "; " + x.Mend
	}
	why := strings.TrimSuffix(strings.Join(x.Reasons, " "), ".")
	d.entry.Text += fmt.Sprintf(". It was found as %s: %s", x.Confidence, why) + told(d.c)
	return nil
}

// accepted tells why a step cannot bring a partition back that is damaged, where no reason was given.
func accepted(c plan.Column, s *plan.Stand) error {
	q, ok := c.Layout.Find(c.Number)
	if !ok || strings.TrimSpace(plan.Of[plan.BringingBack](c.Step).Damaged) != "" {
		return nil
	}
	if o := s.Damage(q); o != nil {
		return &Blocked{[]plan.Obstacle{*o}}
	}
	return nil
}

// told is what an entry says of a partition that comes back damaged, or of which not all is known.
func told(c plan.Column) (text string) {
	for _, n := range c.Notes {
		if n.Code == plan.WrongContents || n.Code == plan.NotKnown {
			text += " " + n.Text
		}
	}
	if text != "" {
		text = "." + text
	}
	return text
}

// stage is the copy as it is so far, with what the run itself has written and laid.
func (p *Run) stage(o Options) *facts.Stage {
	at := &facts.Stage{Dev: p.Over, Survey: p.Survey}
	for _, x := range seek.Living(o.Dev, p.Was, 0) { // what lived there then has left its bytes
		x.Why = min(x.Why, seek.Wrote)
		at.Own = append(at.Own, x)
	}
	for _, w := range p.Script.Places(0) {
		at.Own = append(at.Own, seek.Cover{From: w.Start, To: w.End, State: seek.Taken, By: "this plan", Why: seek.Wrote})
	}
	for _, c := range p.Columns[:p.at] {
		for _, q := range c.Layout.Partitions() {
			at.Own = append(at.Own, seek.Cover{
				From: q.Start.Offset(p.Survey.Layout.Sector), To: (q.End + 1).Offset(p.Survey.Layout.Sector),
				State: seek.Unsure, By: q.Title(), Why: seek.Had,
			})
		}
	}
	return at
}
