package web

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/survey"
	"jadetrail/core/words"
)

// stage is one of the six of a job.
type stage struct {
	Name  string
	Line  string
	State string // done, here, open
	Care  bool
}

type benchJob struct {
	store.Job
	Now, Planned *layout.Layout
	Next         shop.Next
	Bay          string // of its drive, "" for none
	Care         bool   // it waits for somebody here
	Late         bool   // the promised day has passed
	Stages       []stage
	Given        string    // to whom, "" for nobody
	Waits        string    // for whom or what, and why; "" for nothing
	Work         *workLine // that goes on on its drive, nil for none
}

// Due is what is next for it, as somebody sees it.
func (j *benchJob) Due(lead bool) next { return isDue(&j.Job, j.Bay, j.Next, lead) }

// stands puts down who has the job, and what it waits for outside of its drive: then it waits for nobody here.
func (j *benchJob) stands(names map[uint64]string) {
	if j.GivenTo != nil {
		j.Given = names[*j.GivenTo]
	}
	switch {
	case j.WaitsFor != store.WaitsNot:
		j.Waits, j.Care = "waits for "+shop.WaitsFor(j.WaitsFor)+": "+j.WaitsWhy, j.WaitsFor == store.WaitsLead
	case j.HandedAt != nil:
		j.Waits, j.Care = "handed over, and to be closed", true
	}
}

// benchBay is a bay with the drive that stands in it, drawn as high as it is large.
type benchBay struct {
	Letter, What string
	Identity     survey.Identity
	Layout       *layout.Layout
	Job          string
	Trouble      string
	Empty        bool
	Shelf        bool
	Size         disk.Bytes
	Alike        []string
	Makers       string
	Work         *workLine // that goes on there, nil for none
}

// Link is where a bay leads to.
func (b *benchBay) Link() string {
	switch {
	case b.Job != "":
		return pageOf(b.Job, b.Letter, "")
	case b.Shelf:
		return "/shelf"
	}
	return "/dock"
}

// Columns of drives are this high, in pixels, from the smallest card to the largest drive.
const leastColumn, mostColumn = 64, 168

// Height is that of its column: so much more for each doubling of its size, from 16 GB on.
func (b *benchBay) Height() int {
	const step, from = 13, 16e9
	if b.Size < from {
		return leastColumn
	}
	return min(leastColumn+int(step*math.Log2(float64(b.Size)/from)), mostColumn)
}

// Case is how high its case is drawn, Inner what is in it, and Climbed how far the work on it has come.
func (b *benchBay) Case() int      { return b.Height() - 1 }
func (b *benchBay) Inner() float64 { return float64(b.Height() - 6) }
func (b *benchBay) Climbed() int   { return b.Height() * b.Work.Percent / 100 }

// benchView is the room: the drives in their bays, and the jobs by whom they wait for.
type benchView struct {
	Head    string
	Count   int        // of open jobs
	Jobs    []benchJob // that wait for nobody else, what is due first
	AtWork  []benchJob
	Waiting []benchJob // for somebody or something outside
	Others  []benchWork
	Bays    []benchBay
	Asks    []benchAsk // that the lead has not answered
	Due     []shop.Due // closed jobs of which things are still kept
	Lost    []string   // backups that are not as they were verified, and why
	// Stray lies among the runs and is none that can be read; Settled is what became of acts that
	// had been cut short.
	Stray   []string
	Settled *shop.Settled
	drawn   map[beholder]template.HTML
	mu      sync.Mutex
}

// beholder is all that the room differs by from one person to another.
type beholder struct{ Lead, Works bool }

// room is what is drawn of it for somebody.
type room struct {
	Body *benchView
	Me   beholder
}

// drawBy draws the room for somebody, once for all who look at the same time and may do the same.
func (v *benchView) drawBy(t *template.Template, me *store.Technician) (template.HTML, error) {
	as := beholder{me.Lead(), me.Works()}
	v.mu.Lock()
	defer v.mu.Unlock()
	if html, ok := v.drawn[as]; ok {
		return html, nil
	}
	var b strings.Builder
	if err := t.ExecuteTemplate(&b, "room", room{v, as}); err != nil {
		return "", err
	}
	v.drawn[as] = template.HTML(b.String())
	return v.drawn[as], nil
}

