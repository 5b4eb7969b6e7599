package ran

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Version is the version of run.json.
const Version = 2

// Meta is what a run's folder says about it.
type Meta struct {
	Version  int               `json:"version"`
	ID       string            `json:"id"`
	Image    string            `json:"image"`
	DiskID   string            `json:"disk_id"`
	Begun    time.Time         `json:"begun"`
	Who      string            `json:"who"`
	Job      string            `json:"job,omitempty"`
	Shelf    string            `json:"shelf"`
	Shelves  []*shelf.OnVolume `json:"shelves,omitempty"`
	Records  string            `json:"records"`
	Trail    string            `json:"trail,omitempty"`
	Kept     []string          `json:"kept"` // ids of records
	Plan     *plan.Plan        `json:"plan"`
	Titles   []string          `json:"titles,omitempty"` // of its steps
	PC       *pc.Facts         `json:"pc,omitempty"`
	PCAfter  *pc.Facts         `json:"pc_after,omitempty"` // where the plan changes them
	PCRef    string            `json:"pc_ref,omitempty"`
	Before   *layout.Layout    `json:"before"`
	After    *layout.Layout    `json:"after"`
	Prints   map[string]string `json:"fingerprints"` // of the volumes afterwards
	Backups  []string          `json:"backups,omitempty"`
	Arrivals []Arrival         `json:"arrivals,omitempty"`
	Erased   []Erased          `json:"erased,omitempty"`
	Tested   []Tested          `json:"tested,omitempty"`
	Intact   Intact            `json:"intact"`
	Were     map[string]string `json:"were"`                // fingerprints of the volumes before
	PCDuring *pc.Facts         `json:"pc_during,omitempty"` // of a PC that is shut down for the run
	Start    []plan.Check      `json:"start,omitempty"`     // whether the PC will start, as the copy has it
	Entries  []trail.Entry     `json:"entries"`
	Identity survey.Identity   `json:"identity"`
	// Sign is where the drive carries its sign while the run is open, 0 where it has no place
	// for one.
	Sign disk.Bytes `json:"sign"`
	// Home is the folder of the runs: what the run names below the same folder is found again
	// when all of it was moved.
	Home string `json:"home"`

	Hash string `json:"-"` // of the file that it was read from, or written to
}

// whole tells that everything is there that every run has.
func (m *Meta) whole() bool {
	return m.Plan != nil && m.Before != nil && m.After != nil &&
		!slices.ContainsFunc(m.Arrivals, func(a Arrival) bool { return a.From != 0 && a.Span == nil })
}

// Drive names the drive of the run.
func (m *Meta) Drive() trail.Drive {
	return trail.Drive{DiskID: m.DiskID, Model: m.Identity.Model, Serial: m.Identity.Serial}
}

// Journal is what the journal of the run says that it belongs to.
func (m *Meta) Journal() string { return m.ID + " " + m.Hash }

// Was are the fingerprints of the volumes before the run: of those that it touches as they were
// noted, of the others as they are to be afterwards.
func (m *Meta) Was() map[string]string {
	out := maps.Clone(m.Were)
	for n, f := range m.Prints {
		partition, _ := strconv.Atoi(n)
		was, ok := m.Before.Find(partition)
		is, stays := m.After.Find(partition)
		if _, noted := out[n]; !noted && ok && stays && was.Start == is.Start && was.UniqueID == is.UniqueID && was.Volume != nil {
			out[n] = f
		}
	}
	return out
}

// HoldsNames tells that what a run says of itself has names of files in it.
func (m *Meta) HoldsNames() bool {
	return slices.ContainsFunc(m.Arrivals, func(a Arrival) bool {
		return len(a.Sums)+len(a.Only)+len(a.Renamed)+len(a.Lost) > 0
	})
}

// Moved is where something that the run named lies now: with the folder of the runs, where all of
// it was moved.
func (m *Meta) Moved(runs, path string) string {
	if path == "" || m.Home == "" || m.Home == runs {
		return path
	}
	rest, err := filepath.Rel(filepath.Dir(m.Home), path)
	if err != nil || !filepath.IsLocal(rest) {
		return path
	}
	return filepath.Join(filepath.Dir(runs), rest)
}

