package web

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/words"
)

// touched is a partition that the plan touches, with what stands for it.
type touched struct {
	layout.Span
	Title    string
	Does     []string // what the plan does with it, step by step
	Deleted  *goes
	ByPlan   bool // the plan itself copies what is in it and brings it back
	Must     bool // it may not go without something that stands for it
	Backup   *plan.Backup
	Settled  bool
	Personal bool // only the lead may waive
	LeadOnly bool // only the lead may release
	Guarded  bool // it goes only when it is released
	Asks     []plan.Obstacle
	Lead     []askView
	NotAsked bool   // the lead is needed and not asked
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
	Places  []placeRow
	Box     workBox
	PC      *pcGate
	Back    []comesBack
}

// comesBack is a step that brings a partition back of which something is gone.
type comesBack struct {
	Step   int // from 1
	Title  string
	Texts  []string
	Reason string // why all the same, "" while that is asked for
}

// damaged lists the steps that bring something back damaged.
func (st *jobState) damaged() []comesBack {
	var out []comesBack
	for i, c := range st.Columns {
		x := comesBack{Step: i + 1, Title: c.Title, Reason: strings.TrimSpace(plan.Of[plan.BringingBack](c.Step).Damaged)}
		if o := c.Damage(); o != nil {
			x.Texts = append(x.Texts, o.Text)
		}
		for _, n := range c.Notes {
			if n.Code == plan.WrongContents {
				x.Texts = append(x.Texts, n.Text)
			}
		}
		if len(x.Texts) > 0 {
			out = append(out, x)
		}
	}
	return out
}

// pcGate is the PC as it is now and as the plan leaves it.
type pcGate struct {
	Name            string
	Recovery, Order nowAfter
	Park            int    // the partition whose recovery environment can be parked
	NoPark          string // why it cannot be, where somebody should know
	Use, Systems    []choice
	Wait            int
}

type nowAfter struct {
	Now, After string
	Notes      []string
}

// choice is a partition as a step names it.
type choice struct{ Key, Title string }

// safeguardPage is the gate: what the plan touches and what stands for it.
func (s *Server) safeguardPage(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	v := gateView{jobState: st, Title: "Safeguard", Lead: me(c).Lead(), Box: st.box()}
	sh := s.shelfFor(c)
	list, err := sh.List()
	if err != nil {
		s.fail(c, err)
		return
	}
	v.Places = placeRows(sh, list)
	v.Rows, v.PC, v.Back = st.touched(list), st.pcGate(), st.damaged()
	asks, err := s.Store.Asks(st.Job.Number)
	if err != nil {
		s.fail(c, err)
		return
	}
	for i := range v.Rows {
		v.Rows[i].answers(st.asked(asks, v.Rows[i].Number))
	}
	erasing, err := s.Erasing(st.JobState)
	if err != nil {
		s.fail(c, err)
		return
	}
	for i := range v.Rows {
		if also := erasing[v.Rows[i].Span.Number]; also != "" {
			v.Rows[i].Forever += " This bench also holds of it: " + also + ". All of that is overwritten too."
		}
	}
	for _, r := range v.Rows {
		if r.Must && !r.Settled {
			v.Missing++
		}
		v.Asks += len(r.Asks)
	}
	for _, b := range v.Back {
		if b.Reason == "" {
			v.Asks++
		}
	}
	at := fmt.Sprintf("/jobs/%s?bay=%s", st.Job.Number, st.Drive.Bay)
	r, err := s.railOf(c, st, "Safeguard")
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(
		c, http.StatusOK, "safeguard",
		page{
			Title: "Safeguard " + st.Job.Number, Here: "safeguard", Body: v, Rail: r,
			Crumbs: []crumb{{"Bench", "/"}, {st.Job.Number + " " + st.Job.Customer, at}, {"Safeguard", ""}},
		},
	)
}

// answers adds what the lead was asked and said.
func (t *touched) answers(asks []askView) {
	t.Lead = asks
	t.NotAsked = slices.ContainsFunc(t.Asks, func(o plan.Obstacle) bool {
		return o.Ask != nil && !slices.ContainsFunc(asks, func(a askView) bool {
			return a.Purpose == o.Ask.Purpose && a.Lifts == o.Ask.Lifts && a.VoidAt == nil && !a.Other
		})
	})
}

// goes is how a step takes a partition away.
type goes struct {
	Do                               plan.Do
	Release, Waiver, Scheme, Backups string
	Erase                            bool
}

func goesWith(s plan.Step) *goes {
	d := plan.Of[plan.Deletion](s)
	return &goes{
		Do: s.Do(), Release: s.Release(), Waiver: s.Waiver(), Scheme: plan.Of[plan.Clearing](s).Scheme,
		Backups: d.Backups, Erase: d.Erase,
	}
}

