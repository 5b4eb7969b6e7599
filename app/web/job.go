package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// jobRoutes are the addresses of the page of a job and what it follows.
func (s *Server) jobRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job", s.jobPage)
	in.GET("/progress/:key", s.watchAny)
	in.POST("/progress/:key/stop", s.stopAny)
	in.GET("/jobs/:job/amount", s.amount)
	in.GET("/jobs/:job/work", s.watch)
}

// jobState is the state of a job as pages show it.
type jobState struct {
	*shop.JobState
	Stages []stage
}

// shown is the state of a job for a page.
func shown(st *shop.JobState, err error) (*jobState, error) {
	if err != nil {
		return nil, err
	}
	page := &jobState{JobState: st}
	page.Stages = page.stages()
	return page, nil
}

// state works a job out for a page, with its drive in a bay; "" is for its first.
func (s *Server) state(number, bay string) (*jobState, error) { return shown(s.WorkOut(number, bay)) }

func (st *jobState) stages() []stage {
	l := st.Drive.Survey.Layout
	hidden := 0
	for _, p := range l.Partitions() {
		if p.Letter == "" {
			hidden++
		}
	}
	backups, releases, obstacles := st.Missing()
	look := stage{
		"Look", fmt.Sprintf("%s, %d without a letter", words.Plural(len(l.Partitions()), "partition", "partitions"), hidden),
		"done", false,
	}
	guard := stage{"Safeguard", "nothing is touched yet", "open", false}
	planned := stage{"Plan", "no steps yet", "open", false}
	out := stage{"Carry out", "after a plan", "open", false}
	confirm := stage{"Confirm", "", "open", false}
	hand := stage{"Hand over", words.Plural(st.Entries, "trail entry", "trail entries"), "open", false}
	if at := st.Job.HandedAt; at != nil {
		hand.Line, hand.State = "handed over "+when(*at), "done"
	}
	deletions := st.Deletions()
	if n := len(st.Steps); n > 0 {
		planned.Line, planned.State = words.Plural(n, "step", "steps"), "here"
		if len(obstacles) > 0 {
			planned.Line, planned.Care = "a step cannot be done", true
		} else if st.Job.Rehearsed != nil {
			planned.Line += ", rehearsed"
		}
		switch {
		case len(backups) > 0:
			guard.Line, guard.Care, guard.State = fmt.Sprintf(
				"%d of %s missing", len(backups), words.Plural(deletions, "backup", "backups"),
			), true, "here"
		case slices.ContainsFunc(releases, func(o plan.Obstacle) bool { return o.AsksFor(plan.LiftBackup) }):
			guard.Line, guard.Care, guard.State = "a missing backup waits for the lead's yes", true, "here"
		case deletions > 0:
			guard.Line, guard.State = "all that goes is covered", "done"
		default:
			guard.Line, guard.State = "nothing is deleted", "done"
		}
		var wants []string
		if len(backups) > 0 {
			wants = append(wants, words.Plural(len(backups), "backup", "backups"))
		}
		asks := len(shop.OpenAsks(st.Columns))
		if n := len(releases) - asks; n > 0 {
			wants = append(wants, words.Plural(n, "reason", "reasons"))
		}
		if asks > 0 {
			wants = append(wants, "the lead's answer")
		}
		switch {
		case len(obstacles) > 0:
			out.Line = "the plan cannot be done"
		case len(wants) > 0:
			out.Line = "after " + strings.Join(wants, " and ")
		default:
			out.Line, out.State, planned.State = "ready", "here", "done"
		}
	}
	if st.Pending != nil {
		out.Line, out.State, out.Care = "an unfinished run", "here", true
	}
	if st.Running() {
		out.Line, out.State, out.Care = "under way", "here", false
	}
	if st.Last != nil {
		confirm.Line, confirm.State = "as planned, "+st.Last.Time.Local().Format("2 Jan 15:04"), "done"
		if st.Good {
			confirm.Line += ", marked good"
		}
		if st.Last.Act == trail.ActUndone {
			confirm.Line = "taken back, " + st.Last.Time.Local().Format("2 Jan 15:04")
		}
	}
	return []stage{look, guard, planned, out, confirm, hand}
}

