package web

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/core/disk"
	"jadetrail/core/shelf"
)

// chosenShelf is where a person's choice of the place for new backups is kept.
const chosenShelf = "shelf"

// shelfFor is the shelf with new backups going where this person has chosen.
func (s *Server) shelfFor(c *gin.Context) *shelf.Shelf {
	sh := s.Shelf()
	to := c.PostForm("onto")
	if to == "" {
		to = s.sessions.GetString(c.Request.Context(), chosenShelf)
	}
	if sh.Has(to) {
		return sh.Onto(to)
	}
	return sh
}

// placeRow is a place for backups on a page.
type placeRow struct {
	shelf.Place
	Here    bool // new backups go there
	Count   int
	Used    disk.Bytes
	Percent int
	Books   []book
	Older   int // backups that are not drawn
}

// placeRows tells how the places stand.
func placeRows(sh *shelf.Shelf, list []*shelf.Manifest) []placeRow {
	var out []placeRow
	for i, p := range sh.Places() {
		r := placeRow{Place: p, Here: sh.To == p.Title || sh.To == "" && i == 0}
		for _, m := range list {
			if m.Where() == p.Title {
				r.Count, r.Used = r.Count+1, r.Used+m.Stored
			}
		}
		if whole := r.Used + p.Free; whole > 0 {
			r.Percent = int(r.Used * 100 / whole)
		}
		out = append(out, r)
	}
	return out
}

// chooseShelf keeps where a person's new backups go.
func (s *Server) chooseShelf(c *gin.Context) {
	to := c.PostForm("onto")
	if !s.Shelf().Has(to) {
		s.refuse(c, fmt.Errorf("%w: %q; new backups go where they went before", shelf.ErrNoPlace, to), whereFrom(c))
		return
	}
	s.sessions.Put(c.Request.Context(), chosenShelf, to)
	s.say(c, "sound", "New backups go to "+to+".", whereFrom(c))
}

// makeShelf makes a drive a shelf.
func (s *Server) makeShelf(c *gin.Context) {
	said, err := s.UseAsShelf(me(c), c.PostForm("bay"), strings.TrimSpace(c.PostForm("label")))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}

// noShelf takes a drive out of the shelves.
func (s *Server) noShelf(c *gin.Context) {
	said, err := s.UseAsShelfNoMore(me(c), c.PostForm("bay"))
	if err != nil {
		s.refuse(c, err, "/dock")
		return
	}
	s.say(c, "sound", said, "/dock")
}
