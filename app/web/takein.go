package web

import (
	"errors"
	"net/http"
	"path"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
)

// takeIn takes in a trail or an archive that is sent.
func (s *Server) takeIn(c *gin.Context) {
	f, err := c.FormFile("file")
	if err != nil {
		s.refuse(c, shop.NotTakenIn(errors.New("no file came along")), "/trail")
		return
	}
	r, err := f.Open()
	if err != nil {
		s.refuse(c, shop.NotTakenIn(err), "/trail")
		return
	}
	defer r.Close()
	said, err := s.TakeInFile(me(c), path.Base(f.Filename), r)
	if err != nil {
		s.refuse(c, err, "/trail")
		return
	}
	s.say(c, "sound", said, "/trail")
}

// takenIn hands out what was taken in, as it came.
func (s *Server) takenIn(c *gin.Context) {
	name := c.Param("name")
	b, err := s.TakenIn(name)
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, name)
	c.Data(http.StatusOK, "application/octet-stream", b)
}