// selectGap selects the gap with a key instead of a partition, and the first one where no partition is.
func (v *jobView) selectGap(key string) {
	for i, g := range v.Gaps {
		if g.Key == key || i == 0 && v.Selected == 0 {
			v.SelectedGap = g.Key
		}
	}
	if v.SelectedGap != "" {
		v.Selected = 0
	}
}

// KeyOf is the key of the panel that a gap has, "" where it has none.
func (v jobView) KeyOf(gap layout.Span) string {
	if key := gapKey(gap); slices.ContainsFunc(v.Gaps, func(g gapPanel) bool { return g.Key == key }) {
		return key
	}
	return ""
}

// panel is the right side for one partition.
type panel struct {
	Span    layout.Span
	Title   string
	Sub     string
	Tight   bool
	After   *layout.Span // at the plan's end; nil when it is gone or there is no plan
	Gone    int          // the step that deletes it, 0 for none
	Deeds   []deed
	Cannot  []deed // what cannot be done, and nothing can be done about it here
	Backup  *plan.Backup
	Covered bool
	Purpose layout.Purpose
	Looks   bool // it can be looked into
}

// MayGo tells that deleting it is among what can be done.
func (p panel) MayGo() bool {
	return slices.ContainsFunc(p.Deeds, func(d deed) bool { return d.Do == plan.Delete })
}

type jobView struct {
	*jobState
	L           *layout.Layout
	Map         mapData
	Panels      []panel
	Gaps        []gapPanel
	Letters     []answer // for letters that are missing
	State       string   // of the drive, as the page shows it
	Broken      bool     // the trail does not verify
	Open        string   // why the run that is open cannot be gone on with, "" where it can
	Apart       int      // how many characters the serial check asks for
	Alike       []string // bays with drives that look alike
	Makers      string   // the drive's size as its label has it
	MendOne     bool     // one copy of the table is damaged
	MendTwo     bool     // both are valid and differ
	Selected    int      // the partition whose panel is open, 0 for none
	SelectedGap string   // the gap whose panel is
	Price       []price
	Serial      string
	Ready       bool
	AsksSerial  bool // the serial check comes before the start
	// Forever is the first step from which on there is no way back, 0 for none.
	Forever    int
	ForeverWhy string
	Obstacles  []plan.Obstacle
	Backups    []plan.Obstacle
	Drives     []benchBay
	Box        workBox
	Wait       int // for how many seconds the PC asks at the plan's end
	Goal       goalView
	Plans      plansView
	Better     *better      // what could be improved of the plan, nil for nothing
	Checks     []plan.Check // whether the PC will start
}

// workBox is work on a drive, for a page that shows the drive.
type workBox struct {
	URL   string // where its state can be watched
	Stop  string // what stops it at a safe point
	Busy  bool
	State work.State
}

// StepState is how far a run is with a step of its plan, from 1: done, here, open.
func (st *jobState) StepState(step int) string {
	switch {
	case step < st.Work.Step:
		return "done"
	case step == st.Work.Step:
		return "here"
	}
	return "open"
}

// box is what goes on with the drive of a job; the page hears of changes of the plan too.
func (st *jobState) box() workBox {
	b := boxOf(st.Job.Number, st.Drive.Bay, st.Work)
	b.URL += fmt.Sprintf("&plan=%d", st.Job.PlanState)
	return b
}

func boxOf(job, bay string, w work.State) workBox {
	q := url.Values{"bay": {bay}}.Encode()
	at := "/jobs/" + url.PathEscape(job)
	return workBox{URL: at + "/work?" + q, Stop: at + "/stop?" + q, Busy: w.Kind != "" && w.Ended == nil, State: w}
}

