package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

func me(c *gin.Context) *store.Technician { return c.MustGet("me").(*store.Technician) }

// bayOf is the bay that a request is about, "" for the job's first.
func bayOf(c *gin.Context) string {
	if b := c.Query("bay"); b != "" {
		return b
	}
	return c.PostForm("bay")
}

// back is where a job's acts lead to.
func back(c *gin.Context) string {
	q := url.Values{}
	if b := bayOf(c); b != "" {
		q.Set("bay", b)
	}
	if p, err := strconv.Atoi(c.PostForm("partition")); err == nil {
		q.Set("p", strconv.Itoa(p))
	}
	to := "/jobs/" + url.PathEscape(c.Param("job"))
	if c.PostForm("page") == "safeguard" {
		to += "/safeguard"
	}
	if len(q) > 0 {
		to += "?" + q.Encode()
	}
	return to
}

// maxReason bounds a reason that is typed.
const maxReason = 500

// addStep stages a step, or gives a step that is staged what was missing.
func (s *Server) addStep(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	text := func(key string) string { return strings.TrimSpace(c.PostForm(key)) }
	step := plan.Step{Do: plan.Do(c.PostForm("do")), Partition: c.PostForm("partition"), By: text("by"), Release: text("release"), Waiver: text("waiver"),
		Erase: c.PostForm("erase") != "", Test: c.PostForm("test") != "", Folder: text("folder"), Letter: text("letter"), Size: text("size"), Type: text("type"), Format: text("format"), Label: text("label"), Edge: c.PostForm("edge"), Into: c.PostForm("into"), In: c.PostForm("in"), To: text("to"), DropRestorePoints: c.PostForm("drop") != "", Act: c.PostForm("act"), Scheme: c.PostForm("scheme")}
	if step.Erase {
		step.Backups = c.PostForm("backups")
	}
	if step.Do == plan.Container && step.Act == "" {
		s.refuse(c, errors.New("it does not say what is done with the container; no step was added"), back(c))
		return
	}
	if step.Do == plan.Create {
		start, err := strconv.ParseInt(c.PostForm("start"), 10, 64)
		if err != nil {
			s.refuse(c, errors.New("it is not clear where the partition is to be made; nothing was added"), back(c))
			return
		}
		step.StartLBA, step.As = disk.LBA(start), unusedName(st.Steps)
	}
	if w := text("wait"); w != "" {
		n, err := strconv.Atoi(w)
		if err != nil {
			s.refuse(c, fmt.Errorf("the PC waits for a number of seconds, and %q is none; nothing was added", w), back(c))
			return
		}
		step.Wait = &n
	}
	if len(step.Release) > maxReason || len(step.Waiver) > maxReason || len(step.By)+len(step.To) > 100 || len(step.Size) > 100 || len(step.Label) > 200 {
		s.refuse(c, errors.New("that text is too long; nothing was added"), back(c))
		return
	}
	if err := s.stage(c, st, step); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(303, back(c))
}

// unusedName is a name for a new partition that no step uses.
func unusedName(steps []plan.Step) string {
	for n := len(steps) + 1; ; n++ {
		name := fmt.Sprintf("new%d", n)
		if !slices.ContainsFunc(steps, func(x plan.Step) bool { return x.As == name }) {
			return name
		}
	}
}

// firstDelete is where a step belongs that must come before a partition is deleted, -1
// where it comes last.
func firstDelete(steps []plan.Step, step plan.Step) int {
	if !slices.Contains([]plan.Do{plan.ParkRecovery, plan.DropStartEntry, plan.NoteIdentity}, step.Do) {
		return -1
	}
	return slices.IndexFunc(steps, func(x plan.Step) bool { return x.Do == plan.Delete && x.Partition == step.Partition })
}

