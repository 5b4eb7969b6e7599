package facts

import (
	"io"
	"time"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
)

// Sources are what the facts for a plan are gathered from.
type Sources struct {
	Drive
	Shop
	Lead   bool      // whoever carries out answers for the lead
	Random io.Reader // for fresh ids
}

// Drive is the drive at hand, and what is known of it beside its bytes.
type Drive struct {
	Image    string // path of the drive's image; names the drive in the run's folder
	Dev      disk.Device
	Identity survey.Identity
	PC       *pc.Facts
	// Printed is what a partition was found to hold before, as a fingerprint, where nobody has written to the drive
	// since; "" where that is not known. Print is told what it holds. nil for always looking.
	Printed func(p layout.Span) string
	Print   func(p layout.Span, print string)
	// Read is the drive as it was read before, where nobody has written to it since; nil for looking.
	Read *survey.Survey
	// Left tells when the drive has left its bay: what was written to it then, nobody knows. nil where that
	// is not known.
	Left func() ([]time.Time, error)
	// Seen tells where an earlier search of the drive saw structures; nil for no search.
	Seen func() ([]disk.Bytes, error)
	// Lost finds what a search has found on the drive, surely or likely, of which no record tells;
	// nil for no search.
	Lost func() ([]plan.Gone, error)
}

// Signed names the drive as the trail does, with the sign of a run that is open on it, nil for none.
func (d Drive) Signed() (trail.Drive, *sign.Sign, error) {
	name := trail.Drive{Model: d.Identity.Model, Serial: d.Identity.Serial}
	switch {
	case d.Read != nil:
		name.DiskID = d.Read.Table.DiskID
		return name, d.Read.Sign, nil
	case d.Dev == nil:
		return name, nil, nil
	}
	t, err := table.Read(d.Dev)
	if err != nil {
		return name, nil, err
	}
	name.DiskID = t.DiskID
	open, err := sign.Find(d.Dev)
	return name, open, err
}

// print is the fingerprint of a partition as it is.
func (d Drive) print(sv *survey.Survey, p layout.Span) (string, error) {
	if d.Printed != nil {
		if print := d.Printed(p); print != "" {
			return print, nil
		}
	}
	print, err := shelf.Fingerprint(survey.Window(d.Dev, p), sv.Volume(p.Number))
	if err == nil && d.Print != nil {
		d.Print(p, print)
	}
	return print, err
}

// Size is how large the drive is, 0 where it is not at hand.
func (d Drive) Size() disk.Bytes {
	if d.Dev == nil {
		return 0
	}
	return d.Dev.Size()
}

// Named is the drive as the trail names it, with a table like that.
func (d Drive) Named(l *layout.Layout) trail.Drive {
	return trail.Drive{DiskID: l.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}
}

// Shop is where an installation keeps what it knows.
type Shop struct {
	Runs     string
	Shelf    *shelf.Shelf
	Coverage compare.Store // comparisons that may stand for backups
	// Elsewhere is the fingerprint that a volume on another drive has now, "" where it is not there;
	// nil where no other drive can be looked at.
	Elsewhere func(p compare.Place) (string, error)
	Records   trail.Records
	Trail     trail.Sink
	// Approvals are what the lead has approved of; nil for nothing.
	Approvals func() ([]Approved, error)
}
