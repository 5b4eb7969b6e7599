package web

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/route"
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
}

// mayGo is a partition that may be chosen for a goal.
type mayGo struct {
	choice
	Ticked bool
}

var goalKinds = []choice{
	{"gain", "a volume gains room"}, {"remove", "unwanted ones go"}, {"combine", "two become one"}, {"split", "one becomes several"}, {"room", "room for a new one"},
	{"elsewhere", "recovery gets a new place"}, {"without", "do without recovery"}, {"clear", "plain storage"},
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

// goal works out the goal that is asked for.
func (s *Server) goal(c *gin.Context, st *jobState) goalView {
	l := st.Drive.Survey.Layout
	v := goalView{
		Kind: c.DefaultQuery("goal", cmp.Or(st.Job.Goal, "gain")), Receiver: c.Query("receiver"), Gain: c.Query("gain"),
		From: c.Query("from"), Parts: c.Query("parts"), AtMost: c.Query("at_most"),
		NoSecond: c.Query("no_second") != "",
	}
	if v.Receiver == "" {
		v.Receiver = strconv.Itoa(firstChoice(l))
	}
	may, gone := c.QueryArray("may"), c.QueryArray("gone")
	ticked := func(n, title, field string) mayGo {
		return mayGo{choice{n, title}, slices.Contains(c.QueryArray(field), n)}
	}
	for _, p := range l.Partitions() {
		n := strconv.Itoa(p.Number)
		v.Recovery = v.Recovery || p.Role == layout.Recovery
		holds := plan.HoldsFiles(&p) && p.Role != layout.EFI
		if holds {
			v.Volumes = append(v.Volumes, choice{n, p.Title()})
			v.Keep = append(v.Keep, ticked(n, p.Title(), "keep"))
			if plan.MayGrow(&p, st.Facts) {
				v.Give, v.Givers = append(v.Give, ticked(n, p.Title(), "give")), append(v.Givers, ticked(n, p.Title(), "giver"))
			}
		}
		if plan.MayDelete(l, p.Number, st.Facts) {
			v.Gone = append(v.Gone, mayGo{choice{n, p.Title()}, slices.Contains(gone, n)})
			if holds {
				v.May = append(v.May, mayGo{choice{n, p.Title()}, slices.Contains(may, n)})
			}
		}
	}
	for _, k := range goalKinds {
		if v.Recovery || k.Key != "elsewhere" && k.Key != "without" {
			v.Kinds = append(v.Kinds, k)
		}
	}
	g, err := wanted(c.Query, c.QueryArray, l)
	switch {
	case err != nil:
		v.Trouble = words.Sentence(err)
		if why := (*route.Unreadable)(nil); errors.As(err, &why) {
			v.Trouble = words.Sentence(errors.New(why.Why))
		}
	case g != nil:
		v.Answer = route.Routes(l, s.WithFolders(st.JobState, g), g)
		for _, name := range goalFields {
			for _, x := range c.QueryArray(name) {
				v.Fields = append(v.Fields, choice{name, x})
			}
		}
	}
	return v
}

// takeRoute makes a route to a goal the job's plan.
func (s *Server) takeRoute(c *gin.Context) {
	st, err := s.WorkOut(c.Param("job"), bayOf(c))
	if err != nil {
		s.refuse(c, err, back(c))
		return
	}
	defer st.Drive.Close()
	g, err := wanted(c.PostForm, c.PostFormArray, st.Drive.Survey.Layout)
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