// stage adds a step to the job's plan. What cannot be done is not added.
func (s *Server) stage(c *gin.Context, st *jobState, step plan.Step) error {
	if err := valid(step); err != nil {
		return fmt.Errorf("%w; no step was added", err)
	}
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; no step was added. Carry that out or take its steps out first")
	}
	if s.desk.Busy(st.Drive.path) || st.Pending != nil {
		return errors.New("a run on this drive is not finished; no step was added")
	}
	steps := append([]plan.Step{}, st.Steps...)
	at := slices.IndexFunc(steps, func(x plan.Step) bool {
		return x.Do == step.Do && (x.Do == plan.Delete && x.Partition == step.Partition || x.Do == plan.Clear || x.Do == plan.Restart)
	})
	if at < 0 {
		at = len(steps)
		if i := firstDelete(steps, step); i >= 0 {
			at = i
		}
		if step.Do == plan.Restart { // all steps are carried out within it
			at = 0
		}
		steps = slices.Insert(steps, at, step)
	}
	steps[at] = step
	facts, err := run.Facts(s.options(st.Drive, st.Job, ""), st.Drive.sv, steps)
	if err != nil {
		return err
	}
	cols := plan.Lay(st.Drive.sv.Layout, facts, steps)
	for _, o := range append(cols[at].Obstacles, cols[at].Missing...) {
		if len(cols[at].Obstacles) > 0 {
			return errors.New(strings.TrimSuffix(o.Text, ".") + "; no step was added")
		}
	}
	s.desk.Forget(st.Drive.path)
	return s.savePlanWith(c, st, steps, st.expect(), cols[at].Title, at)
}

// seenPlan is the state of the plan that a page showed whose act this is, nil where it does not
// say.
func seenPlan(c *gin.Context) *uint64 {
	n, err := strconv.ParseUint(c.Query("plan"), 10, 64)
	if err != nil {
		return nil
	}
	return &n
}

// savePlan keeps a job's changed plan: the one way to change it. It is refused while a run of the
// plan is under way or open, for another drive of the job, and where somebody else has changed the
// plan meanwhile.
func (s *Server) savePlan(c *gin.Context, st *jobState, steps []plan.Step, expect *layout.Layout, what string) error {
	return s.savePlanWith(c, st, steps, expect, what, -1)
}

// savePlanWith is savePlan for a plan of which somebody has given the step own, from 0, just now. What its
// steps need the lead for is asked with it.
func (s *Server) savePlanWith(c *gin.Context, st *jobState, steps []plan.Step, expect *layout.Layout, what string, own int) error {
	return s.changing(st, func() error {
		change := store.Change{From: seenPlan(c), Steps: steps, Expect: expect, What: what, Who: me(c).Name, When: s.now()}
		if err := s.store.SavePlan(st.Job.Number, change); err != nil {
			return err
		}
		if err := s.askLead(c, st, steps, own); err != nil {
			return fmt.Errorf("the plan was changed, but the lead could not be asked for what it needs: %w", err)
		}
		return nil
	})
}

// changing lets a job's plan be changed, where it may be. No run of it is begun meanwhile.
func (s *Server) changing(st *jobState, f func() error) error {
	s.planning.Lock()
	defer s.planning.Unlock()
	if st.Elsewhere {
		return errors.New("this job has a plan for another of its drives; nothing was changed. Carry that out or take its steps out first")
	}
	if s.desk.Busy(st.Drive.path) || st.Pending != nil {
		return errors.New("a run on this drive is not finished; the plan stays as it is")
	}
	return f()
}

// expect is the drive as the plan was begun for it.
func (st *jobState) expect() *layout.Layout {
	if _, l, err := st.Job.Steps(); err == nil && l != nil {
		return l
	}
	return st.Drive.sv.Layout
}

// takeOut removes a step from the plan.
func (s *Server) takeOut(c *gin.Context) {
	s.change(c, func(_ *jobState, steps []plan.Step) ([]plan.Step, string, error) {
		i, err := stepOf(c, steps)
		if err != nil {
			return nil, "", err
		}
		return slices.Delete(steps, i, i+1), fmt.Sprintf("step %d, %s, taken out", i+1, steps[i].Do), nil
	})
}

