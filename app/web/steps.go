package web

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
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
	page, partition := "", ""
	if c.PostForm("page") == "safeguard" {
		page = "safeguard"
	}
	if p, err := strconv.Atoi(c.PostForm("partition")); err == nil {
		partition = strconv.Itoa(p)
	}
	return pageOf(c.Param("job"), bayOf(c), page, "p", partition)
}

// addStep stages a step, or gives a step that is staged what was missing.
func (s *Server) addStep(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
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
		step.StartLBA, step.As = disk.LBA(start), shop.UnusedName(st.Steps)
	}
	if w := text("wait"); w != "" {
		n, err := strconv.Atoi(w)
		if err != nil {
			s.refuse(
				c, fmt.Errorf("the PC waits for a number of seconds, and %q is none; nothing was added", w), back(c),
			)
			return
		}
		step.Wait = &n
	}
	if len(step.Release) > shop.MaxReason || len(step.Waiver) > shop.MaxReason || len(step.By)+len(step.To) > 100 || len(step.Size) > 100 || len(step.Label) > 200 {
		s.refuse(c, errors.New("that text is too long; nothing was added"), back(c))
		return
	}
	if err := s.Stage(by(c), st, step); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(http.StatusSeeOther, back(c))
}
