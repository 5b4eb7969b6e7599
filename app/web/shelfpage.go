package web

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/core/words"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// shelfRow is a backup on the shelf's page.
type shelfRow struct {
	*shelf.Manifest
	Job     string
	Relying int // records whose contents it keeps
	Expired bool
	Lost    string // why its contents are not what was verified, "" where nothing speaks for that
}

type shelfView struct {
	Backups           []shelfRow
	Left              []shelf.Leftover
	Jobs, Drives      []string
	Job, Drive, State string
	All               int
	Places            []placeRow
	Line              string
	Work              *workLine
}

// states are what a backup can be filtered by.
var states = []string{"verified", "not verified", "damaged", "past its day"}

// States implements the page's filter.
func (shelfView) States() []string { return states }

// rows are the backups with what the trail and the records say of them.
func (s *Server) rows(list []*shelf.Manifest) ([]shelfRow, error) {
	entries, err := s.store.Entries(store.Filter{Act: string(trail.ActBackup)})
	if err != nil {
		return nil, err
	}
	jobs := map[string]string{}
	for _, e := range entries {
		jobs[e.Backup] = e.Job
	}
	var out []shelfRow
	for _, m := range list {
		needed, err := s.records.Relying(m.ID)
		if err != nil {
			return nil, err
		}
		out = append(out, shelfRow{m, jobs[m.ID], len(needed), m.KeepUntil != nil && m.KeepUntil.Before(s.now()), lost(m)})
	}
	return out, nil
}