// benchAsk is what the lead is asked, beside the drive as it is and as the plan leaves it.
type benchAsk struct {
	store.Ask
	Customer     string
	Now, Planned *layout.Layout
}

// benchWork is work that belongs to no drive of a job.
type benchWork struct {
	Key, Where, Link string
	Work             *workLine
}

// dueFirst has the jobs that somebody has to do something about before the others, and of those the ones that were
// promised for an earlier day.
func dueFirst(a, b benchJob) int {
	rank := func(j *benchJob) int64 {
		if j.Promised == nil {
			return math.MaxInt64
		}
		return j.Promised.Unix()
	}
	switch {
	case a.Care != b.Care && a.Care:
		return -1
	case a.Care != b.Care:
		return 1
	}
	return cmp.Compare(rank(&a), rank(&b))
}

// askOf finds the drive that an ask is about among the jobs on the bench.
func askOf(a store.Ask, jobs []benchJob) benchAsk {
	x := benchAsk{Ask: a}
	for _, j := range jobs {
		if j.Number != a.Job {
			continue
		}
		x.Customer = j.Customer
		if j.Now != nil && j.Now.Drive().Same(a.Drive()) {
			x.Now, x.Planned = j.Now, j.Planned
		}
	}
	return x
}

func (s *Server) benchPage(c *gin.Context) {
	v, err := s.benches.Do(s.onBench)
	if err != nil {
		s.fail(c, err)
		return
	}
	html, err := v.drawBy(s.pages["bench"], me(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "bench", page{Title: "Bench", Here: "bench", Body: html})
}

// onBench is the bench as everybody sees it, as it is now.
func (s *Server) onBench() (*benchView, error) {
	jobs, err := s.Store.OpenJobs()
	if err != nil {
		return nil, err
	}
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	names, _, err := s.names()
	if err != nil {
		return nil, err
	}
	asks, err := s.Store.Waiting()
	if err != nil {
		return nil, err
	}
	told, err := s.Store.Look()
	if err != nil {
		return nil, err
	}
	v := &benchView{Settled: s.SettledLately(), Count: len(jobs), drawn: map[beholder]template.HTML{}}
	customer := map[string]string{}
	var all []benchJob
	waiting := 0
	for _, j := range jobs {
		customer[j.Number] = j.Customer
		row := s.benchJob(j, bays, asks, told)
		row.stands(names)
		row.Late = s.isLate(&j)
		if row.Care {
			waiting++
		}
		all = append(all, row)
		switch {
		case row.Next.Turn == shop.TurnWatch:
			v.AtWork = append(v.AtWork, row)
		case row.Waits != "" && !row.Care:
			v.Waiting = append(v.Waiting, row)
		default:
			v.Jobs = append(v.Jobs, row)
		}
	}
	slices.SortStableFunc(v.Jobs, dueFirst)
	v.Head = fmt.Sprintf("%s on the bench", words.Count(len(jobs), "job"))
	if waiting > 0 {
		v.Head += fmt.Sprintf(
			", %s for you", words.Either(waiting == 1, "one waits", strings.ToLower(words.Count(waiting, ""))+"wait"),
		)
	}
	v.Bays = s.benchBays(bays, customer)
	for _, key := range watched {
		if w := s.workOf(key); w != nil {
			v.Others = append(v.Others, benchWork{key, "The " + words.Either(key == "compare", "bench", key), placeOf[key], w})
		}
	}
	for _, b := range v.Bays {
		if b.Work != nil && b.Job == "" {
			v.Others = append(v.Others, benchWork{b.Letter, "Bay " + b.Letter, b.Link(), b.Work})
		}
	}
	if v.Stray, err = ran.Stray(s.Folder("runs")); err != nil {
		return nil, err
	}
	for _, a := range asks {
		v.Asks = append(v.Asks, askOf(a, all))
	}
	if v.Due, err = s.Due(); err != nil {
		return nil, err
	}
	v.Lost, err = s.lostBackups()
	return v, err
}

// benchJob is a job with its drive before and after its plan, as far as that can be read. One that is worked on is not
// read beside that.
func (s *Server) benchJob(j store.Job, bays []store.Bay, asks []store.Ask, told shop.Told) benchJob {
	row := benchJob{Job: j}
	drives := drivesOf(&j, "", bays)
	for _, b := range drives {
		if w := s.workIn(&b); w != nil {
			row.Bay, row.Work, row.Next = b.Letter, w, shop.Next{Turn: shop.TurnWatch, Work: w.State}
			return row
		}
	}
	st, err := shown(s.Row(&j, drives, told))
	if err != nil {
		row.Next, row.Care = shop.NextOf(&j, err), true
		return row
	}
	defer st.Drive.Close()
	asks = slices.DeleteFunc(slices.Clone(asks), func(a store.Ask) bool { return a.Job != j.Number })
	row.Now, row.Stages, row.Bay, row.Next = st.Drive.Survey.Layout, st.Stages, st.Drive.Bay, st.Next(asks)
	row.Care = row.Due(true).Care
	if n := len(st.Columns); n > 0 {
		row.Planned = st.Columns[n-1].Layout
	}
	return row
}

// workIn is the work that goes on in a bay, nil for none.
func (s *Server) workIn(b *store.Bay) *workLine {
	if b.Image == nil {
		return nil
	}
	return s.workOf(s.ImageOf(b))
}

// workOf is the work that goes on on a drive, or of another key; nil for none.
func (s *Server) workOf(key string) *workLine {
	st, ok := s.Desk.State(key)
	if !ok || st.Ended != nil || st.Kind == "" {
		return nil
	}
	st.Written = nil // that is for the drive's own page
	l := workView(st)
	return &l
}

// roomNow is what of the bench changes by itself: what is at work, by the letters of bays or the keys of the rest, and
// how many requests wait for the lead.
type roomNow struct {
	Work map[string]*workLine `json:"work"`
	Asks int                  `json:"asks"`
}

// now is how the room is.
func (s *Server) now() (*roomNow, error) {
	x := &roomNow{Work: map[string]*workLine{}}
	asks, err := s.Store.Waiting()
	if err != nil {
		return nil, err
	}
	x.Asks = len(asks)
	if len(s.Desk.Busies()) == 0 {
		return x, nil
	}
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		if w := s.workIn(&b); w != nil {
			x.Work[b.Letter] = w
		}
	}
	for _, key := range watched {
		if w := s.workOf(key); w != nil {
			x.Work[key] = w
		}
	}
	return x, nil
}

