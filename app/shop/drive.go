package shop

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// Drive is the drive in a bay, opened and read.
type Drive struct {
	Bay      string
	Shelf    bool
	Other    bool // the job has more drives than this one
	Path     string
	Image    *disk.Image
	Survey   *survey.Survey
	Identity survey.Identity
	PC       *pc.Facts
}

// Open reads the drive in a bay. Where it is opened to look at it, what was read of it before is taken as long as its
// files are as they were then; whoever writes to it has it read anew.
func (s *Shop) Open(b *store.Bay, write bool) (*Drive, error) {
	if b == nil || b.Image == nil {
		return nil, ErrNoDrive
	}
	d := &Drive{Bay: b.Letter, Shelf: b.Shelf, Path: s.ImageOf(b)}
	stamp, settled := stampOf(d.Path, time.Now())
	if g, known := s.glances.of(d.Path, stamp); known && !write {
		return d, d.again(g)
	}
	var err error
	if d.Identity, err = survey.ReadIdentity(d.Path); err != nil {
		return nil, err
	}
	if write && d.Identity.ReadOnly {
		return nil, fmt.Errorf(
			"bay %s: %w, for evidence; nothing was written. Attach it for writing first", b.Letter, disk.ErrReadOnly,
		)
	}
	facts, err := disk.ReadSmall(d.Path+".pc.json", maxFacts)
	if err == nil {
		if d.PC, err = pc.Parse(facts); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	d.Image, err = disk.OpenImage(d.Path, 0, write)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf(
			"%w: the image of the drive in bay %s is gone from the folder drives. Put it back, or take the drive out of its bay on the dock",
			store.ErrNotFound, b.Letter,
		)
	}
	if err != nil {
		return nil, err
	}
	if d.Survey, err = survey.Read(d.Image, d.PC); err != nil {
		d.Image.Close()
		return nil, err
	}
	d.Survey.Layout.Serial = d.Identity.Serial
	if settled {
		s.glances.keep(d, facts, stamp)
	}
	return d, nil
}

// again opens a drive that was read before, and is as it was.
func (d *Drive) again(g Glance) (err error) {
	d.Identity, d.PC = g.Identity, g.PC
	if d.Image, err = disk.OpenImage(d.Path, g.Layout.Sector, false); err == nil {
		d.Survey = g.read.Again(d.Image)
	}
	return err
}

// OpenJob opens a job with its drive.
func (s *Shop) OpenJob(number, letter string, write bool) (*store.Job, *Drive, error) {
	j, bay, err := s.Store.Job(number, letter)
	if err != nil {
		return nil, nil, err
	}
	d, err := s.Open(bay, write)
	if err != nil {
		return j, nil, err
	}
	bays, err := s.Store.BaysOf(number)
	d.Other = len(bays) > 1
	return j, d, err
}

// maxFacts bounds the file with the facts of a PC.
const maxFacts = disk.MiB

func (d *Drive) Close() { d.Image.Close() }

// Label is what the drive is known by: its serial number, or its table's id where it has none.
func (d *Drive) Label() string { return cmp.Or(d.Identity.Serial, d.Survey.Layout.DiskID) }

// State names the drive as it is: which one, and how it is laid out. How full a volume is does not
// count.
func (d *Drive) State() string {
	h := sha256.New()
	l := d.Survey.Layout
	fmt.Fprintln(h, d.Identity.Serial, l.Scheme, l.DiskID, l.Size, l.Sector)
	for _, p := range l.Partitions() {
		fmt.Fprintln(h, p.Number, p.Start, p.End, p.TypeID, p.UniqueID, p.Name, p.Attributes, p.Active)
		if v := p.Volume; v != nil {
			fmt.Fprintln(h, v.Kind, v.Label, v.Serial, v.TotalBytes, v.ClusterBytes)
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// Ending is the end of a drive's serial number, by which it is told from others.
func (d *Drive) Ending() string { return "…" + d.Identity.Serial[max(len(d.Identity.Serial)-4, 0):] }

// StillGood tells whether a drive is as it was when its state was marked as good.
func (d *Drive) StillGood(mark *trail.Entry) bool {
	if mark == nil || mark.After == nil || len(layout.Differ(mark.After, d.Survey.Layout)) > 0 {
		return false
	}
	for n, want := range mark.Prints {
		number, err := strconv.Atoi(n)
		v := d.Survey.Volume(number)
		if err != nil || v == nil {
			return false
		}
		if got, err := v.Fingerprint(); err != nil || got != want {
			return false
		}
	}
	return true
}

// NameOf names a drive in the trail.
func NameOf(d *Drive) trail.Drive {
	return trail.Drive{DiskID: d.Survey.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial}
}

// History is that of a drive.
func History(d *Drive) store.Filter {
	name := NameOf(d)
	return store.Filter{Drive: &name}
}

// ErrNoDrive tells that a job's drive is in no bay.
var ErrNoDrive = fmt.Errorf("%w: no drive of this job is in a bay, or none in that one", store.ErrNotFound)

// Bay is the bay of that letter, with a drive in it.
func (s *Shop) Bay(letter string) (*store.Bay, error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == letter && b.Image != nil })
	if i < 0 {
		return nil, fmt.Errorf("bay %q has no drive", letter)
	}
	return &bays[i], nil
}

// inBay opens the drive in a bay.
func (s *Shop) inBay(letter string) (*store.Bay, *Drive, error) {
	b, err := s.Bay(letter)
	if err != nil {
		return nil, nil, err
	}
	d, err := s.Open(b, false)
	return b, d, err
}

// identityAt is what the drive of an image is, without a look at the drive.
func (s *Shop) identityAt(path string) (survey.Identity, error) {
	stamp, _ := stampOf(path, time.Now())
	if g, known := s.glances.of(path, stamp); known {
		return g.Identity, nil
	}
	return survey.ReadIdentity(path)
}

// bayWith finds the bay that a drive is in.
func (s *Shop) bayWith(of trail.Drive) (*store.Bay, error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		id, err := s.identityAt(s.ImageOf(&b))
		if err != nil || id.Serial != "" && of.Serial != "" && !strings.EqualFold(id.Serial, of.Serial) {
			continue
		}
		d, err := s.Open(&b, false)
		if err != nil {
			continue // what cannot be read is not there
		}
		its := NameOf(d).Same(of)
		d.Close()
		if its {
			return &b, nil
		}
	}
	return nil, inNoBay(fmt.Sprintf(
		"its drive (%s) is in no bay. Attach it first", cmp.Or(of.Serial, of.DiskID, "of no name"),
	))
}

