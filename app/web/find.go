package web

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
)

// findRoutes are the addresses of what finds in everything.
func (s *Server) findRoutes(in *gin.RouterGroup) {
	in.GET("/find", s.findAnything)
}

type anythingView struct {
	*shop.Found
	Text  string
	Least int
	Trail []trailRow
	// Looked are the volumes that this person has looked into last: there files can be looked for on the drive itself.
	Looked []shop.Looked
}

// findAnything looks for a text in everything that the shop keeps.
func (s *Server) findAnything(c *gin.Context) {
	text := cut(strings.TrimSpace(c.Query("q")), 200)
	found, err := s.Find(text)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := anythingView{Found: found, Text: text, Least: shop.LeastFind, Looked: s.LastLooked(me(c).ID)}
	for _, e := range found.Entries {
		v.Trail = append(v.Trail, rowOf(e))
	}
	s.render(c, http.StatusOK, "anything", page{
		Title: "Find", Here: "anything", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Find", ""}},
	})
}
