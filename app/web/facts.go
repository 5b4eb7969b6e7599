package web

import (
	"strconv"

	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/trail"
)

// facts is all that plans on a job's drive depend on, with these steps: whoever lays a plan for a page asks here, so
// that no page knows less than another.
func (s *Server) facts(d *drive, j *store.Job, steps []plan.Step) (plan.Facts, error) {
	f, err := run.Facts(s.options(d, j, ""), d.sv, steps)
	if err != nil {
		return f, err
	}
	f.Insides = s.insides(d)
	for _, x := range steps { // how much the folders hold that move
		n, err := strconv.Atoi(x.Partition)
		if v := d.sv.Volumes[n]; err == nil && x.Move && v != nil {
			if sum, err := s.summary(v); err == nil {
				f = run.WithFolders(f, n, sum)
			}
		}
	}
	f.Elsewhere = s.elsewhere(j.Number, d.Bay)
	rate, err := s.store.Rate(d.label())
	if err != nil {
		return f, err
	}
	f.Rate = rate.Rate
	of := history(d)
	of.Act, of.Limit = string(trail.ActDelete), 1
	deleted, err := s.store.Entries(of)
	if err != nil {
		return f, err
	}
	f.Deleted = len(deleted) > 0
	return f, nil
}
