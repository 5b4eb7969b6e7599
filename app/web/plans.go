package web

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

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

func (s *Server) plansOf(st *State) (plansView, error) {
	var v plansView
	v.Undo, v.Redo = s.store.Around(st.Job)
	all, err := s.store.KeptPlans()
	for _, k := range all {
		steps, l, err := k.Plan()
		if err != nil {
			continue
		}
		v.Kept = append(v.Kept, keptView{k, len(steps), l != nil && l.Drive().Same(driveName(st.Drive))})
	}
	return v, err
}

// change changes a job's steps as f does it.
func (s *Server) change(c *gin.Context, f func(st *State, steps []plan.Step) ([]plan.Step, string, error)) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.close()
	steps, what, err := f(st, slices.Clone(st.Steps))
	if err == nil {
		err = s.savePlan(by(c), st, steps, st.expect(), what)
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.desk.Forget(st.Drive.path)
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
	s.change(c, func(st *State, steps []plan.Step) ([]plan.Step, string, error) {
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
		return steps, fmt.Sprintf("%s moved %s", st.titleOf(i), way), nil
	})
}

// titleOf names a step of the plan.
func (st *State) titleOf(i int) string {
	if i < len(st.Columns) && st.Columns[i].Title != "" {
		return st.Columns[i].Title
	}
	return string(st.Steps[i].Do)
}

// changeStep gives a step another amount.
func (s *Server) changeStep(c *gin.Context) {
	s.change(c, func(st *State, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		if _, there := c.GetPostForm("damaged"); there && steps[i].Do == plan.BringBack {
			if err := acceptDamage(steps[i:i+1], strings.TrimSpace(c.PostForm("damaged"))); err != nil {
				return nil, "", err
			}
			return steps, st.titleOf(i) + ", damaged", nil
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
		return steps, fmt.Sprintf("%s: %s", st.titleOf(i), text), nil
	})
}

// undoPlan takes the plan's latest change back, or does it again.
func (s *Server) undoPlan(c *gin.Context) {
	again := c.Param("what") == "redo"
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.close()
	what, err := s.undo(by(c), st, again)
	switch {
	case errors.Is(err, store.ErrNoState):
		s.refuse(c, errors.New("there is nothing to take back or to do again; the plan is as it was"), back(c))
	case err != nil:
		s.refuse(c, err, back(c))
	default:
		s.desk.Forget(st.Drive.path)
		s.say(c, "sound", map[bool]string{false: "Taken back: ", true: "Done again: "}[again]+what+".", back(c))
	}
}

// undo takes the latest change of a job's plan back, or does it again. It returns what was changed.
func (s *Server) undo(by By, st *State, again bool) (what string, err error) {
	err = s.changing(st, func() (err error) {
		if what, err = s.store.Undo(st.Job.Number, by.Seen, again, s.now()); err != nil {
			return err
		}
		j, _, err := s.store.Job(st.Job.Number, st.Drive.Bay)
		if err != nil {
			return err
		}
		steps, _, err := j.Steps()
		if err != nil {
			return err
		}
		return s.askLead(by.Who, st, steps, -1)
	})
	return what, err
}

// mostName bounds the names of kept plans.
const mostName = 80

// keepPlan keeps the job's plan under a name.
func (s *Server) keepPlan(c *gin.Context) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.close()
	name := strings.TrimSpace(c.PostForm("name"))
	if err := s.keepAs(me(c), st, name); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", fmt.Sprintf("The plan is kept as “%s”.", name), back(c))
}

// keepAs keeps a job's plan under a name.
func (s *Server) keepAs(who *store.Technician, st *State, name string) error {
	switch {
	case len(st.Steps) == 0:
		return errors.New("there is no plan to keep")
	case name == "" || utf8.RuneCountInString(name) > mostName:
		return fmt.Errorf("a name has from 1 to %d letters; nothing was kept", mostName)
	}
	return s.store.KeepPlan(name, st.Job.Number, who.Name, st.Steps, st.expect(), s.now())
}

