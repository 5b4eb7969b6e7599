package rehearse

import (
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

type prepRecord struct {
	Record   *trail.Record
	Contents trail.Contents
}

// record gathers what is kept of a deletion.
func (p *Run) record(o Options, dev disk.Device, c plan.Column, facts plan.Facts) (*trail.Record, error) {
	span, _ := p.Survey.Layout.Find(c.Number)
	w := survey.Window(dev, *span)
	v := p.Survey.Volume(c.Number)
	id, err := NewID("d", o.Now().UTC().Format("20060102-150405"), o.Random)
	if err != nil {
		return nil, err
	}
	rec := &trail.Record{
		ID: id, Time: o.Now(), Who: o.Who, Run: p.Meta.ID, Step: p.at,
		Drive: o.Named(p.Survey.Layout), Span: *span, Reason: c.Step.Release(), Before: p.Survey.Layout,
	}
	if slices.Contains(c.Waived, c.Number) {
		rec.Waiver = c.Step.Waiver()
	}
	if b, ok := c.Standing[c.Number]; ok && b.Verified && b.Same {
		if rec.Backup = b.ID; b.Coverage {
			rec.Backup, rec.Coverage = "", b.ID
		}
	}
	for _, e := range p.Survey.Table.Entries {
		if e.Slot == c.Number {
			rec.Entry = e.Raw
		}
	}
	if rec.TableBefore, err = stretches(dev, p.Survey); err != nil {
		return nil, err
	}
	var k trail.Contents
	if rec.Erased = c.Step.Erases(); rec.Erased {
		p.Records = append(p.Records, prepRecord{rec, k})
		p.Meta.Kept = append(p.Meta.Kept, id)
		return rec, nil
	}
	if k.First, k.Last, err = trail.Edges(w); err != nil {
		return nil, err
	}
	k.Ranges = []disk.Range{{Start: 0, End: w.Size()}}
	if v != nil {
		if rec.Fingerprint, err = v.Fingerprint(); err != nil {
			return nil, err
		}
		if k.Files, err = v.Files(); err != nil {
			return nil, err
		}
		if k.Ranges, _, err = shelf.Ranges(w, v); err != nil {
			return nil, err
		}
	} else if span.Volume != nil {
		if rec.Fingerprint, err = shelf.Fingerprint(w, nil); err != nil {
			return nil, err
		}
	}
	p.Records = append(p.Records, prepRecord{rec, k})
	p.Meta.Kept = append(p.Meta.Kept, id)
	return rec, nil
}

func stretches(dev disk.Device, sv *survey.Survey) ([]trail.Stretch, error) {
	var out []trail.Stretch
	for _, r := range sv.Table.Ranges() {
		b, err := disk.ReadFull(dev, r.Start, r.End-r.Start)
		if err != nil {
			return nil, err
		}
		out = append(out, trail.Stretch{Off: r.Start, Data: b})
	}
	return out, nil
}