// layAnew keeps the plan's steps for the drive as it is now.
func (s *Server) layAnew(c *gin.Context) {
	st, err := s.state(c.Param("job"), bayOf(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	defer st.Drive.close()
	if err := s.savePlan(c, st, st.Steps, st.Drive.sv.Layout, "laid anew on the drive as it is"); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "The plan was laid anew on the drive as it is now. Look at every step once more.", back(c))
}

const lookAgain = " It is shown as it is now: look at it, and begin again if it is what you want"

// asSeen refuses to act on another plan, or another drive, than the page showed from which it was
// asked for.
func asSeen(c *gin.Context, j *store.Job, d *drive) error {
	n := seenPlan(c)
	switch {
	case n == nil || c.Query("drive") == "":
		return errors.New("this does not say which plan and which drive it is about; nothing was begun. Look at the page as it is now, and begin from there")
	case *n != j.PlanState:
		return errors.New("the plan was changed since you looked at it, or was carried out; nothing was begun." + lookAgain)
	case c.Query("drive") != d.state():
		return errors.New("the drive in the bay is another one than you looked at, or has changed; nothing was begun." + lookAgain)
	}
	return nil
}

// undertaking is work on a job's drive that goes on after the page that began it.
type undertaking struct {
	kind, title string
	write       bool // it writes to the drive
	seen        bool // it is about the plan and the drive as a page has shown them
	do          func(ctx context.Context, w *workplace) (outcome string, err error)
}

// workplace is what an undertaking has at hand.
type workplace struct {
	job     *store.Job
	drive   *drive
	options run.Options
	report  func(work.Update)
}

// begin opens the job's drive again and starts work on it.
func (s *Server) begin(c *gin.Context, u undertaking) {
	s.planning.Lock() // the plan that is read now is the one that is carried out
	defer s.planning.Unlock()
	j, d, err := s.job(c.Param("job"), bayOf(c), u.write)
	if err == nil && u.seen {
		if err = asSeen(c, j, d); err != nil {
			d.close()
		}
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	o := s.options(d, j, me(c).Name)
	var alike []string
	o.SerialLast, alike = s.apart(d.Bay)
	o.Alike = len(alike) > 0
	err = s.desk.Start(d.path, u.kind, u.title, func(ctx context.Context, report func(work.Update)) (string, error) {
		outcome, err := u.do(ctx, &workplace{j, d, o, report})
		d.close() // the shelf may be on this drive
		if u.write {
			if e := s.keepHead(); e != nil && err == nil {
				outcome += " The head of the trail could not be kept on the shelf: " + run.Sentence(e)
			}
		}
		return outcome, err
	})
	if err != nil {
		d.close()
		s.refuse(c, err, back(c))
		return
	}
	c.Redirect(303, back(c))
}

// backUp makes the backup of one partition, or with partition 0 all that the
// plan misses.
func (s *Server) backUp(c *gin.Context) {
	var numbers []int
	if n, err := strconv.Atoi(c.PostForm("partition")); err == nil && c.PostForm("all") == "" {
		numbers = []int{n}
	} else {
		st, err := s.state(c.Param("job"), bayOf(c))
		if err != nil {
			s.fail(c, err)
			return
		}
		backups, releases, _ := st.missing()
		for _, o := range append(backups, releases...) {
			if o.Code == plan.BackupMissing || o.AsksFor(plan.LiftBackup) { // with a backup nothing is waived
				numbers = append(numbers, o.Partitions...)
			}
		}
		st.Drive.close()
	}
	if len(numbers) == 0 {
		s.refuse(c, errors.New("no backup is missing"), back(c))
		return
	}
	kind := shelf.Image
	if c.PostForm("kind") == string(shelf.Files) {
		kind = shelf.Files
	}
	sh := s.shelfFor(c)
	if c.PostForm("onto") == sh.To {
		s.sessions.Put(c.Request.Context(), chosenShelf, sh.To)
	}
	s.begin(c, undertaking{kind: "back-up", title: "Backup", do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		o.Shelf = sh
		var made []string
		for i, n := range numbers {
			kind := kind
			if w.drive.sv.Volumes[n] == nil {
				kind = shelf.Image // its files cannot be read
			}
			m, err := run.BackUp(ctx, o, run.Wanted{Partition: n, Kind: kind}, func(p shelf.Progress) {
				w.report(work.Update{Phase: p.Phase, Step: i, Done: p.Done, Total: p.Total})
			})
			if errors.Is(err, context.Canceled) {
				return "", errors.New("the backup was stopped; what had been written was taken away")
			}
			if err != nil {
				return "", err
			}
			made = append(made, fmt.Sprintf("%s, %s on the shelf, %s", m.From.Span.Title(), m.Stored, m.Where()))
		}
		return "Backed up and verified by reading back: " + strings.Join(made, "; ") + ".", nil
	}})
}

func (s *Server) rehearse(c *gin.Context) {
	s.begin(c, undertaking{kind: "rehearse", title: "Rehearsal", seen: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		steps, expect, err := w.job.Steps()
		if err != nil || len(steps) == 0 {
			return "", errors.Join(err, errors.New("there is no plan to rehearse"))
		}
		o.Plan, o.Expect, o.Rehearse = &plan.Plan{Version: 1, Steps: steps}, expect, true
		w.report(work.Update{Phase: "on a copy"})
		res, err := run.CarryOut(ctx, o)
		if err != nil {
			return "", err
		}
		if err := s.store.Rehearsed(w.job.Number, s.now()); err != nil {
			return "", err
		}
		return fmt.Sprintf("Rehearsed on a throw-away copy: all %d steps lead where the plan says, and the volumes check sound. %s would be rewritten.", len(steps), res.Bytes), nil
	}})
}

