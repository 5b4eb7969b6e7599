package web

import (
	"errors"
	"fmt"
	"net/http"
	"os"
	"path"
	"path/filepath"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
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
	if !shop.TakenForm.MatchString(name) {
		s.fail(c, fmt.Errorf("this page does not exist: %w", store.ErrNotFound))
		return
	}
	b, err := os.ReadFile(filepath.Join(s.Folder("taken-in"), name))
	if err != nil {
		s.fail(c, fmt.Errorf("this page does not exist: %w", store.ErrNotFound))
		return
	}
	attachment(c, name)
	c.Data(http.StatusOK, "application/octet-stream", b)
}