// touched lists the partitions of the drive that the plan's steps touch.
func (st *jobState) touched(list []*shelf.Manifest) []touched {
	var out []touched
	for _, p := range st.Drive.Survey.Layout.Partitions() {
		t := touched{Span: p, Title: p.Title(), Personal: p.Personal, Looks: st.Drive.Survey.Volume(p.Number) != nil}
		t.LeadOnly, t.Guarded = p.Role == layout.EFI || p.Active, p.Protected || p.Active
		for i, c := range st.Columns {
			n := i + 1
			if c.Step.Do() == plan.Clear {
				t.Deleted, t.Must = goesWith(c.Step), p.Volume != nil
				t.Does = append(t.Does, words.Does(c.Step, n))
				for _, o := range c.Missing {
					if slices.Contains(o.Partitions, p.Number) {
						t.Asks = append(t.Asks, o)
					}
				}
				continue
			}
			if c.Step.Partition != strconv.Itoa(p.Number) {
				continue
			}
			t.Does = append(t.Does, words.Does(c.Step, n))
			if c.Step.Do() == plan.Delete {
				t.Deleted, t.Must = goesWith(c.Step), p.Volume != nil
				if t.Deleted.Erase {
					t.Forever = "From the moment its place is overwritten the run cannot be taken back, and nothing can be recovered from there."
				}
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
		t.Settled = !t.Must || !slices.ContainsFunc(t.Asks, func(o plan.Obstacle) bool {
			return o.Code == plan.BackupMissing || o.Code == plan.WaiverMissing || o.AsksFor(plan.LiftBackup)
		})
		t.ByPlan = t.Must && t.Settled && !waived && t.Backup == nil
		if t.Deleted != nil && t.Deleted.Erase {
			for _, m := range list {
				if m.From.Drive().Same(shop.NameOf(st.Drive)) && layout.SamePartition(m.From.Span, p) {
					t.Also++
				}
			}
		}
		out = append(out, t)
	}
	return out
}

// pcGate compares the PC now with the PC after the plan, nil where nothing is known of it.
func (st *jobState) pcGate() *pcGate {
	now, after, end := st.Facts.PC, st.pcAtEnd(), st.End()
	if now == nil || after == nil {
		return nil
	}
	name := st.namer()
	both := func(line func(*pc.Facts, func(string) string) string) nowAfter {
		x := nowAfter{Now: line(now, name), After: line(after, name)}
		if x.After == x.Now {
			x.After = ""
		}
		return x
	}
	g := &pcGate{Name: now.Name, Wait: after.Wait, Recovery: both(recoveryLine), Order: both(orderLine)}
	for _, c := range st.Columns {
		for _, n := range c.Notes {
			if n.Code == plan.StartEntryLeft {
				g.Order.Notes = append(g.Order.Notes, n.Text)
			} else {
				g.Recovery.Notes = append(g.Recovery.Notes, n.Text)
			}
		}
	}
	parks := slices.ContainsFunc(st.Steps, func(s plan.Step) bool { return s.Do() == plan.ParkRecovery })
	if r := now.Recovery; r != nil && r.InUse && !parks {
		for _, p := range st.Drive.Survey.Layout.Partitions() {
			if !strings.EqualFold(p.UniqueID, r.Partition) {
				continue
			}
			for _, a := range plan.Acts(st.Drive.Survey.Layout, p.Number, st.Facts) {
				switch {
				case a.Do != plan.ParkRecovery:
				case a.Obstacle == nil:
					g.Park = p.Number
				default:
					g.NoPark = a.Obstacle.Text
				}
			}
		}
	}
	if end == nil {
		return g
	}
	for _, p := range end.Partitions() {
		key := st.key(p)
		switch {
		case p.Role == layout.StartSystem || p.Role == layout.OtherSystem:
			c := choice{key, p.Title()}
			if after.Starts(p.UniqueID) { // what is so already comes first
				g.Systems = append([]choice{c}, g.Systems...)
			} else {
				g.Systems = append(g.Systems, c)
			}
		case p.Role == layout.Recovery && p.Volume != nil && after.Recovery != nil && !after.Recovery.InUse:
			if after.Recovery.Parked || strings.EqualFold(p.UniqueID, after.Recovery.Partition) {
				g.Use = append(g.Use, choice{key, fmt.Sprintf("%s, %s", p.Title(), p.Bytes)})
			}
		}
	}
	return g
}

// key is how a step names a partition of the plan's end.
func (st *jobState) key(p layout.Span) string {
	for _, c := range st.Columns {
		if c.Step.Do() == plan.Create && c.Number == p.Number && c.Layout != nil {
			if q, ok := c.Layout.Find(p.Number); ok && q.Start == p.Start {
				return c.Step.As()
			}
		}
	}
	return strconv.Itoa(p.Number)
}

// namer names partitions of the drive, and those that the plan makes, by their unique ids.
func (st *jobState) namer() func(id string) string {
	names := map[string]string{}
	add := func(p layout.Span, where string) {
		if id := strings.ToLower(p.UniqueID); names[id] == "" {
			names[id] = p.Title() + ", " + where
		}
	}
	for _, p := range st.Drive.Survey.Layout.Partitions() {
		add(p, fmt.Sprintf("partition %d", p.Number))
	}
	for i, c := range st.Columns {
		if c.Layout == nil {
			break
		}
		if p, ok := c.Layout.Find(c.Number); ok {
			add(*p, fmt.Sprintf("which step %d makes", i+1))
		}
	}
	return func(id string) string {
		if n := names[strings.ToLower(id)]; n != "" {
			return n
		}
		return "a partition that is not on this drive"
	}
}

// recoveryLine words where a PC's recovery environment is.
func recoveryLine(f *pc.Facts, name func(id string) string) string {
	r := f.Recovery
	switch {
	case r == nil:
		return "not known"
	case r.Parked && r.Volume != "":
		return fmt.Sprintf("a copy is kept in the folder %s of %s, not in use", r.Folder, name(r.Volume))
	case r.Parked:
		return "a copy is kept on the system's own volume, not in use"
	case r.InUse:
		return "in use from " + name(r.Partition)
	}
	return "not in use"
}

// orderLine words what a PC starts.
func orderLine(f *pc.Facts, name func(id string) string) string {
	if len(f.Order) == 0 {
		if f.Start == "" {
			return "not known"
		}
		return name(f.Start) + ", without asking"
	}
	var t []string
	for _, e := range f.Order {
		t = append(t, name(e.Partition))
	}
	s := strings.Join(t, ", then ")
	if len(f.Order) > 1 {
		s += fmt.Sprintf("; boot menu waits %d s", f.Wait)
	}
	return s
}
