package facts

import (
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
)

// WalkBack works out the plan that leads a drive back to an earlier state, from the records of
// its deletions, their backups, and what a search has found.
func WalkBack(o Sources, sv *survey.Survey, then *layout.Layout, finds []seek.Find) (*plan.Walk, error) {
	records, err := o.Records.Of(o.Named(sv.Layout))
	if err != nil {
		return nil, err
	}
	known := map[string]plan.Former{}
	var steps []plan.Step
	for _, f := range finds {
		if f.Ghost || f.UniqueID == "" {
			continue
		}
		known[strings.ToLower(f.UniqueID)] = plan.Former{Find: f.Start, Told: f.At}
		steps = append(steps, plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}})
	}
	newest := map[string]int{}
	for i, r := range records { // the newest of each partition
		id := strings.ToLower(r.Span.UniqueID)
		if k, seen := newest[id]; r.Erased || seen && records[k].Time.After(r.Time) {
			continue
		}
		newest[id] = i
		known[id] = plan.Former{Record: r.ID}
	}
	for _, i := range newest {
		steps = append(steps, plan.Step{Body: plan.BringingBack{Record: records[i].ID}})
	}
	facts, err := Gather(o, sv, steps)
	if err != nil {
		return nil, err
	}
	return plan.WalkBack(sv.Layout, then, facts, known), nil
}
