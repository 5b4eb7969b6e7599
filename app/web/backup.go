package web

import (
	"strconv"

	"github.com/gin-gonic/gin"

	"jadetrail/core/shelf"
)

// backUp makes the backup of one partition, or all that the plan misses.
func (s *Server) backUp(c *gin.Context) {
	var only *int
	if n, err := strconv.Atoi(c.PostForm("partition")); err == nil && c.PostForm("all") == "" {
		only = &n
	}
	kind := shelf.Image
	if c.PostForm("kind") == string(shelf.Files) {
		kind = shelf.Files
	}
	sh := s.shelfFor(c)
	if c.PostForm("onto") == sh.To {
		s.sessions.Put(c.Request.Context(), chosenShelf, sh.To)
	}
	s.begun(c, s.BackUp(errandOf(c), sh, kind, only))
}
