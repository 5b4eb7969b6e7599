package shop

import (
	"archive/zip"
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jadetrail/app/report"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Report puts together what a customer is handed.
func (s *Shop) Report(who *store.Technician, number string) (*report.Report, *store.Job, error) {
	j, bays, err := s.Store.Job(number, "")
	if err != nil {
		return nil, nil, err
	}
	its, err := s.Store.Settings()
	if err != nil {
		return nil, nil, err
	}
	r := &report.Report{
		Shop: its.Name, Address: its.Address, Job: j.Number, Customer: j.Customer, PC: j.PC,
		Asked: j.Want, Story: j.Story, Keep: j.Keep,
		Made: s.Now(),
		By:   who.Name, Drives: []report.Drive{},
	}
	if bays != nil {
		list, err := s.Store.BaysOf(number)
		if err != nil {
			return nil, nil, err
		}
		for _, b := range list {
			if b.Shelf {
				continue
			}
			d, err := s.driveReport(number, b.Letter)
			if err != nil {
				return nil, nil, fmt.Errorf("bay %s: %w", b.Letter, err)
			}
			r.Drives = append(r.Drives, *d)
		}
	}
	seq, hash, err := s.Store.Head()
	if err != nil {
		return nil, nil, err
	}
	r.Entries, r.Head = seq, hash
	if s.Store.Key != nil {
		public, _ := s.Store.Key.Public().(ed25519.PublicKey)
		r.Signed, r.Key = true, base64.StdEncoding.EncodeToString(public)
	}
	return r, j, nil
}

// driveReport is what a customer is told of one of the drives of a job.
func (s *Shop) driveReport(number, bay string) (*report.Drive, error) {
	st, err := s.WorkOut(number, bay)
	if err != nil {
		return nil, err
	}
	defer st.Drive.Close()
	l := st.Drive.Survey.Layout
	d := &report.Drive{
		Title: st.Drive.Identity.Model, Serial: st.Drive.Identity.Serial, Size: l.Size, Before: l, After: l,
	}

	// What was done, as the trail tells it.
	of := History(st.Drive)
	of.Job = number
	entries, err := s.Store.Entries(of)
	if err != nil {
		return nil, err
	}
	slices.Reverse(entries) // the oldest first
	h := s.happenedOn(d, entries)
	if h.first != nil {
		d.Before = h.first
		d.Changes = h.sinceThen(d.Before, l)
	}

	// What is left of what went, and what it could be had from.
	backups, away, err := s.backupsOf(d, st.Drive, entries)
	if err != nil {
		return nil, err
	}
	ways, err := s.canComeBack(st, h.records)
	if err != nil {
		return nil, err
	}
	now := leftNow{l, backups, away}
	for i := range d.Gone {
		g := &d.Gone[i]
		g.Back = h.restored[g.Record]
		g.Kept = now.kept(g, h.records[g.Record], ways[g.Record])
	}
	d.Checks = checksOf(st, d.Before)
	return d, nil
}

// happened is what the runs of a job did to a drive, one after the other.
type happened struct {
	first    *layout.Layout // the drive before the first of them, nil where that is not known
	runs     []ranOnce
	back     map[string]bool          // places, of partitions that were brought back
	restored map[string]bool          // records, of partitions that were brought back
	records  map[string]*trail.Record // of what was deleted
	notes    map[string][]string      // by the id of the run, what is said of it besides
	deleted  map[string]map[int]bool  // by the id of the run, the numbers of what it deleted
}

// ranOnce is one run: the drive before and after, and the numbers of partitions that it deleted.
type ranOnce struct {
	before, after *layout.Layout
	gone          map[int]bool
}

// happenedOn follows what was done to a drive through its entries, the oldest first, and puts into its report
// what can be told of each. Runs that were taken back have not happened.
func (s *Shop) happenedOn(d *report.Drive, entries []trail.Entry) *happened {
	undone := map[string]bool{}
	for _, e := range entries {
		undone[e.Run] = undone[e.Run] || e.Act == trail.ActUndone
	}
	h := &happened{
		back: map[string]bool{}, restored: map[string]bool{}, records: map[string]*trail.Record{},
		notes: map[string][]string{}, deleted: map[string]map[int]bool{},
	}
	for _, e := range entries {
		if undone[e.Run] && e.Run != "" {
			continue
		}
		switch e.Act {
		case trail.ActBringBack:
			h.cameBack(e)
		case trail.ActDelete:
			if rec := s.deletion(h, e); rec != nil {
				d.Gone = append(d.Gone, goneFor(rec, e))
			}
		case trail.ActDone:
			d.Runs = append(d.Runs, s.ended(h, e))
		case trail.ActLetter, trail.ActRestore:
			if e.Run == "" {
				d.Besides = append(d.Besides, report.Deed{
					When: e.Time, Who: e.Who, Text: strings.TrimSuffix(e.Text, "."),
				})
			}
		}
	}
	return h
}

// cameBack notes that a partition was brought back.
func (h *happened) cameBack(e trail.Entry) {
	h.restored[e.Record] = e.Record != ""
	if e.After != nil {
		if q, there := e.After.Find(e.Partition); there {
			h.back[place(q)] = true
		}
	}
	h.notes[e.Run] = append(h.notes[e.Run], e.Text)
}

// deletion notes that a partition was deleted. It returns its record, nil where that cannot be read.
func (s *Shop) deletion(h *happened, e trail.Entry) *trail.Record {
	if h.deleted[e.Run] == nil {
		h.deleted[e.Run] = map[int]bool{}
	}
	h.deleted[e.Run][e.Partition] = true
	rec, _, err := s.Records.Load(e.Record)
	if err != nil {
		return nil
	}
	h.records[rec.ID] = rec
	return rec
}

// goneFor is what a report says of a deletion, but for what is left of it.
func goneFor(rec *trail.Record, e trail.Entry) report.Gone {
	why := strings.TrimSpace(rec.Reason)
	if why != "" {
		why = "Released because: " + why + "."
	}
	if rec.Waiver != "" {
		why += " Without a backup because: " + rec.Waiver + "."
	}
	return report.Gone{
		Title: rec.Span.Title(), Size: rec.Span.Bytes, When: e.Time, Who: e.Who, Why: strings.TrimSpace(why),
		Record: rec.ID, Backup: rec.Backup, Erased: rec.Erased,
	}
}

// ended notes that a run has ended, and is what a report says of it.
func (s *Shop) ended(h *happened, e trail.Entry) report.Run {
	x := report.Run{When: e.Time, Who: e.Who, Proof: e.Text, Notes: h.notes[e.Run]}
	m, r, err := ran.Read(s.Folder("runs"), e.Run)
	if err != nil || m == nil {
		return x // its folder is gone: the entry is what there is
	}
	x.Steps = m.Titles
	if r != nil {
		x.Good = r.Good
	}
	if h.first == nil {
		h.first = m.Before
	}
	if m.Before != nil && m.After != nil {
		h.runs = append(h.runs, ranOnce{m.Before, m.After, h.deleted[e.Run]})
	}
	return x
}

// follow tells what a partition has become: run by run, in which it keeps its number; nil where it went.
func (h *happened) follow(p *layout.Span) *layout.Span {
	for _, r := range h.runs {
		at := find(r.before, place(p))
		if at == nil {
			continue
		}
		next, there := r.after.Find(at.Number)
		if r.gone[at.Number] || !there {
			return nil
		}
		p = next
	}
	return p
}

// place is what a partition is known by in one state of a drive.
func place(p *layout.Span) string { return fmt.Sprint(strings.ToLower(p.UniqueID), " ", p.Start) }

func find(l *layout.Layout, key string) *layout.Span {
	for _, q := range l.Partitions() {
		if place(&q) == key {
			return &q
		}
	}
	return nil
}

// sinceThen is what became of each partition from one state of a drive to another.
func (h *happened) sinceThen(before, now *layout.Layout) []report.Change {
	var out []report.Change
	known := map[string]bool{}
	for _, p := range before.Partitions() {
		x := report.Change{Title: p.Title(), Before: p.Bytes, What: []string{"it is not on the drive any more"}}
		q := h.follow(&p)
		if q != nil {
			q = find(now, place(q))
		} else { // it went, and may be back with the id that it had
			q = find(now, place(&p))
		}
		if q != nil {
			known[place(q)] = true
			x.After, x.What = q.Bytes, Changes(&p, q, now.Sector)
		}
		out = append(out, x)
	}
	for _, q := range now.Partitions() {
		if !known[place(&q)] {
			out = append(out, report.Change{
				Title: q.Title(), After: q.Bytes,
				What: []string{words.Either(h.back[place(&q)], "brought back", "new")},
			})
		}
	}
	return out
}

// Changes words what became of a partition.
func Changes(was, is *layout.Span, sector disk.Bytes) []string {
	var out []string
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	switch d := is.Bytes - was.Bytes; {
	case d > 0:
		say("grown by %s", d)
	case d < 0:
		say("smaller by %s", -d)
	}
	switch d := (is.Start - was.Start).Offset(sector); {
	case d > 0:
		say("begins %s further on", d)
	case d < 0:
		say("begins %s further toward the start", -d)
	}
	if was.Letter != is.Letter {
		say("letter %s instead of %s", cmp.Or(is.Letter, "none"), cmp.Or(was.Letter, "none"))
	}
	if was.Volume != nil && is.Volume != nil && was.Volume.Label != is.Volume.Label {
		say("labelled %s", cmp.Or(is.Volume.Label, "nothing"))
	}
	if was.TypeID != is.TypeID || was.Name != is.Name || was.Attributes != is.Attributes || was.Active != is.Active {
		say("another entry in the table")
	}
	if len(out) == 0 {
		say("stays as it was")
	}
	return out
}

// backupsOf puts the backups of a drive into its report. It returns all that are on the shelves, and the entries
// of those of this drive that are on no shelf in a bay.
func (s *Shop) backupsOf(d *report.Drive, on *Drive, entries []trail.Entry) (all []*shelf.Manifest, away []trail.Entry, err error) {
	if all, err = s.Shelf().List(); err != nil {
		return nil, nil, err
	}
	for _, m := range all {
		if m.From.Drive().Same(NameOf(on)) {
			d.Backups = append(d.Backups, report.Backup{
				Title: m.From.Span.Title(), ID: m.ID, Made: m.Made, Verified: m.Verified, Until: m.KeepUntil,
			})
		}
	}
	taken, err := s.Store.Entries(store.Filter{Act: string(trail.ActDeleteBackup)}) // of whatever job
	if err != nil {
		return nil, nil, err
	}
	away = notHere(entries, taken, all)
	for _, e := range away {
		title := cmp.Or(strings.Join(e.Titles, ", "), e.Text)
		d.Backups = append(d.Backups, report.Backup{Title: title, ID: e.Backup, Made: e.Time, Away: true})
	}
	return all, away, nil
}

// notHere are the entries of backups that were made and not deleted since, as taken tells, and that lie on no
// shelf which is in a bay.
func notHere(entries, taken []trail.Entry, backups []*shelf.Manifest) (out []trail.Entry) {
	for _, e := range entries {
		gone := slices.ContainsFunc(taken, func(t trail.Entry) bool { return t.Backup == e.Backup })
		here := slices.ContainsFunc(backups, func(m *shelf.Manifest) bool { return m.ID == e.Backup })
		if e.Act == trail.ActBackup && e.Backup != "" && !gone && !here {
			out = append(out, e)
		}
	}
	return out
}

// checksOf are the checks of a drive's volumes, and of whether its PC will start.
func checksOf(st *JobState, before *layout.Layout) (out []report.Check) {
	l := st.Drive.Survey.Layout
	for _, p := range l.Partitions() {
		v := st.Drive.Survey.Volume(p.Number)
		if v == nil {
			continue
		}
		x := report.Check{Title: p.Title(), Sound: true}
		if f := v.Check().FirstError(); f != nil {
			x.Sound, x.Text = false, f.Text
		}
		out = append(out, x)
	}
	if st.Facts.PC == nil || !st.Facts.StartsHere {
		return out
	}
	for _, x := range plan.StartChecks(before, l, st.Facts, st.Facts.PC) {
		out = append(out, report.Check{
			Title: "Start of the PC: " + x.What, Text: x.Text,
			Sound: x.Standing == plan.Sound || x.Standing == plan.Mends, ToDo: x.Standing == plan.Must,
		})
	}
	return out
}

// canComeBack says of records how their partitions could be brought back as the drive is now, in the words of
// their pages.
func (s *Shop) canComeBack(st *JobState, gone map[string]*trail.Record) (map[string]string, error) {
	var steps []plan.Step
	for id, rec := range gone {
		if !rec.Erased {
			steps = append(steps, plan.Step{Body: plan.BringingBack{Record: id}})
		}
	}
	facts, err := s.Facts(st.Drive, st.Job, steps)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, x := range steps {
		col := plan.Lay(st.Drive.Survey.Layout, facts, []plan.Step{x})[0]
		switch {
		case len(col.Obstacles) > 0:
			out[x.Record()] = col.Obstacles[0].Text
		case col.Place == plan.InPlace:
			out[x.Record()] = "It can be brought back " + col.Detail + "."
		default:
			out[x.Record()] = "It can be rebuilt " + col.Detail + "."
		}
	}
	return out, nil
}

// leftNow is what there is now that a deleted partition can be had from: the drive, the backups on the shelf,
// and the entries of those that are on no shelf in a bay.
type leftNow struct {
	layout  *layout.Layout
	shelved []*shelf.Manifest
	away    []trail.Entry
}

// kept says what is left of a partition that was deleted; way is how it could be brought back.
func (n leftNow) kept(g *report.Gone, rec *trail.Record, way string) string {
	if g.Back {
		return "It was brought back."
	}
	var out, has []string
	for _, m := range n.shelved {
		if m.ID == rec.Backup || m.From.Drive().Same(rec.Drive) && layout.SamePartition(m.From.Span, rec.Span) {
			has = append(has, m.ID)
		}
	}
	over := slices.IndexFunc(n.layout.Partitions(), func(p layout.Span) bool {
		return p.Role != layout.Container && p.Start < rec.Span.End && rec.Span.Start < p.End
	})
	switch {
	case rec.Erased:
		out = append(out, "Erased as asked: its place was written over and read back.")
	case over >= 0:
		out = append(
			out, fmt.Sprintf("%s has its place now, or a part of it.", n.layout.Partitions()[over].Title()), way,
		)
	default:
		out = append(out, "No partition has its place.", way)
	}
	switch {
	case len(has) == 1:
		out = append(out, "Its backup "+has[0]+" is kept.")
	case len(has) > 1:
		out = append(out, "Its backups "+strings.Join(has, " and ")+" are kept.")
	case slices.ContainsFunc(n.away, func(e trail.Entry) bool { return e.Backup == rec.Backup }):
		out = append(out, "Its backup "+rec.Backup+" is on no shelf that is in a bay now.")
	case rec.Backup != "":
		out = append(out, "Its backup "+rec.Backup+" is not on the shelf.")
	case rec.Erased:
		out = append(out, "No backup of it is on the shelf, and its record keeps nothing of its contents.")
	}
	return strings.Join(out, " ")
}

// EntriesOf are the trail's entries of a job, the oldest first.
func (s *Shop) EntriesOf(number string) ([]trail.Entry, error) {
	list, err := s.Store.Entries(store.Filter{Job: number})
	slices.Reverse(list)
	return list, err
}

// Table is a table of a job, with the names of its columns first: its entries in the trail ("trail.csv") or the
// records of its deletions ("records.csv").
func (s *Shop) Table(number, what string) ([][]string, error) {
	list, err := s.EntriesOf(number)
	if err != nil {
		return nil, err
	}
	switch what {
	case "trail.csv":
		return entryTable(list), nil
	case "records.csv":
		return s.recordTable(list), nil
	}
	return nil, fmt.Errorf("this page does not exist: %w", store.ErrNotFound)
}

func entryTable(list []trail.Entry) [][]string {
	rows := [][]string{{"number", "time", "who", "act", "what", "reason", "drive serial", "partition", "record", "backup", "run", "hash"}}
	for _, e := range list {
		rows = append(rows, []string{
			fmt.Sprint(e.Seq), e.Time.UTC().Format(time.RFC3339), e.Who, string(e.Act), e.Text, e.Reason, e.Drive.Serial,
			fmt.Sprint(e.Partition), e.Record, e.Backup, e.Run, e.Hash,
		})
	}
	return rows
}

func (s *Shop) recordTable(list []trail.Entry) [][]string {
	rows := [][]string{{
		"record", "time", "who", "title", "kind", "label", "serial", "start sector", "end sector", "bytes", "type id", "unique id",
		"attributes", "name", "reason", "waiver", "backup", "files", "erased",
	}}
	for _, e := range list {
		if e.Act != trail.ActDelete {
			continue
		}
		rec, _, err := s.Records.Load(e.Record)
		if err != nil {
			continue
		}
		kind, label, serial := "", "", ""
		if v := rec.Span.Volume; v != nil {
			kind, label, serial = string(v.Kind), v.Label, v.Serial
		}
		rows = append(rows, []string{
			rec.ID, rec.Time.UTC().Format(time.RFC3339), rec.Who, rec.Span.Title(), kind, label, serial,
			fmt.Sprint(int64(rec.Span.Start)), fmt.Sprint(int64(rec.Span.End)), fmt.Sprint(int64(rec.Span.Bytes)),
			rec.Span.TypeID, rec.Span.UniqueID, rec.Span.Attributes, rec.Span.Name, rec.Reason, rec.Waiver, rec.Backup,
			fmt.Sprint(rec.Files), fmt.Sprint(rec.Erased),
		})
	}
	return rows
}

// archiveWriter puts files into an archive until one cannot be.
type archiveWriter struct {
	zip *zip.Writer
	now time.Time
	err error
}

func (a *archiveWriter) put(name string, write func(w io.Writer) error) {
	if a.err != nil {
		return
	}
	var w io.Writer
	if w, a.err = a.zip.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: a.now}); a.err == nil {
		a.err = write(w)
	}
}

