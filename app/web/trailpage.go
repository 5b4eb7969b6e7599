package web

import (
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// trailRoutes are the addresses of the trail and its records.
func (s *Server) trailRoutes(in *gin.RouterGroup) {
	in.GET("/trail", s.trailPage)
	in.GET("/trail.jsonl", s.exportTrail)
	in.GET("/trail/chain", s.chainPart)
	in.POST("/trail/take-in", s.takeIn)
	in.GET("/trail/taken-in/:name", s.takenIn)
	in.GET("/trail/heads.jsonl", s.exportHeads)
	in.GET("/trail/shop.pub", s.publicKey)
	in.GET("/trail/:seq", s.markPage)
	in.POST("/trail/:seq", s.walkBack)
	in.GET("/records/:record", s.recordPage)
	in.POST("/records/:record/bring-back", s.bringBack)
}

// trailRow is an entry as a row of the page, its words made beforehand: a template takes long
// over calls.
type trailRow struct {
	Seq                        int64
	Stamp, When, Who, Act, Did string
	After                      *layout.Layout
	Text, Reason, Record, Job  string
	Lead                       string // who answered for it
	Serial, Hash, Short        string
}

func rowOf(e trail.Entry) trailRow {
	return trailRow{
		Seq: e.Seq, Stamp: stamp(e.Time), When: when(e.Time), Who: e.Who, Act: string(e.Act), Did: words.Entered(e.Act), After: e.After,
		Text: e.Text, Reason: e.Reason, Lead: e.Lead, Record: e.Record, Job: e.Job, Serial: lastFour(e.Drive.Serial), Hash: e.Hash, Short: e.Hash[:min(len(e.Hash), 8)],
	}
}

type trailView struct {
	Entries []trailRow
	Chain   shop.ChainView
	Filter  store.Filter
	From    string
	To      string
	Acts    []trail.Act
	Drives  []store.Choice
	People  []string
	Next    string   // the page of the older ones, "" for none
	Older   bool     // this is not the first page
	Life    []moment // of the drive that all entries of the page are about
}

// trailRows is how many entries a page lists.
const trailRows = 40

func (s *Server) trailPage(c *gin.Context) {
	f := store.Filter{
		Job: c.Query("job"), Act: c.Query("act"), Text: c.Query("text"), Label: c.Query("drive"), Who: c.Query("who"),
		Limit: trailRows + 1,
	}
	v := trailView{Acts: words.Acts, From: c.Query("from"), To: c.Query("to")}
	f.Before, _ = strconv.ParseInt(c.Query("before"), 10, 64)
	var err error
	if f.From, err = day(v.From); err == nil {
		f.To, err = day(v.To)
	}
	if err != nil {
		s.refuse(c, err, "/trail")
		return
	}
	if !f.To.IsZero() {
		f.To = f.To.AddDate(0, 0, 1) // that day too
	}
	v.Filter, v.Older = f, f.Before > 0
	list, err := s.Store.Entries(f)
	if err == nil {
		v.Drives, err = s.Store.Drives()
	}
	if err == nil {
		v.People, err = s.Store.People()
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	if len(list) > trailRows {
		list = list[:trailRows]
		q := c.Request.URL.Query()
		q.Set("before", fmt.Sprint(list[trailRows-1].Seq))
		v.Next = "/trail?" + q.Encode()
	}
	for _, e := range list {
		v.Entries = append(v.Entries, rowOf(e))
	}
	v.Life = lifeOf(list)
	v.Chain = s.ChainNow(c.Query("again") != "")
	s.render(
		c, http.StatusOK, "trail",
		page{Title: "Trail", Here: "trail", Body: v, Crumbs: []crumb{{"Bench", "/"}, {"Trail", ""}}},
	)
}

// day reads a date, "" for none.
func day(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	t, err := time.ParseInLocation("2006-01-02", text, time.Local)
	if err != nil {
		return t, fmt.Errorf("%q is not a date like 2026-11-24; nothing was looked for", text)
	}
	return t, nil
}

// chainPart is the state of the chain by itself, for a page to ask for while a check goes on.
func (s *Server) chainPart(c *gin.Context) {
	v := s.ChainNow(c.Query("again") != "")
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Header("X-Running", strconv.FormatBool(v.Running))
	if err := s.pages["trail"].ExecuteTemplate(c.Writer, "chain", v); err != nil {
		c.Error(err)
	}
}

// markView is one entry of the trail with the drive as it was then.
type markView struct {
	Entry *trail.Entry
	Map   *mapData
	Job   string
	Bay   string // where the drive is now, "" for nowhere
	Older int64
	Newer int64
	Backs []wayBack // to how the drive was before and after, where it is not so now
	Busy  bool
}

// wayBack is a plan that leads the drive back to a mark.
type wayBack struct {
	To     string // before or after
	Walk   *plan.Walk
	Titles []string
}

// walk works out how the drive gets back to how it was before or after an entry, nil where it
// is so.
func (s *Server) walk(c *gin.Context, st *shop.JobState, then *layout.Layout, to string) (*wayBack, error) {
	if then == nil || len(layout.Differ(then, st.Drive.Survey.Layout)) == 0 {
		return nil, nil
	}
	o := s.Options(st.Drive, st.Job, me(c).Name)
	w, err := facts.WalkBack(o.Sources, st.Drive.Survey, then, st.Finds)
	if err != nil {
		return nil, err
	}
	v := &wayBack{To: to, Walk: w}
	facts := st.Facts
	if len(w.Steps) > 0 {
		if facts, err = s.Facts(st.Drive, st.Job, w.Steps); err != nil {
			return nil, err
		}
	}
	for _, x := range plan.Lay(st.Drive.Survey.Layout, facts, w.Steps) {
		v.Titles = append(v.Titles, x.Title)
	}
	return v, nil
}

// walkBack lays the plan that leads the drive back to a mark.
func (s *Server) walkBack(c *gin.Context) {
	where := "/trail/" + url.PathEscape(c.Param("seq"))
	seq, err := strconv.ParseInt(c.Param("seq"), 10, 64)
	var e *trail.Entry
	if err == nil {
		e, err = s.Store.Entry(seq)
	}
	if err != nil {
		s.refuse(c, fmt.Errorf("%w: there is no such entry", store.ErrNotFound), "/trail")
		return
	}
	st, err := s.WorkOutFor(e.Drive)
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	defer st.Drive.Close()
	then := e.After
	if c.PostForm("to") == "before" {
		then = e.Before
	}
	w, err := s.walk(c, st, then, c.PostForm("to"))
	switch {
	case err != nil:
	case w == nil || len(w.Walk.Steps) == 0:
		err = errors.New("there is nothing that could be done to get there; nothing was planned")
	default:
		err = s.NewPlan(by(c), st, w.Walk.Steps, fmt.Sprintf("walking back to entry %d of the trail", seq))
	}
	if err != nil {
		s.refuse(c, err, where)
		return
	}
	s.say(
		c, "sound",
		fmt.Sprintf(
			"Walking back is planned, in %s. Look at the map; Safeguard says what is still asked for.",
			words.Plural(len(w.Walk.Steps), "step", "steps"),
		),
		pageOf(st.Job.Number, st.Drive.Bay, ""),
	)
}

// markPage opens the drive's map at one entry of the trail.
func (s *Server) markPage(c *gin.Context) {
	seq, err := strconv.ParseInt(c.Param("seq"), 10, 64)
	if err != nil {
		s.fail(c, fmt.Errorf("this page does not exist: %w", store.ErrNotFound))
		return
	}
	e, err := s.Store.Entry(seq)
	if err != nil {
		s.fail(c, err)
		return
	}
	v := markView{Entry: e, Job: e.Job, Older: seq - 1}
	if _, err := s.Store.Entry(seq + 1); err == nil {
		v.Newer = seq + 1
	}
	m := mapData{Job: e.Job, Columns: []mapColumn{}}
	var before *layout.Layout
	if e.Before != nil {
		before = e.Before
		m.Columns = append(m.Columns, mapColumn{
			Kind: "past", Title: "Before", Sub: e.Time.Local().Format("2 Jan 15:04"), Blocks: blocks(e.Before, nil),
		})
	}
	if e.After != nil {
		m.Columns = append(m.Columns, mapColumn{
			Kind: "past", Title: "After", Sub: e.Time.Local().Format("2 Jan 15:04"),
			Blocks: blocks(follow(e.After, before), before),
		})
		before = e.After
	}
	if e.Drive != (trail.Drive{}) && e.Job != "" {
		if st, err := s.WorkOutFor(e.Drive); err == nil {
			v.Bay = st.Drive.Bay
			now := st.Drive.Survey.Layout
			m.Columns = append(m.Columns, mapColumn{
				Kind: "now", Title: "Now", Sub: s.Now().Local().Format("2 Jan 15:04"),
				Blocks: blocks(follow(now, before), before),
			})
			v.Busy = st.Busy || st.Pending != nil
			for _, x := range []struct {
				to   string
				then *layout.Layout
			}{{"after", e.After}, {"before", e.Before}} {
				w, err := s.walk(c, st, x.then, x.to)
				if err != nil {
					st.Drive.Close()
					s.fail(c, err)
					return
				}
				if w != nil {
					v.Backs = append(v.Backs, *w)
				}
			}
			st.Drive.Close()
		}
	}
	if len(m.Columns) > 0 {
		if m.Columns[len(m.Columns)-1].Kind != "now" {
			m.Columns[len(m.Columns)-1].Kind = "now"
		}
		v.Map = &m
	}
	s.render(
		c, http.StatusOK, "mark",
		page{
			Title: fmt.Sprintf("Entry %d of the trail", seq), Here: "trail", Body: v,
			Crumbs: []crumb{{"Bench", "/"}, {"Trail", "/trail"}, {fmt.Sprintf("Entry %d", seq), ""}},
		},
	)
}

func (s *Server) exportTrail(c *gin.Context) {
	c.Header("Content-Type", "application/jsonl")
	c.Header("Content-Disposition", `attachment; filename="trail.jsonl"`)
	if err := s.Store.Export(c.Request.Context(), c.Writer); err != nil {
		c.Error(err)
	}
}

// exportHeads hands out the heads that were kept on the shelf.
func (s *Server) exportHeads(c *gin.Context) {
	heads, err := s.KeptHeads()
	if err != nil {
		s.fail(c, err)
		return
	}
	var b []byte
	for _, h := range heads {
		if b, err = trail.AddHead(b, h); err != nil {
			s.fail(c, err)
			return
		}
	}
	c.Header("Content-Disposition", `attachment; filename="heads.jsonl"`)
	c.Data(http.StatusOK, "application/jsonl", b)
}

// publicKey hands out the key that the trail's signatures are checked with.
func (s *Server) publicKey(c *gin.Context) {
	if s.Store.Key == nil {
		s.fail(c, fmt.Errorf("this trail is not signed: %w", store.ErrNotFound))
		return
	}
	public, _ := s.Store.Key.Public().(ed25519.PublicKey)
	c.Header("Content-Disposition", `attachment; filename="shop.pub"`)
	c.Data(http.StatusOK, "text/plain; charset=utf-8", []byte(base64.StdEncoding.EncodeToString(public)+"\n"))
}
