package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/compare"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

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
	defer d.close()
	v := compareView{Job: j.Number, Bay: d.Bay, Title: p.Title(), Number: p.Number, Dir: c.Query("path")}
	bays, err := s.store.Bays()
	if err != nil {
		s.fail(c, err)
		return
	}
	var whole []otherSide
	for _, b := range bays {
		if b.Image == nil {
			continue
		}
		o, err := s.open(&b, false)
		if err != nil {
			continue
		}
		if b.Letter != d.Bay && len(o.sv.Volumes) > 0 {
			whole = append(whole, otherSide{b.Letter + ":*", fmt.Sprintf("The whole drive in bay %s, volume by volume (…%s)", b.Letter, o.Identity.Serial[max(len(o.Identity.Serial)-4, 0):])})
		}
		for _, q := range o.sv.Layout.Partitions() {
			if o.sv.Volumes[q.Number] != nil && (b.Letter != d.Bay || q.Number != p.Number) {
				v.Others = append(v.Others, otherSide{fmt.Sprintf("%s:%d", b.Letter, q.Number), fmt.Sprintf("Bay %s, %s, %s (…%s)", b.Letter, q.Title(), q.Bytes, o.Identity.Serial[max(len(o.Identity.Serial)-4, 0):])})
			}
		}
		o.close()
	}
	v.Others = append(v.Others, whole...)
	all, err := s.coverage.List()
	if err != nil {
		s.fail(c, err)
		return
	}
	for _, r := range all {
		if r.Here.Place.Span.UniqueID == p.UniqueID && r.Here.Place.Drive().Same(driveName(d)) {
			v.Results = append(v.Results, r)
		}
	}
	if w, ok := s.desk.State("compare"); ok && w.Kind != "" {
		l := workView(w)
		v.Work, v.Line = &l, w.Trouble+w.Outcome
	}
	s.render(c, http.StatusOK, "compare", page{Title: "Compare " + v.Title, Here: "compare", Body: v, Crumbs: s.insideCrumbs(j, d, p, "Compare "+v.Title)})
}

// pair is two sides that are compared.
type pair struct{ here, there compare.Side }

// pairs are the sides that are to be compared.
func pairs(ask Comparison, d, o *drive) ([]pair, error) {
	if ask.With != "*" {
		here, err := sideOf(d, ask.Partition, ask.Folder)
		if err != nil {
			return nil, err
		}
		there, err := sideOf(o, ask.With, ask.WithFolder)
		return []pair{{here, there}}, err
	}
	var out []pair
	for _, p := range d.sv.Layout.Partitions() {
		if d.sv.Volumes[p.Number] == nil || o.sv.Volumes[p.Number] == nil {
			continue
		}
		here, err := sideOf(d, fmt.Sprint(p.Number), "")
		if err != nil {
			return nil, err
		}
		there, err := sideOf(o, fmt.Sprint(p.Number), "")
		if err != nil {
			return nil, err
		}
		out = append(out, pair{here, there})
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no volume of bay %s has one of the same number in bay %s that can be looked into; nothing was compared", d.Bay, o.Bay)
	}
	return out, nil
}

// startCompare compares two volumes, folders or drives in the background.
func (s *Server) startCompare(c *gin.Context) {
	where := fmt.Sprintf("/jobs/%s/compare?bay=%s&p=%s", url.PathEscape(c.Param("job")), url.QueryEscape(bayOf(c)), url.QueryEscape(c.PostForm("partition")))
	ask := Comparison{Partition: c.PostForm("partition"), Folder: c.PostForm("here"), WithFolder: c.PostForm("there")}
	ask.WithBay, ask.With, _ = strings.Cut(c.PostForm("with"), ":")
	s.then(c, s.compareWith(placeOf(c), ask), where)
}

// Comparison says what is compared with what: a partition of a drive, or a folder in it, with a partition of the
// drive in another bay; or with "*" as that, every volume with the one of the same number there.
type Comparison struct {
	Partition, Folder         string
	WithBay, With, WithFolder string
}

