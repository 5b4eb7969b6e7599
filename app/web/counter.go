package web

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/words"
)

// counterRoutes are the addresses of jobs as they are opened, kept and closed at the counter.
func (s *Server) counterRoutes(in *gin.RouterGroup) {
	in.GET("/jobs", s.jobsPage)
	in.POST("/jobs", s.openJob)
	in.GET("/jobs/new", s.newJobPage)
	in.GET("/customers", s.customers)
	in.GET("/jobs/:job/about", s.aboutPage)
	in.GET("/jobs/:job/edit", s.editJobPage)
	in.POST("/jobs/:job/edit", s.editJob)
	in.POST("/jobs/:job/give", s.giveJob)
	in.POST("/jobs/:job/wait", s.letWait)
	in.POST("/jobs/:job/consent", s.consent)
	in.POST("/jobs/:job/notes", s.addNote)
	in.POST("/jobs/:job/pictures", s.addPicture)
	in.GET("/jobs/:job/pictures/:note", s.picture)
	in.POST("/jobs/:job/pictures/:note/take-out", s.takePictureOut)
	in.GET("/jobs/:job/intake-sheet", s.intakeSheet)
	in.POST("/jobs/:job/handed-over", s.handedOver)
	in.GET("/jobs/:job/close", s.closePage)
	in.POST("/jobs/:job/close", s.closeJob)
	in.POST("/jobs/:job/open-again", s.openAgain)
	in.POST("/jobs/:job/clear", s.clearJob)
}

// aboutOf is the address of what a job is about.
func aboutOf(job string) string { return pageOf(job, "", "about") }

// jobStands says in a word how a job stands.
func jobStands(j *store.Job) string {
	switch {
	case j.ClosedAt != nil:
		return "closed"
	case j.HandedAt != nil:
		return "handed over"
	case j.WaitsFor != store.WaitsNot:
		return "waits for " + shop.WaitsFor(j.WaitsFor)
	}
	return "open"
}

// jobRow is a job in a list.
type jobRow struct {
	store.Job
	Stands, Given string
	Late          bool // the promised day has passed
}

func (s *Server) rowOf(j store.Job, names map[uint64]string) jobRow {
	x := jobRow{Job: j, Stands: jobStands(&j)}
	if j.GivenTo != nil {
		x.Given = names[*j.GivenTo]
	}
	x.Late = s.isLate(&j)
	return x
}

// isLate tells whether the day has passed that a job was promised for.
func (s *Server) isLate(j *store.Job) bool {
	return j.Promised != nil && j.HandedAt == nil && j.ClosedAt == nil && j.Promised.Before(s.Today())
}

// names are what people are called.
func (s *Server) names() (map[uint64]string, []store.Technician, error) {
	people, err := s.Store.Accounts()
	names := map[uint64]string{}
	for _, t := range people {
		names[t.ID] = t.Name
	}
	return names, people, err
}

type jobsView struct {
	Jobs         []jobRow
	Text         string
	Closed, Mine bool
	More         bool
}

// mostJobs is how many jobs one list shows.
const mostJobs = 200

func (s *Server) jobsPage(c *gin.Context) {
	v := jobsView{
		Text: cut(strings.TrimSpace(c.Query("q")), 200), Closed: c.Query("closed") != "", Mine: c.Query("mine") != "",
	}
	f := store.JobFilter{Text: v.Text, Closed: v.Closed}
	if v.Mine {
		f.Given = me(c).ID
	}
	jobs, err := s.Store.FindJobs(f, mostJobs+1)
	names, _, e := s.names()
	if err = errors.Join(err, e); err != nil {
		s.fail(c, err)
		return
	}
	v.More = len(jobs) > mostJobs
	for _, j := range jobs[:min(len(jobs), mostJobs)] {
		v.Jobs = append(v.Jobs, s.rowOf(j, names))
	}
	s.render(c, http.StatusOK, "jobs", page{
		Title: "Jobs", Here: "jobs", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Jobs", ""}},
	})
}

