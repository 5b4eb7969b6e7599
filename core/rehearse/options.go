package rehearse

import (
	"time"

	"jadetrail/core/carry"
	"jadetrail/core/facts"
	"jadetrail/core/held"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/prove"
)

// Options are a plan for a drive, and what it is worked out with.
type Options struct {
	facts.Sources // what the plan must know, and where the run keeps what it is

	Plan     *plan.Plan
	Expect   *layout.Layout // the drive as the plan was made for it; nil for as it is
	Who, Job string
	Rehearse bool
	Besides  held.Besides // nil for nothing
	// Compare asks for every file that stays to be read before and after, and compared.
	Compare bool
	// SavePC keeps the facts about the PC when a run has changed them. It may be called
	// again with the same facts. PCRef is kept for a later resume.
	SavePC   func(*pc.Facts) error
	PCRef    string
	TrailRef string // kept for a later resume
	Now      func() time.Time
	Report   func(carry.Progress)
}

// Proving is the drive, as something is proven on it.
func (o Options) Proving() prove.Drive {
	return prove.Drive{Dev: o.Dev, PC: o.PC, Shelf: o.Shelf, Report: o.Report}
}