// inNoBay says why a drive cannot be looked at.
type inNoBay string

func (e inNoBay) Error() string { return string(e) }

// Is makes it something that is not found.
func (e inNoBay) Is(err error) bool { return err == store.ErrNotFound }

// ImageOf is the path of the image in a bay that has one.
func (s *Shop) ImageOf(b *store.Bay) string {
	return filepath.Join(s.Data, "drives", filepath.Base(*b.Image))
}

// WithJobs visits the drives in the bays that belong to a job, or with "" to any; what cannot be opened is
// left out.
func (s *Shop) WithJobs(job string, visit func(b store.Bay, d *Drive) error) error {
	bays, err := s.Store.Bays()
	if err != nil {
		return err
	}
	for _, b := range bays {
		if b.Image == nil || b.Job == nil || job != "" && *b.Job != job {
			continue
		}
		d, err := s.Open(&b, false)
		if err != nil {
			continue
		}
		err = visit(b, d)
		d.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// Options of a run on the drive.
func (s *Shop) Options(d *Drive, j *store.Job, who string) run.Options {
	return run.Options{
		Options: rehearse.Options{Sources: facts.Sources{
			Drive: facts.Drive{
				Image: d.Path, Dev: d.Image, Identity: d.Identity, PC: d.PC,
				Left: func() ([]time.Time, error) { return s.leftBay(d) },
				Seen: func() ([]disk.Bytes, error) { return s.SeenOn(d) },
				Lost: func() ([]plan.Gone, error) {
					found, err := s.foundOn(context.Background(), d)
					return found.gone, err
				},
			},
			Shop: facts.Shop{
				Runs: s.Folder("runs"), Shelf: s.Shelf(), Coverage: s.Coverage, Elsewhere: s.printOf, Records: s.Records, Trail: s.Store,
				Approvals: func() ([]facts.Approved, error) { return s.approved(j.Number) },
			},
			Random: s.Random,
		},
			Who: who, Job: j.Number, Now: s.Now, Besides: s.besides(d, j.Number),
			SavePC: func(f *pc.Facts) error { return saveFacts(d, f) },
		},
		Books: s.Books, ProveAfter: s.ProveAfter, BesidesLooked: besidesLooked,
	}
}

// here is a drive, and where its runs are told of.
func (s *Shop) here(d *Drive) facts.Sources {
	return facts.Sources{
		Drive: facts.Drive{Image: d.Path, Dev: d.Image, Identity: d.Identity},
		Shop:  facts.Shop{Runs: s.Folder("runs"), Records: s.Records, Trail: s.Store},
	}
}

// leftBay tells when a drive was taken out of a bay.
func (s *Shop) leftBay(d *Drive) (out []time.Time, err error) {
	name := NameOf(d)
	list, err := s.Store.Entries(store.Filter{Drive: &name, Act: string(trail.ActDetach)})
	for _, e := range list {
		out = append(out, e.Time)
	}
	return out, err
}

// printOf is the fingerprint that a volume in one of the bays has now, "" where it is in none.
func (s *Shop) printOf(p compare.Place) (string, error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return "", err
	}
	for _, b := range bays {
		d, err := s.Open(&b, false)
		if err != nil {
			continue // what cannot be read is not there
		}
		print, there := "", false
		if l := d.Survey.Layout; strings.EqualFold(l.DiskID, p.DiskID) && strings.EqualFold(d.Identity.Serial, p.Serial) {
			for _, q := range l.Partitions() {
				if v := d.Survey.Volume(q.Number); v != nil && q.UniqueID == p.Span.UniqueID {
					there = true
					print, err = v.Fingerprint()
				}
			}
		}
		d.Close()
		if there {
			return print, err
		}
	}
	return "", nil
}

// Unfinished is the run that is open on a drive, nil for none.
func (s *Shop) Unfinished(d *Drive) (*run.Unfinished, error) {
	return run.Open(run.Options{Options: rehearse.Options{Sources: s.here(d)}})
}

// noOpenRun refuses a drive with an open run: nothing that is made from it as it is counts.
func (s *Shop) noOpenRun(d *Drive) error {
	return run.Closed(run.Options{Options: rehearse.Options{Sources: s.here(d)}})
}

// saveFacts keeps the facts about a drive's PC.
func saveFacts(d *Drive, f *pc.Facts) error { return writeIdentity(d.Path+".pc.json", f) }

func writeIdentity(path string, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return disk.WriteDurably(path, append(b, '\n'))
}

func (s *Shop) Folder(name string) string { return filepath.Join(s.Data, name) }

// tail makes the random end of a name.
func (s *Shop) tail() (string, error) {
	var b [4]byte
	_, err := io.ReadFull(s.Random, b[:])
	return hex.EncodeToString(b[:]), err
}