// workOn is what goes on with a drive now, nil for nothing.
func (s *Server) workOn(job string, d *shop.Drive) *workBox {
	if d == nil || job == "" || !s.Desk.Busy(d.Path) {
		return nil
	}
	w, _ := s.Desk.State(d.Path)
	b := boxOf(job, d.Bay, w)
	return &b
}

type price struct {
	Value, Text string
	Care        bool
}

type mapData struct {
	Columns []mapColumn `json:"columns"`
	Job     string      `json:"job"`
	// Hand is what can be done by hand in the newest column, by the blocks' keys; nil while
	// nothing may be changed.
	Hand map[string]hand `json:"hand,omitempty"`
	Act  string          `json:"act,omitempty"` // where a step is sent
	// Futures are the drive as the routes to a goal would leave it, the best first; Take is where one is taken, with
	// the fields of the goal.
	Futures []future `json:"futures,omitempty"`
	Take    string   `json:"take,omitempty"`
	Fields  []choice `json:"fields,omitempty"`
	Plan    uint64   `json:"plan"`
	// Run is what is being written; nil while no run is under way. Its places are in bytes, Sector is how many one has.
	Run    *runMark   `json:"run,omitempty"`
	Sector disk.Bytes `json:"sector"`
}

// runMark is how far a run has come.
type runMark struct {
	Kind    string   `json:"kind"` // of the work: carry-out, resume, undo
	Step    int      `json:"step"` // from 1; 0 before the first
	Written disk.Set `json:"written"`
}

