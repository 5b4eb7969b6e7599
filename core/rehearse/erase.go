package rehearse

import (
	"jadetrail/core/held"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/trail"
)

// erased notes what is erased, and which backups go with it.
func (p *Run) erased(o Options, c plan.Column, step int, rec *trail.Record) error {
	x := ran.Erased{Title: rec.Span.Title(), Span: rec.Span, Step: step}
	all, err := o.Shelf.List()
	if err != nil {
		return err
	}
	if plan.Of[plan.Deletion](c.Step).Backups == "delete" {
		if o.Shelf.Unsure != nil { // one of its backups may lie where nobody looks
			return o.Shelf.Unsure
		}
		rec.Backup = ""
		for _, m := range all {
			if m.From.Drive().Same(o.Named(p.Survey.Layout)) && layout.SamePartition(m.From.Span, rec.Span) { // wherever it lay then, and however large
				x.Backups = append(x.Backups, m.ID)
			}
		}
	}
	p.Meta.Erased = append(p.Meta.Erased, x)
	also, err := held.Of(o.Shop, o.Besides, o.Named(p.Survey.Layout), rec.Span, "")
	if err == nil && len(also) > 0 { // told before anything is overwritten
		p.Columns[step].Detail += "; what else is held of it goes too: " + held.Text(also)
	}
	return err
}
