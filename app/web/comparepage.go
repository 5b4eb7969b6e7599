package web

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/compare"
	"jadetrail/core/volume"
)

// compareRoutes are the addresses of comparisons.
func (s *Server) compareRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job/compare", s.comparePage)
	in.POST("/jobs/:job/compare", s.startCompare)
	in.GET("/compared/:id", s.comparedPage)
}

// otherSide is a volume that can be compared with.
type otherSide struct {
	Value, Text string
}

type compareView struct {
	Job, Bay, Title string
	Number          int
	Dir             string
	Others          []otherSide
	Results         []*compare.Result
	Work            *workLine
	Line            string
}

// comparePage chooses what a volume is compared with.
func (s *Server) comparePage(c *gin.Context) {
	j, d, p, _, err := s.volumeOf(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer d.Close()
	v := compareView{Job: j.Number, Bay: d.Bay, Title: p.Title(), Number: p.Number, Dir: c.Query("path")}
	bays, err := s.Store.Bays()
	if err != nil {
		s.fail(c, err)
		return
	}
	var whole []otherSide
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		o, err := s.Open(&b, false)
		if err != nil {
			continue
		}
		if b.Letter != d.Bay && len(o.Survey.Volumes()) > 0 {
			whole = append(whole, otherSide{
				b.Letter + ":*",
				fmt.Sprintf(
					"The whole drive in bay %s, volume by volume (…%s)", b.Letter,
					o.Identity.Serial[max(len(o.Identity.Serial)-4, 0):],
				),
			})
		}
		for _, q := range o.Survey.Layout.Partitions() {
			if o.Survey.Volume(q.Number) != nil && (b.Letter != d.Bay || q.Number != p.Number) {
				v.Others = append(v.Others, otherSide{
					fmt.Sprintf("%s:%d", b.Letter, q.Number),
					fmt.Sprintf(
						"Bay %s, %s, %s (…%s)", b.Letter, q.Title(), q.Bytes,
						o.Identity.Serial[max(len(o.Identity.Serial)-4, 0):],
					),
				})
			}
		}
		o.Close()
	}
	v.Others = append(v.Others, whole...)
	all, err := s.Coverage.List()
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, r := range all {
		if r.Here.Place.Span.UniqueID == p.UniqueID && r.Here.Place.Drive().Same(shop.NameOf(d)) {
			v.Results = append(v.Results, r)
		}
	}
	if w, ok := s.Desk.State("compare"); ok && w.Kind != "" {
		l := workView(w)
		v.Work, v.Line = &l, w.Trouble+w.Outcome
	}
	s.render(
		c, http.StatusOK, "compare",
		page{Title: "Compare " + v.Title, Here: "compare", Body: v, Crumbs: s.insideCrumbs(j, d, p, "Compare "+v.Title)},
	)
}

// startCompare compares two volumes, folders or drives in the background.
func (s *Server) startCompare(c *gin.Context) {
	where := pageOf(c.Param("job"), bayOf(c), "compare", "p", c.PostForm("partition"))
	ask := shop.Comparison{
		Partition: c.PostForm("partition"), Folder: c.PostForm("here"), WithFolder: c.PostForm("there"),
	}
	ask.WithBay, ask.With, _ = strings.Cut(c.PostForm("with"), ":")
	s.then(c, s.Compare(errandOf(c), ask), where)
}

type comparedView struct {
	*compare.Result
	Verdict string
	Filter  string
	Shown   []compare.Line
	More    int
	Stands  bool
	Pairs   []pair
	Height  float64 // of their drawing
}

// Tall is how high the drawing is with its heads.
func (v comparedView) Tall() float64 { return v.Height + 18 }

// comparedPage shows one comparison.
func (s *Server) comparedPage(c *gin.Context) {
	r, err := s.Coverage.Load(c.Param("id"))
	if err != nil {
		s.fail(c, fmt.Errorf("%w: %w", store.ErrNotFound, err))
		return
	}
	v := comparedView{Result: r, Verdict: shop.Verdict(r), Filter: c.Query("show")}
	v.Pairs, v.Height = pairsOf(r)
	for _, l := range r.Lines {
		if v.Filter != "" && string(l.Verdict) != v.Filter {
			continue
		}
		if len(v.Shown) >= 500 {
			v.More++
			continue
		}
		l.Path, l.Why = volume.Shown(l.Path), volume.Shown(l.Why)
		v.Shown = append(v.Shown, l)
	}
	s.render(
		c, http.StatusOK, "compared",
		page{
			Title: "Comparison", Here: "compared", Body: v,
			Crumbs: []crumb{{"Bench", "/"}, {"Comparison of " + r.Here.Place.Span.Title(), ""}},
		},
	)
}
