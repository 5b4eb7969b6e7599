package web

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
)

// touched is a partition that the plan touches, with what stands for it.
type touched struct {
	layout.Span
	Title    string
	Does     []string // what the plan does with it, step by step
	Deleted  *plan.Step
	Must     bool // it may not go without something that stands for it
	Backup   *plan.Backup
	Settled  bool
	Personal bool // only the lead may waive
	LeadOnly bool // only the lead may release
	Asks     []plan.Obstacle
	Forever  string // what the plan does to it that cannot be taken back
	Also     int    // backups of it that an erasing takes away
	Looks    bool   // its files can be read
}

// Changed tells that the backup was made from another state.
func (t touched) Changed() bool { return t.Backup != nil && !t.Backup.Same }

type gateView struct {
	*jobState
	Title   string
	Rows    []touched
	Missing int
	Asks    int
	Lead    bool
	Free    string
	WorkURL string
}

// safeguardPage is the gate: what the plan touches and what stands for it.
func (s *Server) safeguardPage(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	v := gateView{jobState: st, Title: "Safeguard", Lead: me(c).Lead, WorkURL: "/jobs/" + st.Job.Number + "/work?bay=" + st.Drive.Bay}
	free, err := s.shelf.Free()
	if err != nil {
		s.fail(c, err)
		return
	}
	v.Free = free.String()
	list, err := s.shelf.List()
	if err != nil {
		s.fail(c, err)
		return
	}
	v.Rows = st.touched(list)
	for _, r := range v.Rows {
		if r.Must && !r.Settled {
			v.Missing++
		}
		v.Asks += len(r.Asks)
	}
	at := fmt.Sprintf("/jobs/%s?bay=%s", st.Job.Number, st.Drive.Bay)
	s.render(c, 200, "safeguard", page{Title: "Safeguard " + st.Job.Number, Here: "safeguard", Body: v, Crumbs: []crumb{{"Bench", "/"}, {st.Job.Number + " " + st.Job.Customer, at}, {"Safeguard", ""}}})
}

// touched lists the partitions of the drive that the plan's steps touch.
func (st *jobState) touched(list []*shelf.Manifest) []touched {
	var out []touched
	for _, p := range st.Drive.sv.Layout.Partitions() {
		t := touched{Span: p, Title: p.Title(), Personal: p.Volume != nil && (p.Role == layout.Data || p.Role == layout.OtherSystem), LeadOnly: p.Role == layout.EFI || p.Active, Looks: st.Drive.sv.Volumes[p.Number] != nil}
		for i, c := range st.Columns {
			if c.Step.Partition != strconv.Itoa(p.Number) {
				continue
			}
			n := i + 1
			switch c.Step.Do {
			case plan.Delete:
				t.Deleted, t.Must = &st.Steps[i], p.Volume != nil
				t.Does = append(t.Does, fmt.Sprintf("deleted in step %d", n))
				if c.Step.Erase {
					t.Does[len(t.Does)-1] = fmt.Sprintf("deleted and erased in step %d", n)
					t.Forever = "From the moment its place is overwritten the run cannot be taken back, and nothing can be recovered from there."
				}
			case plan.Grow:
				t.Does = append(t.Does, fmt.Sprintf("grown in step %d; its files stay where they are", n))
			case plan.CopyBack:
				t.Does = append(t.Does, fmt.Sprintf("given files in step %d; those that are there stay as they are", n))
			default:
				t.Does = append(t.Does, fmt.Sprintf("%s in step %d", c.Step.Do, n))
			}
			t.Asks = append(t.Asks, c.Missing...)
		}
		if len(t.Does) == 0 {
			continue
		}
		if b, ok := st.Facts.Backups[p.Number]; ok {
			t.Backup = &b
		}
		waived := t.Deleted != nil && strings.TrimSpace(t.Deleted.Waiver) != ""
		t.Settled = !t.Must || waived || t.Backup != nil && t.Backup.Verified && t.Backup.Same
		if t.Deleted != nil && t.Deleted.Erase {
			for _, m := range list {
				if m.From.DiskID == st.Drive.sv.Layout.DiskID && m.From.Span.UniqueID == p.UniqueID {
					t.Also++
				}
			}
		}
		out = append(out, t)
	}
	return out
}
