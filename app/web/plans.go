package web

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/words"
)

// planRoutes are the addresses of what changes a plan.
func (s *Server) planRoutes(in *gin.RouterGroup) {
	in.POST("/jobs/:job/mend", s.mendTable)
	in.POST("/jobs/:job/steps", s.addStep)
	in.POST("/jobs/:job/steps/take-out", s.takeOut)
	in.POST("/jobs/:job/steps/move", s.moveStep)
	in.POST("/jobs/:job/steps/improve", s.improve)
	in.POST("/jobs/:job/steps/change", s.changeStep)
	in.POST("/jobs/:job/plan/:what", s.planAct)
	in.GET("/jobs/:job/plan.json", s.planJSON)
	in.POST("/jobs/:job/anew", s.layAnew)
	in.POST("/jobs/:job/ask", s.askAgain)
	in.POST("/asks/:ask", s.answer)
	in.POST("/jobs/:job/route", s.takeRoute)
	in.GET("/jobs/:job/safeguard", s.safeguardPage)
}

// plansView is what can be done with a job's plan as a whole.
type plansView struct {
	Undo, Redo string // what would be taken back, or done again
	Kept       []keptView
}

type keptView struct {
	store.KeptPlan
	Steps int
	Here  bool // it was made for this drive
}

func (s *Server) plansOf(st *shop.JobState) (plansView, error) {
	var v plansView
	v.Undo, v.Redo = s.Store.Around(st.Job)
	all, err := s.Store.KeptPlans()
	for _, k := range all {
		steps, l, err := k.Plan()
		if err != nil {
			continue
		}
		v.Kept = append(v.Kept, keptView{k, len(steps), l != nil && l.Drive().Same(shop.NameOf(st.Drive))})
	}
	return v, err
}

// change changes a job's steps as f does it.
func (s *Server) change(c *gin.Context, f func(st *shop.JobState, steps []plan.Step) ([]plan.Step, string, error)) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	steps, what, err := f(st, slices.Clone(st.Steps))
	if err == nil {
		err = s.SavePlan(by(c), st, steps, st.Expect(), what)
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.Desk.Forget(st.Drive.Path)
	c.Redirect(http.StatusSeeOther, back(c))
}

// planAct does something with the plan as a whole.
func (s *Server) planAct(c *gin.Context) {
	switch c.Param("what") {
	case "undo", "redo":
		s.undoPlan(c)
	case "keep":
		s.keepPlan(c)
	case "drop":
		s.dropPlan(c)
	case "use":
		s.usePlan(c)
	default:
		c.Status(http.StatusNotFound)
	}
}

func stepOf(c *gin.Context, steps []plan.Step) (int, error) {
	i, err := strconv.Atoi(c.PostForm("step"))
	if err != nil || i < 1 || i > len(steps) {
		return 0, errors.New("there is no such step; the plan is as it was")
	}
	return i - 1, nil
}

// moveStep moves a step earlier or later.
func (s *Server) moveStep(c *gin.Context) {
	s.change(c, func(st *shop.JobState, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		to, way := i-1, "earlier"
		if c.PostForm("way") == "later" {
			to, way = i+1, "later"
		}
		if to < 0 || to >= len(steps) {
			return nil, "", errors.New("it is there already; the plan is as it was")
		}
		steps[i], steps[to] = steps[to], steps[i]
		return steps, fmt.Sprintf("%s moved %s", st.TitleOf(i), way), nil
	})
}

// changeStep gives a step another amount.
func (s *Server) changeStep(c *gin.Context) {
	s.change(c, func(st *shop.JobState, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		if _, there := c.GetPostForm("damaged"); there && steps[i].Do() == plan.BringBack {
			if err := shop.AcceptDamage(steps[i:i+1], strings.TrimSpace(c.PostForm("damaged"))); err != nil {
				return nil, "", err
			}
			return steps, st.TitleOf(i) + ", damaged", nil
		}
		x, text := &steps[i], strings.TrimSpace(c.PostForm("amount"))
		if text == "" || len(text) > 100 {
			return nil, "", errors.New("it does not say how much; the plan is as it was")
		}
		if !x.SetAmount(text) {
			return nil, "", errors.New("this step has no amount; the plan is as it was")
		}
		if err := steps[i].Valid(); err != nil {
			return nil, "", fmt.Errorf("%w; the plan is as it was", err)
		}
		return steps, fmt.Sprintf("%s: %s", st.TitleOf(i), text), nil
	})
}

// improve joins steps of the plan that one can do, and leaves out those that cancel each other.
func (s *Server) improve(c *gin.Context) {
	s.change(c, func(st *shop.JobState, steps []plan.Step) ([]plan.Step, string, error) {
		better, _ := plan.Improved(st.Drive.Survey.Layout, st.Facts, steps)
		if len(better) == len(steps) {
			return nil, "", errors.New("there is nothing to improve any more; the plan is as it was")
		}
		return better, "steps joined", nil
	})
}

// better is what could be improved of a plan.
type better struct {
	Fewer int        // steps
	Saved disk.Bytes // that need not be written
}

