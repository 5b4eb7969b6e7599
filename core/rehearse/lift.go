package rehearse

import (
	"slices"
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// lifted enters what a step lifts of a partition, its protection and the need of a backup, each with the
// approval that it has.
func (p *Run) lifted(o Options, c plan.Column, span *layout.Span) error {
	enter := func(act trail.Act, reason, text string) error {
		e := trail.Entry{Act: act, Partition: span.Number, Reason: reason, Text: text}
		if a := c.ApprovedFor(span.Number, plan.Lifts(act)); a != nil {
			e.Lead, e.Approval = a.Lead, a.ID
		}
		return p.Enter(o, e)
	}
	if strings.TrimSpace(c.Step.Release()) != "" && (span.Protected || span.Active) {
		if err := enter(trail.ActRelease, c.Step.Release(), "Protection of "+span.Title()+" lifted"); err != nil {
			return err
		}
	}
	if !slices.Contains(c.Waived, span.Number) {
		return nil
	}
	return enter(trail.ActWaiver, c.Step.Waiver(), span.Title()+" goes without a backup")
}
