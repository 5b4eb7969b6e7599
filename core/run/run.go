// Package run is one whole carry-out, held together: a drive with an open run is closed to it, the plan is rehearsed
// on a copy, what the run is becomes durable, it is carried out, proven and entered in the trail. A rehearsal by
// itself is the same without what comes after it. The bench commands and the web application use it alike.
package run

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Sentinel errors. Nothing was written when one of them is returned.
var (
	ErrPending = errors.New("an earlier run on this drive is not finished")
	ErrSerial  = errors.New("the serial check failed")
	ErrTrail   = errors.New("the trail does not verify")
	// ErrLead tells that only the lead may do it.
	ErrLead = errors.New("only the lead may do that")
	// ErrNotBegun tells that a run was stopped on request before its first write.
	ErrNotBegun = errors.New("stopped before the run was begun; nothing was written")
)

// Options of a carry-out.
type Options struct {
	rehearse.Options

	Serial string // the end of the serial number, as typed
	// SerialLast is how many characters of it the check asks for, 0 for four; more where
	// another drive's ends alike.
	SerialLast    int
	Alike         bool     // another drive in a bay looks like this one
	BesidesLooked []string // where Besides looks
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
	// Journal wraps the journal's file; nil for as it is.
	Journal func(disk.File) disk.File
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
	began := o.Now()
	p, err := rehearse.Prepare(o.Options)
	if p != nil {
		defer p.Release()
	}
	if err != nil {
		if p != nil {
			err = rehearse.Hurt(o.Dev, p.Before, err, false)
		}
		return nil, err
	}
	if despite != "" {
		p.Meta.Entries[0].Text += ". " + despite
		p.Meta.Entries[0].Reason = strings.TrimSpace(o.Despite)
	}
	p.FromDrive(o.Dev)
	res := &Result{
		Run: p.Meta.ID, Records: p.Meta.Kept, Marks: []string{}, Layout: p.Meta.After, Columns: p.Columns,
		Notes: notes(p.Columns), Bytes: p.Script.Rewritten(), Zeroed: p.Script.Zeroed(),
	}
	if o.Before != nil {
		o.Before(p.Columns)
	}
	if o.Rehearse {
		return res, nil
	}
	if err := proveBackups(ctx, p, o); err != nil {
		return nil, err
	}
	var less rehearse.Lean
	if p.Script, less, err = rehearse.Room(o.Runs, o.Dev, p.Script); err != nil {
		return nil, err
	}
	if less.Forever >= 0 {
		p.Meta.Entries[0].Text += fmt.Sprintf(
			". From step %d on it cannot be taken back: %s", less.Forever+1, rehearse.NoRoomToKeep,
		)
	}
	if less.Gone || p.Weakens() {
		p.Meta.Entries[0].Text += ". What was gone before and lies in places that it writes over is not kept to be taken back: that would be too much for the bench"
	}
	// 4. What the run is, and the records of what it deletes, become durable.
	if p.Meta.Sign, err = signPlace(p, o.Dev); err != nil {
		return nil, err
	}
	dir := filepath.Join(o.Runs, p.Meta.ID)
	if err := makeDurable(p, o, dir); err != nil {
		return nil, errors.Join(err, gaveUp(o, p.Meta))
	}
	// 5. Then its journal, and the note that there is one.
	c, f, err := carry.BeginIn(
		ctx, filepath.Join(dir, ran.JournalFile), o.Dev, p.Script, p.Meta.Journal(), o.Journal, o.Report,
	)
	if errors.Is(err, carry.ErrStopped) {
		err = ErrNotBegun
	}
	if err != nil {
		return nil, errors.Join(rehearse.Hurt(o.Dev, p.Before, err, false), gaveUp(o, p.Meta))
	}
	defer f.Close()
	if err := noteBegun(o, p.Meta, c); err != nil {
		return nil, err
	}
	res.Took.Prepare = o.Now().Sub(began).Seconds()
	return finish(ctx, o, p.Meta, c, p, res)
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
