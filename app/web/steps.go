package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
)

func me(c *gin.Context) *store.Technician { return c.MustGet("me").(*store.Technician) }

// bayOf is the bay that a request is about, "" for the job's first.
func bayOf(c *gin.Context) string {
	if b := c.Query("bay"); b != "" {
		return b
	}
	return c.PostForm("bay")
}

// back is where a job's acts lead to.
func back(c *gin.Context) string {
	q := url.Values{}
	if b := bayOf(c); b != "" {
		q.Set("bay", b)
	}
	if p, err := strconv.Atoi(c.PostForm("partition")); err == nil {
		q.Set("p", strconv.Itoa(p))
	}
	to := "/jobs/" + url.PathEscape(c.Param("job"))
	if c.PostForm("page") == "safeguard" {
		to += "/safeguard"
	}
	if len(q) > 0 {
		to += "?" + q.Encode()
	}
	return to
}

// maxReason bounds a reason that is typed.
const maxReason = 500

// addStep stages a step, or gives a step that is staged what was missing.
func (s *Server) addStep(c *gin.Context) {
	st, err := s.workOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	text := func(key string) string { return strings.TrimSpace(c.PostForm(key)) }
	step := plan.Step{Do: plan.Do(c.PostForm("do")), Partition: c.PostForm("partition"), By: text("by"), Release: text("release"), Waiver: text("waiver"),
		Erase: c.PostForm("erase") != "", Test: c.PostForm("test") != "", Folder: text("folder"), Letter: text("letter"), Size: text("size"), Type: text("type"), Format: text("format"), Label: text("label"), Edge: c.PostForm("edge"), Into: c.PostForm("into"), In: c.PostForm("in"), To: text("to"), DropRestorePoints: c.PostForm("drop") != "", Act: c.PostForm("act"), Scheme: c.PostForm("scheme")}
	if step.Erase {
		step.Backups = c.PostForm("backups")
	}
	if step.Do == plan.Container && step.Act == "" {
		s.refuse(c, errors.New("it does not say what is done with the container; no step was added"), back(c))
		return
	}
	if step.Do == plan.Create {
		start, err := strconv.ParseInt(c.PostForm("start"), 10, 64)
		if err != nil {
			s.refuse(c, errors.New("it is not clear where the partition is to be made; nothing was added"), back(c))
			return
		}
		step.StartLBA, step.As = disk.LBA(start), unusedName(st.Steps)
	}
	if w := text("wait"); w != "" {
		n, err := strconv.Atoi(w)
		if err != nil {
			s.refuse(c, fmt.Errorf("the PC waits for a number of seconds, and %q is none; nothing was added", w), back(c))
			return
		}
		step.Wait = &n
	}
	if len(step.Release) > maxReason || len(step.Waiver) > maxReason || len(step.By)+len(step.To) > 100 || len(step.Size) > 100 || len(step.Label) > 200 {
		s.refuse(c, errors.New("that text is too long; nothing was added"), back(c))
		return
	}
	if err := s.stage(by(c), st, step); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(http.StatusSeeOther, back(c))
}

// unusedName is a name for a new partition that no step uses.
func unusedName(steps []plan.Step) string {
	for n := len(steps) + 1; ; n++ {
		name := fmt.Sprintf("new%d", n)
		if !slices.ContainsFunc(steps, func(x plan.Step) bool { return x.As == name }) {
			return name
		}
	}
}

// firstDelete is where a step belongs that must come before a partition is deleted, -1
// where it comes last.
func firstDelete(steps []plan.Step, step plan.Step) int {
	if !slices.Contains([]plan.Do{plan.ParkRecovery, plan.DropStartEntry, plan.NoteIdentity}, step.Do) {
		return -1
	}
	return slices.IndexFunc(steps, func(x plan.Step) bool { return x.Do == plan.Delete && x.Partition == step.Partition })
}

// stage adds a step to the job's plan. What cannot be done is not added.
func (s *Server) stage(by By, st *State, step plan.Step) error {
	if err := step.Valid(); err != nil {
		return fmt.Errorf("%w; no step was added", err)
	}
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; no step was added. Carry that out or take its steps out first")
	}
	if s.desk.Busy(st.Drive.path) || st.Pending != nil {
		return errors.New("a run on this drive is not finished; no step was added")
	}
	steps := append([]plan.Step{}, st.Steps...)
	at := slices.IndexFunc(steps, func(x plan.Step) bool {
		return x.Do == step.Do && (x.Do == plan.Delete && x.Partition == step.Partition || x.Do == plan.Clear || x.Do == plan.Restart)
	})
	if at < 0 {
		at = len(steps)
		if i := firstDelete(steps, step); i >= 0 {
			at = i
		}
		if step.Do == plan.Restart { // all steps are carried out within it
			at = 0
		}
		steps = slices.Insert(steps, at, step)
	}
	steps[at] = step
	facts, err := s.facts(st.Drive, st.Job, steps)
	if err != nil {
		return err
	}
	cols := plan.Lay(st.Drive.sv.Layout, facts, steps)
	for _, o := range append(cols[at].Obstacles, cols[at].Missing...) {
		if len(cols[at].Obstacles) > 0 {
			return errors.New(strings.TrimSuffix(o.Text, ".") + "; no step was added")
		}
	}
	s.desk.Forget(st.Drive.path)
	return s.savePlanWith(by, st, steps, st.expect(), cols[at].Title, at)
}
