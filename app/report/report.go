// Package report is what a customer is handed at the end of a job: what was asked, what was
// done, what was kept and until when, and the head of the trail.
package report

import (
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Report is one job's.
type Report struct {
	Shop, Address     string
	Job, Customer, PC string
	Asked, Story      string
	Keep              string // what was not to be lost
	Made              time.Time
	By                string
	Drives            []Drive
	Head              string // hash of the trail's newest entry
	Entries           int64
	Signed            bool
	Key               string // the shop's public key
}

// Erasure is one partition of which the place was written over and read back.
type Erasure struct {
	Drive, Serial string
	Gone
}

// Erasures are those of all drives, in the order in which they were done.
func (r *Report) Erasures() (out []Erasure) {
	for i := range r.Drives {
		d := &r.Drives[i]
		for _, g := range d.Gone {
			if g.Erased {
				out = append(out, Erasure{d.Title, d.Serial, g})
			}
		}
	}
	return out
}

// Drive is one of the job's drives.
type Drive struct {
	Title, Serial string
	Size          disk.Bytes
	Before, After *layout.Layout // before the first run and as it is now; the same where there was none
	Runs          []Run
	Changes       []Change
	Gone          []Gone
	Backups       []Backup
	Checks        []Check
	Besides       []Deed
}

// Deed is what was done outside of a run: to the PC that the drive belongs to, or with a backup's files.
type Deed struct {
	When time.Time
	Who  string
	Text string
}

// Run is one that was carried out.
type Run struct {
	When  time.Time
	Who   string
	Steps []string
	Proof string
	Notes []string // of what came back, and how
	Good  bool
}

// Change is what became of a partition from the first state to the last.
type Change struct {
	Title         string
	Before, After disk.Bytes // 0 where it was not, or is not
	What          []string
}

// Gone is a partition that was deleted.
type Gone struct {
	Title  string
	Size   disk.Bytes
	When   time.Time
	Who    string
	Why    string
	Record string
	Backup string
	Erased bool
	Back   bool   // it was brought back
	Kept   string // what is left of it, in a sentence
}

// Backup is one that lies on the shelf.
type Backup struct {
	Title    string
	ID       string
	Made     time.Time
	Verified *time.Time
	Until    *time.Time
	Away     bool // it is on no shelf that is in a bay now
}

// Check is how a volume, or the way the PC starts, checks.
type Check struct {
	Title string
	Sound bool
	ToDo  bool // nothing is wrong, and something is still to be done
	Text  string
}