// compareWith begins to compare two volumes, folders or drives.
func (s *Server) compareWith(at Place, ask Comparison) error {
	j, d, err := s.job(at.Job, at.Bay, false)
	if err != nil {
		return err
	}
	var list []pair
	_, o, err := s.inBay(ask.WithBay)
	if err == nil {
		err = errors.Join(s.settledDrive(d), s.settledDrive(o))
	}
	if err == nil {
		list, err = pairs(ask, d, o)
	}
	closeBoth := func() {
		d.close()
		if o != nil {
			o.close()
		}
	}
	tail, e := s.tail()
	if err = errors.Join(err, e); err == nil {
		who := at.Who.Name
		err = s.desk.Start("compare", "compare", "Comparison", func(ctx context.Context, report func(work.Update)) (string, error) {
			defer closeBoth()
			var said []string
			for i, p := range list {
				r, err := compare.Run(ctx, p.here, p.there, func(x compare.Progress) {
					report(work.Update{Phase: "comparing contents of " + p.here.Place.Span.Title(), Step: i, Done: x.Done, Total: x.Total})
				})
				if err != nil {
					return "", err
				}
				r.ID, r.Time, r.Who = fmt.Sprintf("c-%s-%s-p%d", s.now().UTC().Format("20060102-150405"), tail, p.here.Place.Span.Number), s.now(), who
				text := fmt.Sprintf("%s compared with %s: %s", p.here.Place.Span.Title(), p.there.Place.Span.Title(), verdict(r))
				said = append(said, text)
				kept, err := json.Marshal(r)
				if err != nil {
					return "", err
				}
				if err := s.books.Do(shop.Act{ID: r.ID, Files: []shop.File{{Name: filepath.Join("coverage", r.ID+".json"), Data: kept}},
					Entry: trail.Entry{ID: "e-" + r.ID, Time: r.Time, Who: who, Act: trail.ActCompare, Job: j.Number, Partition: p.here.Place.Span.Number, Text: strings.TrimSuffix(text, "."),
						Drive: p.here.Place.Drive()}}); err != nil {
					return "", err
				}
			}
			return strings.Join(said, " "), nil
		})
	}
	if err != nil {
		closeBoth()
	}
	return err
}

// sideOf is one side of a comparison.
func sideOf(d *drive, number, dir string) (compare.Side, error) {
	n := 0
	fmt.Sscan(number, &n)
	p, ok := d.sv.Layout.Find(n)
	v := d.sv.Volumes[n]
	if !ok || v == nil {
		return compare.Side{}, fmt.Errorf("partition %s in bay %s cannot be looked into; nothing was compared", number, d.Bay)
	}
	dir = strings.Trim(strings.ReplaceAll(dir, `\`, "/"), "/ ")
	if dir != "" {
		if f, err := v.Stat(dir); err != nil || f.Kind != volume.Folder {
			return compare.Side{}, fmt.Errorf("there is no folder %s in %s; nothing was compared", volume.Shown(dir), p.Title())
		}
	}
	print, err := v.Fingerprint()
	return compare.Side{Volume: v, Dir: dir, Place: compare.Place{DiskID: d.sv.Layout.DiskID, Model: d.Identity.Model, Serial: d.Identity.Serial, Span: *p, Fingerprint: print}}, err
}

// verdict is a comparison's outcome in a sentence.
func verdict(r *compare.Result) string {
	if r.Covered {
		return fmt.Sprintf("every file of the first, %d of them, is on the second too with the same contents.", r.Counts[compare.Same].Files)
	}
	return fmt.Sprintf("%d the same, %d only here, %d only there, %d different, %d unreadable.", r.Counts[compare.Same].Files, r.Counts[compare.OnlyHere].Files, r.Counts[compare.OnlyThere].Files, r.Counts[compare.Different].Files, r.Counts[compare.Unknown].Files)
}

type comparedView struct {
	*compare.Result
	Verdict string
	Filter  string
	Shown   []compare.Line
	More    int
	Stands  bool
}

// comparedPage shows one comparison.
func (s *Server) comparedPage(c *gin.Context) {
	r, err := s.coverage.Load(c.Param("id"))
	if err != nil {
		s.fail(c, fmt.Errorf("%w: %w", store.ErrNotFound, err))
		return
	}
	v := comparedView{Result: r, Verdict: verdict(r), Filter: c.Query("show")}
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
	s.render(c, http.StatusOK, "compared", page{Title: "Comparison", Here: "compared", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Comparison of " + r.Here.Place.Span.Title(), ""}}})
}
