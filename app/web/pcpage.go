package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
)

// pcRoutes are the addresses of the PC of a job.
func (s *Server) pcRoutes(in *gin.RouterGroup) {
	in.GET("/jobs/:job/pc", s.pcPage)
	in.POST("/jobs/:job/letter", s.giveLetter)
	in.POST("/jobs/:job/pc/state", s.switchPC)
	in.POST("/jobs/:job/pc/facts", s.readFacts)
	in.GET("/jobs/:job/pc.json", s.writeFacts)
}

// pcView is the PC of a job, as its stand-in says.
type pcView struct {
	Job, Bay string
	PC       *pc.Facts
	Names    map[string]string // of partitions by unique id
	Letters  []letterRow
	Lacks    []lack
	Held     []heldRow
	Asleep   []string
	Points   []string
	Recovery string
}

type letterRow struct {
	Letter, Holder string
	Partition      int  // 0 for another device or drive
	Device         bool // that is no volume
	ID             string
}

// lack is a letter that is expected and is missing, with its volume or without.
type lack struct {
	pc.Missing
	Title  string
	Number int
}

type heldRow struct{ Title, By, Loses string }

func (s *Server) pcPage(c *gin.Context) {
	j, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.fail(c, err)
		return
	}
	defer d.Close()
	v := pcView{Job: j.Number, Bay: d.Bay, PC: d.PC, Names: map[string]string{}}
	numbers := map[string]int{}
	for _, p := range d.Survey.Layout.Partitions() {
		id := strings.ToLower(p.UniqueID)
		v.Names[id], numbers[id] = fmt.Sprintf("%s, partition %d in bay %s", p.Title(), p.Number, d.Bay), p.Number
	}
	if v.PC != nil {
		v.fill(d, numbers)
	}
	s.render(c, http.StatusOK, "pc", page{Title: "PC of " + j.Customer, Here: "pc", Work: s.workOn(j.Number, d), Body: v, Crumbs: []crumb{
		{"Bench", "/"}, {j.Number + " " + j.Customer, pageOf(j.Number, d.Bay, "")}, {j.PC, ""},
	}})
}

func (v *pcView) name(id string) string {
	if n := v.Names[strings.ToLower(id)]; n != "" {
		return n
	}
	return "a volume that is not on this drive"
}

func (v *pcView) fill(d *shop.Drive, numbers map[string]int) {
	f := v.PC
	for id, l := range f.Letters {
		v.Letters = append(v.Letters, letterRow{Letter: l, Holder: v.name(id), Partition: numbers[strings.ToLower(id)], ID: id})
	}
	for _, x := range f.Devices {
		v.Letters = append(v.Letters, letterRow{Letter: x.Letter, Holder: x.Name, Device: x.Letter != ""})
	}
	slices.SortFunc(v.Letters, func(a, b letterRow) int { return strings.Compare(a.Letter, b.Letter) })
	for _, m := range f.MissingLetters(d.Survey.Layout.Has) {
		v.Lacks = append(v.Lacks, lack{m, v.name(m.Partition), numbers[strings.ToLower(m.Partition)]})
	}
	for _, p := range d.Survey.Layout.Partitions() {
		if p.Held != "" {
			v.Held = append(v.Held, heldRow{p.Title(), p.Held, p.Loses})
		}
	}
	for _, id := range f.Hibernated {
		v.Asleep = append(v.Asleep, v.name(id))
	}
	for _, id := range f.RestorePoints {
		v.Points = append(v.Points, v.name(id))
	}
	v.Recovery = recoveryLine(f, v.name)
}

// changePC opens the job's drive and keeps the facts that change returns.
func (s *Server) changePC(c *gin.Context, change func(d *shop.Drive) (*pc.Facts, string, error)) {
	where := pageOf(c.Param("job"), bayOf(c), "pc")
	if c.PostForm("back") == "job" {
		where = back(c)
	}
	j, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer d.Close()
	said, err := s.ChangeFacts(me(c), j, d, change)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(c, "sound", said, where)
}

// giveLetter gives, changes or takes away a volume's letter on the PC.
func (s *Server) giveLetter(c *gin.Context) {
	s.changePC(c, func(d *shop.Drive) (*pc.Facts, string, error) {
		if d.PC == nil {
			return nil, "", errors.New("the facts about this drive's PC are not known; nothing was changed. Read them in first")
		}
		var p layout.Span
		for _, x := range d.Survey.Layout.Partitions() {
			if fmt.Sprint(x.Number) == c.PostForm("partition") {
				p = x
			}
		}
		if from := c.PostForm("device"); from != "" {
			f, err := d.PC.WithDevice(from, c.PostForm("letter"))
			if err != nil {
				return nil, "", err
			}
			to := strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(c.PostForm("letter")), ":"))
			name, _, _ := f.Holder(to)
			return f, fmt.Sprintf("%s: is the letter of %s now.", to, name), nil
		}
		if p.UniqueID == "" {
			return nil, "", errors.New("there is no such partition on this drive; nothing was changed")
		}
		if d.PC.State == pc.Running && p.Held != "" {
			return nil, "", fmt.Errorf("%s is held open by %s; its letter stays", p.Title(), p.Held)
		}
		f, err := d.PC.WithLetter(p.UniqueID, c.PostForm("letter"))
		var moved *pc.Device
		if opens := c.PostForm("opens"); opens != "" {
			if f, moved, err = d.PC.Opens(p.UniqueID, opens); err == nil && moved != nil {
				return f, fmt.Sprintf(
					"%s: opens %s (partition %d) again. %s: is the letter of %s now.", opens, p.Title(), p.Number,
					moved.Letter, moved.Name,
				), nil
			}
		}
		if err != nil {
			return nil, "", err
		}
		p.Letter = ""
		if l := f.Letters[p.UniqueID]; l != "" {
			return f, fmt.Sprintf("%s (partition %d) has the letter %s: now.", p.Title(), p.Number, l), nil
		}
		return f, fmt.Sprintf("%s (partition %d) has no letter now: people do not see it.", p.Title(), p.Number), nil
	})
}

