package web

import (
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

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
	Stages       []stage
	Given        string // to whom, "" for nobody
	Waits        string // for whom or what, and why; "" for nothing
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
}

type benchView struct {
	Head string
	Jobs []benchJob
	Bays []benchBay
	Asks []benchAsk // that the lead has not answered
	Due  []shop.Due // closed jobs of which things are still kept
	Lost []string   // backups that are not as they were verified, and why
	// Stray lies among the runs and is none that can be read; Settled is what became of acts that
	// had been cut short.
	Stray   []string
	Settled *shop.Settled
}

// benchAsk is what the lead is asked, beside the drive as it is and as the plan leaves it.
type benchAsk struct {
	store.Ask
	Customer     string
	Now, Planned *layout.Layout
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
	s.render(c, http.StatusOK, "bench", page{Title: "Bench", Here: "bench", Body: v})
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
	v := &benchView{Settled: s.SettledLately()}
	customer := map[string]string{}
	waiting := 0
	for _, j := range jobs {
		customer[j.Number] = j.Customer
		row := s.benchJob(j, bays, asks)
		row.stands(names)
		if row.Care {
			waiting++
		}
		v.Jobs = append(v.Jobs, row)
	}
	v.Head = fmt.Sprintf("%s on the bench", words.Count(len(jobs), "job"))
	if waiting > 0 {
		v.Head += fmt.Sprintf(
			", %s for you", words.Either(waiting == 1, "one waits", strings.ToLower(words.Count(waiting, ""))+"wait"),
		)
	}
	v.Bays = s.benchBays(bays, customer)
	if v.Stray, err = ran.Stray(s.Folder("runs")); err != nil {
		return nil, err
	}
	for _, a := range asks {
		v.Asks = append(v.Asks, askOf(a, v.Jobs))
	}
	if v.Due, err = s.Due(); err != nil {
		return nil, err
	}
	v.Lost, err = s.lostBackups()
	return v, err
}

// benchJob is a job with its drive before and after its plan, as far as that can be read.
func (s *Server) benchJob(j store.Job, bays []store.Bay, asks []store.Ask) benchJob {
	row := benchJob{Job: j}
	st, err := shown(s.Row(&j, drivesOf(&j, "", bays)))
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

// benchBays are the bays with what is in them; customer is whose job each is.
func (s *Server) benchBays(bays []store.Bay, customer map[string]string) []benchBay {
	var out []benchBay
	drives := map[string]survey.Seen{} // by their bays
	for _, b := range bays {
		x := benchBay{Letter: b.Letter, Empty: b.Image == nil}
		if !x.Empty {
			g, err := s.Glance(&b)
			if err != nil {
				x.Trouble = s.worded(err)
			} else {
				x.Identity, x.Layout, x.Size, x.Makers = g.Identity, g.Layout, g.Layout.Size, g.Layout.Size.Maker()
			}
			drives[b.Letter] = survey.Seen{Identity: x.Identity, Size: x.Size}
		}
		switch {
		case b.Shelf:
			x.What = "Shelf"
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
