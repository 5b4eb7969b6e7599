package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadetrail/core/ran"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// Holding is something that an installation still holds of the contents, or the names of files, of a
// partition.
type Holding struct {
	Kind  string     // of what there may be several: "record", "run", "comparison", "restored folder"
	Name  string     // which one
	Bytes disk.Bytes // that it takes
	// Erase overwrites it where it lies, and takes it away.
	Erase func() error
}

// looked is where Holdings looks, for the certificate.
var looked = []string{"the records of deletions", "the folders of runs", "the comparisons"}

// Holdings finds what the installation holds of a partition besides its backups: what records of its
// earlier deletions kept, what runs on its drive kept to be taken back and to compare, comparisons with
// it, and what Besides adds. own is a run that is left out, because it needs it still.
func Holdings(o Options, drive trail.Drive, span layout.Span, own string) ([]Holding, error) {
	out, err := heldByRecords(o, drive, span)
	if err != nil {
		return nil, err
	}
	runs, err := heldByRuns(o, drive, own)
	if err != nil {
		return nil, err
	}
	out = append(out, runs...)
	proofs, err := o.Coverage.List()
	if err != nil {
		return nil, err
	}
	for _, c := range proofs {
		for _, side := range []compare.Place{c.Here.Place, c.There.Place} {
			if !side.Drive().Same(drive) || !layout.SamePartition(side.Span, span) {
				continue
			}
			path := o.Coverage.Path(c.ID)
			out = append(out, Holding{"comparison", c.ID, sizeOf(path), func() error { return disk.Shred(path) }})
			break
		}
	}
	if o.Besides != nil {
		more, err := o.Besides(drive, span)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

func heldByRecords(o Options, drive trail.Drive, span layout.Span) ([]Holding, error) {
	all, err := o.Records.Of(drive)
	if err != nil {
		return nil, err
	}
	var out []Holding
	for _, rec := range all {
		if rec.Erased || !layout.SamePartition(rec.Span, span) {
			continue
		}
		n := disk.Bytes(0)
		for name := range rec.Blobs {
			n += sizeOf(filepath.Join(o.Records.Dir, rec.ID, name))
		}
		out = append(out, Holding{"record", rec.ID, n, func() error { return o.Records.Blank(rec.ID) }})
	}
	return out, nil
}

// telling are the files of a run that hold contents or names, and that nobody needs once it has ended.
var telling = []string{ran.JournalFile, ran.JournalFile + ".new", ran.ContentsFile, ran.PiecesFile}

// heldByRuns are the ended runs on a drive that hold something still.
func heldByRuns(o Options, drive trail.Drive, own string) ([]Holding, error) {
	dirs, err := os.ReadDir(o.Runs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []Holding
	for _, d := range dirs {
		m, r, err := ran.Read(o.Runs, d.Name())
		if err != nil || r == nil || m.ID == own || !drive.Same(m.Drive()) { // strays are told elsewhere
			continue
		}
		n := disk.Bytes(0)
		for _, name := range telling {
			n += sizeOf(filepath.Join(o.Runs, m.ID, name))
		}
		if n > 0 || m.HoldsNames() {
			out = append(out, Holding{"run", m.ID, n, func() error { return forget(o.Runs, m) }})
		}
	}
	return out, nil
}

// forget takes away what an ended run keeps of contents and names.
func forget(runs string, m *ran.Meta) error {
	dir := filepath.Join(runs, m.ID)
	for _, name := range telling {
		if err := disk.Shred(filepath.Join(dir, name)); err != nil {
			return err
		}
	}
	if !m.HoldsNames() {
		return nil
	}
	for i := range m.Arrivals {
		a := &m.Arrivals[i]
		a.Sums, a.Only, a.Renamed, a.Lost = nil, nil, nil, nil
	}
	for i := range m.Plan.Steps {
		m.Plan.Steps[i].Only = nil
	}
	b, err := json.Marshal(m)
	if err != nil {
		return err
	}
	if err := disk.Shred(filepath.Join(dir, ran.MetaFile)); err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, ran.MetaFile), b)
}

func sizeOf(path string) disk.Bytes {
	st, err := os.Stat(path)
	if err != nil {
		return 0
	}
	return disk.Bytes(st.Size())
}

// HeldText says what is held, by kind.
func HeldText(held []Holding) string {
	count, bytes := map[string]int{}, disk.Bytes(0)
	for _, h := range held {
		count[h.Kind]++
		bytes += h.Bytes
	}
	var kinds []string
	for k, n := range count {
		if n == 1 {
			kinds = append(kinds, "1 "+k)
		} else {
			kinds = append(kinds, fmt.Sprintf("%d %ss", n, k))
		}
	}
	slices.Sort(kinds)
	return fmt.Sprintf("%s (%s)", strings.Join(kinds, ", "), bytes)
}

// settle takes away what goes with what was erased: its backups, where the plan says so, and all else
// that the installation holds of it. It returns what the trail is to say of that, and the entries that
// tell how records are from now on. It may be called again after it was cut short.
func settle(o Options, m *ran.Meta) (text string, entries []trail.Entry, err error) {
	for _, x := range m.Erased {
		for _, id := range x.Backups {
			o.Lead = true // it was answered for when the plan was let through
			if err := takeOff(o, id, "its partition was erased: "+x.Title, o.Shelf.Erase); err != nil && !shelf.Missing(err) {
				return "", nil, err
			}
		}
		held, err := Holdings(o, m.Drive(), x.Span, m.ID)
		if err != nil {
			return "", nil, err
		}
		told, err := heldAtFirst(filepath.Join(o.Runs, m.ID), x, held)
		if err != nil {
			return "", nil, err
		}
		for _, h := range held {
			if err := h.Erase(); err != nil {
				return "", nil, fmt.Errorf("%s %s of %s could not be overwritten: %w", h.Kind, h.Name, x.Title, err)
			}
		}
		where := looked
		if o.Besides != nil {
			where = append(slices.Clone(looked), o.BesidesLooked...)
		}
		if told != "" {
			text += fmt.Sprintf("; of %s this installation also held %s, overwritten and gone", x.Title, told)
		} else {
			text += fmt.Sprintf("; of %s this installation held nothing else", x.Title)
		}
		text += ". Looked through: " + strings.Join(where, ", ") + ". What the trail itself says stays: it cannot be changed"
		blanked, err := blanked(o, m, x)
		if err != nil {
			return "", nil, err
		}
		entries = append(entries, blanked...)
	}
	return text, entries, nil
}

// sweptFile keeps, in the folder of a run that erases, what was held before anything of it was
// overwritten: a run that is cut short while it does that says the same when it is finished.
const sweptFile = "swept.json"

// heldAtFirst is what is held of a partition, in words, as it was when the run came to that.
func heldAtFirst(dir string, x ran.Erased, held []Holding) (string, error) {
	path := filepath.Join(dir, sweptFile)
	known := map[string]string{}
	b, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(b, &known)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	key := fmt.Sprint(x.Step)
	if text, there := known[key]; there {
		return text, nil
	}
	if known[key] = ""; len(held) > 0 {
		known[key] = HeldText(held)
	}
	if b, err = json.Marshal(known); err != nil {
		return "", err
	}
	return known[key], disk.WriteDurably(path, b)
}

// blanked are the entries that say of records that what they kept was taken away, with what they are
// like from now on.
func blanked(o Options, m *ran.Meta, x ran.Erased) ([]trail.Entry, error) {
	all, err := o.Records.Of(m.Drive())
	if err != nil {
		return nil, err
	}
	var out []trail.Entry
	for _, rec := range all {
		if !rec.Erased || rec.Run == m.ID || !layout.SamePartition(rec.Span, x.Span) {
			continue
		}
		_, hash, err := o.Records.Load(rec.ID)
		if err != nil {
			return nil, err
		}
		known, err := o.Trail.RecordHash(rec.ID)
		if err != nil {
			return nil, err
		}
		if known == hash { // that was entered before
			continue
		}
		out = append(out, trail.Entry{ID: "e-" + m.ID + "-blank-" + rec.ID, Act: trail.ActBlank, Record: rec.ID, RecordHash: hash, Partition: rec.Span.Number,
			Text: fmt.Sprintf("What was kept of %s when it was deleted %s was overwritten: its partition was erased", rec.Span.Title(), rec.Time.Format("2 Jan 2006"))})
	}
	return out, nil
}