// Arrival is files that a run puts into a volume: of a backup, or of another volume of
// the same drive.
type Arrival struct {
	Number   int               `json:"partition"`
	Backup   string            `json:"backup,omitempty"`
	From     int               `json:"from_partition,omitempty"`
	Span     *layout.Span      `json:"from_place,omitempty"` // where that partition lies then
	Base     string            `json:"from_folder,omitempty"`
	Sums     []Sum             `json:"sums,omitempty"` // of files that come from the drive
	Only     []string          `json:"only,omitempty"`
	Folder   string            `json:"folder,omitempty"`
	Files    int               `json:"files"`
	Folders  int               `json:"folders"`
	Bytes    disk.Bytes        `json:"bytes"`
	Renamed  map[string]string `json:"renamed,omitempty"`
	Lost     []string          `json:"not_restored,omitempty"` // could not be read where they come from
	Notes    []string          `json:"notes,omitempty"`        // what the volume could not take over
	Compared int               `json:"compared"`
	// Passed tells that a later step moves them on; they are compared where they come to lie.
	Passed bool `json:"passed,omitempty"`
	// Portion counts the parts in which files go over that have no room all at once; 0 where
	// they have.
	Portion int `json:"portion,omitempty"`

	// Known while the run lasts: what they come from, what arrives of it, and the files of a portion, by
	// their paths.
	Origin volume.Volume     `json:"-"`
	In     []volume.Incoming `json:"-"`
	Take   map[string]bool   `json:"-"`
}

// Source names the arrival's contents in a script.
func (a *Arrival) Source() string {
	if a.From != 0 {
		name := fmt.Sprintf("files of partition %d at %d, %s", a.From, a.Span.Start, a.Base)
		if a.Portion > 0 {
			name += fmt.Sprintf(", portion %d", a.Portion)
		}
		return name
	}
	return "files of " + a.Backup + " " + strings.Join(a.Only, "\x00")
}

// Takes notes what arrives of a backup.
func (a *Arrival) Takes(g *shelf.Gathered) {
	a.Lost = g.Lost
	a.Count(g.In)
}

// Count counts what arrives.
func (a *Arrival) Count(in []volume.Incoming) {
	a.Files, a.Folders, a.Bytes = 0, 0, 0
	for _, f := range in {
		switch {
		case f.Stream != "":
		case f.Kind == volume.Folder:
			a.Folders++
		default:
			a.Files++
		}
		a.Bytes += f.Bytes
	}
}

// Sum is what a file of the drive held before the run.
type Sum struct {
	Path   string     `json:"path"` // counted from the folder that it comes from
	Stream string     `json:"stream,omitempty"`
	Bytes  disk.Bytes `json:"bytes"`
	Hash   string     `json:"hash"`
	SameAs string     `json:"same_as,omitempty"`
}

// Erased is a partition whose place a run overwrites, and what becomes of its backups.
type Erased struct {
	Title   string      `json:"title"`
	Span    layout.Span `json:"span"`
	Backups []string    `json:"backups,omitempty"` // that go too
	Step    int         `json:"step"`              // of the plan, from 0
}

// Tested is a place of which every sector is tested.
type Tested struct {
	Title string     `json:"title"`
	Off   disk.Bytes `json:"off"`
	Len   disk.Bytes `json:"len"`
}

// Intact is what was proven of the files that a run leaves on a drive.
type Intact struct {
	Untouched int        `json:"volumes_untouched"` // nothing at all is written into their places
	Volumes   int        `json:"volumes"`           // whose files were followed one by one
	Files     int        `json:"files"`
	Moved     int        `json:"files_moved"`    // of these, whose clusters come to lie elsewhere
	Compared  int        `json:"files_compared"` // of these, whose contents were read on both sides
	Bytes     disk.Bytes `json:"bytes"`
}