// intakeView is the form in which a job is opened or changed.
type intakeView struct {
	shop.Intake
	Number  string // of the job that is changed, "" for a new one
	Kinds   []choice
	Trouble string
	Found   *foundView
	File    string // in the dock, that becomes its drive once it is open
	Today   string
}

// foundView is what was found of customers.
type foundView struct {
	Text      string
	Customers []store.Customer
	Chosen    uint64
}

// intakeOf is what the form says.
func intakeOf(get func(string) string) shop.Intake {
	id, err := strconv.ParseUint(get("customer"), 10, 64)
	if err != nil {
		id = 0 // a new one
	}
	return shop.Intake{
		Customer: id, Name: get("name"), Phone: get("phone"), Email: get("email"), Address: get("address"), PC: get("pc"),
		Story: get("story"), Want: get("want"), Goal: get("goal"), GoalOf: get("goal_of"), Amount: get("amount"),
		Keep: get("keep"), Promised: get("promised"),
	}
}

func (s *Server) showIntake(c *gin.Context, status int, v intakeView) {
	v.Kinds, v.Today = goalKinds, s.Now().Format(time.DateOnly)
	title, crumbs := "Open a job", []crumb{{"Bench", "/"}, {"Jobs", "/jobs"}, {"New", ""}}
	if v.Number != "" {
		title, crumbs = "Change "+v.Number, []crumb{{"Bench", "/"}, {v.Number, aboutOf(v.Number)}, {"Change", ""}}
	}
	s.render(c, status, "intake", page{Title: title, Here: "intake", Body: v, Crumbs: crumbs})
}

func (s *Server) newJobPage(c *gin.Context) {
	v := intakeView{Intake: intakeOf(c.Query), File: c.Query("file")}
	if v.Customer != 0 {
		if known, err := s.Store.Customer(v.Customer); err == nil {
			v.Name, v.Phone, v.Email, v.Address = known.Name, known.Telephone, known.Email, known.Address
		}
	}
	if text := strings.TrimSpace(c.Query("find")); text != "" {
		var err error
		if v.Found, err = s.findCustomers(text); err != nil {
			s.fail(c, err)
			return
		}
	}
	s.showIntake(c, http.StatusOK, v)
}

func (s *Server) findCustomers(text string) (*foundView, error) {
	text = cut(strings.TrimSpace(text), 200)
	list, err := s.Store.FindCustomers(text)
	return &foundView{Text: text, Customers: list}, err
}

// customers answers the counter's form with those who have a name or number like what was typed.
func (s *Server) customers(c *gin.Context) {
	v, err := s.findCustomers(c.Query("q"))
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "customers", page{Title: "Customers", Body: v})
}

// openJob opens a job, and begins to attach a drive for it where one was named.
func (s *Server) openJob(c *gin.Context) {
	in := intakeOf(c.PostForm)
	number, err := s.NewJob(me(c), in)
	if err != nil {
		s.refused(c.Request, err)
		v := intakeView{Intake: in, Trouble: s.worded(err), File: c.PostForm("file")}
		s.showIntake(c, http.StatusUnprocessableEntity, v)
		return
	}
	if file := c.PostForm("file"); file != "" {
		s.say(c, "sound", number+" is open. Attach its drive.", pageOfDock(file, number))
		return
	}
	s.say(c, "sound", number+" is open.", aboutOf(number))
}

func (s *Server) editJobPage(c *gin.Context) {
	j, _, err := s.Store.Job(c.Param("job"), "")
	var in shop.Intake
	if err == nil {
		in, err = s.IntakeOf(j)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.showIntake(c, http.StatusOK, intakeView{Intake: in, Number: j.Number})
}

func (s *Server) editJob(c *gin.Context) {
	number, in := c.Param("job"), intakeOf(c.PostForm)
	if err := s.EditJob(me(c), number, in); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			s.fail(c, err)
			return
		}
		s.refused(c.Request, err)
		s.showIntake(c, http.StatusUnprocessableEntity, intakeView{Intake: in, Number: number, Trouble: s.worded(err)})
		return
	}
	s.say(c, "sound", "The job is changed.", aboutOf(number))
}