// entersLater is said of a run that ended while the trail was away.
const entersLater = "The trail could not be reached at the end: what the run has to enter waits, and is entered when it is back."

func (s *Server) carryOut(c *gin.Context) {
	serial, compare, despite := c.PostForm("serial"), c.PostForm("compare") != "", c.PostForm("despite")
	if len(despite) > maxReason {
		s.refuse(c, errors.New("that reason is too long; nothing was begun"), back(c))
		return
	}
	s.begin(c, undertaking{kind: "carry-out", title: "Carry out", write: true, seen: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		steps, expect, err := w.job.Steps()
		if err != nil || len(steps) == 0 {
			return "", errors.Join(err, errors.New("there is no plan to carry out"))
		}
		o.Plan, o.Expect, o.Serial = &plan.Plan{Version: 1, Steps: steps}, expect, serial
		w.report(work.Update{Phase: "reading the drive again, and doing every step on a copy"})
		said, titles, err := s.estimate(w.job.Number, w.drive.Bay)
		if err != nil {
			return "", err
		}
		o.Report, o.Compare, o.Despite, o.Verify = toUpdate(w.report, titles, false), compare, despite, s.verify
		began := s.now()
		res, err := run.CarryOut(ctx, o)
		late := ""
		if errors.Is(err, run.ErrWaiting) { // what was done to the drive is done
			late, err = " "+entersLater, nil
		}
		if err != nil {
			return "", err
		}
		took := s.now().Sub(began)
		text := fmt.Sprintf("Carried out and read back: the drive is as planned. %s kept. %s in their places in %s; %s and %s were expected.", count(len(res.Records), "record"), res.Bytes, plan.Lasts(int64(took.Round(time.Second).Seconds())), said.Rewritten, plan.Lasts(said.Seconds))
		if said.Zeroed > 0 {
			text += fmt.Sprintf(" %s were made zeros.", res.Zeroed)
		}
		if res.Written < res.Bytes-res.Bytes/20 {
			text += fmt.Sprintf(" %s of it was written; the rest is empty.", res.Written)
		}
		for _, x := range res.NotKept() {
			text += " Not kept of " + x + "."
		}
		if text += late; late != "" {
			return text, nil
		}
		if res.Written >= leastMeasured {
			r, err := s.store.Learn(w.drive.label(), res.Written, time.Duration((res.Took.Write+res.Took.ReadBack)*float64(time.Second)))
			if err != nil { // what was done to the drive is done
				return text + " How fast this drive is could not be noted.", nil
			}
			text += fmt.Sprintf(" This drive is now reckoned with %s/s.", r.Rate)
		}
		return text, nil
	}})
}