// switchPC switches the stand-in PC off: nothing of it is in use then.
func (s *Server) switchPC(c *gin.Context) {
	s.changePC(c, func(d *shop.Drive) (*pc.Facts, string, error) {
		if d.PC == nil {
			return nil, "", errors.New("the facts about this drive's PC are not known; nothing was changed")
		}
		f := *d.PC
		f.State = pc.State(c.PostForm("state"))
		if f.State != pc.Off && f.State != pc.Running {
			return nil, "", errors.New("a PC is off or running; nothing was changed")
		}
		if f.State == pc.Off {
			return f.SwitchedOff(), "The PC is switched off and its drive is in the bay: nothing holds it open.", nil
		}
		return &f, "The PC is running.", nil
	})
}

// readFacts takes facts about the PC from a JSON file.
func (s *Server) readFacts(c *gin.Context) {
	s.changePC(c, func(d *shop.Drive) (*pc.Facts, string, error) {
		h, err := c.FormFile("facts")
		if err != nil {
			return nil, "", errors.New("no file was chosen; the facts are as they were")
		}
		file, err := h.Open()
		if err != nil {
			return nil, "", err
		}
		defer file.Close()
		b, err := io.ReadAll(io.LimitReader(file, maxBody))
		if err != nil {
			return nil, "", err
		}
		f, err := pc.Parse(b)
		if err != nil {
			return nil, "", fmt.Errorf("%w. The facts are as they were", err)
		}
		return f, "The facts about the PC were read in.", nil
	})
}

// writeFacts hands the facts about the PC out as a JSON file.
func (s *Server) writeFacts(c *gin.Context) {
	_, d, err := s.OpenJob(c.Param("job"), bayOf(c), false)
	if err == nil {
		defer d.Close()
		if d.PC == nil {
			err = fmt.Errorf("the facts about this drive's PC are not known: %w", store.ErrNotFound)
		}
	}
	var b []byte
	if err == nil {
		b, err = json.MarshalIndent(d.PC, "", "  ")
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	attachment(c, c.Param("job")+" PC.json")
	c.Data(http.StatusOK, "application/json", append(b, '\n'))
}

// mendTable stages the mending of the table.
func (s *Server) mendTable(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	var mend plan.Mending
	fmt.Sscan(c.PostForm("keep"), &mend.Keep)
	if err := s.Stage(by(c), st, plan.Step{Body: mend}); err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", "Mending the table is planned. Look at the map, then carry it out.", back(c))
}

// answer says of an expected letter whether it is the letter that is missing or the partition,
// and where to go from there.
type answer struct {
	Letter, Text string
	Ways         []way
}

// missingLetters answers for each letter that is expected and is not there.
func missingLetters(st *jobState) []answer {
	if st.Drive.PC == nil {
		return nil
	}
	there := map[string]layout.Span{}
	for _, p := range st.Drive.Survey.Layout.Partitions() {
		there[strings.ToLower(p.UniqueID)] = p
	}
	at := func(page string) string {
		return pageOf(st.Job.Number, st.Drive.Bay, strings.TrimPrefix(page, "/"))
	}
	var out []answer
	for _, m := range st.Drive.PC.MissingLetters(st.Drive.Survey.Layout.Has) {
		p := there[strings.ToLower(m.Partition)]
		a := answer{
			Letter: m.Letter + ":",
			Ways:   []way{{Text: "give it " + m.Letter + ":", Link: fmt.Sprintf("%s&p=%d", at(""), p.Number), Select: p.Number}},
		}
		switch {
		case m.Gone:
			a.Text, a.Ways = "is expected, and its partition is missing from this drive: not only its letter.", nil
			for _, f := range st.Finds {
				if f.Confidence == seek.Doubtful {
					continue
				}
				a.Ways = append(a.Ways, way{
					Text: fmt.Sprintf("look at %s, which was found (%s)", f.Title(), f.Bytes),
					Link: findLink(st.Job.Number, st.Drive.Bay, f),
				})
			}
			if len(a.Ways) == 0 {
				a.Text += " Nothing should be written before it has been searched for: a new volume may lie over what could come back."
			} else {
				a.Text += " What was found may be it. Nothing should be written over it: a new volume belongs elsewhere."
			}
			a.Ways = append(a.Ways, way{Text: "search the drive", Link: at("/search")})
		case m.Holder != "" && m.Device:
			a.Text = fmt.Sprintf(
				"is expected. Its partition is there (%s, partition %d), only its letter is missing: %s has it.", p.Title(),
				p.Number, m.Holder,
			)
			a.Ways = nil // the next act says it
		case m.Holder != "":
			a.Text = fmt.Sprintf(
				"is expected. Its partition is there (%s, partition %d), only its letter is missing: %s has it. %s: is free.",
				p.Title(), p.Number, m.Holder, m.Propose,
			)
			a.Ways[0].Text = "give it " + m.Propose + ":"
		default:
			a.Text = fmt.Sprintf(
				"is expected. Its partition is there (%s, partition %d), only its letter is missing.", p.Title(),
				p.Number,
			)
		}
		out = append(out, a)
	}
	return out
}
