package web

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// searchRoutes are the addresses of searches and finds.
func (s *Server) searchRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job/search", s.searchPage)
	in.POST("/jobs/:job/search", s.startSearch)
	in.GET("/jobs/:job/find", s.findPage)
	in.POST("/jobs/:job/find", s.planFind)
	in.POST("/jobs/:job/finds", s.planAllFinds)
	in.POST("/jobs/:job/find/back-up", s.backUpFind)
}

// findMark is a find as the map draws it, beside the column of the drive as it is.
type findMark struct {
	Title string `json:"title"`
	Text  string `json:"text"`
	Link  string `json:"link"`
	Start int64  `json:"start"`
	End   int64  `json:"end"`
}

func findMarks(job, bay string, finds []seek.Find) []findMark {
	out := []findMark{}
	for _, f := range finds {
		if f.Confidence != seek.Doubtful {
			out = append(out, findMark{
				f.Title(), fmt.Sprintf("%s, %s, found: %s", f.Title(), f.Bytes, f.Confidence), findLink(job, bay, f),
				int64(f.Start), int64(f.End),
			})
		}
	}
	return out
}

// findRow is a find on the page of a search.
type findRow struct {
	seek.Find
	Link string
	Word string // how far it can be believed
}

func findRows(job, bay string, finds []seek.Find) (out, ghosts []findRow) {
	for _, f := range finds {
		r := findRow{f, findLink(job, bay, f), string(f.Confidence)}
		if f.Ghost {
			r.Word = "ghost"
			ghosts = append(ghosts, r)
		} else {
			out = append(out, r)
		}
	}
	return out, ghosts
}

func findLink(job, bay string, f seek.Find) string {
	return findPath(job, bay, strconv.FormatInt(int64(f.Start), 10), strconv.FormatInt(int64(f.At), 10))
}

// findPath is where the page of a find is: the find that begins at sector start and is told of
// at byte told.
func findPath(job, bay, start, told string) string {
	return pageOf(job, bay, "find", "start", start, "told", told)
}

type searchView struct {
	Job, Bay string
	Title    string
	Size     disk.Bytes
	Finds    []findRow
	Ghosts   []findRow
	// Likeliest is how the find is brought back that can be believed best, nil where none is or all are planned at once.
	Likeliest *waysBack
	Ruler     *ruler
	Found     []foundAt // over the ruler
	Before    *shop.Searched
	Part      bool // the search was stopped on the way
	Left      int  // of the structures that were seen, those too many to judge for a page
	All       int  // how many can be brought back at once, 0 where that is not offered
	NoTable   bool // a table is made for them
	Busy      bool
	Box       workBox
}

// Taken tells that something else lies over one of the finds that are drawn.
func (v searchView) Taken() bool {
	return slices.ContainsFunc(v.Found, func(f foundAt) bool { return len(f.Taken) > 0 })
}