func (a *archiveWriter) putJSON(name string, v any) {
	a.put(name, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(v)
	})
}

// putFiles puts those of the files in the folders dir/id that are there.
func (a *archiveWriter) putFiles(dir string, ids map[string]bool, files ...string) {
	for id := range ids {
		if id == "" || id != filepath.Base(id) {
			continue
		}
		for _, f := range files {
			b, err := os.ReadFile(filepath.Join(dir, id, f))
			if err != nil {
				continue // of an erased partition no contents are kept
			}
			a.put(filepath.Base(dir)+"/"+id+"/"+f, func(w io.Writer) error { _, err := w.Write(b); return err })
		}
	}
}

// WriteArchive writes a job, with its report and its entries in the trail, out as one open zip: what another
// installation, or anybody with a text editor, needs to know all that was done.
func (s *Shop) WriteArchive(ctx context.Context, to io.Writer, j *store.Job, r *report.Report, list []trail.Entry) error {
	now := s.Now()
	a := &archiveWriter{zip: zip.NewWriter(to), now: now}
	a.putJSON("job.json", map[string]any{
		"version": 1, "number": j.Number, "customer": j.Customer, "pc": j.PC, "story": j.Story, "want": j.Want,
		"made": now, "head": r.Head, "key": r.Key,
	})
	a.putJSON("report.json", r)
	a.put("report.pdf", r.PDF)
	a.put("trail.jsonl", func(w io.Writer) error {
		return s.Store.Lines(ctx, j.Number, func(line string) error { _, err := io.WriteString(w, line+"\n"); return err })
	})
	runs, records, backups := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, e := range list {
		runs[e.Run], records[e.Record], backups[e.Backup] = true, true, true
	}
	a.putFiles(s.Folder("runs"), runs, "run.json", "ended.json")
	a.putFiles(
		s.Records.Dir, records, "record.json", trail.BlobFirst, trail.BlobLast, trail.BlobRanges, trail.BlobFiles,
	)
	for id := range backups {
		if m, err := s.Shelf().Load(id); err == nil {
			a.putJSON("manifests/"+m.ID+".json", m)
		}
	}
	for _, d := range r.Drives {
		a.putJSON("layouts/"+d.Serial+" before.json", d.Before)
		a.putJSON("layouts/"+d.Serial+" now.json", d.After)
	}
	if a.err != nil {
		return a.err
	}
	return a.zip.Close()
}
