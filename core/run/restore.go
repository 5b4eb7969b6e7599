package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// RestoreToFolder puts files of a backup into a folder on the bench, compares them, and
// enters it in the trail.
func RestoreToFolder(ctx context.Context, o Options, backup string, only []string, to string, report func(shelf.Progress)) (*shelf.Restored, error) {
	m, err := o.Shelf.Load(backup)
	if err != nil {
		return nil, err
	}
	v, r, err := o.Shelf.Inside(m)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	out, err := shelf.ToFolder(ctx, v, only, to, report)
	if err != nil {
		return out, err
	}
	id, err := rehearse.NewID("e-x", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return out, err
	}
	return out, o.Trail.Append(trail.Entry{
		ID: id, Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActRestore, Backup: m.ID, Partition: m.From.Span.Number,
		Drive: m.From.Drive(),
		Text: fmt.Sprintf(
			"%d files from the backup of %s put into a folder, %s, %d compared", out.Files, m.From.Span.Title(),
			out.Bytes, out.Compared,
		),
	})
}

// RestoreInto puts files of a backup into a folder of a volume on the drive: an
// ordinary plan of one step.
func RestoreInto(ctx context.Context, o Options, backup string, only []string, number int, folder string) (*ran.Arrival, error) {
	o.Plan = &plan.Plan{
		Version: 1,
		Steps: []plan.Step{{
			Partition: fmt.Sprint(number), Body: plan.CopyingBack{Backup: backup, Only: only, Folder: folder},
		}},
	}
	res, err := CarryOut(ctx, o)
	if err != nil {
		return nil, err
	}
	return &res.Arrivals[0], nil
}

// RestoreImage puts a whole image in the place of a partition: an ordinary plan that
// deletes what is there, through the same gate as any deletion, and fills the place. A
// larger place is filled by growing the volume.
func RestoreImage(ctx context.Context, o Options, backup string, number int, release, waiver string) (*Result, error) {
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		return nil, err
	}
	p, ok := sv.Layout.Find(number)
	if !ok {
		return nil, fmt.Errorf("%w %d", ErrNoPartition, number)
	}
	o.Plan = &plan.Plan{Version: 1, Steps: []plan.Step{
		{Partition: fmt.Sprint(number), Body: plan.Deletion{Release: release, Waiver: waiver}},
		{Body: plan.Creation{StartLBA: p.Start, Size: fmt.Sprintf("%d B", p.Bytes), Backup: backup}},
	}}
	return CarryOut(ctx, o)
}

// NotKept says what the volumes could not take over of the files that came into them.
func (r *Result) NotKept() (out []string) {
	for _, a := range r.Arrivals {
		out = append(out, a.Notes...)
	}
	return out
}

// ErrNeeded is returned for a backup that something still depends on.
var ErrNeeded = errors.New("the backup is still needed")

// takeOff takes a backup off the shelf, or what is left of one, and enters it in the trail. One that a record
// depends on needs a reason.
func takeOff(o Options, id, reason string, away func(id string) error) error {
	e, err := Gone(o, id, reason)
	if err != nil {
		return err
	}
	if err := o.Trail.Append(e); err != nil {
		return err
	}
	return away(id)
}

// lastFor is the first of the records that rely on a backup and on no other, nil for none.
func (o Options) lastFor(needed []*trail.Record, id string) (*trail.Record, error) {
	all, err := o.Shelf.List()
	if err != nil {
		return nil, err
	}
	others := slices.DeleteFunc(slices.Clone(all), func(m *shelf.Manifest) bool { return m.ID == id || !m.Whole() })
	for _, rec := range needed {
		if facts.ForRecord(rec, others) == nil {
			return rec, nil
		}
	}
	return nil, nil
}

// Gone is the entry that a backup was deleted, or why it must not be.
func Gone(o Options, id, reason string) (trail.Entry, error) {
	e := trail.Entry{
		ID: "e-gone-" + id, Time: o.Now(), Who: o.Who, Job: o.Job, Act: trail.ActDeleteBackup, Backup: id,
		Reason: strings.TrimSpace(reason),
	}
	m, err := o.Shelf.Load(id)
	if err == nil {
		e.Partition, e.Drive = m.From.Span.Number, m.From.Drive()
		e.Text = fmt.Sprintf(
			"Backup of %s of %s deleted, %s", m.From.Span.Title(), m.Made.Format("2 Jan 2006 15:04"), m.Stored,
		)
	} else {
		left, e2 := o.Shelf.Leftovers()
		i := slices.IndexFunc(left, func(l shelf.Leftover) bool { return l.ID == id })
		if e2 != nil || i < 0 {
			return e, errors.Join(err, e2)
		}
		e.Text = fmt.Sprintf("What was left of the backup %s deleted, %s: %s", id, left[i].Bytes, left[i].Why)
	}
	needed, err := o.Records.Relying(id)
	if err != nil {
		return e, err
	}
	if len(needed) > 0 && e.Reason == "" {
		return e, fmt.Errorf(
			"%w: the record of %s relies on it; nothing was deleted. Give a reason if it may go all the same",
			ErrNeeded, needed[0].Span.Title(),
		)
	}
	last, err := o.lastFor(needed, id)
	if err != nil {
		return e, err
	}
	if last != nil && !o.Lead {
		return e, fmt.Errorf("%w: it is the last backup from which the record of %s can be brought back. "+
			"Nothing was deleted. Ask the lead to delete it", ErrLead, last.Span.Title())
	}
	if len(needed) > 0 {
		e.Text += fmt.Sprintf("; the record of %s can no longer be brought back from it", needed[0].Span.Title())
	}
	return e, nil
}