// leastMeasured is how much a run must write to say something about the drive.
const leastMeasured = 64 * disk.MiB

// estimate is the price of a job's plan as it stands, and what its steps are called.
func (s *Server) estimate(number, bay string) (plan.Price, []string, error) {
	st, err := s.state(number, bay)
	if err != nil {
		return plan.Price{}, nil, err
	}
	defer st.Drive.close()
	var titles []string
	for _, c := range st.Columns {
		titles = append(titles, c.Title)
	}
	return plan.PriceOf(st.Drive.sv.Layout, st.Columns, st.Facts), titles, nil
}

// resume finishes an unfinished run or takes it back.
func (s *Server) resume(c *gin.Context) {
	undo, asked := c.PostForm("undo") == "yes", c.PostForm("run")
	kind, title := "resume", "Finishing the run"
	if undo {
		kind, title = "undo", "Taking the run back"
	}
	s.begin(c, undertaking{kind: kind, title: title, write: true, do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		open, err := run.Open(o)
		if err != nil {
			return "", err
		}
		switch {
		case open == nil:
			return "", errors.New("no run is open on this drive any more; it was finished or taken back meanwhile")
		case asked != open.ID:
			return "", fmt.Errorf("another run is open on this drive than you looked at (%s). Look at it first; nothing was done", open.ID)
		}
		o.Report = toUpdate(w.report, open.Titles(), undo)
		res, err := run.Resume(ctx, o, undo)
		if errors.Is(err, run.ErrWaiting) {
			return "The run has ended, and the drive is as it should be. " + entersLater, nil
		}
		if err != nil {
			return "", err
		}
		if res.Undone {
			return "The run was taken back; the drive is as it was before it.", nil
		}
		return "The run was finished: the drive is as planned.", nil
	}})
}

// leave ends a run that is open on the drive with the drive as it is.
func (s *Server) leave(c *gin.Context) {
	reason, asked := strings.TrimSpace(c.PostForm("reason")), c.PostForm("run")
	if reason == "" || len(reason) > maxReason {
		s.refuse(c, errors.New("it needs a reason, of at most 500 letters, to leave a drive as it is; nothing was done"), back(c))
		return
	}
	s.begin(c, undertaking{kind: "leave", title: "Leaving the drive as it is", write: true, do: func(_ context.Context, w *workplace) (string, error) {
		o := w.options
		open, err := run.Open(o)
		if err != nil {
			return "", err
		}
		if open == nil || open.ID != asked {
			return "", errors.New("another run is open on this drive than you looked at, or none; nothing was done")
		}
		if _, err := run.Leave(o, reason); err != nil {
			return "", err
		}
		return "The drive is left as it is; the run has ended. Look at what is on it before anything else is done to it.", nil
	}})
}