// dropPlan no longer keeps a plan.
func (s *Server) dropPlan(c *gin.Context) {
	id, err := strconv.ParseUint(c.PostForm("kept"), 10, 64)
	if err == nil {
		err = s.store.DropPlan(id)
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
	s.change(c, func(st *State, steps []plan.Step) ([]plan.Step, string, error) {
		if len(steps) > 0 {
			return nil, "", errors.New("this job has a plan already; it stays as it is. Keep it under a name, or take its steps out first")
		}
		var expect *layout.Layout
		var what string
		if c.PostForm("kept") != "" {
			var k *store.KeptPlan
			id, _ := strconv.ParseUint(c.PostForm("kept"), 10, 64)
			if k, err = s.store.KeptPlan(id); err != nil {
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
		fits = forAnotherDrive(st, steps, expect)
		if fits != "" {
			s.sessions.Put(c.Request.Context(), "flash", "care:"+fits+" Look at every step.")
		}
		return steps, what, nil
	})
}

// forAnotherDrive readies the steps of a plan that was made for a drive as expect, nil where that is not
// known: reasons, and who answers for them, are given anew. It returns in what the drive is another one, "" for
// nothing.
func forAnotherDrive(st *State, steps []plan.Step, expect *layout.Layout) string {
	for i := range steps {
		steps[i].Release, steps[i].Waiver, steps[i].Damaged = "", "", ""
	}
	if expect == nil {
		return ""
	}
	d := layout.Differ(expect, st.Drive.sv.Layout)
	if len(d) == 0 {
		return ""
	}
	fits := "It was made for another state of the drive, or for another drive: " + strings.Join(d[:min(len(d), 3)], " ")
	if len(d) > 3 {
		fits += fmt.Sprintf(" And %d more.", len(d)-3)
	}
	return fits
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
	j, _, err := s.store.Job(c.Param("job"), bayOf(c))
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

// By is who changes a plan, and the state of it that they have seen: nil where a page does not say.
type By struct {
	Who  *store.Technician
	Seen *uint64
}

// by is the person of a request, with what their page showed.
func by(c *gin.Context) By { return By{me(c), seenPlan(c)} }

// seenPlan is the state of the plan that a page showed whose act this is, nil where it does not
// say.
func seenPlan(c *gin.Context) *uint64 {
	n, err := strconv.ParseUint(c.Query("plan"), 10, 64)
	if err != nil {
		return nil
	}
	return &n
}

// savePlan keeps a job's changed plan: the one way to change it. It is refused while a run of the
// plan is under way or open, for another drive of the job, and where somebody else has changed the
// plan meanwhile.
func (s *Server) savePlan(by By, st *State, steps []plan.Step, expect *layout.Layout, what string) error {
	return s.savePlanWith(by, st, steps, expect, what, -1)
}

// savePlanWith is savePlan for a plan of which somebody has given the step own, from 0, just now. What its
// steps need the lead for is asked with it.
func (s *Server) savePlanWith(by By, st *State, steps []plan.Step, expect *layout.Layout, what string, own int) error {
	return s.changing(st, func() error {
		change := store.Change{From: by.Seen, Steps: steps, Expect: expect, What: what, Who: by.Who.Name, When: s.now()}
		if err := s.store.SavePlan(st.Job.Number, change); err != nil {
			return err
		}
		if err := s.askLead(by.Who, st, steps, own); err != nil {
			return fmt.Errorf("the plan was changed, but the lead could not be asked for what it needs: %w", err)
		}
		return nil
	})
}

// changing lets a job's plan be changed, where it may be. No run of it is begun meanwhile.
func (s *Server) changing(st *State, f func() error) error {
	s.planning.Lock()
	defer s.planning.Unlock()
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; nothing was changed. Carry that out or take its steps out first")
	}
	if s.desk.Busy(st.Drive.path) || st.Pending != nil {
		return errors.New("a run on this drive is not finished; the plan stays as it is")
	}
	return f()
}

// expect is the drive as the plan was begun for it.
func (st *State) expect() *layout.Layout {
	if _, l, err := st.Job.Steps(); err == nil && l != nil {
		return l
	}
	return st.Drive.sv.Layout
}

// takeOut removes a step from the plan.
func (s *Server) takeOut(c *gin.Context) {
	s.change(c, func(_ *State, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		return slices.Delete(steps, i, i+1), fmt.Sprintf("step %d, %s, taken out", i+1, steps[i].Do), nil
	})
}

// layAnew keeps the plan's steps for the drive as it is now.
func (s *Server) layAnew(c *gin.Context) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	if err := s.savePlan(by(c), st, st.Steps, st.Drive.sv.Layout, "laid anew on the drive as it is"); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "The plan was laid anew on the drive as it is now. Look at every step once more.", back(c))
}

const lookAgain = " It is shown as it is now: look at it, and begin again if it is what you want"

// asSeen refuses to act on another plan, or another drive, than the page showed from which it was
// asked for.
func asSeen(seen Shown, j *store.Job, d *drive) error {
	switch {
	case seen.Plan == nil || seen.Drive == "":
		return errors.New("this does not say which plan and which drive it is about; nothing was begun. Look at the page as it is now, and begin from there")
	case *seen.Plan != j.PlanState:
		return errors.New("the plan was changed since you looked at it, or was carried out; nothing was begun." + lookAgain)
	case seen.Drive != d.state():
		return errors.New("the drive in the bay is another one than you looked at, or has changed; nothing was begun." + lookAgain)
	}
	return nil
}
