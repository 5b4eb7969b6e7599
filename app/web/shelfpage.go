package web

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// shelfRoutes are the addresses of the shelf.
func (s *Server) shelfRoutes(in *gin.RouterGroup) {
	in.GET("/shelf", s.shelfPage)
	in.POST("/shelf/verify", s.verifyBackup)
	in.POST("/shelf/own", s.takeInBackup)
	in.POST("/shelf/export", s.exportBackup)
	in.POST("/shelf/keep", s.keepBackup)
	in.POST("/shelf/onto", s.chooseShelf)
	in.POST("/shelf/delete", s.deleteBackup)
	in.GET("/shelf/:backup", s.backupPage)
	in.GET("/shelf/:backup/contents.zst", s.download)
	in.POST("/shelf/:backup/put-back", s.putBack)
	in.POST("/shelf/:backup/restore-image", s.restoreImage)
	in.POST("/shelf/:backup/to-folder", s.toFolder)
}

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
	jobs, err := s.Store.JobsOfBackups()
	if err != nil {
		return nil, err
	}
	records, err := s.Records.All()
	if err != nil {
		return nil, err
	}
	needed := map[string]int{}
	for _, rec := range records {
		needed[rec.Backup]++
	}
	var out []shelfRow
	for _, m := range list {
		out = append(out, shelfRow{
			m, jobs[m.ID], needed[m.ID], m.KeepUntil != nil && m.KeepUntil.Before(s.Now()), lost(m),
		})
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
	for i := range v.Places {
		p := &v.Places[i]
		p.Books, p.Older = booksOf(all, p.Title, s.Now())
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
	s.render(
		c, http.StatusOK, "shelf",
		page{Title: "Shelf", Here: "shelf", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Shelf", ""}}},
	)
}

// lostBackups tells of every backup that counts, and whose contents are not as they were verified.
func (s *Server) lostBackups() ([]string, error) {
	list, err := s.Shelf().List()
	var out []string
	for _, m := range list {
		if why := lost(m); why != "" {
			out = append(out, fmt.Sprintf(
				"Backup of %s, made %s: %s", m.From.Span.Title(), m.Made.Local().Format("2 Jan 15:04"), why,
			))
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
		return words.Sentence(err)
	}
	return ""
}

// onDesk is a piece of work that belongs to no drive, nil for none.
func (s *Server) onDesk(key string) (*workLine, string) {
	w, ok := s.Desk.State(key)
	if !ok || w.Kind == "" {
		return nil, ""
	}
	l := workView(w)
	return &l, w.Trouble + w.Outcome
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
	s.then(c, s.VerifyBackup(me(c), c.PostForm("backup")), whereFrom(c))
}

func (s *Server) takeInBackup(c *gin.Context) {
	s.then(c, s.OwnBackup(me(c), c.PostForm("backup"), strings.TrimSpace(c.PostForm("reason"))), whereFrom(c))
}

func (s *Server) exportBackup(c *gin.Context) {
	s.then(c, s.ExportBackup(c.PostForm("backup")), whereFrom(c))
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
	if err := s.Shelf().Keep(c.PostForm("backup"), until); err != nil {
		s.refuse(c, err, whereFrom(c))
		return
	}
	c.Redirect(http.StatusSeeOther, whereFrom(c))
}

func (s *Server) deleteBackup(c *gin.Context) {
	if err := s.TakeOffShelf(me(c), c.PostForm("backup"), strings.TrimSpace(c.PostForm("reason"))); err != nil {
		s.refuse(c, err, whereFrom(c))
		return
	}
	s.say(c, "sound", "The backup was deleted. Its entry stands in the trail.", "/shelf")
}

// download hands a backup's contents over, with ranges for a download that was cut.
func (s *Server) download(c *gin.Context) {
	m, err := s.Shelf().Load(c.Param("backup"))
	if err != nil {
		s.fail(c, err)
		return
	}
	f, err := s.Shelf().Stored(m)
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
	m, err := s.Shelf().Load(c.Param("backup"))
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
	if v.Records, err = s.Records.Relying(m.ID); err == nil {
		err = s.today(&v)
	}
	if err == nil {
		v.Targets, err = s.targets("", m.From.Drive())
	}
	if err == nil && m.Kind == shelf.Image {
		v.Gaps, err = s.gapsFor(m)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if _, r, err := s.Shelf().Inside(m); err == nil {
		v.Looks = true
		r.Close()
	}
	if m.Unreadable > 0 {
		if list, err := s.Shelf().ListOf(m); err == nil {
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
	s.render(
		c, http.StatusOK, "backup",
		page{
			Title: "Backup of " + m.From.Span.Title(), Here: "shelf", Body: v,
			Crumbs: []crumb{{"Bench", "/"}, {"Shelf", "/shelf"}, {m.ID, ""}},
		},
	)
}

// today compares a backup with the drives in the bays.
func (s *Server) today(v *backupView) error {
	bays, err := s.Store.Bays()
	if err != nil {
		return err
	}
	v.Today = "Its drive is in no bay, so it cannot be compared with it."
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		d, err := s.Open(&b, false)
		if err != nil {
			continue
		}
		defer d.Close()
		if !shop.NameOf(d).Same(v.From.Drive()) {
			continue
		}
		v.Today = fmt.Sprintf("Its partition is no longer on the drive in bay %s.", b.Letter)
		for _, p := range d.Survey.Layout.Partitions() {
			if p.UniqueID != v.From.Span.UniqueID {
				continue
			}
			now, err := shelf.Fingerprint(survey.Window(d.Image, p), d.Survey.Volume(p.Number))
			if err != nil {
				return err
			}
			v.Changed = now != v.From.Fingerprint || p.Bytes != v.From.Span.Bytes
			v.Today = fmt.Sprintf("%s in bay %s is as it was when the backup was made.", p.Title(), b.Letter)
			if v.Changed {
				v.Today = fmt.Sprintf("%s in bay %s has changed since the backup was made.", p.Title(), b.Letter)
			}
			if b.Job != nil {
				v.TodayLink = pageOf(*b.Job, b.Letter, "", "p", p.Number)
			}
		}
	}
	return nil
}

// target is a volume that files can be put into.
type target struct{ Value, Text string }

// targets are the volumes on the drives of a job, or with "" of all jobs, that take files in, those on one of the drives
// first.
func (s *Server) targets(job string, first trail.Drive) ([]target, error) {
	var own, out []target
	err := s.WithJobs(job, func(b store.Bay, d *shop.Drive) error {
		into := &out
		if shop.NameOf(d).Same(first) {
			into = &own
		}
		for _, p := range d.Survey.Layout.Partitions() {
			if _, ok := d.Survey.Volume(p.Number).(volume.Loader); ok && p.Role != layout.Recovery && p.Role != layout.EFI {
				*into = append(*into, target{
					fmt.Sprintf("%s:%d", b.Letter, p.Number),
					fmt.Sprintf(
						"%s, %s in bay %s (%s), %s free", *b.Job, p.Title(), b.Letter, d.Ending(), p.Volume.Free(),
					),
				})
			}
		}
		j, _, err := s.Store.Job(*b.Job, b.Letter)
		if err != nil {
			return err
		}
		steps, expect, err := j.Steps()
		for i, x := range steps {
			made := plan.Of[plan.Creation](x)
			if made.As != "" && made.Format == "ntfs" && expect != nil && expect.Drive().Same(shop.NameOf(d)) {
				*into = append(*into, target{
					b.Letter + ":" + made.As,
					fmt.Sprintf(
						"%s, the volume that step %d makes in bay %s, %s", *b.Job, i+1, b.Letter,
						cmp.Or(made.Label, "no label"),
					),
				})
			}
		}
		return err
	})
	return append(own, out...), err
}

// gapsFor are the gaps on drives with a job that an image fits into.
func (s *Server) gapsFor(m *shelf.Manifest) ([]target, error) {
	var out []target
	err := s.WithJobs("", func(b store.Bay, d *shop.Drive) error {
		for _, g := range d.Survey.Layout.Spans {
			if l := d.Survey.Layout; g.Kind == layout.Gap && g.Why == layout.Free && g.Container == 0 && l.Sector == m.From.Sector && l.Room(g) >= m.Bytes {
				out = append(out, target{
					fmt.Sprintf("%s:%d", b.Letter, g.Start),
					fmt.Sprintf("%s, gap of %s in bay %s (%s)", *b.Job, l.Room(g), b.Letter, d.Ending()),
				})
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
	s.stageFrom(
		c, bay, plan.Step{Body: plan.Creation{Backup: c.Param("backup"), StartLBA: disk.LBA(start), Size: size}},
		"Restoring the image is planned. Look at the map, then carry it out.", "",
	)
}

// stageFrom stages a step with a backup in the plan of the job whose drive is in a bay.
func (s *Server) stageFrom(c *gin.Context, bay string, step plan.Step, say, selected string) {
	job, err := s.StageInBay(by(c), bay, step)
	if err != nil {
		s.refuse(c, err, "/shelf/"+url.PathEscape(step.Backup()))
		return
	}
	s.say(c, "sound", say, pageOf(job, bay, "", "p", selected))
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
	s.stageFrom(
		c, bay, plan.Step{Partition: number, Body: plan.CopyingBack{Backup: id, Only: only, Folder: folder}},
		"Putting the files back is planned. Look at the map, then carry it out.", number,
	)
}

func (s *Server) toFolder(c *gin.Context) {
	only, err := chosen(c)
	if err != nil {
		s.refuse(c, err, "/shelf/"+url.PathEscape(c.Param("backup")))
		return
	}
	s.then(c, s.RestoreToFolder(me(c), c.Param("backup"), only), "/shelf/"+url.PathEscape(c.Param("backup")))
}
