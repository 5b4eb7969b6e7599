package run

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"

	"jadetrail/core/disk"
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
		if !a.Drive.Same(here) || slices.ContainsFunc(a.Touched, func(n int) bool { _, there := sv.Layout.Find(n); return !there }) {
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

// lifted enters that a step lifts something of a partition, and by whose approval.
func (p *prepared) lifted(o Options, c plan.Column, e trail.Entry, lifts plan.Lifts) error {
	if a := c.ApprovedFor(e.Partition, lifts); a != nil {
		e.Lead, e.Approval = a.Lead, a.ID
	}
	return p.enter(o, e)
}