// followBench streams what changes in the room.
func (s *Server) followBench(c *gin.Context) {
	out, ok := s.tells(c)
	if !ok {
		return
	}
	defer out.close()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	var last []byte
	for ok = out.send(": watching\n\n"); ok; {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			now, err := s.now()
			if err != nil {
				continue // it is looked again
			}
			text, err := json.Marshal(now)
			if err != nil || bytes.Equal(text, last) {
				continue
			}
			last = text
			ok = out.tell("", now)
		case <-out.beat.C:
			ok = out.still()
		}
	}
}

// benchBays are the bays with what is in them; customer is whose job each is.
func (s *Server) benchBays(bays []store.Bay, customer map[string]string) []benchBay {
	var out []benchBay
	drives := map[string]survey.Seen{} // by their bays
	for _, b := range bays {
		x := benchBay{Letter: b.Letter, Empty: b.Image == nil}
		if !x.Empty {
			look := s.Glance
			if x.Work = s.workIn(&b); x.Work != nil {
				look = s.GlanceAtWork
			}
			g, err := look(&b)
			if err != nil {
				x.Trouble = s.worded(err)
			} else {
				x.Identity, x.Layout, x.Size, x.Makers = g.Identity, g.Layout, g.Layout.Size, g.Layout.Size.Maker()
			}
			drives[b.Letter] = survey.Seen{Identity: x.Identity, Size: x.Size}
		}
		switch {
		case b.Shelf:
			x.What, x.Shelf = "Shelf", true
		case b.Job != nil:
			x.What, x.Job = customer[*b.Job], *b.Job
		}
		out = append(out, x)
	}
	for i, b := range out {
		if !b.Empty {
			others := maps.Clone(drives)
			delete(others, b.Letter)
			_, out[i].Alike = survey.Apart(b.Identity, b.Size, others)
		}
	}
	return out
}
