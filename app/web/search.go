package web

import (
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
	"sync"
	"time"

	"jadetrail/core/words"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// searched is what is kept of a search through a whole drive: where it came to, and where the
// structures lie that it saw. What they are worth is judged anew whenever it is asked for.
type searched struct {
	DiskID  string       `json:"disk_id"`
	Size    disk.Bytes   `json:"size"`
	When    time.Time    `json:"when"`
	Who     string       `json:"who"`
	Reached disk.Bytes   `json:"reached"`
	Told    []disk.Bytes `json:"told_at"`
}

// mostJudged bounds how many noted structures are judged for a page.
const mostJudged = 3000

func (s *Server) searchFile(d *drive) string {
	return filepath.Join(s.data, "searches", filepath.Base(d.path)+".json")
}

// searchedBefore is the search of a drive that is kept, nil for none. One that cannot be read is
// none: the drive can be searched again.
func (s *Server) searchedBefore(d *drive) *searched {
	b, err := os.ReadFile(s.searchFile(d))
	if err != nil {
		return nil
	}
	var k searched
	if json.Unmarshal(b, &k) != nil || k.DiskID != d.sv.Layout.DiskID || k.Size != d.sv.Layout.Size {
		return nil // damaged, of another drive, or of another table
	}
	return &k
}

// judged are the noted places that are looked at for a page.
func (k *searched) judged() []disk.Bytes { return k.Told[:min(len(k.Told), mostJudged)] }

// seenOn tells where an earlier search of a drive saw structures.
func (s *Server) seenOn(d *drive) ([]disk.Bytes, error) {
	if k := s.searchedBefore(d); k != nil {
		return k.judged(), nil
	}
	return nil, nil
}

// hints are the places that the trail tells of.
func (s *Server) hints(d *drive) ([]seek.Hint, error) {
	of, err := s.records.Of(driveName(d))
	return run.Hints(of), err
}

// lost searches where partitions are likeliest, and judges what an earlier search has seen.
func (s *Server) lost(ctx context.Context, d *drive) ([]seek.Find, *searched, error) {
	hints, err := s.hints(d)
	if err != nil {
		return nil, nil, err
	}
	before := s.searchedBefore(d)
	x := seek.New(d.im, d.sv, hints)
	if err := x.Likely(ctx); err != nil {
		return nil, nil, err
	}
	if before != nil {
		if err := x.Look(before.judged()...); err != nil {
			return nil, nil, err
		}
	}
	return x.Finds(), before, nil
}

// seenFinds keeps what was found on drives, while neither they nor what is known of them change.
type seenFinds struct {
	mu   sync.Mutex
	list map[string]foundThen
}

type foundThen struct {
	stamp string
	finds []seek.Find
	gone  []plan.Gone // those that are sure or likely, and of which no record tells
}

// findsOn are the lost partitions of a drive that are not ghosts.
func (s *Server) findsOn(ctx context.Context, d *drive) ([]seek.Find, error) {
	then, err := s.foundOn(ctx, d)
	return then.finds, err
}

// foundOn is what a search finds on a drive, worked out once for as long as nothing changes.
func (s *Server) foundOn(ctx context.Context, d *drive) (foundThen, error) {
	stamp := ""
	for _, f := range []string{d.path, s.searchFile(d), s.records.Dir} {
		if st, err := os.Stat(f); err == nil {
			stamp += st.ModTime().String()
		}
	}
	s.seen.mu.Lock()
	then, known := s.seen.list[d.path]
	s.seen.mu.Unlock()
	if known && then.stamp == stamp {
		return then, nil
	}
	all, _, err := s.lost(ctx, d)
	if err != nil {
		return then, err
	}
	now := foundThen{stamp: stamp, finds: slices.DeleteFunc(all, func(f seek.Find) bool { return f.Ghost })}
	o := run.Options{Image: d.path, Dev: d.im, Identity: d.Identity, Runs: s.folder("runs"), Records: s.records, Trail: s.store}
	for i := range now.finds {
		f := &now.finds[i]
		if f.Confidence != seek.Doubtful && f.Record == "" { // a record knows better
			stand, err := run.FindStands(o, d.sv, f)
			if err != nil {
				return now, err
			}
			now.gone = append(now.gone, plan.Gone{Find: f.Start, Span: f.Span(), Needs: run.Needs(stand)})
		}
		f.Forget()
	}
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	s.seen.list[d.path] = now
	return now, nil
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
			out = append(out, findMark{f.Title(), fmt.Sprintf("%s, %s, found: %s", f.Title(), f.Bytes, f.Confidence), findLink(job, bay, f), int64(f.Start), int64(f.End)})
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
	return fmt.Sprintf("/jobs/%s/find?%s", url.PathEscape(job), url.Values{"bay": {bay}, "start": {start}, "told": {told}}.Encode())
}

type searchView struct {
	Job, Bay string
	Title    string
	Size     disk.Bytes
	Finds    []findRow
	Ghosts   []findRow
	Before   *searched
	Part     bool // the search was stopped on the way
	Left     int  // of the structures that were seen, those too many to judge for a page
	All      int  // how many can be brought back at once, 0 where that is not offered
	NoTable  bool // a table is made for them
	Busy     bool
	Box      workBox
}

// worthBack are the steps that bring back what was found, sure or likely.
func worthBack(finds []seek.Find) []plan.Step {
	var out []plan.Step
	for _, f := range finds {
		if !f.Ghost && f.Confidence != seek.Doubtful {
			out = append(out, plan.Step{Do: plan.BringBack, Find: f.Start, Told: f.At})
		}
	}
	return out
}

// planAllFinds lays the plan that brings back all that was found, sure or likely: into a table that is made
// where there is none.
func (s *Server) planAllFinds(c *gin.Context) {
	where := fmt.Sprintf("/jobs/%s/search?bay=%s", url.PathEscape(c.Param("job")), url.QueryEscape(bayOf(c)))
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.close()
	back, err := s.allBack(st)
	switch {
	case err != nil:
	case st.Elsewhere:
		err = errors.New("this job has a plan for another of its drives; nothing was planned. Carry that out or take its steps out first")
	case len(st.Steps) > 0:
		err = errors.New("this job has a plan already; it stays as it is. Take its steps out first")
	default:
		err = s.savePlan(by(c), st, back.Steps, st.expect(), "bringing back all that was found")
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.desk.Forget(st.Drive.path)
	s.say(c, "sound", "Bringing them back is planned. Look at the map, then carry it out.", fmt.Sprintf("/jobs/%s?bay=%s", url.PathEscape(st.Job.Number), url.QueryEscape(st.Drive.Bay)))
}

func (s *Server) allBack(st *State) (*plan.Back, error) {
	steps := worthBack(st.Finds)
	f, err := s.facts(st.Drive, st.Job, steps)
	if err != nil {
		return nil, err
	}
	back, no := plan.AllBack(st.Drive.sv.Layout, f, steps)
	if len(no) > 0 {
		return nil, errors.New(strings.TrimSuffix(no[0].Text, ".") + "; nothing was planned")
	}
	return back, nil
}

func (s *Server) searchPage(c *gin.Context) {
	j, d, err := s.job(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer d.close()
	finds, before, err := s.lost(c.Request.Context(), d)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := searchView{Job: j.Number, Bay: d.Bay, Title: d.Identity.Model, Size: d.sv.Layout.Size, Before: before, Busy: s.desk.Busy(d.path)}
	if before != nil {
		v.Part, v.Left = before.Reached < before.Size, len(before.Told)-len(before.judged())
	}
	v.Finds, v.Ghosts = findRows(j.Number, d.Bay, finds)
	v.NoTable = d.sv.Layout.Scheme == "none"
	if n := len(worthBack(finds)); n > 1 || v.NoTable {
		v.All = n
	}
	w, _ := s.desk.State(d.path)
	v.Box = boxOf(j.Number, d.Bay, w)
	s.render(c, http.StatusOK, "search", page{Title: "Search, bay " + d.Bay, Here: "job", Body: v, Crumbs: s.driveCrumbs(j, d, "Search")})
}

func (s *Server) driveCrumbs(j *store.Job, d *drive, last string) []crumb {
	return []crumb{{"Bench", "/"}, {j.Number + " " + j.Customer, fmt.Sprintf("/jobs/%s?bay=%s", url.PathEscape(j.Number), url.QueryEscape(d.Bay))}, {last, ""}}
}

// startSearch begins a search through a whole drive.
func (s *Server) startSearch(c *gin.Context) {
	where := fmt.Sprintf("/jobs/%s/search?bay=%s", url.PathEscape(c.Param("job")), url.QueryEscape(bayOf(c)))
	if err := s.searchDrive(placeOf(c), c.PostForm("on") != ""); err != nil {
		s.refuse(c, err, where)
		return
	}
	c.Redirect(http.StatusSeeOther, where)
}

// searchDrive begins to go through every sector of a drive: from its start, or on from where an earlier search was
// stopped.
func (s *Server) searchDrive(at Place, on bool) error {
	j, d, err := s.job(at.Job, at.Bay, false)
	if err != nil {
		return err
	}
	err = s.settledDrive(d)
	var hints []seek.Hint
	if err == nil {
		hints, err = s.hints(d)
	}
	before := s.searchedBefore(d)
	keep := searched{DiskID: d.sv.Layout.DiskID, Size: d.sv.Layout.Size, Who: at.Who.Name}
	if before != nil && on && before.Reached < before.Size {
		keep.Reached, keep.Told = before.Reached, before.Told
	}
	if err == nil {
		err = s.desk.Start(d.path, "search", "Search", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer d.close()
			return s.search(ctx, j, d, hints, keep, report)
		})
	}
	if err != nil {
		d.close()
	}
	return err
}

func (s *Server) search(ctx context.Context, j *store.Job, d *drive, hints []seek.Hint, keep searched, report func(work.Update)) (string, error) {
	x := seek.New(d.im, d.sv, hints)
	early := time.Now()
	var saving sync.Mutex
	x.Report = func(p seek.Progress) {
		// What was seen so far can be looked at while the search goes on.
		if saving.TryLock() {
			if time.Since(early) > 2*time.Second {
				early = time.Now()
				now := keep
				now.Told, now.When = slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(keep.Told), x.Told()...)))), s.now()
				if err := s.keepSearch(d, &now); err != nil {
					report(work.Update{Phase: "what was seen so far cannot be kept: " + err.Error()})
				}
			}
			saving.Unlock()
		}
		report(work.Update{Phase: fmt.Sprintf("reading every sector, %s seen", words.Plural(p.Finds, "structure", "structures")), Done: p.Done, Total: p.Total})
	}
	if err := x.Look(keep.Told...); err != nil { // what was seen before it was stopped
		return "", err
	}
	reached, err := x.Whole(ctx, keep.Reached)
	if err != nil {
		return "", err
	}
	finds := x.Finds()
	keep.Told = slices.Compact(slices.Sorted(slices.Values(append(keep.Told, x.Told()...))))
	keep.Reached, keep.When = reached, s.now()
	found := 0
	for _, f := range finds {
		if !f.Ghost {
			found++
		}
	}
	came := words.Plural(found, "lost partition", "lost partitions")
	if reached < keep.Size {
		if err := s.keepSearch(d, &keep); err != nil {
			return "", err
		}
		return fmt.Sprintf("stopped after %s of %s; it can go on from there", reached, keep.Size), nil
	}
	id, err := s.tail()
	if err != nil {
		return "", err
	}
	kept, err := json.Marshal(&keep)
	if err != nil {
		return "", err
	}
	id = "search-" + s.now().UTC().Format("20060102-150405") + "-" + id
	return "went through every sector: " + came, s.books.Do(shop.Act{ID: id, Files: []shop.File{{Name: filepath.Join("searches", filepath.Base(s.searchFile(d))), Data: kept}},
		Entry: trail.Entry{ID: "e-" + id, Time: s.now(), Who: keep.Who, Job: j.Number, Act: trail.ActSearch, Text: "Searched to its end: " + came, Drive: driveName(d)}})
}

