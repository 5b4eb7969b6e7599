package rehearse

var retagging = kind{prepare: (*doing).retag}

// retag enters why a partition's type may change.
func (d *doing) retag() error {
	d.entry.Reason = d.c.Step.Release()
	span, _ := d.before.Layout.Find(d.c.Number)
	return d.lifted(d.o, d.c, span)
}
