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

// posted is the form of a step. What is wrong with it is the last that was.
type posted struct {
	*gin.Context
	steps []plan.Step // of the plan that the step is for
	wrong error
}

func (f *posted) text(key string) string { return strings.TrimSpace(f.PostForm(key)) }

// upTo is a text of at most so many bytes.
func (f *posted) upTo(most int, key string) string {
	text := f.text(key)
	if len(text) > most {
		f.wrong = errors.New("that text is too long; nothing was added")
	}
	return text
}

func (f *posted) amount(key string) string { return f.upTo(100, key) }
func (f *posted) reason(key string) string { return f.upTo(shop.MaxReason, key) }
func (f *posted) ticked(key string) bool   { return f.PostForm(key) != "" }

// bodies make the body of each kind of step that is chosen on a drive's pages from its form.
var bodies = map[plan.Do]func(f *posted) plan.Body{
	plan.Absorb: func(f *posted) plan.Body {
		return plan.Absorbing{
			Release: f.reason("release"), Waiver: f.reason("waiver"), Folder: f.text("folder"), Into: f.text("into"),
		}
	},
	plan.Clear: func(f *posted) plan.Body {
		return plan.Clearing{Release: f.reason("release"), Waiver: f.reason("waiver"), Scheme: f.text("scheme")}
	},
	plan.Container: func(f *posted) plan.Body {
		if f.text("act") == "" {
			f.wrong = errors.New("it does not say what is done with the container; no step was added")
		}
		return plan.Containing{By: f.amount("by"), Edge: f.text("edge"), Act: plan.ContainerAct(f.text("act"))}
	},
	plan.Create:         newPartition,
	plan.Delete:         newDeletion,
	plan.DropStartEntry: func(*posted) plan.Body { return plan.DroppingStartEntry{} },
	plan.Grow: func(f *posted) plan.Body {
		return plan.Growth{By: f.amount("by"), To: f.amount("to"), Edge: f.text("edge")}
	},
	plan.Label:        func(f *posted) plan.Body { return plan.Labelling{Label: f.upTo(200, "label")} },
	plan.Letter:       func(f *posted) plan.Body { return plan.Lettering{Letter: f.text("letter")} },
	plan.NoteIdentity: func(*posted) plan.Body { return plan.NotingIdentity{} },
	plan.ParkRecovery: func(f *posted) plan.Body { return plan.Parking{Folder: f.text("folder")} },
	plan.Restart:      func(*posted) plan.Body { return plan.Restarting{} },
	plan.Shrink: func(f *posted) plan.Body {
		return plan.Shrinking{
			By: f.amount("by"), To: f.amount("to"), Edge: f.text("edge"), DropRestorePoints: f.ticked("drop"),
		}
	},
	plan.Slide: func(f *posted) plan.Body {
		if f.text("way") == "-" {
			return plan.Sliding{By: "-" + strings.TrimPrefix(f.amount("by"), "-")}
		}
		return plan.Sliding{By: f.amount("by")}
	},
	plan.StartOrder:  newStartOrder,
	plan.UseRecovery: func(*posted) plan.Body { return plan.UsingRecovery{} },
}

func newDeletion(f *posted) plan.Body {
	d := plan.Deletion{Release: f.reason("release"), Waiver: f.reason("waiver"), Erase: f.ticked("erase")}
	if d.Erase {
		d.Backups = f.text("backups")
	}
	return d
}

func newPartition(f *posted) plan.Body {
	start, err := strconv.ParseInt(f.PostForm("start"), 10, 64)
	if err != nil {
		f.wrong = errors.New("it is not clear where the partition is to be made; nothing was added")
	}
	return plan.Creation{
		StartLBA: disk.LBA(start), Size: f.amount("size"), Type: f.text("type"), Format: f.text("format"),
		Label: f.upTo(200, "label"), As: shop.UnusedName(f.steps), Test: f.ticked("test"), In: f.text("in"),
	}
}

func newStartOrder(f *posted) plan.Body {
	w := f.text("wait")
	if w == "" {
		return plan.Ordering{}
	}
	n, err := strconv.Atoi(w)
	if err != nil {
		f.wrong = fmt.Errorf("the PC waits for a number of seconds, and %q is none; nothing was added", w)
	}
	return plan.Ordering{Wait: &n}
}

// addStep stages a step, or gives a step that is staged what was missing.
func (s *Server) addStep(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	body := bodies[plan.Do(c.PostForm("do"))]
	if body == nil {
		s.refuse(c, errors.New("that is not a step that can be chosen here; no step was added"), back(c))
		return
	}
	f := &posted{Context: c, steps: st.Steps}
	step := plan.Step{Partition: c.PostForm("partition"), Body: body(f)}
	if f.wrong != nil {
		s.refuse(c, f.wrong, back(c))
		return
	}
	if err := s.Stage(by(c), st, step); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(http.StatusSeeOther, back(c))
}
