package web

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// drive is the drive in a bay, opened and read.
type drive struct {
	Bay      string
	Shelf    bool
	Other    bool // the job has more drives than this one
	path     string
	im       *disk.Image
	sv       *survey.Survey
	Identity survey.Identity
	PC       *pc.Facts
}

func (d *drive) close() { d.im.Close() }

// label is what the drive is known by: its serial number, or its table's id where it has none.
func (d *drive) label() string { return cmp.Or(d.Identity.Serial, d.sv.Layout.DiskID) }

// state names the drive as it is: which one, and how it is laid out. How full a volume is does not
// count.
func (d *drive) state() string {
	h := sha256.New()
	l := d.sv.Layout
	fmt.Fprintln(h, d.Identity.Serial, l.Scheme, l.DiskID, l.Size, l.Sector)
	for _, p := range l.Partitions() {
		fmt.Fprintln(h, p.Number, p.Start, p.End, p.TypeID, p.UniqueID, p.Name, p.Attributes, p.Active)
		if v := p.Volume; v != nil {
			fmt.Fprintln(h, v.Kind, v.Label, v.Serial, v.TotalBytes, v.ClusterBytes)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// errNoDrive tells that a job's drive is in no bay.
var errNoDrive = fmt.Errorf("%w: no drive of this job is in a bay, or none in that one", store.ErrNotFound)

// open reads the drive in a bay.
func (s *Server) open(b *store.Bay, write bool) (*drive, error) {
	if b == nil || b.Image == nil {
		return nil, errNoDrive
	}
	d := &drive{Bay: b.Letter, Shelf: b.Shelf, path: s.imageOf(b)}
	var err error
	if d.Identity, err = survey.ReadIdentity(d.path); err != nil {
		return nil, err
	}
	if write && d.Identity.ReadOnly {
		return nil, fmt.Errorf("bay %s: %w, for evidence; nothing was written. Attach it for writing first", b.Letter, disk.ErrReadOnly)
	}
	facts, err := os.ReadFile(d.path + ".pc.json")
	if err == nil {
		if d.PC, err = pc.Parse(facts); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	d.im, err = disk.OpenImage(d.path, 0, write)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: the image of the drive in bay %s is gone from the folder drives. Put it back, or take the drive out of its bay on the dock", store.ErrNotFound, b.Letter)
	}
	if err != nil {
		return nil, err
	}
	if d.sv, err = survey.Read(d.im, d.PC); err != nil {
		d.im.Close()
		return nil, err
	}
	d.sv.Layout.Serial = d.Identity.Serial
	return d, nil
}

// job opens a job with its drive.
func (s *Server) job(number, letter string, write bool) (*store.Job, *drive, error) {
	j, bay, err := s.store.Job(number, letter)
	if err != nil {
		return nil, nil, err
	}
	d, err := s.open(bay, write)
	if err != nil {
		return j, nil, err
	}
	bays, err := s.store.BaysOf(number)
	d.Other = len(bays) > 1
	return j, d, err
}

// workOutFor works out the job that a drive is here for now, with that drive: whatever its table is called, and
// no other that its job or its bay has by now.
func (s *Server) workOutFor(of trail.Drive) (*State, error) {
	b, err := s.bayOf(of)
	if err != nil {
		return nil, err
	}
	if b.Job == nil {
		return nil, inNoBay(fmt.Sprintf("its drive is in bay %s, but for no job. Attach it for one", b.Letter))
	}
	return s.workOut(*b.Job, b.Letter)
}

// bayOf finds the bay that a drive is in.
func (s *Server) bayOf(of trail.Drive) (*store.Bay, error) {
	bays, err := s.store.Bays()
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		id, err := survey.ReadIdentity(s.imageOf(&b))
		if err != nil || id.Serial != "" && of.Serial != "" && !strings.EqualFold(id.Serial, of.Serial) {
			continue
		}
		d, err := s.open(&b, false)
		if err != nil {
			continue // what cannot be read is not there
		}
		its := driveName(d).Same(of)
		d.close()
		if its {
			return &b, nil
		}
	}
	return nil, inNoBay(fmt.Sprintf("its drive (%s) is in no bay. Attach it first", cmp.Or(of.Serial, of.DiskID, "of no name")))
}

// inNoBay says why a drive cannot be looked at.
type inNoBay string

func (e inNoBay) Error() string { return string(e) }

// Is makes it something that is not found.
func (e inNoBay) Is(err error) bool { return err == store.ErrNotFound }

// imageOf is the path of the image in a bay that has one.
func (s *Server) imageOf(b *store.Bay) string {
	return filepath.Join(s.data, "drives", filepath.Base(*b.Image))
}

// options of a run on the drive.
func (s *Server) options(d *drive, j *store.Job, who string) run.Options {
	return run.Options{
		Image: d.path, Dev: d.im, Identity: d.Identity, PC: d.PC, Who: who, Job: j.Number, Runs: filepath.Join(s.data, "runs"),
		Besides: s.besides(d, j.Number), BesidesLooked: besidesLooked, Books: s.books, Shelf: s.shelf(), Coverage: s.coverage, Records: s.records, Trail: s.store, Now: s.now, Random: s.random,
		Elsewhere: s.printOf, ProveAfter: s.prove, Left: func() ([]time.Time, error) { return s.leftBay(d) },
		Approvals: func() ([]run.Approved, error) { return s.approved(j.Number) },
		SavePC:    func(f *pc.Facts) error { return saveFacts(d, f) }, Seen: func() ([]disk.Bytes, error) { return s.seenOn(d) },
		Lost: func() ([]plan.Gone, error) {
			found, err := s.foundOn(context.Background(), d)
			return found.gone, err
		},
	}
}

// leftBay tells when a drive was taken out of a bay.
func (s *Server) leftBay(d *drive) (out []time.Time, err error) {
	name := driveName(d)
	list, err := s.store.Entries(store.Filter{Drive: &name, Act: string(trail.ActDetach)})
	for _, e := range list {
		out = append(out, e.Time)
	}
	return out, err
}

// printOf is the fingerprint that a volume in one of the bays has now, "" where it is in none.
func (s *Server) printOf(p compare.Place) (string, error) {
	bays, err := s.store.Bays()
	if err != nil {
		return "", err
	}
	for _, b := range bays {
		d, err := s.open(&b, false)
		if err != nil {
			continue // what cannot be read is not there
		}
		print, there := "", false
		if l := d.sv.Layout; strings.EqualFold(l.DiskID, p.DiskID) && strings.EqualFold(d.Identity.Serial, p.Serial) {
			for _, q := range l.Partitions() {
				if v := d.sv.Volumes[q.Number]; v != nil && q.UniqueID == p.Span.UniqueID {
					there = true
					print, err = v.Fingerprint()
				}
			}
		}
		d.close()
		if there {
			return print, err
		}
	}
	return "", nil
}

// unfinished is the run that is open on a drive, nil for none.
func (s *Server) unfinished(d *drive) (*run.Unfinished, error) {
	return run.Open(run.Options{Image: d.path, Dev: d.im, Identity: d.Identity, Runs: s.folder("runs"), Trail: s.store})
}

// settledDrive refuses a drive with an open run: nothing that is made from it as it is counts.
func (s *Server) settledDrive(d *drive) error {
	return run.Closed(run.Options{Image: d.path, Dev: d.im, Identity: d.Identity, Runs: s.folder("runs"), Trail: s.store})
}

// history is that of a drive.
func history(d *drive) store.Filter {
	name := driveName(d)
	return store.Filter{Drive: &name}
}

// driveName names a drive in the trail.
func driveName(d *drive) trail.Drive {
	return trail.Drive{DiskID: d.sv.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}
}

// block is a span as the map draws it.
type block struct {
	Key     string `json:"key"`
	Kind    string `json:"kind"`
	Inside  int    `json:"inside,omitempty"` // the container's number
	Number  int    `json:"number"`
	Role    string `json:"role"`
	Title   string `json:"title"`
	Size    string `json:"size"`
	Exact   string `json:"exact"`
	Left    string `json:"left,omitempty"`
	Care    bool   `json:"care,omitempty"`
	Bytes   int64  `json:"bytes"`
	Start   int64  `json:"start"`
	End     int64  `json:"end"`
	Fill    int    `json:"fill"` // percent, -1 where unknown
	Use     []int  `json:"use,omitempty"`
	Changed bool   `json:"changed,omitempty"`
}

// blockKey is the key of a partition without a unique id.
func blockKey(number int) string { return fmt.Sprint("p", number) }

// pile is the record of a deletion on the way from one column to the next.
type pile struct {
	Key    string `json:"key"`
	Title  string `json:"title"`
	Record string `json:"record,omitempty"`
}

// mapColumn is one mark of the trail map.
type mapColumn struct {
	Kind   string  `json:"kind"` // past, now, plan
	Step   int     `json:"step,omitempty"`
	Title  string  `json:"title"`
	Sub    string  `json:"sub"`
	Why    string  `json:"why,omitempty"` // an obstacle
	Blocks []block `json:"blocks"`
	Piles  []pile  `json:"piles,omitempty"` // of the step that leads to this column
	// Finds are lost partitions, drawn beside the blocks.
	Finds []findMark `json:"finds,omitempty"`
	Good  string     `json:"good,omitempty"` // what was checked when the state was marked as good
}

// tight tells that a volume needs space: less than a tenth is left.
func tight(sp *layout.Span) bool {
	v := sp.Volume
	return v != nil && v.ClusterBytes > 0 && v.Free() < v.TotalBytes/10
}

func fill(sp *layout.Span) int {
	if sp.Volume == nil || sp.Volume.TotalBytes == 0 || sp.Volume.ClusterBytes == 0 {
		return -1
	}
	return int(math.Ceil(float64(sp.Volume.UsedBytes) * 100 / float64(sp.Volume.TotalBytes)))
}

func blocks(l *layout.Layout, before *layout.Layout) []block {
	var out []block
	for _, sp := range l.Spans {
		if sp.Kind == layout.Gap {
			if sp.Why != layout.Free {
				continue // explained in the table below the map
			}
			out = append(out, block{Key: gapKey(sp), Kind: "gap", Inside: sp.Container, Title: "gap", Size: sp.Bytes.String(), Exact: sp.Bytes.Exact(), Bytes: int64(sp.Bytes), Start: int64(sp.Start), End: int64(sp.End), Fill: -1})
			continue
		}
		b := block{
			Key: sp.UniqueID, Kind: "partition", Inside: sp.Container, Number: sp.Number, Role: string(sp.Role), Title: sp.Title(), Size: sp.Bytes.String(), Exact: sp.Bytes.Exact(),
			Bytes: int64(sp.Bytes), Start: int64(sp.Start), End: int64(sp.End), Fill: fill(&sp),
		}
		if b.Key == "" {
			b.Key = blockKey(sp.Number)
		}
		if v := sp.Volume; v != nil && v.ClusterBytes > 0 {
			b.Left, b.Care = v.Free().String()+" left", tight(&sp)
			for _, u := range v.Use {
				b.Use = append(b.Use, int(u))
			}
		}
		if before != nil {
			was, ok := before.Find(sp.Number)
			b.Changed = !ok || was.Start != sp.Start || was.End != sp.End || was.UniqueID != sp.UniqueID
			if ok && was.Bytes != sp.Bytes {
				b.Use = nil // the parts of the old length say nothing about the new one
			}
		}
		out = append(out, b)
	}
	return out
}

// follow is a layout in which the partitions of an MBR, which are known by their places, go by
// the ids that they had before: so the map sees where one has gone to.
func follow(l, before *layout.Layout) *layout.Layout {
	if l == nil || before == nil || l.Scheme != "mbr" || before.Scheme != "mbr" {
		return l
	}
	parts := l.Partitions()
	for i := range parts {
		p := &parts[i]
		was, ok := before.Find(p.Number)
		if ok && was.Role == p.Role && (was.Volume == nil) == (p.Volume == nil) && (p.Volume == nil || was.Volume.Serial == p.Volume.Serial) {
			p.UniqueID = was.UniqueID
		}
	}
	return l.With(parts)
}

// past builds the columns before now from the runs in the trail, the latest few; good is
// the mark that the latest of them ended with, nil for none.
func (s *Server) past(d *drive, most int) (cols []mapColumn, piles []pile, good *trail.Entry, err error) {
	entries, err := s.store.Entries(history(d))
	if err != nil {
		return nil, nil, nil, err
	}
	slices.Reverse(entries)
	gone := map[string][]pile{}
	what := map[string]string{}
	for _, e := range entries {
		switch e.Act {
		case trail.ActDelete:
			if p, ok := e.Before.Find(e.Partition); ok {
				gone[e.Run] = append(gone[e.Run], pile{p.UniqueID, p.Title(), e.Record})
			}
		case trail.ActPlan:
			_, what[e.Run], _ = strings.Cut(e.Text, ": ")
		case trail.ActDone:
			if e.Before == nil {
				continue
			}
			col := mapColumn{Kind: "past", Title: e.Time.Local().Format("2 Jan 15:04"), Sub: "before: " + what[e.Run], Blocks: blocks(e.Before, nil), Piles: piles}
			if good != nil && len(layout.Differ(good.After, e.Before)) == 0 {
				col.Good = good.Text
			}
			cols = append(cols, col)
			piles, good = gone[e.Run], nil
		case trail.ActMark:
			good = &e
		}
	}
	if len(cols) > most {
		cols = cols[len(cols)-most:]
	}
	return cols, piles, good, nil
}

// stillGood tells whether a drive is as it was when its state was marked as good.
func (d *drive) stillGood(mark *trail.Entry) bool {
	if mark == nil || mark.After == nil || len(layout.Differ(mark.After, d.sv.Layout)) > 0 {
		return false
	}
	for n, want := range mark.Prints {
		number, err := strconv.Atoi(n)
		v := d.sv.Volumes[number]
		if err != nil || v == nil {
			return false
		}
		if got, err := v.Fingerprint(); err != nil || got != want {
			return false
		}
	}
	return true
}

// smallBar is one stripe of a small column drawing.
type smallBar struct {
	Role        string
	Gap         bool
	Y, H, UsedH float64
}

// column computes a small drawing of a drive, height units high.
func column(l *layout.Layout, height float64) []smallBar {
	if l == nil {
		return nil
	}
	var spans []layout.Span
	var weight float64
	for _, sp := range l.Spans {
		if sp.Kind == layout.Gap && sp.Why != layout.Free || sp.Role == layout.Container {
			continue
		}
		spans = append(spans, sp)
		weight += math.Pow(float64(sp.Bytes), 0.6)
	}
	var out []smallBar
	y := 0.0
	space := height - 1.5*float64(len(spans)) - 2*float64(len(spans))
	for _, sp := range spans {
		h := 2 + math.Max(space, 0)*math.Pow(float64(sp.Bytes), 0.6)/weight
		b := smallBar{Role: string(sp.Role), Y: y, H: h, Gap: sp.Kind == layout.Gap}
		if f := fill(&sp); f >= 0 {
			b.UsedH = h * float64(f) / 100
		} else {
			b.UsedH = h
		}
		out = append(out, b)
		y += h + 1.5
	}
	return out
}
