package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

func layoutBytes(v float64) string { return disk.Bytes(v).String() }

// recordView is the page of one deletion.
type recordView struct {
	Rec      *trail.Record
	Title    string
	Entry    *trail.Entry
	Job      *store.Job
	Genuine  bool // the record is the one the trail speaks of
	Way      string
	Can      bool
	Obstacle string
	Damage   string   // why it needs a reason to come back, "" where it needs none
	Over     []string // what lies over its place now
	Compared *shelf.Compared
	// Elsewhere tells why somebody else may have written to the drive since, "" for nothing.
	Elsewhere string
	Alone     string       // why its place is compared with no backup
	Back      *trail.Entry // when it was brought back
	Undone    bool
	Files     []fileStand
	More      int
	Stand     *standView // how its place stands, nil where that cannot be told
	Counts    map[string]int
	start     disk.Bytes
	Formerly  *layout.Span // on the drive again
}

func (s *Server) recordPage(c *gin.Context) {
	v, err := s.recordOf(c.Param("record"))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(
		c, http.StatusOK, "record",
		page{
			Title: "Record of " + v.Title, Here: "trail", Body: v,
			Crumbs: []crumb{{"Bench", "/"}, {"Trail", "/trail"}, {"Record of " + v.Title, ""}},
		},
	)
}

func (s *Server) recordOf(id string) (*recordView, error) {
	rec, hash, err := s.Records.Load(id)
	if err != nil {
		return nil, err
	}
	v := &recordView{Rec: rec, Title: rec.Span.Title()}
	list, err := s.Store.Entries(store.Filter{Record: id})
	if err != nil {
		return nil, err
	}
	for i, e := range list {
		switch e.Act {
		case trail.ActDelete:
			v.Entry = &list[i]
		case trail.ActBringBack:
			if v.Back == nil {
				v.Back = &list[i]
			}
		}
	}
	v.Genuine = trail.RecordHash(list, id) == hash
	if v.Entry != nil {
		runs, err := s.Store.Entries(store.Filter{Act: string(trail.ActUndone), Drive: &rec.Drive})
		if err != nil {
			return nil, err
		}
		for _, e := range runs {
			v.Undone = v.Undone || e.Run == v.Entry.Run
			if v.Back != nil && e.Run == v.Back.Run {
				v.Back = nil
			}
		}
	}
	files, err := s.Records.FileList(rec)
	if err != nil && !errors.Is(err, trail.ErrNoRecord) {
		return nil, err
	}
	if err := s.standing(v); err != nil {
		return nil, err
	}
	v.Counts = map[string]int{}
	if v.Stand != nil {
		v.Stand.Tables(files, v.start)
	}
	for _, f := range files {
		if !f.IsFile() {
			continue
		}
		x := fileStand{File: f}
		if v.Stand != nil {
			x.OfFile = v.Stand.File(f, v.start)
			v.Counts[string(x.State)]++
		}
		v.Files = append(v.Files, x)
	}
	v.Files, v.More = worstFirst(v.Files)
	return v, nil
}

// notCompared says why the place of a record's partition is compared with no backup.
func notCompared(sh *shelf.Shelf, rec *trail.Record) string {
	const rest = " What lies between its first and last megabyte cannot be compared."
	if rec.Backup == "" {
		if rec.Coverage != "" {
			return "No backup was made of it: a comparison, " + rec.Coverage + ", had shown that its files were on another volume too." + rest
		}
		return "No backup stands for it." + rest
	}
	m, err := sh.Load(rec.Backup)
	switch {
	case err != nil:
		return fmt.Sprintf("Its backup %s is on no shelf that is in a bay now.", rec.Backup) + rest
	case m.Kind != shelf.Image:
		return fmt.Sprintf("Its backup %s has its files, and not what each sector held.", rec.Backup) + rest
	}
	return fmt.Sprintf("Its backup %s does not count as it is: look at it on the shelf.", rec.Backup) + rest
}

