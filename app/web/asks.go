package web

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/words"
)

// askAgain asks the lead for what the job's plan needs, where what was asked for before is void.
func (s *Server) askAgain(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err == nil {
		defer st.Drive.Close()
		err = s.Changing(st, func() error { return s.AskLead(me(c), st, st.Steps, -1) })
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "The lead is asked.", back(c))
}

// answer is what the lead says to an ask.
func (s *Server) answer(c *gin.Context) {
	yes, why := c.PostForm("answer") == "yes", strings.TrimSpace(c.PostForm("why"))
	a, err := s.Store.Ask(c.Param("ask"))
	where := "/"
	if err == nil {
		where = pageOf(a.Job, bayOf(c), "safeguard")
		if c.PostForm("back") == "bench" {
			where = "/"
		}
	}
	switch {
	case err != nil:
	case !me(c).Lead():
		err = store.ErrNotLead
	case c.PostForm("answer") != "yes" && c.PostForm("answer") != "no":
		err = errors.New("an answer is yes or no; nothing was changed")
	case why == "" || len(why) > shop.MaxReason:
		err = fmt.Errorf("an answer has a reason, of at most %d letters; nothing was changed", shop.MaxReason)
	default:
		err = s.Answered(me(c), a, yes, why)
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(c, "sound", words.Either(yes, "Approved: ", "Not approved: ")+a.Text+".", where)
}

// askView is what was asked of the lead, as a page shows it.
type askView struct {
	store.Ask
	Standing bool // it is among what the gate takes
	Other    bool // it was approved of, and is for other contents than there are
}

// asked are the asks of the plan for a partition, the newest first; with what stands of them.
func (st *jobState) asked(asks []store.Ask, number int) []askView {
	var out []askView
	purposes := plan.Purposes(st.Steps)
	for _, a := range asks {
		former := a.VoidAt != nil && !slices.Contains(purposes, a.Purpose) // of a plan that is not this one
		if a.Number != number || !a.Drive().Same(shop.NameOf(st.Drive)) || former {
			continue
		}
		v := askView{Ask: a}
		if a.Yes != nil && *a.Yes && a.VoidAt == nil {
			v.Standing = slices.ContainsFunc(st.Facts.Approvals, func(x plan.Approval) bool { return x.ID == a.ID })
			v.Other = !v.Standing
		}
		out = append(out, v)
	}
	return out
}
