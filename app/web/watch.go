package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
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
	if !slices.Contains(watched, key) {
		c.Status(http.StatusNotFound)
		return
	}
	s.follow(c, key, "")
}

// watched are the keys of work that belongs to no drive.
var watched = []string{"dock", "compare", "shelf"}

// stopAny stops work that belongs to no drive.
func (s *Server) stopAny(c *gin.Context) {
	key := c.Param("key")
	where := map[string]string{"dock": "/dock", "shelf": "/shelf", "compare": "/"}[key]
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
	sitting := s.sessions.GetString(c.Request.Context(), "sitting")
	closed, ok := s.watching.open(sitting)
	if !ok {
		c.Status(http.StatusTooManyRequests)
		return
	}
	defer closed()
	states, done := s.Desk.Watch(key)
	defer done()
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	c.Header("Content-Type", "text/event-stream")
	c.Status(http.StatusOK)
	out := http.NewResponseController(c.Writer)
	// The server's limit for reading a request would end the watching.
	if err := out.SetReadDeadline(time.Time{}); err != nil && !errors.Is(err, http.ErrNotSupported) {
		c.Error(err)
		return
	}
	send := func(text string) bool {
		_, err := io.WriteString(c.Writer, text)
		return err == nil && out.Flush() == nil
	}
	beat := time.NewTicker(5 * time.Second)
	defer beat.Stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	last := uint64(0)
	if seen := seenPlan(c); seen != nil {
		last = *seen
	}
	answer := answers{of: job}
	answer.next(s)
	for ok = send(": watching\n\n"); ok; {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			if job == "" {
				look.Stop()
				continue
			}
			if told := answer.next(s); told != "" {
				if ok = send(told); !ok {
					continue
				}
			}
			now, err := s.Store.Latest(job)
			if err != nil || now.ID == last {
				continue
			}
			last = now.ID
			b, err := json.Marshal(map[string]any{
				"plan": now.ID, "who": now.Who, "what": now.What, "ended": s.howEnded(job, now.ID),
			})
			if err != nil {
				return
			}
			ok = send(fmt.Sprintf("event: plan\ndata: %s\n\n", b))
		case <-beat.C:
			if _, err := s.stillSits(sitting); notThere(err) == nil && err != nil {
				return // signed out, or switched off
			}
			ok = send(": still here\n\n")
		case st := <-states:
			b, err := json.Marshal(workView(st))
			if err != nil {
				return
			}
			ok = send(fmt.Sprintf("data: %s\n\n", b))
			// A few times a second is enough for the eye.
			time.Sleep(150 * time.Millisecond)
		}
	}
}

// answers tell of what the lead answers to a job's requests.
type answers struct{ of, last string }

// next is the event of an answer that was given since it was last asked for, "" for none.
func (x *answers) next(s *Server) string {
	a, err := s.Store.LatestAnswer(x.of)
	if err != nil || a == nil || a.ID == x.last {
		return ""
	}
	x.last = a.ID
	b, err := json.Marshal(map[string]any{"yes": *a.Yes, "who": a.AnsweredBy, "what": a.Text, "why": a.Why})
	if err != nil {
		return ""
	}
	return fmt.Sprintf("event: answer\ndata: %s\n\n", b)
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
