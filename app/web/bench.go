package web

import (
	"errors"
	"fmt"
	"net/http"
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
	Line         string
	Care         bool
	Stages       []stage
	Given        string // to whom, "" for nobody
	Waits        string // for whom or what, and why; "" for nothing
}

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
	jobs, err := s.Store.OpenJobs()
	if err != nil {
		s.fail(c, err)
		return
	}
	bays, err := s.Store.Bays()
	if err != nil {
		s.fail(c, err)
		return
	}
	names, _, err := s.names()
	if err != nil {
		s.fail(c, err)
		return
	}
	of := map[string][]store.Bay{} // the bays of each job
	for _, b := range bays {
		if b.Job != nil && b.Image != nil {
			of[*b.Job] = append(of[*b.Job], b)
		}
	}
	v := benchView{}
	customer := map[string]string{}
	waiting := 0
	for _, j := range jobs {
		customer[j.Number] = j.Customer
		bj := benchJob{Job: j}
		st, err := shown(s.Row(&j, of[j.Number]))
		switch {
		case errors.Is(err, shop.ErrNoDrive):
			bj.Line, bj.Care = "its drive is in no bay", true
		case err != nil:
			bj.Line, bj.Care = "its drive cannot be read", true
		default:
			bj.Now, bj.Stages = st.Drive.Survey.Layout, st.Stages
			bj.Line, bj.Care = st.headline()
			if n := len(st.Columns); n > 0 {
				bj.Planned = st.Columns[n-1].Layout
			}
			st.Drive.Close()
		}
		bj.stands(names)
		if bj.Care {
			waiting++
		}
		v.Jobs = append(v.Jobs, bj)
	}
	v.Head = fmt.Sprintf("%s on the bench", words.Count(len(jobs), "job"))
	if waiting > 0 {
		v.Head += fmt.Sprintf(
			", %s for you", words.Either(waiting == 1, "one waits", strings.ToLower(words.Count(waiting, ""))+"wait"),
		)
	}
	for _, b := range bays {
		bb := benchBay{Letter: b.Letter, Empty: b.Image == nil}
		if !bb.Empty {
			g, err := s.Glance(&b)
			if err != nil {
				bb.Trouble = s.worded(err)
			} else {
				bb.Identity, bb.Layout, bb.Size, bb.Makers = g.Identity, g.Layout, g.Layout.Size, g.Layout.Size.Maker()
			}
		}
		switch {
		case b.Shelf:
			bb.What = "Shelf"
		case b.Job != nil:
			bb.What, bb.Job = customer[*b.Job], *b.Job
		}
		v.Bays = append(v.Bays, bb)
	}
	for i, b := range v.Bays {
		others := map[string]survey.Seen{}
		for k, o := range v.Bays {
			if k != i && !o.Empty {
				others[o.Letter] = survey.Seen{Identity: o.Identity, Size: o.Size}
			}
		}
		if !b.Empty {
			_, v.Bays[i].Alike = survey.Apart(b.Identity, b.Size, others)
		}
	}
	if v.Stray, err = ran.Stray(s.Folder("runs")); err != nil {
		s.fail(c, err)
		return
	}
	asks, err := s.Store.Waiting()
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, a := range asks {
		v.Asks = append(v.Asks, askOf(a, v.Jobs))
	}
	if v.Due, err = s.Due(); err != nil {
		s.fail(c, err)
		return
	}
	if v.Lost, err = s.lostBackups(); err != nil {
		s.fail(c, err)
		return
	}
	v.Settled = s.SettledLately()
	s.render(c, http.StatusOK, "bench", page{Title: "Bench", Here: "bench", Body: v})
}