// keepSearch keeps how far a search has come, and what it has seen.
func (s *Server) keepSearch(d *drive, k *searched) error {
	b, err := json.Marshal(k)
	if err == nil {
		err = os.MkdirAll(filepath.Join(s.data, "searches"), 0o755)
	}
	if err == nil {
		err = disk.WriteDurably(s.searchFile(d), b)
	}
	return err
}

// findOf judges one find again, as the drive is now.
func (s *Server) findOf(c *gin.Context, d *drive) (*seek.Find, error) {
	start, err := strconv.ParseInt(c.Query("start"), 10, 64)
	told, e := strconv.ParseInt(c.Query("told"), 10, 64)
	if err != nil || e != nil || start <= 0 || told < 0 {
		return nil, fmt.Errorf("%w: it is not clear which find is meant", store.ErrNotFound)
	}
	f, err := run.Find(run.Options{Records: s.records, Seen: func() ([]disk.Bytes, error) { return s.seenOn(d) }}, d.im, d.sv, disk.LBA(start), disk.Bytes(told))
	if errors.Is(err, run.ErrNoFind) {
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

// drawStand draws a stand: each stretch is what is worst in it.
func drawStand(st *seek.Stand, start, n disk.Bytes, known bool) *standView {
	v := &standView{Stand: st, Known: known}
	worst := make([]int, drawn) // 0 not in use, 1 untouched, 2 unknown, 3 taken
	by := make([]string, drawn)
	for _, p := range st.Pieces {
		k := map[seek.State]int{seek.Untouched: 1, seek.Unsure: 2, seek.Taken: 3}[p.State]
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
			x := strip{X: float64(i) * 100 / drawn, W: float64(k-i) * 100 / drawn, State: []seek.State{"", seek.Untouched, seek.Unsure, seek.Taken}[worst[i]]}
			x.Title = map[seek.State]string{seek.Untouched: "untouched", seek.Unsure: "not known", seek.Taken: "taken"}[x.State]
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

type findView struct {
	Job, Bay string
	Find     *seek.Find
	Word     string
	Inside   string // where its folders can be looked into
	Stand    *standView
	Ways     []plan.Back
	No       []plan.Obstacle
	Files    []fileStand
	More     int
	Counts   map[string]int
	Record   *trail.Record
	Missing  []string // files that the record has and the find has not
	Busy     bool
	Told     disk.Bytes
	Box      workBox
}

// mostFiles is how many files the page of a find or record lists: those that are not whole
// first.
const mostFiles = 300

func (s *Server) findPage(c *gin.Context) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	d := st.Drive
	f, err := s.findOf(c, d)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := findView{Job: st.Job.Number, Bay: d.Bay, Find: f, Word: string(f.Confidence), Told: f.At, Busy: st.Busy || st.Pending != nil}
	sec := d.sv.Layout.Sector
	stand, err := run.FindStands(s.options(d, st.Job, ""), d.sv, f)
	if err != nil {
		s.fail(c, err)
		return
	}
	v.Stand = drawStand(stand, f.Start.Offset(sec), f.Bytes, stand.Untouched > 0)
	if f.Ghost {
		v.Word = "ghost"
	}
	if f.Volume() != nil {
		v.Inside = fmt.Sprintf("/jobs/%s/inside?bay=%s&start=%d&told=%d", url.PathEscape(v.Job), url.QueryEscape(v.Bay), f.Start, f.At)
		if err := s.findFiles(&v, stand, f.Start.Offset(sec)); err != nil {
			s.fail(c, err)
			return
		}
	}
	if v.Ways, v.No, err = s.waysBack(st, f); err != nil {
		s.fail(c, err)
		return
	}
	v.Box = boxOf(v.Job, v.Bay, st.Work)
	s.render(c, http.StatusOK, "find", page{Title: "Find: " + f.Title(), Here: "job", Body: v, Crumbs: []crumb{{"Bench", "/"},
		{st.Job.Number + " " + st.Job.Customer, fmt.Sprintf("/jobs/%s?bay=%s", url.PathEscape(v.Job), url.QueryEscape(v.Bay))},
		{"Search", fmt.Sprintf("/jobs/%s/search?bay=%s", url.PathEscape(v.Job), url.QueryEscape(v.Bay))}, {f.Title(), ""}}})
}

// waysBack are the ways to bring a find back, with the letter that is expected of it, where one
// partition is missing of which the PC knows the letter.
func (s *Server) waysBack(st *State, f *seek.Find) ([]plan.Back, []plan.Obstacle, error) {
	facts, l := st.Facts, st.Drive.sv.Layout
	found, err := run.AsFound(s.options(st.Drive, st.Job, ""), st.Drive.sv, f)
	if err != nil {
		return nil, nil, err
	}
	facts.Finds = map[disk.LBA]plan.Found{f.Start: found}
	step := plan.Step{Do: plan.BringBack, Find: f.Start, Told: f.At, As: "found"}
	var then []plan.Step
	if st.Drive.PC != nil {
		gone := slices.DeleteFunc(st.Drive.PC.MissingLetters(func(id string) bool {
			return slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return strings.EqualFold(p.UniqueID, id) })
		}), func(m pc.Missing) bool { return !m.Gone })
		if len(gone) == 1 && gone[0].Holder == "" {
			then = append(then, plan.Step{Do: plan.Letter, Partition: step.As, Letter: gone[0].Letter})
		}
	}
	ways, no := plan.WaysBack(l, facts, step, then...)
	return ways, no, nil
}

// errNoReason tells that a partition would come back damaged, and nobody said why.
var errNoReason = errors.New("it does not come back whole; say why it is to come back all the same. Nothing was planned")

// acceptDamage gives the steps that bring something back the reason why it comes back damaged.
func acceptDamage(steps []plan.Step, reason string) error {
	if reason == "" || len(reason) > maxReason {
		return errNoReason
	}
	for i := range steps {
		if steps[i].Do == plan.BringBack {
			steps[i].Damaged = reason
		}
	}
	return nil
}

// findFiles lists the files of a find, those first that are not whole, and compares the list
// with that of its record.
func (s *Server) findFiles(v *findView, stand *seek.Stand, start disk.Bytes) error {
	files, err := v.Find.Volume().Files()
	if err != nil {
		v.Find.Reasons = append(v.Find.Reasons, "Not all of its files can be listed: "+run.Sentence(err))
	}
	was := map[string]volume.File{}
	if v.Find.Record != "" {
		if v.Record, _, err = s.records.Load(v.Find.Record); err == nil {
			list, err := s.records.FileList(v.Record)
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
		r := fileStand{File: x, OfFile: stand.File(x, start), Link: fmt.Sprintf("/jobs/%s/file?bay=%s&start=%d&told=%d&path=%s", url.PathEscape(v.Job), url.QueryEscape(v.Bay), v.Find.Start, v.Find.At, url.QueryEscape(x.Path))}
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
	j, d, err := s.job(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	f, err := s.findOf(c, d)
	if err == nil {
		o := s.options(d, j, me(c).Name)
		start, told := f.Start, f.At
		err = s.desk.Start(d.path, "back-up", "Backup of a find", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer d.close()
			m, err := run.BackUpFind(ctx, o, start, told, func(p shelf.Progress) {
				report(work.Update{Phase: p.Phase, Done: p.Done, Total: p.Total})
			})
			if err != nil {
				return "", err
			}
			text := fmt.Sprintf("Its files are on the shelf and verified: %s", words.Plural(m.Count-m.Unreadable, "file or folder", "files and folders"))
			if m.Unreadable > 0 {
				text += fmt.Sprintf("; %d were left out, because something else lies in their place", m.Unreadable)
			}
			return text, nil
		})
	}
	if err != nil {
		d.close()
		s.refuse(c, err, where)
		return
	}
	c.Redirect(http.StatusSeeOther, where)
}

// planFind lays one of the ways to bring a find back.
func (s *Server) planFind(c *gin.Context) {
	where := findPath(c.Param("job"), bayOf(c), c.Query("start"), c.Query("told"))
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.close()
	f, err := s.findOf(c, st.Drive)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	ways, _, err := s.waysBack(st, f)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	i, err := strconv.Atoi(c.PostForm("way"))
	if reason := strings.TrimSpace(c.PostForm("damaged")); err == nil && i >= 0 && i < len(ways) && ways[i].Damage != nil {
		err = acceptDamage(ways[i].Steps, reason)
	}
	switch {
	case errors.Is(err, errNoReason):
	case err != nil || i < 0 || i >= len(ways):
		err = errors.New("that way is not there any more; look at the drive as it is now. Nothing was planned")
	case st.Elsewhere:
		err = errors.New("this job has a plan for another of its drives; nothing was planned. Carry that out or take its steps out first")
	case len(st.Steps) > 0 && len(ways[i].Steps) > 1:
		err = errors.New("this job has a plan already; it stays as it is. Take its steps out first")
	case len(st.Steps) > 0:
		err = s.stage(by(c), st, ways[i].Steps[0])
	default:
		err = s.savePlan(by(c), st, ways[i].Steps, st.expect(), "bringing back "+f.Title())
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.desk.Forget(st.Drive.path)
	s.say(c, "sound", "Bringing it back is planned. Look at the map, then carry it out.", fmt.Sprintf("/jobs/%s?bay=%s", url.PathEscape(st.Job.Number), url.QueryEscape(st.Drive.Bay)))
}
