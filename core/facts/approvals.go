package facts

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
		print, err := shelf.Fingerprint(survey.Window(dev, *p), sv.Volume(n))
		if err != nil {
			return "", err
		}
		fmt.Fprintf(h, "%d %q %q %d %d %q\n", n, p.UniqueID, p.TypeID, p.Start, p.End, print)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// approvals are those that still hold: for this drive, and for partitions that are as they were.
func approvals(o Sources, sv *survey.Survey) ([]plan.Approval, error) {
	if o.Approvals == nil {
		return nil, nil
	}
	all, err := o.Approvals()
	if err != nil {
		return nil, err
	}
	var out []plan.Approval
	here := o.Named(sv.Layout)
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