// standing says how a deletion stands today: whether its place is free, what of
// it is still there, and how it would come back.
func (s *Server) standing(v *recordView) error {
	if v.Entry == nil {
		v.Obstacle = "The trail does not speak of this record."
		return nil
	}
	st, err := s.WorkOutFor(v.Entry.Drive)
	if err != nil {
		v.Obstacle = words.Sentence(err)
		return nil
	}
	defer st.Drive.Close()
	v.Job = st.Job
	step := plan.Step{Body: plan.BringingBack{Record: v.Rec.ID}}
	known, err := s.Facts(st.Drive, st.Job, []plan.Step{step})
	if err != nil {
		return err
	}
	for _, p := range st.Drive.Survey.Layout.Partitions() {
		if p.Start <= v.Rec.Span.End && v.Rec.Span.Start <= p.End && p.UniqueID != v.Rec.Span.UniqueID && p.Number != v.Rec.Span.Container {
			v.Over = append(v.Over, p.Title())
		}
	}
	f := known.Records[v.Rec.ID]
	o := s.Options(st.Drive, st.Job, "")
	if f.Backup != "" {
		m, err := o.Shelf.Load(f.Backup)
		if err != nil {
			return err
		}
		cmp, err := o.Shelf.Compare(
			disk.NewWindow(st.Drive.Image, v.Rec.Span.Start.Offset(st.Drive.Survey.Layout.Sector), v.Rec.Span.Bytes),
			m,
		)
		if err != nil {
			return err
		}
		v.Compared = &cmp
	} else {
		v.Alone = notCompared(o.Shelf, v.Rec)
	}
	if v.Formerly = facts.OnDrive(st.Drive.Survey.Layout, v.Rec); v.Formerly != nil {
		v.Obstacle = "It is on the drive again."
		return nil
	}
	if v.start = v.Rec.Span.Start.Offset(st.Drive.Survey.Layout.Sector); !v.Rec.Erased && v.start+v.Rec.Span.Bytes <= st.Drive.Image.Size() {
		today, err := facts.StandOf(o.Sources, st.Drive.Survey, v.Rec, v.Compared)
		if err != nil && !errors.Is(err, trail.ErrNoRecord) {
			return err
		}
		if err == nil {
			v.Elsewhere = today.Elsewhere
			v.Stand = drawStand(today.Stand, v.start, v.Rec.Span.Bytes, true)
		}
	}
	col := plan.Lay(st.Drive.Survey.Layout, known, []plan.Step{step})[0]
	if len(col.Obstacles) > 0 {
		v.Obstacle = col.Obstacles[0].Text
		return nil
	}
	if o := col.Damage(); o != nil {
		v.Damage = o.Text
	}
	v.Can, v.Way = true, map[plan.Place]string{
		plan.InPlace:    "Its place is free: the entry goes back to the byte, with the same ids. It comes back " + col.Detail + ".",
		plan.FromBackup: "It is rebuilt " + col.Detail + ".",
	}[col.Place]
	return nil
}

// bringBack stages the bringing back of a record's partition in the plan of the
// job whose drive it was on.
func (s *Server) bringBack(c *gin.Context) {
	id := c.Param("record")
	where := "/records/" + url.PathEscape(id)
	of, err := s.driveOfRecord(id)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	st, err := s.WorkOutFor(of)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.Close()
	damaged := strings.TrimSpace(c.PostForm("damaged"))
	step := plan.Step{Body: plan.BringingBack{Record: id, Damaged: damaged}}
	if len(damaged) > shop.MaxReason {
		s.refuse(c, errors.New("that text is too long; nothing was planned"), where)
		return
	}
	if size := strings.TrimSpace(c.PostForm("size")); c.PostForm("again") != "" && len(size) <= maxGoal {
		step = plan.Step{Body: plan.Rebuilding{Record: id, Size: size, As: shop.UnusedName(st.Steps)}}
	}
	if err := s.Stage(by(c), st, step); err != nil {
		s.refuse(c, err, where)
		return
	}
	if step.Do() == plan.Rebuild {
		s.say(
			c, "sound", "Making it again, empty, is planned. Look at the map, then carry it out.",
			pageOf(st.Job.Number, st.Drive.Bay, ""),
		)
		return
	}
	s.say(
		c, "sound", "Bringing it back is planned. Look at the map, then carry it out.",
		pageOf(st.Job.Number, st.Drive.Bay, ""),
	)
}

// driveOfRecord is the drive that a record's partition was on.
func (s *Server) driveOfRecord(id string) (of trail.Drive, err error) {
	list, err := s.Store.Entries(store.Filter{Record: id, Act: string(trail.ActDelete), Limit: 1})
	if err != nil {
		return of, err
	}
	if len(list) == 0 {
		return of, fmt.Errorf("%w: %s", trail.ErrNoRecord, id)
	}
	return list[0].Drive, nil
}