func (s *Server) stopWork(c *gin.Context) {
	_, bay, err := s.store.Job(c.Param("job"), bayOf(c))
	if err == nil && (bay == nil || bay.Image == nil) {
		err = errNoDrive
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.desk.Stop(s.imageOf(bay)) // whether the drive can be read is nothing to the stop
	c.Redirect(303, back(c))
}

// watch streams the state of a drive's work as server-sent events.
func (s *Server) watch(c *gin.Context) {
	_, bay, err := s.store.Job(c.Param("job"), bayOf(c))
	if err != nil || bay == nil || bay.Image == nil {
		c.Status(404)
		return
	}
	s.follow(c, s.imageOf(bay), c.Param("job"))
}

// watchAny streams the state of work that belongs to no drive.
func (s *Server) watchAny(c *gin.Context) {
	key := c.Param("key")
	if key != "dock" && key != "compare" && key != "shelf" {
		c.Status(404)
		return
	}
	s.follow(c, key, "")
}

// follow streams the state of a piece of work, and for a job the state of its plan whenever
// somebody has changed it.
func (s *Server) follow(c *gin.Context, key, job string) {
	states, done := s.desk.Watch(key)
	defer done()
	c.Header("Cache-Control", "no-store")
	c.Header("X-Accel-Buffering", "no")
	c.Header("Content-Type", "text/event-stream")
	c.Status(200)
	out := http.NewResponseController(c.Writer)
	// The server's limit for reading a request would end the watching.
	if err := out.SetReadDeadline(time.Time{}); err != nil && !errors.Is(err, http.ErrNotSupported) {
		c.Error(err)
		return
	}
	send := func(text string) bool {
		_, err := io.WriteString(c.Writer, text)
		return err == nil && out.Flush() == nil
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	last := uint64(0)
	if seen := seenPlan(c); seen != nil {
		last = *seen
	}
	for ok := send(": watching\n\n"); ok; {
		select {
		case <-c.Request.Context().Done():
			return
		case <-look.C:
			if job == "" {
				look.Stop()
				continue
			}
			now, err := s.store.Latest(job)
			if err != nil || now.ID == last {
				continue
			}
			last = now.ID
			b, err := json.Marshal(map[string]any{"plan": now.ID, "who": now.Who, "what": now.What})
			if err != nil {
				return
			}
			ok = send(fmt.Sprintf("event: plan\ndata: %s\n\n", b))
		case <-beat.C:
			ok = send(": still here\n\n")
		case st := <-states:
			b, err := json.Marshal(workView(st))
			if err != nil {
				return
			}
			ok = send(fmt.Sprintf("data: %s\n\n", b))
			// A few times a second is enough for the eye.
			time.Sleep(150 * time.Millisecond)
		}
	}
}

// workLine is a state worded for the page.
type workLine struct {
	work.State
	Percent int    `json:"percent"`
	Line    string `json:"line"`
	Left    string `json:"left"`
}

func workView(st work.State) workLine {
	v := workLine{State: st}
	if st.Total > 0 {
		v.Percent = int(st.Done * 100 / st.Total)
		v.Line = fmt.Sprintf("%s of %s", st.Done, st.Total)
		if el := time.Since(st.Since).Seconds(); el > 0.5 && st.Done > st.From {
			perSecond := float64(st.Done-st.From) / el
			v.Line += fmt.Sprintf(", %s/s", layoutBytes(perSecond))
			v.Left = "≈ " + plan.Lasts(int64(float64(st.Total-st.Done)/perSecond)+1) + " left"
		}
	}
	return v
}

// bringBack stages the bringing back of a record's partition in the plan of the
// job whose drive it was on.
func (s *Server) bringBack(c *gin.Context) {
	id := c.Param("record")
	where := "/records/" + url.PathEscape(id)
	of, err := s.driveOfRecord(id)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	st, err := s.stateOf(of)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.close()
	step := plan.Step{Do: plan.BringBack, Record: id, Damaged: strings.TrimSpace(c.PostForm("damaged"))}
	if len(step.Damaged) > maxReason {
		s.refuse(c, errors.New("that text is too long; nothing was planned"), where)
		return
	}
	if size := strings.TrimSpace(c.PostForm("size")); c.PostForm("again") != "" && len(size) <= maxGoal {
		step = plan.Step{Do: plan.Rebuild, Record: id, Size: size, As: unusedName(st.Steps)}
	}
	if err := s.stage(c, st, step); err != nil {
		s.refuse(c, err, where)
		return
	}
	if step.Do == plan.Rebuild {
		s.say(c, "sound", "Making it again, empty, is planned. Look at the map, then carry it out.", "/jobs/"+url.PathEscape(st.Job.Number)+"?bay="+st.Drive.Bay)
		return
	}
	s.say(c, "sound", "Bringing it back is planned. Look at the map, then carry it out.", "/jobs/"+url.PathEscape(st.Job.Number)+"?bay="+st.Drive.Bay)
}

// driveOfRecord is the drive that a record's partition was on.
func (s *Server) driveOfRecord(id string) (of trail.Drive, err error) {
	list, err := s.store.Entries(store.Filter{Record: id, Act: string(trail.ActDelete), Limit: 1})
	if err != nil {
		return of, err
	}
	if len(list) == 0 {
		return of, fmt.Errorf("%w: %s", trail.ErrNoRecord, id)
	}
	return list[0].Drive, nil
}