func (s *Server) shelfPage(c *gin.Context) {
	v := shelfView{Job: c.Query("job"), Drive: c.Query("drive"), State: c.Query("state")}
	sh := s.shelfFor(c)
	list, err := sh.List()
	if err == nil {
		v.Places = placeRows(sh, list)
		v.Left, err = sh.Leftovers()
	}
	var all []shelfRow
	if err == nil {
		all, err = s.rows(list)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, r := range all {
		if r.Job != "" {
			v.Jobs = append(v.Jobs, r.Job)
		}
		v.Drives = append(v.Drives, r.From.Serial)
		if (v.Job == "" || r.Job == v.Job) && (v.Drive == "" || r.From.Serial == v.Drive) && (v.State == "" || r.State() == v.State || r.Expired && v.State == "past its day") {
			v.Backups = append(v.Backups, r)
		}
	}
	slices.Sort(v.Jobs)
	slices.Sort(v.Drives)
	v.Jobs, v.Drives, v.All = slices.Compact(v.Jobs), slices.Compact(v.Drives), len(all)
	v.Work, v.Line = s.onDesk("shelf")
	s.render(c, http.StatusOK, "shelf", page{Title: "Shelf", Here: "shelf", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Shelf", ""}}})
}

// lostBackups tells of every backup that counts, and whose contents are not as they were verified.
func (s *Server) lostBackups() ([]string, error) {
	list, err := s.shelf().List()
	var out []string
	for _, m := range list {
		if why := lost(m); why != "" {
			out = append(out, fmt.Sprintf("Backup of %s, made %s: %s", m.From.Span.Title(), m.Made.Local().Format("2 Jan 15:04"), why))
		}
	}
	return out, err
}

// lost is why what lies on the shelf of a backup that was verified is not that any more, "" where nothing
// speaks for it.
func lost(m *shelf.Manifest) string {
	if m.Verified == nil {
		return ""
	}
	if err := m.Lies(); err != nil {
		return run.Sentence(err)
	}
	return ""
}

// onDesk is a piece of work that belongs to no drive, nil for none.
func (s *Server) onDesk(key string) (*workLine, string) {
	w, ok := s.desk.State(key)
	if !ok || w.Kind == "" {
		return nil, ""
	}
	l := workView(w)
	return &l, w.Trouble + w.Outcome
}

// onShelf starts work on the backups; there is one piece of it at a time.
func (s *Server) onShelf(kind, title string, f func(ctx context.Context, report func(shelf.Progress)) (string, error)) error {
	return s.desk.Start("shelf", kind, title, func(ctx context.Context, report func(work.Update)) (string, error) {
		return f(ctx, fromShelf(report))
	})
}

// then leads on to where, or back there with why something was not done.
func (s *Server) then(c *gin.Context, err error, where string) {
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	c.Redirect(http.StatusSeeOther, where)
}

// whereFrom is the shelf's page, or the backup's own that a form was on.
func whereFrom(c *gin.Context) string {
	if c.PostForm("page") == "backup" {
		return "/shelf/" + url.PathEscape(c.PostForm("backup"))
	}
	return "/shelf"
}

func (s *Server) verifyBackup(c *gin.Context) {
	s.then(c, s.verifyOnShelf(me(c), c.PostForm("backup")), whereFrom(c))
}

// verifyOnShelf begins to read a backup back and to compare it with its hashes.
func (s *Server) verifyOnShelf(who *store.Technician, id string) error {
	return s.onShelf("verify-backup", "Verification", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		now := s.now()
		m, err := s.shelf().Verify(ctx, id, now, report)
		var damage *shelf.Damage
		if err != nil && !errors.As(err, &damage) {
			return "", err
		}
		tail, e2 := s.tail()
		if e2 != nil {
			return "", e2
		}
		text := fmt.Sprintf("Backup of %s read back and compared, whole", m.From.Span.Title())
		if damage != nil {
			text = fmt.Sprintf("Backup of %s read back and compared: damaged, %s", m.From.Span.Title(), damage.What())
		}
		return fmt.Sprintf("%s is whole: every piece reads back as it was written.", m.ID), errors.Join(err, s.store.Append(trail.Entry{
			ID: "e-verify-" + tail, Time: now, Who: who.Name, Act: trail.ActVerify, Backup: m.ID, Partition: m.From.Span.Number, Drive: m.From.Drive(), Text: text,
		}))
	})
}

func (s *Server) takeInBackup(c *gin.Context) {
	s.then(c, s.ownBackup(me(c), c.PostForm("backup"), strings.TrimSpace(c.PostForm("reason"))), whereFrom(c))
}

// ownBackup begins to make a backup that this shop has not signed one of its own.
func (s *Server) ownBackup(who *store.Technician, id, reason string) error {
	switch {
	case !who.Lead:
		return fmt.Errorf("%w: a backup that this shop has not signed is taken in by the lead. Nothing was changed", run.ErrLead)
	case reason == "" || len(reason) > maxReason:
		return errors.New("it does not say why the backup can be trusted; nothing was changed")
	}
	return s.onShelf("take-in", "Taking in", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		now := s.now()
		m, err := s.shelf().TakeIn(ctx, id, who.Name, now, report)
		if err != nil {
			return "", err
		}
		tail, err := s.tail()
		if err != nil {
			return "", err
		}
		e := trail.Entry{ID: "e-own-" + tail, Time: now, Who: who.Name, Act: trail.ActTakeIn, Backup: m.ID, Drive: m.From.Drive(), Reason: reason}
		e.Partition = m.From.Span.Number
		e.Text = fmt.Sprintf("Backup %s taken in, which this shop had not signed: of %s, as it says of itself, made by %s", m.ID, m.From.Span.Title(), m.Who)
		return fmt.Sprintf("%s was read, is whole, and is one of the shop's backups from now on.", m.ID), s.store.Append(e)
	})
}

func (s *Server) exportBackup(c *gin.Context) {
	s.then(c, s.exportFromShelf(c.PostForm("backup")), whereFrom(c))
}

// exportFromShelf begins to write a backup out as it can be handed over.
func (s *Server) exportFromShelf(id string) error {
	return s.onShelf("export", "Export", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		m, err := s.shelf().Export(ctx, id, report)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s can be handed over; SHA-256 of what it unpacks to: %s.", m.ID, m.SHA256), nil
	})
}

// keepBackup notes until when a backup is meant to be kept.
func (s *Server) keepBackup(c *gin.Context) {
	var until *time.Time
	if t := strings.TrimSpace(c.PostForm("until")); t != "" {
		day, err := time.ParseInLocation("2006-01-02", t, time.Local)
		if err != nil || day.Year() < 2000 || day.Year() > 2200 {
			s.refuse(c, fmt.Errorf("%q is not a day; nothing was changed. Give it as year-month-day", t), whereFrom(c))
			return
		}
		until = &day
	}
	if err := s.shelf().Keep(c.PostForm("backup"), until); err != nil {
		s.refuse(c, err, whereFrom(c))
		return
	}
	c.Redirect(http.StatusSeeOther, whereFrom(c))
}

func (s *Server) deleteBackup(c *gin.Context) {
	if err := s.takeOffShelf(me(c), c.PostForm("backup"), strings.TrimSpace(c.PostForm("reason"))); err != nil {
		s.refuse(c, err, whereFrom(c))
		return
	}
	s.say(c, "sound", "The backup was deleted. Its entry stands in the trail.", "/shelf")
}

