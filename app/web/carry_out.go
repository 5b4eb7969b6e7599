package web

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
)

// runRoutes are the addresses of what carries plans out.
func (s *Server) runRoutes(in *gin.RouterGroup) {
	in.POST("/jobs/:job/back-up", s.backUp)
	in.GET("/jobs/:job/confirm", s.confirmPage)
	in.POST("/jobs/:job/rehearse", s.rehearse)
	in.POST("/jobs/:job/carry-out", s.carryOut)
	in.POST("/jobs/:job/resume", s.resume)
	in.POST("/jobs/:job/leave", s.leave)
	in.POST("/jobs/:job/stop", s.stopWork)
}

// errandOf is what a request asks for, and by whom.
func errandOf(c *gin.Context) shop.Errand {
	return shop.Errand{Job: c.Param("job"), Bay: bayOf(c), Who: me(c)}
}

// seenErrand is that, about the plan and the drive that the page showed.
func seenErrand(c *gin.Context) shop.Errand {
	at := errandOf(c)
	at.Seen = &shop.Shown{Plan: seenPlan(c), Drive: c.Query("drive")}
	return at
}

// begun leads back to the job, where its work is shown or why it was not begun.
func (s *Server) begun(c *gin.Context, err error) {
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(http.StatusSeeOther, back(c))
}

func (s *Server) rehearse(c *gin.Context) { s.begun(c, s.Rehearse(seenErrand(c))) }

func (s *Server) carryOut(c *gin.Context) {
	s.begun(
		c,
		s.CarryOut(
			seenErrand(c),
			shop.CarryingOut{
				Serial: c.PostForm("serial"), Compare: c.PostForm("compare") != "", Despite: c.PostForm("despite"),
			},
		),
	)
}

func (s *Server) resume(c *gin.Context) {
	s.begun(c, s.EndRun(errandOf(c), c.PostForm("run"), c.PostForm("undo") == "yes"))
}

func (s *Server) leave(c *gin.Context) {
	s.begun(c, s.LeaveAsItIs(errandOf(c), c.PostForm("run"), strings.TrimSpace(c.PostForm("reason"))))
}

func (s *Server) stopWork(c *gin.Context) { s.begun(c, s.StopAt(c.Param("job"), bayOf(c))) }
