package web

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"jadetrail/app/shop"

	"github.com/gin-gonic/gin"

	"jadetrail/app/report"
	"jadetrail/app/store"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// reportOf puts together what a customer is handed.
func (s *Server) reportOf(c *gin.Context, number string) (*report.Report, *store.Job, error) {
	j, bays, err := s.Store.Job(number, "")
	if err != nil {
		return nil, nil, err
	}
	r := &report.Report{Shop: s.Name, Job: j.Number, Customer: j.Customer, PC: j.PC, Asked: j.Want, Story: j.Story, Made: s.Now(), By: me(c).Name, Drives: []report.Drive{}}
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

func (s *Server) driveReport(number, bay string) (*report.Drive, error) {
	st, err := s.state(number, bay)
	if err != nil {
		return nil, err
	}
	defer st.Drive.Close()
	l := st.Drive.Survey.Layout
	d := &report.Drive{Title: st.Drive.Identity.Model, Serial: st.Drive.Identity.Serial, Size: l.Size, Before: l, After: l}
	of := shop.History(st.Drive)
	of.Job = number
	entries, err := s.Store.Entries(of)
	if err != nil {
		return nil, err
	}
	slices.Reverse(entries) // the oldest first
	undone, back := map[string]bool{}, map[string]bool{}
	for _, e := range entries {
		undone[e.Run] = undone[e.Run] || e.Act == trail.ActUndone
	}
	first, notes, gone := true, map[string][]string{}, map[string]*trail.Record{}
	h, deleted := happened{back: map[string]bool{}}, map[string]map[int]bool{}
	for _, e := range entries {
		if undone[e.Run] && e.Run != "" {
			continue
		}
		switch e.Act {
		case trail.ActBringBack:
			back[e.Record] = e.Record != ""
			if e.After != nil {
				if q, there := e.After.Find(e.Partition); there {
					h.back[place(q)] = true
				}
			}
			notes[e.Run] = append(notes[e.Run], e.Text)
		case trail.ActDone:
			x := report.Run{When: e.Time, Who: e.Who, Proof: e.Text, Notes: notes[e.Run]}
			if m, r, err := run.Ran(s.Folder("runs"), e.Run); err == nil && m != nil {
				x.Steps = m.Titles
				if r != nil {
					x.Good = r.Good
				}
				if first && m.Before != nil {
					d.Before, first = m.Before, false
				}
				if m.Before != nil && m.After != nil {
					h.runs = append(h.runs, ranOnce{m.Before, m.After, deleted[e.Run]})
				}
			}
			d.Runs = append(d.Runs, x)
		case trail.ActLetter, trail.ActRestore:
			if e.Run == "" {
				d.Besides = append(d.Besides, report.Deed{When: e.Time, Who: e.Who, Text: strings.TrimSuffix(e.Text, ".")})
			}
		case trail.ActDelete:
			if deleted[e.Run] == nil {
				deleted[e.Run] = map[int]bool{}
			}
			deleted[e.Run][e.Partition] = true
			rec, _, err := s.Records.Load(e.Record)
			if err != nil {
				continue
			}
			why := strings.TrimSpace(rec.Reason)
			if why != "" {
				why = "Released because: " + why + "."
			}
			if rec.Waiver != "" {
				why += " Without a backup because: " + rec.Waiver + "."
			}
			gone[rec.ID] = rec
			d.Gone = append(d.Gone, report.Gone{
				Title: rec.Span.Title(), Size: rec.Span.Bytes, When: e.Time, Who: e.Who, Why: strings.TrimSpace(why), Record: rec.ID, Backup: rec.Backup, Erased: rec.Erased,
			})
		}
	}
	if !first {
		d.Changes = h.sinceThen(d.Before, l)
	}
	backups, err := s.Shelf().List()
	if err != nil {
		return nil, err
	}
	here := shop.NameOf(st.Drive)
	for _, m := range backups {
		if m.From.Drive().Same(here) {
			d.Backups = append(d.Backups, report.Backup{Title: m.From.Span.Title(), ID: m.ID, Made: m.Made, Verified: m.Verified, Until: m.KeepUntil})
		}
	}
	taken, err := s.Store.Entries(store.Filter{Act: string(trail.ActDeleteBackup)}) // of whatever job
	if err != nil {
		return nil, err
	}
	away := notHere(entries, taken, backups)
	for _, e := range away {
		title, _, _ := strings.Cut(strings.TrimPrefix(e.Text, "Files of "), " backed up")
		d.Backups = append(d.Backups, report.Backup{Title: title, ID: e.Backup, Made: e.Time, Away: true})
	}
	ways, err := s.canComeBack(st, gone)
	if err != nil {
		return nil, err
	}
	now := leftNow{l, backups, away}
	for i := range d.Gone {
		g := &d.Gone[i]
		g.Back = back[g.Record]
		g.Kept = now.kept(g, gone[g.Record], ways[g.Record])
	}
	for _, p := range l.Partitions() {
		if v := st.Drive.Survey.Volumes[p.Number]; v != nil {
			x := report.Check{Title: p.Title(), Sound: true}
			if f := v.Check().FirstError(); f != nil {
				x.Sound, x.Text = false, f.Text
			}
			d.Checks = append(d.Checks, x)
		}
	}
	if st.Facts.PC != nil && st.Facts.StartsHere {
		for _, x := range plan.StartChecks(d.Before, l, st.Facts, st.Facts.PC) {
			d.Checks = append(d.Checks, report.Check{Title: "Start of the PC: " + x.What, Sound: x.Standing == plan.Sound || x.Standing == plan.Mends, ToDo: x.Standing == plan.Must, Text: x.Text})
		}
	}
	return d, nil
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

// canComeBack says of records how their partitions could be brought back as the drive is now, in the words of
// their pages.
func (s *Server) canComeBack(st *jobState, gone map[string]*trail.Record) (map[string]string, error) {
	var steps []plan.Step
	for id, rec := range gone {
		if !rec.Erased {
			steps = append(steps, plan.Step{Do: plan.BringBack, Record: id})
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
			out[x.Record] = col.Obstacles[0].Text
		case col.Place == plan.InPlace:
			out[x.Record] = "It can be brought back " + col.Detail + "."
		default:
			out[x.Record] = "It can be rebuilt " + col.Detail + "."
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
		if m.ID == rec.Backup || m.From.Drive().Same(rec.Drive) && run.SamePartition(m.From.Span, rec.Span) {
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
		out = append(out, fmt.Sprintf("%s has its place now, or a part of it.", n.layout.Partitions()[over].Title()), way)
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

// happened is what the runs of a job did to a drive, one after the other.
type happened struct {
	runs []ranOnce
	back map[string]bool // places, of partitions that were brought back
}

// ranOnce is one run: the drive before and after, and the numbers of partitions that it deleted.
type ranOnce struct {
	before, after *layout.Layout
	gone          map[int]bool
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
			x.After, x.What = q.Bytes, changes(&p, q, now.Sector)
		}
		out = append(out, x)
	}
	for _, q := range now.Partitions() {
		if !known[place(&q)] {
			out = append(out, report.Change{Title: q.Title(), After: q.Bytes, What: []string{map[bool]string{true: "brought back", false: "new"}[h.back[place(&q)]]}})
		}
	}
	return out
}

type handOverView struct {
	*report.Report
	Bay    string
	Counts map[string]int
}

func (s *Server) handOverPage(c *gin.Context) {
	r, j, err := s.reportOf(c, c.Param("job"))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "handover", page{Title: "Hand over " + j.Number, Here: "handover", Body: handOverView{Report: r, Bay: bayOf(c)}, Crumbs: []crumb{
		{"Bench", "/"}, {j.Number + " " + j.Customer, "/jobs/" + url.PathEscape(j.Number) + "?bay=" + url.QueryEscape(bayOf(c))}, {"Hand over", ""},
	}})
}

// reportPDF hands the report out as a PDF file.
func (s *Server) reportPDF(c *gin.Context) {
	r, j, err := s.reportOf(c, c.Param("job"))
	var b bytes.Buffer
	if err == nil {
		err = r.PDF(&b)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, j.Number+" report.pdf")
	c.Data(http.StatusOK, "application/pdf", b.Bytes())
}

// entriesOf are the trail's entries of a job, the oldest first.
func (s *Server) entriesOf(number string) ([]trail.Entry, error) {
	list, err := s.Store.Entries(store.Filter{Job: number})
	slices.Reverse(list)
	return list, err
}

// jobCSV hands out a job's entries or records as a table.
func (s *Server) jobCSV(c *gin.Context) {
	number := c.Param("job")
	list, err := s.entriesOf(number)
	if err != nil {
		s.fail(c, err)
		return
	}
	what := c.Param("what")
	var rows [][]string
	switch what {
	case "trail.csv":
		rows = append(rows, []string{"number", "time", "who", "act", "what", "reason", "drive serial", "partition", "record", "backup", "run", "hash"})
		for _, e := range list {
			rows = append(rows, []string{fmt.Sprint(e.Seq), e.Time.UTC().Format(time.RFC3339), e.Who, string(e.Act), e.Text, e.Reason, e.Drive.Serial, fmt.Sprint(e.Partition), e.Record, e.Backup, e.Run, e.Hash})
		}
	case "records.csv":
		rows = append(rows, []string{"record", "time", "who", "title", "kind", "label", "serial", "start sector", "end sector", "bytes", "type id", "unique id", "attributes", "name", "reason", "waiver", "backup", "files", "erased"})
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
			rows = append(rows, []string{rec.ID, rec.Time.UTC().Format(time.RFC3339), rec.Who, rec.Span.Title(), kind, label, serial, fmt.Sprint(int64(rec.Span.Start)), fmt.Sprint(int64(rec.Span.End)), fmt.Sprint(int64(rec.Span.Bytes)),
				rec.Span.TypeID, rec.Span.UniqueID, rec.Span.Attributes, rec.Span.Name, rec.Reason, rec.Waiver, rec.Backup, fmt.Sprint(rec.Files), fmt.Sprint(rec.Erased)})
		}
	default:
		s.fail(c, fmt.Errorf("this page does not exist: %w", store.ErrNotFound))
		return
	}
	attachment(c, number+" "+what)
	c.Header("Content-Type", "text/csv; charset=utf-8")
	w := csv.NewWriter(c.Writer)
	for _, row := range rows {
		for i := range row { // a program that reads tables must not take a text for a formula
			if row[i] != "" && strings.ContainsAny(row[i][:1], "=+-@\t\r") {
				row[i] = "'" + row[i]
			}
		}
		if err := w.Write(row); err != nil {
			c.Error(err)
			return
		}
	}
	w.Flush()
}

// archive hands a job out as one open zip: what another installation, or anybody with a text
// editor, needs to know all that was done.
func (s *Server) archive(c *gin.Context) {
	r, j, err := s.reportOf(c, c.Param("job"))
	var list []trail.Entry
	if err == nil {
		list, err = s.entriesOf(j.Number)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, j.Number+".zip")
	c.Header("Content-Type", "application/zip")
	z := zip.NewWriter(c.Writer)
	put := func(name string, write func(w io.Writer) error) {
		if err != nil {
			return
		}
		var w io.Writer
		if w, err = z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: s.Now()}); err == nil {
			err = write(w)
		}
	}
	asJSON := func(v any) func(w io.Writer) error {
		return func(w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			return e.Encode(v)
		}
	}
	put("job.json", asJSON(map[string]any{"version": 1, "number": j.Number, "customer": j.Customer, "pc": j.PC, "story": j.Story, "want": j.Want, "made": s.Now(), "head": r.Head, "key": r.Key}))
	put("report.json", asJSON(r))
	put("report.pdf", r.PDF)
	put("trail.jsonl", func(w io.Writer) error {
		return s.Store.Lines(c.Request.Context(), j.Number, func(line string) error { _, err := io.WriteString(w, line+"\n"); return err })
	})
	runs, records, backups := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, e := range list {
		runs[e.Run], records[e.Record], backups[e.Backup] = e.Run != "", e.Record != "", e.Backup != ""
	}
	for _, kind := range []struct {
		ids   map[string]bool
		dir   string
		files []string
	}{
		{runs, s.Folder("runs"), []string{"run.json", "ended.json"}},
		{records, s.Records.Dir, []string{"record.json", trail.BlobFirst, trail.BlobLast, trail.BlobRanges, trail.BlobFiles}},
	} {
		for id := range kind.ids {
			if id == "" || id != filepath.Base(id) {
				continue
			}
			for _, f := range kind.files {
				b, e := os.ReadFile(filepath.Join(kind.dir, id, f))
				if e != nil {
					continue // of an erased partition no contents are kept
				}
				put(filepath.Base(kind.dir)+"/"+id+"/"+f, func(w io.Writer) error { _, err := w.Write(b); return err })
			}
		}
	}
	for id := range backups {
		if m, e := s.Shelf().Load(id); e == nil {
			put("manifests/"+m.ID+".json", asJSON(m))
		}
	}
	for _, d := range r.Drives {
		put("layouts/"+d.Serial+" before.json", asJSON(d.Before))
		put("layouts/"+d.Serial+" now.json", asJSON(d.After))
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		c.Error(err)
	}
}
