package web

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/store"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/route"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// goalView is the goal that is asked for on a drive's page, with the routes to it.
type goalView struct {
	Kind           string
	Kinds          []choice
	Volumes        []choice // that hold files
	Gone           []mayGo  // what can be deleted
	Give           []mayGo  // who can be given room
	Givers, Keep   []mayGo
	May            []mayGo
	Receiver, Gain string
	From, Parts    string
	AtMost         string
	NoSecond       bool
	Recovery       bool // there is a recovery partition
	Answer         *route.Answer
	Trouble        string
	Fields         []choice // what was asked for, for taking a route
	Closed         bool     // no goal can be asked for now
	Behind         bool     // it goes on from the plan's end
	Wish           bool     // it is the job's wish, which nobody has asked for on this page
}

// Folded tells that the form is not what comes next.
func (v goalView) Folded() bool { return v.Wish || v.Behind && len(v.Fields) == 0 && v.Trouble == "" }

// mayGo is a partition that may be chosen for a goal.
type mayGo struct {
	choice
	Ticked bool
}

var goalKinds = []choice{
	{"gain", "a volume gains room"},
	{"remove", "unwanted partitions go"},
	{"combine", "two volumes become one"},
	{"split", "one volume becomes several"},
	{"room", "room for a new volume"},
	{"elsewhere", "recovery gets a new place"},
	{"without", "do without recovery"},
	{"clear", "the whole drive plain storage"},
}

// goalFields are the names of what a goal's form sends.
var goalFields = []string{
	"goal", "receiver", "gain", "may", "gone", "give", "giver", "keep", "from", "parts", "size", "at_most",
	"no_second",
}

// maxGoal bounds one field of it.
const maxGoal = 100

// wanted reads the goal from a form or a page's address, nil for none.
func wanted(get func(string) string, all func(string) []string, l *layout.Layout) (*route.Goal, error) {
	text := func(name string) string { return strings.TrimSpace(get(name)) }
	g := route.Goal{Version: 1, AtMost: text("at_most"), NoSecondDrive: get("no_second") != ""}
	for _, name := range goalFields {
		if len(get(name)) > maxGoal {
			return nil, errors.New("that is too long for a goal")
		}
	}
	if may := all("may"); len(may) > 0 {
		g.MayDelete = may
		for _, p := range l.Partitions() { // what holds nobody's files may go besides
			if !plan.HoldsFiles(&p) {
				g.MayDelete = append(g.MayDelete, strconv.Itoa(p.Number))
			}
		}
	}
	switch kind := get("goal"); kind {
	case "", "gain":
		g.Receiver, g.Gain, g.Givers, g.Keep = get("receiver"), text("gain"), all("giver"), all("keep")
		if g.Gain == "" {
			if kind == "" {
				return nil, nil
			}
			return nil, errors.New("say how much it is to gain")
		}
	case "remove":
		if g.Remove = all("gone"); len(g.Remove) == 0 {
			return nil, errors.New("choose what is to go")
		}
		if to := all("give"); len(to) > 0 {
			g.GiveTo, g.ShareWith = to[0], to[1:]
		}
	case "combine":
		g.Combine, g.KeepPlace = []string{get("receiver"), get("from")}, get("receiver")
	case "split":
		g.Split = get("receiver")
		for _, t := range strings.FieldsFunc(get("parts"), func(r rune) bool { return r == ';' || r == '+' }) {
			g.Parts = append(g.Parts, strings.TrimSpace(t))
		}
		if len(g.Parts) == 0 {
			return nil, errors.New("say how large the new ones are to be, for example 40 GiB + 20 GiB")
		}
	case "room":
		if g.Room = text("size"); g.Room == "" {
			return nil, errors.New("say how large the new one is to be")
		}
	case "elsewhere", "without":
		g.Recovery = route.RecoveryWish(kind)
	case "clear":
		g.Clear = true
	default:
		return nil, errors.New("that is no goal")
	}
	b, err := json.Marshal(g)
	if err != nil {
		return nil, err
	}
	return route.ParseGoal(b)
}

// wishOf is the wish of a job as a goal's form would send it for a drive, nil where too little of it is known. Of two
// volumes a wish names one; the other is then the likeliest, and can be chosen otherwise in the form.
func wishOf(j *store.Job, l *layout.Layout) url.Values {
	if j.Goal == "" {
		return nil
	}
	parts := l.Partitions()
	of := slices.IndexFunc(parts, func(p layout.Span) bool { return j.GoalOf != "" && p.Letter == j.GoalOf })
	q := url.Values{"goal": {j.Goal}, "gain": {j.GoalAmount}, "parts": {j.GoalAmount}, "size": {j.GoalAmount}}
	number := func(i int) string { return strconv.Itoa(parts[i].Number) }
	switch {
	case j.Goal == "remove" && of < 0: // nothing goes that nobody named
		return nil
	case j.Goal == "remove":
		q.Set("gone", number(of))
		for _, role := range []layout.Role{layout.OtherSystem, layout.StartSystem} { // the latter, where there are both
			for i, p := range parts {
				if p.Role == role && i != of {
					q.Set("give", number(i))
				}
			}
		}
	case j.Goal == "combine" && of >= 0:
		from := besideOf(parts, of)
		if from < 0 {
			return nil
		}
		q.Set("receiver", number(of))
		q.Set("from", number(from))
	case of >= 0:
		q.Set("receiver", number(of))
	default:
		q.Set("receiver", strconv.Itoa(firstChoice(l)))
	}
	return q
}

