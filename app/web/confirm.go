package web

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/run"
	"jadetrail/core/trail"
)

// became is a partition before and after a run.
type became struct {
	Number        int
	Title         string
	Role          string
	Before, After *layout.Span // nil where it was not, or is not
	What          []string
	Ends          bool
	Record        string
	Volume        *ran.VolumeState
}

type confirmView struct {
	Job    *store.Job
	Bay    string
	Box    workBox
	Model  string
	Undone bool
	Taken  time.Time // when the last run ended
	Meta   *ran.Meta
	Report *ran.Report
	// Open is the run that is not finished, nil for none.
	Open *run.Unfinished
	Rows []became
	Map  *mapData
	// Times are how long the parts of the run took, and Rate what was written in a second.
	Times []choice
	Rate  disk.Bytes
	Proof []string
	// Changed is in what the drive differs now from how the run left it.
	Changed []string
}

// confirmPage shows what the latest run on a job's drive made of it, before and after side
// by side.
func (s *Server) confirmPage(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	v := &confirmView{Job: st.Job, Bay: st.Drive.Bay, Box: st.box(), Model: st.Drive.Identity.Model, Open: st.Pending}
	if st.Last != nil {
		v.Taken, v.Undone = st.Last.Time, st.Last.Act == trail.ActUndone
		v.Meta, v.Report, err = ran.Read(s.Folder("runs"), st.Last.Run)
		if err != nil {
			s.fail(c, fmt.Errorf("%w. The trail has the run; look there", err))
			return
		}
	}
	if v.Meta != nil && v.Report != nil && v.Report.Ended == ran.EndDone {
		entries, err := s.Store.Entries(shop.History(st.Drive))
		if err != nil {
			s.fail(c, err)
			return
		}
		v.fill(entries)
		v.Changed = layout.Differ(v.Meta.After, st.Drive.Survey.Layout)
	}
	r, err := s.railOf(c, st, "Confirm")
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "confirm", page{Title: "Confirm " + st.Job.Number, Here: "confirm", Body: v, Rail: r, Crumbs: []crumb{
		{"Bench", "/"}, {st.Job.Number + " " + st.Job.Customer, pageOf(st.Job.Number, st.Drive.Bay, "")}, {"Confirm", ""},
	}})
}

func (v *confirmView) fill(entries []trail.Entry) {
	m, r := v.Meta, v.Report
	states := map[int]*ran.VolumeState{}
	for i := range r.Volumes {
		states[r.Volumes[i].Number] = &r.Volumes[i]
	}
	records, back := map[int]string{}, map[int]bool{}
	for _, e := range entries {
		if e.Run == m.ID && e.Record != "" && e.Act == trail.ActDelete {
			records[e.Partition] = e.Record
		}
		if e.Run == m.ID && e.Act == trail.ActBringBack {
			back[e.Partition] = true
		}
	}
	for _, p := range m.Before.Partitions() {
		x := became{Number: p.Number, Title: p.Title(), Role: string(p.Role), Before: &p, Volume: states[p.Number]}
		if q, there := m.After.Find(p.Number); there && records[p.Number] == "" { // else its number is another's now
			x.After, x.What = q, shop.Changes(&p, q, m.After.Sector)
		} else {
			x.Ends, x.Record, x.Volume, x.What = true, records[p.Number], nil, []string{"deleted"}
			if slices.ContainsFunc(m.Plan.Steps, func(s plan.Step) bool { return s.Do() == plan.Absorb && s.Partition == fmt.Sprint(p.Number) }) {
				x.What = []string{"absorbed"}
			}
		}
		v.Rows = append(v.Rows, x)
	}
	for _, q := range m.After.Partitions() {
		if _, was := m.Before.Find(q.Number); was && records[q.Number] == "" {
			continue
		}
		x := became{
			Number: q.Number, Title: q.Title(), Role: string(q.Role), After: &q, What: []string{"new"},
			Volume: states[q.Number],
		}
		if back[q.Number] {
			x.What = []string{"brought back"}
		}
		v.Rows = append(v.Rows, x)
	}
	v.Map = &mapData{Job: v.Job.Number, Columns: []mapColumn{
		{Kind: "past", Title: "Before", Sub: m.Begun.Local().Format("2 Jan 15:04"), Blocks: blocks(m.Before, nil)},
		{Kind: "now", Title: "After", Sub: r.Time.Local().Format("2 Jan 15:04"), Blocks: blocks(follow(m.After, m.Before), m.Before)},
	}}
	for _, x := range v.Rows {
		if x.Ends {
			v.Map.Columns[1].Piles = append(v.Map.Columns[1].Piles, pile{x.Before.UniqueID, x.Title, x.Record})
		}
	}
	t := r.Took
	for _, part := range []struct {
		what string
		took float64
	}{{"Reading, and every step on a copy", t.Prepare}, {"Writing, made durable", t.Write}, {"Reading back what was moved", t.ReadBack}, {"Reading the drive again, and proving it", t.Prove}} {
		if part.took > 0 {
			v.Times = append(v.Times, choice{part.what, lasted(part.took)})
		}
	}
	if t.Write > 0 {
		v.Rate = disk.Bytes(float64(r.Written) / t.Write)
	}
	for _, p := range strings.Split(r.Proof, "; ") {
		v.Proof = append(v.Proof, upper(p)+".")
	}
}

// lasted words a time that was measured.
func lasted(seconds float64) string {
	if seconds < 10 {
		return fmt.Sprintf("%.1f s", seconds)
	}
	return plan.Lasts(int64(seconds + 0.5))
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
