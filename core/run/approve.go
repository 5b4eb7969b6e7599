package run

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Approved is what the lead has approved of, for one drive and the contents that were looked at.
type Approved struct {
	plan.Approval
	Drive trail.Drive
	State string // of the partitions that it is about: see StateOf
}

// StateOf is a hash of some partitions of a drive as they are: of their places in the table, and of their
// contents as a backup is told to be made from the same state.
func StateOf(dev disk.Device, sv *survey.Survey, numbers []int) (string, error) {
	h := sha256.New()
	for _, n := range slices.Sorted(slices.Values(numbers)) {
		p, there := sv.Layout.Find(n)
		if !there {
			return "", fmt.Errorf("there is no partition %d", n)
		}
		print, err := shelf.Fingerprint(survey.Window(dev, *p), sv.Volumes[n])
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%d %q %q %d %d %q\n", n, p.UniqueID, p.TypeID, p.Start, p.End, print)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// approvals are those that still hold: for this drive, and for partitions that are as they were.
func approvals(o Options, sv *survey.Survey) ([]plan.Approval, error) {
	if o.Approvals == nil {
		return nil, nil
	}
	all, err := o.Approvals()
	if err != nil {
		return nil, err
	}
	var out []plan.Approval
	here := drive(o, sv.Layout)
	for _, a := range all {
		gone := func(number int) bool { _, there := sv.Layout.Find(number); return !there }
		if !a.Drive.Same(here) || slices.ContainsFunc(a.Touched, gone) {
			continue
		}
		now, err := StateOf(o.Dev, sv, a.Touched)
		if err != nil {
			return nil, err
		}
		if now == a.State {
			out = append(out, a.Approval)
		}
	}
	return out, nil
}

// lifted enters what a step lifts of a partition, its protection and the need of a backup, each with the
// approval that it has.
func (p *prepared) lifted(o Options, c plan.Column, span *layout.Span) error {
	enter := func(act trail.Act, reason, text string) error {
		e := trail.Entry{Act: act, Partition: span.Number, Reason: reason, Text: text}
		if a := c.ApprovedFor(span.Number, plan.Lifts(act)); a != nil {
			e.Lead, e.Approval = a.Lead, a.ID
		}
		return p.enter(o, e)
	}
	if strings.TrimSpace(c.Step.Release) != "" && (span.Protected || span.Active) {
		if err := enter(trail.ActRelease, c.Step.Release, "Protection of "+span.Title()+" released"); err != nil {
			return err
		}
	}
	if !slices.Contains(c.Waived, span.Number) {
		return nil
	}
	return enter(trail.ActWaiver, c.Step.Waiver, span.Title()+" goes without a backup")
}