func (s *Server) jobPage(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if errors.Is(err, shop.ErrNoDrive) && bayOf(c) == "" {
		c.Redirect(http.StatusSeeOther, aboutOf(c.Param("job")))
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.Close()
	v := jobView{jobState: st, L: st.Drive.Survey.Layout, Box: st.box(), Serial: st.Drive.Identity.Serial}
	var releases []plan.Obstacle
	v.Backups, releases, v.Obstacles = st.Missing()
	v.Ready = len(st.Steps) > 0 && len(v.Obstacles) == 0 && len(v.Backups)+len(releases) == 0 && st.Pending == nil && !st.Busy && len(st.Changed) == 0
	v.Forever = slices.IndexFunc(st.Columns, func(c plan.Column) bool { return c.NoReturn != "" })
	if v.Forever++; v.Forever > 0 {
		v.ForeverWhy = st.Columns[v.Forever-1].NoReturn
	}
	fmt.Sscan(c.Query("p"), &v.Selected)
	if _, ok := v.L.Find(v.Selected); !ok {
		v.Selected = firstChoice(v.L)
	}
	if !st.Running() { // then the page is about the run
		v.Panels, v.Gaps = st.panels()
	}
	v.selectGap(c.Query("gap"))
	if f := st.pcAtEnd(); f != nil {
		v.Wait = f.Wait
	}
	v.Letters, v.Makers = missingLetters(st), v.L.Size.Maker()
	v.Apart, v.Alike = s.Apart(st.Drive.Bay)
	v.AsksSerial = plan.AsksSerial(st.Steps, len(v.Alike) > 0)
	for _, f := range v.L.Findings {
		v.MendOne = v.MendOne || f.Code == "gpt-primary-damaged" || f.Code == "gpt-backup-damaged"
		v.MendTwo = v.MendTwo || f.Code == "gpt-copies-differ"
	}
	v.Goal = s.goal(c, st)
	if v.Map, err = s.mapOf(st); err != nil {
		s.fail(c, err)
		return
	}
	v.Map.Futures, v.Map.Fields = st.futures(v.Goal.Answer), v.Goal.Fields
	v.State, v.Broken = st.Drive.State(), s.ChainBroken()
	if st.Pending != nil && st.Pending.Broken != nil {
		v.Open = words.Sentence(st.Pending.Broken)
	}
	v.Price, v.Better = st.price(), st.couldBe()
	if v.Plans, err = s.plansOf(st.JobState); err != nil {
		s.fail(c, err)
		return
	}
	if end := st.End(); end != nil && st.Facts.PC != nil {
		v.Checks = plan.StartChecks(v.L, end, st.Facts, st.pcAtEnd())
	}
	if v.Drives, err = s.drives(st); err != nil {
		s.fail(c, err)
		return
	}
	r, err := s.railOf(c, st, "")
	if err != nil {
		s.fail(c, err)
		return
	}
	if r.Own = true; r.Next.Turn == shop.TurnWatch {
		r.Next.Label = "" // it is watched here
	}
	if n := len(v.Map.Futures); n > 0 && v.Goal.Wish {
		r.Next.Text = words.Count(len(v.Goal.Answer.Routes), "way") + " to what was asked for."
		r.Next.Label, r.Next.Link, r.Next.Care = "Choose one", "#map", false
	}
	title := fmt.Sprintf("%s %s, Bay %s", st.Job.Number, st.Job.Customer, st.Drive.Bay)
	s.render(c, http.StatusOK, "job", page{Title: title, Here: "job", Body: v, Rail: r, Crumbs: []crumb{
		{"Bench", "/"},
		{fmt.Sprintf("%s %s, %s", st.Job.Number, st.Job.Customer, st.Job.PC), aboutOf(st.Job.Number)},
		{"Bay " + st.Drive.Bay, ""},
	}})
}

// firstChoice is the partition that the page begins with: the one that needs
// space, else the first.
func firstChoice(l *layout.Layout) int {
	parts := l.Partitions()
	for _, p := range parts {
		if shop.Tight(&p) && p.Letter != "" {
			return p.Number
		}
	}
	if len(parts) > 0 {
		return parts[0].Number
	}
	return 0
}

// drives are the small columns of the job's drives and the shelf.
func (s *Server) drives(st *jobState) ([]benchBay, error) {
	bays, err := s.Store.Bays()
	if err != nil {
		return nil, err
	}
	var out []benchBay
	for _, b := range bays {
		if b.Image == nil || !b.Shelf && (b.Job == nil || *b.Job != st.Job.Number) {
			continue
		}
		if b.Letter == st.Drive.Bay {
			out = append(out, benchBay{
				Letter: b.Letter, Identity: st.Drive.Identity, Layout: st.Drive.Survey.Layout, Job: st.Job.Number,
				Size: st.Drive.Survey.Layout.Size,
			})
			continue
		}
		d, err := s.Open(&b, false)
		if err != nil {
			out = append(out, benchBay{Letter: b.Letter, Trouble: words.Sentence(err)})
			continue
		}
		bb := benchBay{
			Letter: b.Letter, Identity: d.Identity, Layout: d.Survey.Layout, Shelf: b.Shelf,
			Size: d.Survey.Layout.Size,
		}
		if b.Job != nil {
			bb.Job = *b.Job
		}
		out = append(out, bb)
		d.Close()
	}
	return out, nil
}

// pcAtEnd is what is known of the PC after the plan.
func (st *jobState) pcAtEnd() *pc.Facts {
	if n := len(st.Columns); n > 0 {
		return st.Columns[n-1].PC
	}
	return st.Facts.PC
}

func (st *jobState) panels() ([]panel, []gapPanel) {
	now, end, facts := st.Drive.Survey.Layout, st.End(), st.Facts
	facts.PC = st.pcAtEnd()
	var out []panel
	names := map[int]string{}
	for _, p := range now.Partitions() {
		if plan.MayDelete(now, p.Number, st.Facts) {
			names[p.Number] = p.Title()
		}
	}
	for _, p := range now.Partitions() {
		x := panel{
			Span: p, Title: p.Title(), Tight: shop.Tight(&p), Purpose: p.Role.Purpose(),
			Looks: st.Drive.Survey.Volume(p.Number) != nil,
		}
		x.Sub = strings.ReplaceAll(string(p.Role), "-", " ")
		if p.Note != "" {
			x.Purpose.For += " " + p.Note
		}
		if p.Volume != nil {
			x.Sub += ", " + kindName(string(p.Volume.Kind))
		}
		for i, s := range st.Steps {
			if s.DeletesJust(fmt.Sprint(p.Number)) {
				x.Gone = i + 1
			}
		}
		if end != nil && x.Gone == 0 {
			if q, ok := end.Find(p.Number); ok {
				if len(st.Steps) > 0 && q.Bytes != p.Bytes {
					x.After = q
				}
				x.Deeds, x.Cannot = apart(st.deeds(likeliest(&p, plan.Acts(end, p.Number, facts)), names))
			}
		}
		if b, ok := st.Facts.Backups[p.Number]; ok {
			x.Backup, x.Covered = &b, b.Verified && b.Same
		}
		out = append(out, x)
	}
	return out, st.gaps(end, names)
}

// kindNames are the names of kinds of volumes that are not their codes in capitals.
var kindNames = map[string]string{
	"exfat": "exFAT", "refs": "ReFS", "btrfs": "Btrfs", "hfsplus": "HFS+", "iso9660": "ISO 9660",
	"set-member": "part of a set",
}

func kindName(k string) string {
	if n := kindNames[k]; n != "" {
		return n
	}
	if strings.HasPrefix(k, "ntfs") || strings.HasPrefix(k, "fat") || slices.Contains([]string{"lvm", "xfs", "apfs"}, k) {
		return strings.ToUpper(k)
	}
	return k
}

func (s *Server) mapOf(st *jobState) (mapData, error) {
	l := st.Begun()
	cols, piles, good, err := s.past(st.Drive, 4)
	if err != nil {
		return mapData{}, err
	}
	now := mapColumn{
		Kind: "now", Title: "Now", Sub: s.Now().Local().Format("2 Jan 15:04"), Blocks: blocks(l, nil), Piles: piles,
		Finds: findMarks(st.Job.Number, st.Drive.Bay, st.Finds),
	}
	if st.Running() {
		now.Title, now.Sub = "Before", "when the run was begun"
	} else if st.Drive.StillGood(good) {
		now.Good = good.Text
	}
	cols = append(cols, now)
	before := l
	for i, c := range st.Columns {
		m := mapColumn{Kind: "plan", Step: i + 1, Title: c.Title, Sub: c.Detail}
		after := follow(c.Layout, before)
		if after != nil {
			m.Blocks = blocks(after, before)
		}
		if len(c.Obstacles) > 0 {
			m.Why = c.Obstacles[0].Text
		}
		if before != nil && c.Step.Deletes() {
			for _, p := range before.Partitions() {
				if after != nil && !slices.ContainsFunc(after.Partitions(), func(q layout.Span) bool { return q.UniqueID == p.UniqueID }) {
					m.Piles = append(m.Piles, pile{Key: p.UniqueID, Title: p.Title()})
				}
			}
		}
		cols = append(cols, m)
		before = after
	}
	d := mapData{
		Columns: cols, Job: st.Job.Number, Plan: st.Job.PlanState,
		Act:  actOf(st.Job.Number, st.Drive.Bay, st.Job.PlanState, "steps"),
		Take: actOf(st.Job.Number, st.Drive.Bay, st.Job.PlanState, "route"), Sector: l.Sector,
	}
	if st.Running() {
		d.Run = &runMark{st.Work.Kind, st.Work.Step, st.Work.Written}
	}
	if !st.Busy && st.Pending == nil && !st.Elsewhere && st.End() != nil {
		d.Hand = st.hands()
	}
	return d, nil
}

// price is the plan in one line.
func (st *jobState) price() []price {
	if len(st.Steps) == 0 {
		return []price{{"0", "steps planned", false}}
	}
	var out []price
	add := func(value, text string, care bool) { out = append(out, price{value, text, care}) }
	add(fmt.Sprint(len(st.Steps)), words.Either(len(st.Steps) == 1, "step", "steps"), false)
	cost, records := plan.PriceOf(st.Drive.Survey.Layout, st.Columns, st.Facts), st.Deletions()
	add("≈ "+cost.Rewritten.String(), "will be rewritten", false)
	if cost.Zeroed > 0 {
		add(cost.Zeroed.String(), "made zeros", false)
	}
	switch {
	case st.Running(): // how long it still takes is measured then, and told above
	case st.Facts.Rate > 0:
		add("≈ "+plan.Lasts(cost.Seconds), fmt.Sprintf("at %s/s, as measured", st.Facts.Rate), false)
	default:
		add("≈ "+plan.Lasts(cost.Seconds), fmt.Sprintf("at %s/s, not measured yet", plan.Rate), false)
	}
	backups, _, _ := st.Missing()
	if n := len(backups); n > 0 {
		add(words.Plural(n, "missing", "missing"), words.Either(n == 1, "backup", "backups"), true)
	} else {
		add("0", "backups missing", false)
	}
	add(fmt.Sprint(records), words.Either(records == 1, "record to be kept", "records to be kept"), false)
	if cost.Over > 0 {
		add(fmt.Sprint(cost.Over), "deleted before, written over", true)
	}
	if cost.Beside > 0 {
		add(cost.Beside.String(), "put aside for a while", false)
	}
	if cost.Given > 0 {
		add(cost.Given.String(), "given up by others", false)
	}
	if cost.Checks > 0 {
		add(fmt.Sprint(cost.Checks), "to check on the PC", true)
	}
	add(fmt.Sprint(cost.Restarts), words.Either(cost.Restarts == 1, "restart", "restarts"), cost.Restarts > 0)
	return out
}

// amountMeaning is what an amount means in other units.
type amountMeaning struct {
	OK    bool   `json:"ok"`
	Text  string `json:"text"`
	Total string `json:"total,omitempty"`
}

// amount says what an entered amount means, while it is entered.
func (s *Server) amount(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		c.JSON(http.StatusNotFound, amountMeaning{Text: words.Sentence(err)})
		return
	}
	defer st.Drive.Close()
	l := st.End()
	number := 0
	fmt.Sscan(c.Query("partition"), &number)
	if l == nil {
		c.JSON(http.StatusOK, amountMeaning{Text: "An earlier step cannot be done."})
		return
	}
	p, ok := l.Find(number)
	text := strings.TrimSpace(c.Query("text"))
	if !ok || len(text) > 100 {
		c.JSON(http.StatusOK, amountMeaning{Text: "There is no such partition."})
		return
	}
	step := plan.Step{Partition: c.Query("partition")}
	switch plan.Do(c.Query("do")) {
	case plan.Shrink:
		step.Body = plan.Shrinking{By: text, Edge: c.Query("edge"), DropRestorePoints: c.Query("drop") != ""}
	case plan.Slide:
		step.Body = plan.Sliding{By: text}
	default:
		step.Body = plan.Growth{By: text, Edge: c.Query("edge")}
	}
	if err := step.Valid(); err != nil {
		c.JSON(http.StatusOK, amountMeaning{Text: words.Sentence(err)})
		return
	}
	col := plan.Lay(l, st.Facts, []plan.Step{step})[0]
	if len(col.Obstacles) > 0 {
		c.JSON(http.StatusOK, amountMeaning{Text: col.Obstacles[0].Text})
		return
	}
	q, _ := col.Layout.Find(number)
	by := q.Bytes - p.Bytes
	if step.Do() == plan.Slide {
		by = max(q.Start-p.Start, p.Start-q.Start).Offset(l.Sector)
	}
	by = max(by, -by)
	c.JSON(http.StatusOK, amountMeaning{OK: true,
		Text: fmt.Sprintf(
			"%.2f GiB = %s MiB = %.2f GB = %s", float64(by)/float64(disk.GiB), disk.Grouped(int64(by/disk.MiB)),
			float64(by)/1e9, by.Exact(),
		),
		Total: fmt.Sprintf("then %s in all (%s)", q.Bytes, q.Bytes.Exact())})
}