// besideOf is the next volume for files behind one, or else the last before it; -1 for none.
func besideOf(parts []layout.Span, of int) int {
	before := -1
	for i, p := range parts {
		switch {
		case i == of || p.Role != layout.Data || !plan.HoldsFiles(&p):
		case p.Start > parts[of].Start:
			return i
		default:
			before = i
		}
	}
	return before
}

// asked is the goal of the page's address, or else the job's wish, while nothing is planned and nothing was carried out.
func asked(c *gin.Context, st *jobState, l *layout.Layout) (q url.Values, wish bool) {
	q = c.Request.URL.Query()
	done := st.Last != nil && st.Last.Act == trail.ActDone
	if q.Has("goal") || q.Has("gain") || len(st.Steps) > 0 || done {
		return q, false
	}
	w := wishOf(st.Job, l)
	if w == nil {
		return q, false
	}
	if g, err := wanted(w.Get, all(w), l); err != nil || g == nil {
		return q, false
	}
	w.Set("bay", q.Get("bay"))
	return w, true
}

// all reads every value of a name.
func all(q url.Values) func(name string) []string {
	return func(name string) []string { return q[name] }
}

// goal works out the goal that is asked for, from the plan's end.
func (s *Server) goal(c *gin.Context, st *jobState) goalView {
	l := st.End()
	if l == nil || st.Elsewhere || st.Busy || st.Pending != nil {
		return goalView{Closed: true}
	}
	q, wish := asked(c, st, l)
	v := goalView{
		Kind: cmp.Or(q.Get("goal"), st.Job.Goal, "gain"), Receiver: q.Get("receiver"), Gain: q.Get("gain"),
		From: q.Get("from"), Parts: q.Get("parts"), AtMost: q.Get("at_most"), NoSecond: q.Get("no_second") != "",
		Behind: len(st.Steps) > 0, Wish: wish,
	}
	if v.Receiver == "" {
		v.Receiver = strconv.Itoa(firstChoice(l))
	}
	v.choices(l, st.Facts, q)
	g, err := wanted(q.Get, all(q), l)
	switch {
	case err != nil:
		v.Trouble = words.Sentence(err)
		if why := (*route.Unreadable)(nil); errors.As(err, &why) {
			v.Trouble = words.Sentence(errors.New(why.Why))
		}
	case g != nil:
		v.Answer = s.RoutesTo(st.JobState, g)
		for _, name := range goalFields {
			for _, x := range q[name] {
				v.Fields = append(v.Fields, choice{name, x})
			}
		}
	}
	return v
}

// choices are what can be chosen for a goal, with a tick at what is.
func (v *goalView) choices(l *layout.Layout, f plan.Facts, q url.Values) {
	for _, p := range l.Partitions() {
		n := strconv.Itoa(p.Number)
		may := func(field string) mayGo { return mayGo{choice{n, p.Title()}, slices.Contains(q[field], n)} }
		v.Recovery = v.Recovery || p.Role == layout.Recovery
		holds := plan.HoldsFiles(&p) && p.Role != layout.EFI
		if holds {
			v.Volumes = append(v.Volumes, choice{n, p.Title()})
			v.Keep = append(v.Keep, may("keep"))
			if plan.MayGrow(&p, f) {
				v.Give, v.Givers = append(v.Give, may("give")), append(v.Givers, may("giver"))
			}
		}
		if plan.MayDelete(l, p.Number, f) {
			v.Gone = append(v.Gone, may("gone"))
			if holds {
				v.May = append(v.May, may("may"))
			}
		}
	}
	for _, k := range goalKinds {
		if v.Recovery || k.Key != "elsewhere" && k.Key != "without" {
			v.Kinds = append(v.Kinds, k)
		}
	}
}

// takeRoute makes a route to a goal the job's plan.
func (s *Server) takeRoute(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	l := st.End()
	if l == nil {
		l = st.Drive.Survey.Layout
	}
	g, err := wanted(c.PostForm, c.PostFormArray, l)
	if err == nil && g == nil {
		err = errors.New("it is not clear what the goal is; nothing was planned")
	}
	title := ""
	if err == nil {
		title, err = s.TakeRoute(by(c), st, g, c.PostForm("route"))
	}
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	s.say(c, "sound", fmt.Sprintf("Planned: %s. Safeguard says what is still asked for.", title), back(c))
}