// planAllFinds lays the plan that brings back all that was found, sure or likely: into a table that is made
// where there is none.
func (s *Server) planAllFinds(c *gin.Context) {
	where := pageOf(c.Param("job"), bayOf(c), "search")
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.Close()
	back, err := s.AllBack(st)
	if err == nil {
		err = s.NewPlan(by(c), st, back.Steps, "bringing back all that was found")
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(
		c, "sound", "Bringing them back is planned. Look at the map, then carry it out.",
		pageOf(st.Job.Number, st.Drive.Bay, ""),
	)
}

func (s *Server) searchPage(c *gin.Context) {
	j, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer d.Close()
	finds, before, err := s.Lost(c.Request.Context(), d)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := searchView{
		Job: j.Number, Bay: d.Bay, Title: d.Identity.Model, Size: d.Survey.Layout.Size, Before: before,
		Busy: s.Desk.Busy(d.Path),
	}
	if before != nil {
		v.Part, v.Left = before.Reached < before.Size, len(before.Told)-len(before.Judged())
	}
	v.Finds, v.Ghosts = findRows(j.Number, d.Bay, finds)
	v.Ruler = rulerOf(d.Survey.Layout, 1000)
	v.Found = foundOn(v.Ruler, v.Finds[:min(len(v.Finds), mostFound)])
	v.NoTable = d.Survey.Layout.Scheme == "none"
	if n := len(shop.WorthBack(finds)); n > 1 || v.NoTable {
		v.All = n
	}
	if v.All == 0 {
		v.Likeliest = s.likeliestBack(j.Number, d.Bay, finds)
	}
	w, _ := s.Desk.State(d.Path)
	v.Box = boxOf(j.Number, d.Bay, w)
	r := s.railFor(c, "search")
	if f := shop.Likeliest(finds); f != nil && r != nil && r.Next.Turn == shop.TurnSearch {
		r.Next.Text = fmt.Sprintf("%s was found (%s, %s).", f.Title(), f.Bytes, f.Confidence)
		r.Next.Label, r.Next.Link = "Look at it", findLink(j.Number, d.Bay, *f)
	}
	s.render(
		c, http.StatusOK, "search",
		page{Title: "Search, bay " + d.Bay, Here: "job", Body: v, Rail: r, Crumbs: s.driveCrumbs(j, d, "Search")},
	)
}

func (s *Server) driveCrumbs(j *store.Job, d *shop.Drive, last string) []crumb {
	return []crumb{
		{"Bench", "/"},
		{j.Number + " " + j.Customer, pageOf(j.Number, d.Bay, "")},
		{last, ""},
	}
}

// startSearch begins a search through a whole drive.
func (s *Server) startSearch(c *gin.Context) {
	where := pageOf(c.Param("job"), bayOf(c), "search")
	if err := s.SearchDrive(errandOf(c), c.PostForm("on") != ""); err != nil {
		s.refuse(c, err, where)
		return
	}
	c.Redirect(http.StatusSeeOther, where)
}

// findOf judges one find again, as the drive is now.
func (s *Server) findOf(c *gin.Context, d *shop.Drive) (*seek.Find, error) {
	start, err := strconv.ParseInt(c.Query("start"), 10, 64)
	told, e := strconv.ParseInt(c.Query("told"), 10, 64)
	if err != nil || e != nil || start <= 0 || told < 0 {
		return nil, fmt.Errorf("%w: it is not clear which find is meant", store.ErrNotFound)
	}
	f, err := facts.Find(
		facts.Sources{
			Drive: facts.Drive{Seen: func() ([]disk.Bytes, error) { return s.SeenOn(d) }},
			Shop:  facts.Shop{Records: s.Records},
		}, d.Image, d.Survey,
		disk.LBA(start), disk.Bytes(told),
	)
	if errors.Is(err, facts.ErrNoFind) {
		err = fmt.Errorf("%w: %w", store.ErrNotFound, err)
	}
	return f, err
}

// strip is a stretch of the drawing of what lies over a place.
type strip struct {
	X, W  float64
	State seek.State
	Title string
}

// standView is how a place stands, with its drawing.
type standView struct {
	*seek.Stand
	Strips []strip
	Known  bool // what was not taken is known to be untouched; else nothing is known of it
}

// drawn is how many stretches the drawing of a place has.
const drawn = 240

// badness orders the states of a stretch, from untouched to taken; 0 is for what was not in use.
var badness = map[seek.State]int{seek.Untouched: 1, seek.Unsure: 2, seek.Taken: 3}

// stateWords are the states of a stretch in words.
var stateWords = map[seek.State]string{seek.Untouched: "untouched", seek.Unsure: "not known", seek.Taken: "taken"}

// drawStand draws a stand: each stretch is what is worst in it.
func drawStand(st *seek.Stand, start, n disk.Bytes, known bool) *standView {
	v := &standView{Stand: st, Known: known}
	worst := make([]int, drawn) // 0 not in use, 1 untouched, 2 unknown, 3 taken
	by := make([]string, drawn)
	for _, p := range st.Pieces {
		k := badness[p.State]
		from, to := int((p.Off-start)*drawn/n), int((p.Off+p.Len-1-start)*drawn/n)
		for i := max(from, 0); i <= min(to, drawn-1); i++ {
			if k > worst[i] {
				worst[i], by[i] = k, p.By
			}
		}
	}
	for i := 0; i < drawn; {
		k := i
		for k < drawn && worst[k] == worst[i] && by[k] == by[i] {
			k++
		}
		if worst[i] > 0 {
			x := strip{
				X: float64(i) * 100 / drawn, W: float64(k-i) * 100 / drawn,
				State: []seek.State{"", seek.Untouched, seek.Unsure, seek.Taken}[worst[i]],
			}
			x.Title = stateWords[x.State]
			if by[i] != "" {
				x.Title += " by " + by[i]
			}
			v.Strips = append(v.Strips, x)
		}
		i = k
	}
	return v
}

// fileStand is a file of a lost partition with how it stands.
type fileStand struct {
	volume.File
	seek.OfFile
	Link string
	// Was tells how it differs from what the record has, "" where it does not.
	Was string
}

// waysBack are the ways to bring a find back, each with its form.
type waysBack struct {
	Job, Bay string
	Find     *seek.Find
	Told     disk.Bytes
	Ways     []plan.Back
	Busy     bool // nothing can be planned now
}

type findView struct {
	waysBack
	Word    string
	Inside  string // where its folders can be looked into
	Stand   *standView
	No      []plan.Obstacle
	Files   []fileStand
	More    int
	Counts  map[string]int
	Record  *trail.Record
	Missing []string // files that the record has and the find has not
	Box     workBox
}

// mostFiles is how many files the page of a find or record lists: those that are not whole
// first.
const mostFiles = 300

// backOf is a find that can be brought back, without its ways.
func backOf(st *shop.JobState, f *seek.Find) waysBack {
	return waysBack{
		Job: st.Job.Number, Bay: st.Drive.Bay, Find: f, Told: f.At, Busy: st.Busy || st.Pending != nil,
	}
}

// likeliestBack is how the likeliest of what was found on a drive is brought back, nil where no way is known.
func (s *Server) likeliestBack(job, bay string, finds []seek.Find) *waysBack {
	f := shop.Likeliest(finds)
	if f == nil {
		return nil
	}
	st, err := s.WorkOut(job, bay)
	if err != nil {
		return nil
	}
	defer st.Drive.Close()
	v := backOf(st, f)
	if v.Ways, _, err = s.WaysBack(st, f); err != nil || len(v.Ways) == 0 || v.Busy {
		return nil
	}
	return &v
}

func (s *Server) findPage(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	d := st.Drive
	f, err := s.findOf(c, d)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := findView{waysBack: backOf(st, f), Word: string(f.Confidence)}
	sec := d.Survey.Layout.Sector
	stand, err := facts.FindStands(s.Options(d, st.Job, "").Sources, d.Survey, f)
	if err != nil {
		s.fail(c, err)
		return
	}
	v.Stand = drawStand(stand, f.Start.Offset(sec), f.Bytes, stand.Untouched > 0)
	if f.Ghost {
		v.Word = "ghost"
	}
	if f.Volume() != nil {
		v.Inside = pageOf(v.Job, v.Bay, "inside", "start", int64(f.Start), "told", int64(f.At))
		if err := s.findFiles(&v, stand, f.Start.Offset(sec)); err != nil {
			s.fail(c, err)
			return
		}
	}
	if v.Ways, v.No, err = s.WaysBack(st, f); err != nil {
		s.fail(c, err)
		return
	}
	v.Box = boxOf(v.Job, v.Bay, st.Work)
	s.render(c, http.StatusOK, "find", page{Title: "Find: " + f.Title(), Here: "job", Body: v, Crumbs: []crumb{{"Bench", "/"},
		{st.Job.Number + " " + st.Job.Customer, pageOf(v.Job, v.Bay, "")},
		{"Search", pageOf(v.Job, v.Bay, "search")}, {f.Title(), ""}}})
}

// findFiles lists the files of a find, those first that are not whole, and compares the list
// with that of its record.
func (s *Server) findFiles(v *findView, stand *seek.Stand, start disk.Bytes) error {
	files, err := v.Find.Volume().Files()
	if err != nil {
		v.Find.Reasons = append(v.Find.Reasons, "Not all of its files can be listed: "+words.Sentence(err))
	}
	was := map[string]volume.File{}
	if v.Find.Record != "" {
		if v.Record, _, err = s.Records.Load(v.Find.Record); err == nil {
			list, err := s.Records.FileList(v.Record)
			if err != nil {
				return err
			}
			for _, x := range list {
				if x.Stream == "" && x.Kind == volume.Plain {
					was[x.Path] = x
				}
			}
		}
	}
	v.Counts = map[string]int{}
	for _, x := range files {
		if !x.IsFile() {
			continue
		}
		r := fileStand{
			File: x, OfFile: stand.File(x, start),
			Link: fmt.Sprintf(
				"/jobs/%s/file?bay=%s&start=%d&told=%d&path=%s", url.PathEscape(v.Job), url.QueryEscape(v.Bay),
				v.Find.Start, v.Find.At, url.QueryEscape(x.Path),
			),
		}
		if k, known := was[x.Path]; v.Record != nil {
			switch delete(was, x.Path); {
			case !known:
				r.Was = "not in the record"
			case k.Bytes != x.Bytes || !k.Modified.Equal(x.Modified):
				r.Was = "of another size or time in the record"
			}
		}
		v.Counts[string(r.State)]++
		v.Files = append(v.Files, r)
	}
	for p := range was {
		v.Missing = append(v.Missing, p)
	}
	slices.Sort(v.Missing)
	v.Files, v.More = worstFirst(v.Files)
	return nil
}

// worstFirst puts files that are not whole before the others, and leaves out what a page cannot
// list.
func worstFirst(files []fileStand) (list []fileStand, more int) {
	slices.SortStableFunc(files, func(a, b fileStand) int {
		n := map[seek.State]int{seek.Taken: 0, seek.Unsure: 1, seek.Untouched: 2}
		return n[a.State] - n[b.State]
	})
	if len(files) > mostFiles {
		return files[:mostFiles], len(files) - mostFiles
	}
	return files, 0
}

// backUpFind puts the files of a find on the shelf, without bringing it back.
func (s *Server) backUpFind(c *gin.Context) {
	where := findPath(c.Param("job"), bayOf(c), c.Query("start"), c.Query("told"))
	j, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	f, err := s.findOf(c, d)
	if err == nil {
		o := s.Options(d, j, me(c).Name)
		start, told := f.Start, f.At
		err = s.Desk.Start(d.Path, "back-up", "Backup of a find", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer d.Close()
			m, err := run.BackUpFind(ctx, o, start, told, func(p shelf.Progress) {
				report(work.Update{Phase: p.Phase, Done: p.Done, Total: p.Total})
			})
			if err != nil {
				return "", err
			}
			text := fmt.Sprintf(
				"Its files are on the shelf and verified: %s",
				words.Plural(m.Count-m.Unreadable, "file or folder", "files and folders"),
			)
			if m.Unreadable > 0 {
				text += fmt.Sprintf("; %d were left out, because something else lies in their place", m.Unreadable)
			}
			return text, nil
		})
	}
	if err != nil {
		d.Close()
		s.refuse(c, err, where)
		return
	}
	c.Redirect(http.StatusSeeOther, where)
}

// planFind lays one of the ways to bring a find back.
func (s *Server) planFind(c *gin.Context) {
	where := findPath(c.Param("job"), bayOf(c), c.Query("start"), c.Query("told"))
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.Close()
	f, err := s.findOf(c, st.Drive)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	ways, _, err := s.WaysBack(st, f)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	i, err := strconv.Atoi(c.PostForm("way"))
	if reason := strings.TrimSpace(c.PostForm("damaged")); err == nil && i >= 0 && i < len(ways) && ways[i].Damage != nil {
		err = shop.AcceptDamage(ways[i].Steps, reason)
	}
	switch {
	case errors.Is(err, shop.ErrNoReason):
	case err != nil || i < 0 || i >= len(ways):
		err = errors.New("that way is not there any more; look at the drive as it is now. Nothing was planned")
	case len(st.Steps) > 0 && len(ways[i].Steps) == 1:
		err = s.Stage(by(c), st, ways[i].Steps[0])
	default:
		err = s.NewPlan(by(c), st, ways[i].Steps, "bringing back "+f.Title())
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(
		c, "sound", "Bringing it back is planned. Look at the map, then carry it out.",
		pageOf(st.Job.Number, st.Drive.Bay, ""),
	)
}
