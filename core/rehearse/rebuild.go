package rehearse

var rebuilding = kind{prepare: (*doing).rebuild}

// rebuild enters from which record a partition is made again.
func (d *doing) rebuild() error {
	d.entry.Record = d.c.Step.Record()
	return nil
}