// takeOffShelf takes a backup off the shelf. A plan that needs it stands against that.
func (s *Server) takeOffShelf(who *store.Technician, id, reason string) error {
	jobs, err := s.store.Jobs()
	if err != nil {
		return err
	}
	for _, j := range jobs {
		steps, _, err := j.Steps()
		if err != nil {
			return err
		}
		if slices.ContainsFunc(steps, func(x plan.Step) bool { return x.Backup == id }) {
			return fmt.Errorf("the plan of %s puts files back from this backup; nothing was deleted. Take that step out first", j.Number)
		}
	}
	if len(reason) > maxReason {
		return errors.New("that reason is too long; nothing was deleted")
	}
	o := run.Options{Shelf: s.shelf(), Records: s.records, Trail: s.store, Who: who.Name, Lead: who.Lead, Now: s.now}
	e, err := run.Gone(o, id, reason)
	if err != nil {
		return err
	}
	return s.books.Do(shop.Act{ID: e.ID, Backup: id, Entry: e})
}

// download hands a backup's contents over, with ranges for a download that was cut.
func (s *Server) download(c *gin.Context) {
	m, err := s.shelf().Load(c.Param("backup"))
	if err != nil {
		s.fail(c, err)
		return
	}
	f, err := s.shelf().Stored(m)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer f.Close()
	c.Header("Content-Type", "application/zstd")
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s"`, m.ID, f.Name))
	http.ServeContent(c.Writer, c.Request, "", m.Made, f)
}

// backupView is the page of one backup.
type backupView struct {
	shelfRow
	Records []*trail.Record
	// Today says how its partition is now: where, and whether it has changed since.
	Today      string
	Changed    bool
	TodayLink  string
	Unread     []shelf.Entry
	UnreadMore int
	Looks      bool
	Targets    []target
	Gaps       []target // that a whole image fits into
	Work       *workLine
	Line       string
}

// BackupID is the backup that the page is about.
func (v backupView) BackupID() string { return v.ID }

// Chosen tells that what is put back is chosen from a list.
func (backupView) Chosen() bool { return false }

