package web

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// watch streams the state of a drive's work as server-sent events.
func (s *Server) watch(c *gin.Context) {
	_, bay, err := s.Store.Job(c.Param("job"), bayOf(c))
	if err != nil || bay == nil || bay.Image == nil {
		c.Status(http.StatusNotFound)
		return
	}
	s.follow(c, s.ImageOf(bay), c.Param("job"))
}

// watchAny streams the state of work that belongs to no drive.
func (s *Server) watchAny(c *gin.Context) {
	key := c.Param("key")
	if key == "bench" {
		s.followBench(c)
		return
	}
	if !slices.Contains(watched, key) {
		c.Status(http.StatusNotFound)
		return
	}
	s.follow(c, key, "")
}

// watched are the keys of work that belongs to no drive.
var watched = []string{"dock", "compare", "shelf"}

// placeOf is where it is seen.
var placeOf = map[string]string{"dock": "/dock", "shelf": "/shelf", "compare": "/"}

// stopAny stops work that belongs to no drive.
func (s *Server) stopAny(c *gin.Context) {
	key := c.Param("key")
	where := placeOf[key]
	if where == "" {
		s.fail(c, errNoPage)
		return
	}
	s.Desk.Stop(key)
	if strings.HasPrefix(c.PostForm("back"), where) {
		where = safeNext(c.PostForm("back"))
	}
	s.say(c, "sound", "The work stops at its next safe point.", where)
}

// follow streams the state of a piece of work, and for a job the state of its plan whenever
// somebody has changed it.
func (s *Server) follow(c *gin.Context, key, job string) {
	out, ok := s.tells(c)
	if !ok {
		return
	}
	defer out.close()
	states, done := s.Desk.Watch(key)
	defer done()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	last := uint64(0)
	if seen := seenPlan(c); seen != nil {
		last = *seen
	}
	answer := answers{of: job}
	answer.next(s)
	for ok = out.send(": watching\n\n"); ok; {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			if job == "" {
				look.Stop()
				continue
			}
			if told := answer.next(s); told != nil {
				if ok = out.tell("answer", told); !ok {
					continue
				}
			}
			now, err := s.Store.Latest(job)
			if err != nil || now.ID == last {
				continue
			}
			last = now.ID
			ok = out.tell("plan", map[string]any{
				"plan": now.ID, "who": now.Who, "what": now.What, "ended": s.howEnded(job, now.ID),
			})
		case <-out.beat.C:
			ok = out.still()
		case st := <-states:
			ok = out.tell("", workView(st))
			// A few times a second is enough for the eye.
			time.Sleep(150 * time.Millisecond)
		}
	}
}

// answers tell of what the lead answers to a job's requests.
type answers struct{ of, last string }

// next is what is told of an answer that was given since it was last asked for, nil for none.
func (x *answers) next(s *Server) map[string]any {
	a, err := s.Store.LatestAnswer(x.of)
	if err != nil || a == nil || a.ID == x.last {
		return nil
	}
	x.last = a.ID
	return map[string]any{"yes": *a.Yes, "who": a.AnsweredBy, "what": a.Text, "why": a.Why}
}

// workLine is a state worded for the page.
type workLine struct {
	work.State
	Percent int    `json:"percent"`
	Line    string `json:"line"`
	Left    string `json:"left"`
}

func workView(st work.State) workLine {
	v := workLine{State: st}
	if st.Total > 0 {
		v.Percent = int(st.Done * 100 / st.Total)
		v.Line = fmt.Sprintf("%s of %s", st.Done, st.Total)
		if el := time.Since(st.Since).Seconds(); el > 0.5 && st.Done > st.From {
			perSecond := float64(st.Done-st.From) / el
			v.Line += fmt.Sprintf(", %s/s", layoutBytes(perSecond))
			v.Left = "≈ " + plan.Lasts(int64(float64(st.Total-st.Done)/perSecond)+1) + " left"
		}
	}
	return v
}

// howEnded is what became just now of a job's plan where there is none any more, as the trail tells; "" where it does
// not: an older run says nothing of it.
func (s *Server) howEnded(job string, state uint64) string {
	if state != 0 {
		return ""
	}
	newest := int64(0)
	how := ""
	for act, said := range map[trail.Act]string{trail.ActDone: "carried out", trail.ActUndone: "taken back"} {
		list, err := s.Store.Entries(store.Filter{Job: job, Act: string(act), Limit: 1})
		if err == nil && len(list) > 0 && list[0].Seq > newest && s.Now().Sub(list[0].Time) < time.Minute {
			newest, how = list[0].Seq, fmt.Sprintf("%s by %s", said, list[0].Who)
		}
	}
	return how
}