// aboutView is what a job is about, and what it waits for.
type aboutView struct {
	jobRow
	Customer  *store.Customer
	Drives    []shop.Docked
	Backups   []shop.JobBackup
	Notes     []store.Note
	People    []store.Technician
	Waits     []choice
	GoalTitle string
	Others    []store.Job // of the same customer
	May       bool        // change it
	Due       bool        // the day has passed until which things were kept
}

func (s *Server) aboutPage(c *gin.Context) {
	j, _, err := s.Store.Job(c.Param("job"), "")
	if err != nil {
		s.fail(c, err)
		return
	}
	v, err := s.about(c, j)
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "about", page{Title: j.Number + " " + j.Customer, Here: "about", Body: v, Crumbs: []crumb{
		{"Bench", "/"}, {"Jobs", "/jobs"}, {j.Number + " " + j.Customer, ""},
	}})
}

func (s *Server) about(c *gin.Context, j *store.Job) (*aboutView, error) {
	names, people, err := s.names()
	if err != nil {
		return nil, err
	}
	v := &aboutView{jobRow: s.rowOf(*j, names), May: j.ClosedAt == nil && me(c).Role.May(store.Worker)}
	for _, t := range people {
		if t.OffAt == nil && t.Role.May(store.Worker) {
			v.People = append(v.People, t)
		}
	}
	for _, w := range shop.AllWaits {
		v.Waits = append(v.Waits, choice{string(w), shop.WaitsFor(w)})
	}
	if i := slices.IndexFunc(goalKinds, func(k choice) bool { return k.Key == j.Goal }); i >= 0 {
		v.GoalTitle = goalKinds[i].Title
	}
	if j.CustomerID != nil {
		if v.Customer, err = s.Store.Customer(*j.CustomerID); err != nil {
			return nil, err
		}
		if v.Others, err = s.Store.JobsFor(*j.CustomerID, j.Number); err != nil {
			return nil, err
		}
	}
	bays, err := s.Store.BaysOf(j.Number)
	if err != nil {
		return nil, err
	}
	for _, b := range bays {
		v.Drives = append(v.Drives, s.Docked(b))
	}
	if v.Notes, err = s.Store.Notes(j.Number); err != nil {
		return nil, err
	}
	v.Backups, _, err = s.BackupsOfJob(j.Number)
	v.Due = j.ClosedAt != nil && j.ClearedAt == nil && j.KeptUntil != nil && j.KeptUntil.Before(s.Today())
	return v, err
}

// toAbout leads back to what a job is about, after an act about it.
func (s *Server) toAbout(c *gin.Context, err error, said string) {
	where := aboutOf(c.Param("job"))
	if errors.Is(err, store.ErrNotFound) {
		s.fail(c, err)
		return
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(c, "sound", said, where)
}

func (s *Server) giveJob(c *gin.Context) {
	to, err := strconv.ParseUint(c.PostForm("to"), 10, 64)
	if err == nil {
		err = s.GiveJob(me(c), c.Param("job"), to)
	}
	s.toAbout(c, err, "The job is given.")
}

func (s *Server) letWait(c *gin.Context) {
	waits := store.Waits(c.PostForm("for"))
	err := s.LetWait(me(c), c.Param("job"), waits, c.PostForm("why"))
	s.toAbout(c, err, words.Either(waits == store.WaitsNot, "The job waits no longer.", "The job waits."))
}

func (s *Server) consent(c *gin.Context) {
	signed := c.PostForm("signed") == "yes"
	err := s.TakeConsent(me(c), c.Param("job"), signed)
	s.toAbout(c, err, words.Either(signed, "The signature is kept.", "The signature is taken out."))
}

func (s *Server) addNote(c *gin.Context) {
	s.toAbout(c, s.AddNote(me(c), c.Param("job"), c.PostForm("text")), "The note is kept.")
}

func (s *Server) addPicture(c *gin.Context) {
	f, _, err := c.Request.FormFile("picture")
	if err == nil {
		defer f.Close()
		err = s.AddPicture(me(c), c.Param("job"), c.PostForm("text"), f)
	} else {
		err = errors.New("no picture came; nothing was kept")
	}
	if c.Request.MultipartForm != nil {
		defer c.Request.MultipartForm.RemoveAll()
	}
	s.toAbout(c, err, "The picture is kept.")
}

func (s *Server) picture(c *gin.Context) {
	path, err := s.Picture(c.Param("job"), c.Param("note"))
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "image/jpeg")
	c.File(path)
}