// couldBe is what could be improved of the plan, nil for nothing.
func (st *jobState) couldBe() *better {
	steps, saved := plan.Improved(st.Drive.Survey.Layout, st.Facts, st.Steps)
	if n := len(st.Steps) - len(steps); n > 0 {
		return &better{n, saved}
	}
	return nil
}

// undoPlan takes the plan's latest change back, or does it again.
func (s *Server) undoPlan(c *gin.Context) {
	again := c.Param("what") == "redo"
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	what, err := s.Undo(by(c), st, again)
	switch {
	case errors.Is(err, store.ErrNoState):
		s.refuse(c, errors.New("there is nothing to take back or to do again; the plan is as it was"), back(c))
	case err != nil:
		s.refuse(c, err, back(c))
	default:
		s.Desk.Forget(st.Drive.Path)
		s.say(c, "sound", words.Either(again, "Done again: ", "Taken back: ")+what+".", back(c))
	}
}

// keepPlan keeps the job's plan under a name.
func (s *Server) keepPlan(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	name := strings.TrimSpace(c.PostForm("name"))
	if err := s.KeepAs(me(c), st, name); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", fmt.Sprintf("The plan is kept as “%s”.", name), back(c))
}

// dropPlan no longer keeps a plan.
func (s *Server) dropPlan(c *gin.Context) {
	id, err := strconv.ParseUint(c.PostForm("kept"), 10, 64)
	if err == nil {
		err = s.Store.DropPlan(id)
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "It is no longer kept.", back(c))
}

// usePlan makes a kept plan, or one that comes as JSON, the job's plan. It is laid on the
// drive as it is: what no longer fits is said.
func (s *Server) usePlan(c *gin.Context) {
	fits := ""
	var err error
	s.change(c, func(st *shop.JobState, steps []plan.Step) ([]plan.Step, string, error) {
		if len(steps) > 0 {
			return nil, "", errors.New("this job has a plan already; it stays as it is. Keep it under a name, or take its steps out first")
		}
		var expect *layout.Layout
		var what string
		if c.PostForm("kept") != "" {
			var k *store.KeptPlan
			id, _ := strconv.ParseUint(c.PostForm("kept"), 10, 64)
			if k, err = s.Store.KeptPlan(id); err != nil {
				return nil, "", err
			}
			if steps, expect, err = k.Plan(); err != nil {
				return nil, "", err
			}
			what = fmt.Sprintf("the kept plan “%s”", k.Name)
		} else {
			b, err := sentPlan(c)
			if err != nil {
				return nil, "", err
			}
			p, err := plan.Parse(b)
			if err != nil {
				return nil, "", fmt.Errorf("%w. Nothing was planned", err)
			}
			steps, what = p.Steps, "a plan that was read in"
		}
		fits = shop.ForAnotherDrive(st, steps, expect)
		if fits != "" {
			s.sessions.Put(c.Request.Context(), "flash", "care:"+fits+" Look at every step.")
		}
		return steps, what, nil
	})
}

// sentPlan is the plan that a form sends, as a file or as text.
func sentPlan(c *gin.Context) ([]byte, error) {
	if text := strings.TrimSpace(c.PostForm("text")); text != "" {
		return []byte(text), nil
	}
	h, err := c.FormFile("file")
	if err != nil {
		return nil, errors.New("neither a file nor text was sent; nothing was planned")
	}
	f, err := h.Open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, int64(disk.MiB)+1))
}

// planJSON hands the job's plan out.
func (s *Server) planJSON(c *gin.Context) {
	j, _, err := s.Store.Job(c.Param("job"), bayOf(c))
	var steps []plan.Step
	if err == nil {
		steps, _, err = j.Steps()
	}
	if err == nil && len(steps) == 0 {
		err = fmt.Errorf("the plan: %w", store.ErrNotFound)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s plan.json"`, j.Number))
	c.IndentedJSON(http.StatusOK, plan.Plan{Version: 1, Steps: steps})
}

// by is the person of a request, with what their page showed.
func by(c *gin.Context) shop.By { return shop.By{Who: me(c), Seen: seenPlan(c)} }

// seenPlan is the state of the plan that a page showed whose act this is, nil where it does not
// say.
func seenPlan(c *gin.Context) *uint64 {
	n, err := strconv.ParseUint(c.Query("plan"), 10, 64)
	if err != nil {
		return nil
	}
	return &n
}

// takeOut removes a step from the plan.
func (s *Server) takeOut(c *gin.Context) {
	s.change(c, func(_ *shop.JobState, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		return slices.Delete(steps, i, i+1), fmt.Sprintf("step %d, %s, taken out", i+1, steps[i].Do()), nil
	})
}

// layAnew keeps the plan's steps for the drive as it is now.
func (s *Server) layAnew(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	if err := s.SavePlan(by(c), st, st.Steps, st.Drive.Survey.Layout, "laid anew on the drive as it is"); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "The plan was laid anew on the drive as it is now. Look at every step once more.", back(c))
}