func (s *Server) backupPage(c *gin.Context) {
	m, err := s.shelf().Load(c.Param("backup"))
	if err != nil {
		s.fail(c, err)
		return
	}
	rows, err := s.rows([]*shelf.Manifest{m})
	if err != nil {
		s.fail(c, err)
		return
	}
	v := backupView{shelfRow: rows[0]}
	if v.Records, err = s.records.Relying(m.ID); err == nil {
		err = s.today(&v)
	}
	if err == nil {
		v.Targets, err = s.targets(m)
	}
	if err == nil && m.Kind == shelf.Image {
		v.Gaps, err = s.gapsFor(m)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if _, r, err := s.shelf().Inside(m); err == nil {
		v.Looks = true
		r.Close()
	}
	if m.Unreadable > 0 {
		if list, err := s.shelf().ListOf(m); err == nil {
			for _, e := range list {
				if e.Unreadable == "" {
					continue
				}
				if len(v.Unread) < mostFiles {
					v.Unread = append(v.Unread, e)
				} else {
					v.UnreadMore++
				}
			}
		}
	}
	v.Work, v.Line = s.onDesk("shelf")
	s.render(c, http.StatusOK, "backup", page{Title: "Backup of " + m.From.Span.Title(), Here: "shelf", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Shelf", "/shelf"}, {m.ID, ""}}})
}

// today compares a backup with the drives in the bays.
func (s *Server) today(v *backupView) error {
	bays, err := s.store.Bays()
	if err != nil {
		return err
	}
	v.Today = "Its drive is in no bay, so it cannot be compared with it."
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		d, err := s.open(&b, false)
		if err != nil {
			continue
		}
		defer d.close()
		if !driveName(d).Same(v.From.Drive()) {
			continue
		}
		v.Today = fmt.Sprintf("Its partition is no longer on the drive in bay %s.", b.Letter)
		for _, p := range d.sv.Layout.Partitions() {
			if p.UniqueID != v.From.Span.UniqueID {
				continue
			}
			now, err := shelf.Fingerprint(survey.Window(d.im, p), d.sv.Volumes[p.Number])
			if err != nil {
				return err
			}
			v.Changed = now != v.From.Fingerprint || p.Bytes != v.From.Span.Bytes
			v.Today = fmt.Sprintf("%s in bay %s is as it was when the backup was made.", p.Title(), b.Letter)
			if v.Changed {
				v.Today = fmt.Sprintf("%s in bay %s has changed since the backup was made.", p.Title(), b.Letter)
			}
			if b.Job != nil {
				v.TodayLink = fmt.Sprintf("/jobs/%s?bay=%s&p=%d", url.PathEscape(*b.Job), b.Letter, p.Number)
			}
		}
	}
	return nil
}

// target is a volume that files can be put into.
type target struct{ Value, Text string }

// withJobs visits the drives in the bays that belong to a job; what cannot be opened is
// left out.
func (s *Server) withJobs(visit func(b store.Bay, d *drive) error) error {
	bays, err := s.store.Bays()
	if err != nil {
		return err
	}
	for _, b := range bays {
		if b.Image == nil || b.Job == nil {
			continue
		}
		d, err := s.open(&b, false)
		if err != nil {
			continue
		}
		err = visit(b, d)
		d.close()
		if err != nil {
			return err
		}
	}
	return nil
}

// ending is the end of a drive's serial number, by which it is told from others.
func (d *drive) ending() string { return "…" + d.Identity.Serial[max(len(d.Identity.Serial)-4, 0):] }

// targets are the volumes on drives with a job that take files in, those on the drive
// that a backup was made of first.
func (s *Server) targets(m *shelf.Manifest) ([]target, error) {
	var own, out []target
	err := s.withJobs(func(b store.Bay, d *drive) error {
		into := &out
		if driveName(d).Same(m.From.Drive()) {
			into = &own
		}
		for _, p := range d.sv.Layout.Partitions() {
			if _, ok := d.sv.Volumes[p.Number].(volume.Loader); ok && p.Role != layout.Recovery && p.Role != layout.EFI {
				*into = append(*into, target{fmt.Sprintf("%s:%d", b.Letter, p.Number), fmt.Sprintf("%s, %s in bay %s (%s), %s free", *b.Job, p.Title(), b.Letter, d.ending(), p.Volume.Free())})
			}
		}
		j, _, err := s.store.Job(*b.Job, b.Letter)
		if err != nil {
			return err
		}
		steps, expect, err := j.Steps()
		for i, x := range steps {
			if x.Do == plan.Create && x.As != "" && x.Format == "ntfs" && expect != nil && expect.Drive().Same(driveName(d)) {
				*into = append(*into, target{b.Letter + ":" + x.As, fmt.Sprintf("%s, the volume that step %d makes in bay %s, %s", *b.Job, i+1, b.Letter, cmp.Or(x.Label, "no label"))})
			}
		}
		return err
	})
	return append(own, out...), err
}

// gapsFor are the gaps on drives with a job that an image fits into.
func (s *Server) gapsFor(m *shelf.Manifest) ([]target, error) {
	var out []target
	err := s.withJobs(func(b store.Bay, d *drive) error {
		for _, g := range d.sv.Layout.Spans {
			if l := d.sv.Layout; g.Kind == layout.Gap && g.Why == layout.Free && g.Container == 0 && l.Sector == m.From.Sector && l.Room(g) >= m.Bytes {
				out = append(out, target{fmt.Sprintf("%s:%d", b.Letter, g.Start), fmt.Sprintf("%s, gap of %s in bay %s (%s)", *b.Job, l.Room(g), b.Letter, d.ending())})
			}
		}
		return nil
	})
	return out, err
}

// restoreImage plans that a whole image is put into a gap.
func (s *Server) restoreImage(c *gin.Context) {
	where := "/shelf/" + url.PathEscape(c.Param("backup"))
	bay, at, _ := strings.Cut(c.PostForm("target"), ":")
	start, err := strconv.ParseInt(at, 10, 64)
	size := strings.TrimSpace(c.PostForm("size"))
	if err != nil || len(size) > 100 {
		s.refuse(c, errors.New("no gap was chosen; nothing was planned"), where)
		return
	}
	s.stageFrom(c, bay, plan.Step{Do: plan.Create, Backup: c.Param("backup"), StartLBA: disk.LBA(start), Size: size}, "Restoring the image is planned. Look at the map, then carry it out.", "")
}

// stageInBay stages a step in the plan of the job whose drive is in a bay. It returns that job's number.
func (s *Server) stageInBay(by By, bay string, step plan.Step) (job string, err error) {
	bays, err := s.store.Bays()
	if err != nil {
		return "", err
	}
	i := slices.IndexFunc(bays, func(b store.Bay) bool { return b.Letter == bay && b.Job != nil })
	if i < 0 {
		return "", errors.New("there is no drive of a job in that bay; nothing was planned")
	}
	st, err := s.workOut(*bays[i].Job, bay)
	if err != nil {
		return "", err
	}
	defer st.Drive.close()
	return st.Job.Number, s.stage(by, st, step)
}

// stageFrom stages a step with a backup in the plan of the job whose drive is in a bay.
func (s *Server) stageFrom(c *gin.Context, bay string, step plan.Step, say, selected string) {
	job, err := s.stageInBay(by(c), bay, step)
	if err != nil {
		s.refuse(c, err, "/shelf/"+url.PathEscape(step.Backup))
		return
	}
	to := fmt.Sprintf("/jobs/%s?bay=%s", url.PathEscape(job), url.QueryEscape(bay))
	if selected != "" {
		to += "&p=" + url.QueryEscape(selected)
	}
	s.say(c, "sound", say, to)
}

// chosen is what of a backup a form names.
func chosen(c *gin.Context) ([]string, error) {
	only := c.PostFormArray("only")
	if len(only) == 0 && c.PostForm("path") != "" {
		only = []string{c.PostForm("path")}
	}
	if len(only) > 1000 || slices.ContainsFunc(only, func(p string) bool { return len(p) > 32<<10 }) {
		return nil, errors.New("that is too much at once; nothing was planned. Choose a folder instead")
	}
	return only, nil
}

// putBack plans that files of a backup are put into a volume.
func (s *Server) putBack(c *gin.Context) {
	id := c.Param("backup")
	where := "/shelf/" + url.PathEscape(id)
	only, err := chosen(c)
	bay, number, ok := strings.Cut(c.PostForm("target"), ":")
	if err == nil && (!ok || number == "" || len(number) > 20) {
		err = errors.New("no volume was chosen; nothing was planned")
	}
	folder := strings.Trim(strings.TrimSpace(c.PostForm("folder")), "/")
	if err == nil && len(folder) > 1000 {
		err = errors.New("that folder's name is too long; nothing was planned")
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.stageFrom(c, bay, plan.Step{Do: plan.CopyBack, Partition: number, Backup: id, Only: only, Folder: folder}, "Putting the files back is planned. Look at the map, then carry it out.", number)
}

func (s *Server) toFolder(c *gin.Context) {
	only, err := chosen(c)
	if err != nil {
		s.refuse(c, err, "/shelf/"+url.PathEscape(c.Param("backup")))
		return
	}
	s.then(c, s.restoreToFolder(me(c), c.Param("backup"), only), "/shelf/"+url.PathEscape(c.Param("backup")))
}

// restoreToFolder begins to put files of a backup into a new folder on the bench; only are the paths that are
// wanted, none for all.
func (s *Server) restoreToFolder(who *store.Technician, id string, only []string) error {
	return s.onShelf("restore", "Restoring files", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		m, err := s.shelf().Load(id)
		if err != nil {
			return "", err
		}
		tail, err := s.tail()
		if err != nil {
			return "", err
		}
		to := filepath.Join(s.data, "restored", m.ID+"-"+tail)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return "", err
		}
		// It has its name only once all of it is there and can be entered.
		coming, held := to+comingEnds, &shop.Held{Sink: s.store}
		defer os.RemoveAll(coming)
		out, err := run.RestoreToFolder(ctx, run.Options{Shelf: s.shelf(), Records: s.records, Trail: held, Who: who.Name, Now: s.now, Random: s.random}, id, only, coming, report)
		if err != nil {
			return "", err
		}
		restored := func(path string) string { return filepath.Join("restored", filepath.Base(path)) }
		origin, err := json.Marshal(restoredFrom{m.From.Drive(), m.From.Span})
		if err != nil {
			return "", err
		}
		act := shop.Act{ID: "restored-" + tail, Entry: held.Entries[0]}
		act.Moves = []shop.Move{{From: restored(coming), To: restored(to)}}
		act.Files = []shop.File{{Name: filepath.Join(originsFolder, filepath.Base(to)+".json"), Data: origin}}
		if err := s.books.Do(act); err != nil {
			return "", err
		}
		text := fmt.Sprintf("%s, %s, put into the folder %s on the bench and read back: %d compared, all the same.", words.Count(out.Files, "file"), out.Bytes, filepath.Join("restored", filepath.Base(to)), out.Compared)
		if n := len(out.NotThere); n > 0 {
			text += fmt.Sprintf(" %d could not be restored, the first: %s.", n, out.NotThere[0])
		}
		return text, nil
	})
}