func (s *Server) takePictureOut(c *gin.Context) {
	s.toAbout(c, s.TakePictureOut(c.Param("job"), c.Param("note")), "The picture is taken out.")
}

// sheetView is the sheet that a customer signs, and the labels for the drives.
type sheetView struct {
	*aboutView
	Shop         *store.Settings
	Square, Bars codeDrawing
}

func (s *Server) intakeSheet(c *gin.Context) {
	j, _, err := s.Store.Job(c.Param("job"), "")
	if err != nil {
		s.fail(c, err)
		return
	}
	about, err := s.about(c, j)
	v := sheetView{aboutView: about, Shop: shopOf(c)}
	if err == nil {
		v.Square, err = squareCode(j.Number)
	}
	if err == nil {
		v.Bars, err = barCode(j.Number)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	s.render(c, http.StatusOK, "sheet", page{Title: "Intake sheet " + j.Number, Here: "handover", Body: v, Crumbs: []crumb{
		{"Bench", "/"}, {j.Number + " " + j.Customer, aboutOf(j.Number)}, {"Intake sheet", ""},
	}})
}

func (s *Server) handedOver(c *gin.Context) {
	number := c.Param("job")
	if err := s.HandOverJob(me(c), number, c.PostForm("until")); err != nil {
		s.refuse(c, err, pageOf(number, "", "hand-over"))
		return
	}
	s.say(c, "sound", "Handed over. Print this report, and let it be signed.", pageOf(number, "", "hand-over"))
}

// closeView is what a job leaves on the bench.
type closeView struct {
	Job *store.Job
	shop.Settlement
	Until, Today string
}

// keepUsually is for how long backups are kept once a job is closed, where nobody says otherwise.
const keepUsually = 90

// untilOf is the day until which things of a job are kept, where nobody says another.
func (s *Server) untilOf(j *store.Job) string {
	if j.KeptUntil != nil && !j.KeptUntil.Before(s.Today()) {
		return j.KeptUntil.Format(time.DateOnly)
	}
	return s.Today().AddDate(0, 0, keepUsually).Format(time.DateOnly)
}

func (s *Server) closePage(c *gin.Context) {
	j, _, err := s.Store.Job(c.Param("job"), "")
	v := closeView{Job: j}
	if err == nil {
		v.Settlement, err = s.Settlement(j.Number)
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	now := s.Now()
	v.Until, v.Today = s.untilOf(j), now.Format(time.DateOnly)
	s.render(c, http.StatusOK, "close", page{Title: "Close " + j.Number, Here: "close", Body: v, Crumbs: []crumb{
		{"Bench", "/"}, {j.Number + " " + j.Customer, aboutOf(j.Number)}, {"Close", ""},
	}})
}

func (s *Server) closeJob(c *gin.Context) {
	stays := map[string]bool{}
	for _, letter := range c.PostFormArray("stays") {
		stays[letter] = true
	}
	number := c.Param("job")
	if err := s.CloseJob(me(c), number, c.PostForm("until"), stays); err != nil {
		s.refuse(c, err, pageOf(number, "", "close"))
		return
	}
	s.say(c, "sound", number+" is closed.", aboutOf(number))
}

func (s *Server) openAgain(c *gin.Context) {
	s.toAbout(c, s.ReopenJob(me(c), c.Param("job"), c.PostForm("why")), "The job is open again.")
}

func (s *Server) clearJob(c *gin.Context) {
	said, err := s.ClearJob(me(c), c.Param("job"))
	s.toAbout(c, err, said)
}

// pageOfDock is the address of the dock, ready for a file that is to be attached for a job.
func pageOfDock(file, job string) string {
	return fmt.Sprintf("/dock?file=%s&job=%s#waiting", url.QueryEscape(file), url.QueryEscape(job))
}
