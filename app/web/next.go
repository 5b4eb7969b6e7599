package web

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/plan"
	"jadetrail/core/words"
)

// next is what is next for a job in words, with the control for it.
type next struct {
	Turn shop.Turn
	Text string
	Care bool
	// Label is what the control says, and Link where it leads; of a form, where it is sent, with its hidden fields.
	Label, Link string
	Form        bool
	Fields      []choice
	Ask         string  // the name of a field for a reason, "" for none,
	AskLabel    string  // and what it is asked for
	Also        []crumb // what else there is to do for it
}

// isDue is the next thing of a job as its pages say it. bay is the drive that they are about, lead whether a lead looks.
func isDue(j *store.Job, bay string, n shop.Next, lead bool) next {
	x := next{Turn: n.Turn}
	link := func(label, page string) { x.Label, x.Link = label, pageOf(j.Number, bay, page) }
	form := func(label, address string, fields ...choice) {
		x.Label, x.Link, x.Form, x.Fields = label, address, true, fields
	}
	drive := pageOf(j.Number, bay, "")
	switch n.Turn {
	case shop.TurnAttach:
		x.Text, x.Care, x.Label, x.Link = "Its drive is in no bay.", true, "Attach a drive", "/dock"
	case shop.TurnUnread:
		x.Text, x.Care = "Its drive cannot be read: "+strings.TrimSuffix(n.Why, ".")+".", true
	case shop.TurnWatch:
		x.Text, x.Label, x.Link = n.Work.Title+" is under way.", "Watch it", drive
	case shop.TurnFinish:
		x.Text, x.Care, x.Label, x.Link = "A run was cut short. Finish it, or take it back.", true, "Look at it", drive+"#out"
	case shop.TurnAnew:
		x.Text, x.Care = "The drive is not as it was when the plan was made.", true
		form("Lay the plan anew", actOf(j.Number, bay, j.PlanState, "anew"))
	case shop.TurnUnblock:
		x.Text, x.Care = fmt.Sprintf("Step %d cannot be done: %s", n.Step, n.Why), true
		x.Label, x.Link = "Look at the plan", drive+"#planned"
	case shop.TurnBackUp:
		x.Text, x.Care = missing(n)+" missing.", true
		form("Back up now", pageOf(j.Number, bay, "back-up"), choice{"all", "yes"})
		x.Also = []crumb{{"choose, give reasons", pageOf(j.Number, bay, "safeguard")}}
	case shop.TurnReason:
		x.Text, x.Care = missing(n)+" missing.", true
		link("Give the "+words.Either(n.Reasons == 1, "reason", "reasons"), "safeguard")
		if n.Give != nil {
			d := plan.Of[plan.Deletion](n.Give.Step)
			form("Give the reason", actOf(j.Number, bay, j.PlanState, "steps"),
				choice{"do", string(plan.Delete)}, choice{"partition", n.Give.Step.Partition}, choice{"backups", d.Backups})
			if d.Erase {
				x.Fields = append(x.Fields, choice{"erase", "yes"})
			}
			x.Ask, x.AskLabel = "release", "Reason for deleting "+n.Give.Title+" although it is protected"
			other := choice{"waiver", d.Waiver}
			if n.Give.Waiver {
				x.Ask, x.AskLabel = "waiver", "Reason for deleting "+n.Give.Title+" without a backup"
				other = choice{"release", d.Release}
			}
			x.Fields = append(x.Fields, other)
		}
	case shop.TurnLead:
		x.Text, x.Care = "The lead has to say yes.", true
		link("Ask the lead", "safeguard")
		if n.Asked != nil {
			x.Text, x.Care = "The lead is asked since "+when(n.Asked.AskedAt)+".", lead
			link("See what was asked", "safeguard")
		}
		if lead {
			link("Answer", "safeguard")
		}
	case shop.TurnCarryOut:
		x.Text, x.Label, x.Link = "All that the plan needs is there.", "Carry it out", drive+"#out"
	case shop.TurnConfirm:
		x.Text = "Carried out " + when(n.Last.Time) + " and proven. Look at what became of the drive, and mark it as good."
		link("Confirm", "confirm")
	case shop.TurnHandOver:
		x.Text = "All is proven, and the state is marked as good."
		link("Hand over", "hand-over")
	case shop.TurnClose:
		x.Text, x.Label, x.Link = "It was handed over "+when(*j.HandedAt)+".", "Close the job", pageOf(j.Number, "", "close")
	case shop.TurnClosed:
		x.Text, x.Label, x.Link = "The job was closed "+when(*j.ClosedAt)+".", "What is kept", aboutOf(j.Number)
	case shop.TurnMend:
		x.Text, x.Care, x.Label, x.Link = n.Why, true, "Look at it", drive+"#findings"
	case shop.TurnAwake:
		x.Text, x.Care = n.Why+" is hibernated: start it once on its PC and shut it down. Until then it is only looked at.", true
		x.Label, x.Link = "Look at the drive", drive
	case shop.TurnSearch:
		x.Text, x.Care = fmt.Sprintf("The partition of %s: is missing.", n.Missing.Letter), true
		link("Search for it", "search")
	case shop.TurnLetter:
		x.Text, x.Care = fmt.Sprintf("The volume of %s: is there; only its letter is missing.", n.Missing.Letter), true
		link("Letters of the PC", "pc")
	case shop.TurnPlan:
		x.Text, x.Label, x.Link = "Nothing is planned yet.", "Choose a goal", drive+"#goal"
		if n.Tight != nil {
			x.Text = fmt.Sprintf("%s is nearly full, %s left.", n.Tight.Title(), n.Tight.Volume.Free())
			x.Care = true
		}
	}
	return x
}

// missing says how many backups and reasons are missing.
func missing(n shop.Next) string {
	var all []string
	if n.Backups > 0 {
		all = append(all, words.Plural(n.Backups, "backup", "backups"))
	}
	if n.Reasons > 0 {
		all = append(all, words.Plural(n.Reasons, "reason", "reasons"))
	}
	return strings.Join(all, " and ") + words.Either(n.Backups+n.Reasons == 1, " is", " are")
}

// rail is where a job stands: its six stages, and what is next. It stands above every page of a job.
type rail struct {
	Job, Bay string
	Stages   []stage
	Next     next
	At       string // the stage that the page is, "" for none
	Own      bool   // the page draws the stages itself
}

// railOf is the rail of a job whose drive was worked out.
func (s *Server) railOf(c *gin.Context, st *jobState, at string) (*rail, error) {
	asks, err := s.Store.Asks(st.Job.Number)
	if err != nil {
		return nil, err
	}
	return &rail{
		Job: st.Job.Number, Bay: st.Drive.Bay, Stages: st.Stages, At: at,
		Next: isDue(st.Job, st.Drive.Bay, st.Next(asks), me(c).Lead()),
	}, nil
}

// railed are the pages of a job that have a rail above them, with the stage that each is, "" for none.
var railed = map[string]string{
	"safeguard": "Safeguard", "confirm": "Confirm", "handover": "Hand over", "search": "Look", "find": "Look", "inside": "Look",
	"holds": "Look", "pc": "", "about": "", "close": "", "compare": "", "compared": "",
}

// railFor is the rail above a page of a job, whose drive is glanced at; without stages where no drive can be looked
// at, and nil above a page of no job.
func (s *Server) railFor(c *gin.Context, name string) *rail {
	at, ok := railed[name]
	if !ok || c.Param("job") == "" {
		return nil
	}
	j, _, err := s.Store.Job(c.Param("job"), "")
	if err != nil {
		return nil
	}
	bare := func(why error) *rail {
		return &rail{Job: j.Number, Bay: bayOf(c), At: at, Next: isDue(j, bayOf(c), shop.NextOf(j, why), me(c).Lead())}
	}
	all, err := s.Store.Bays()
	if err != nil {
		return bare(err)
	}
	st, err := shown(s.Row(j, drivesOf(j, bayOf(c), all)))
	if err != nil {
		return bare(err)
	}
	defer st.Drive.Close()
	r, err := s.railOf(c, st, at)
	if err != nil {
		return bare(err)
	}
	return r
}

// drivesOf are the bays with drives of a job, the one in a bay alone where that is said.
func drivesOf(j *store.Job, bay string, all []store.Bay) (out []store.Bay) {
	for _, b := range all {
		if b.Image != nil && b.Job != nil && *b.Job == j.Number && (bay == "" || b.Letter == bay) {
			out = append(out, b)
		}
	}
	return out
}

// To is where a stage is found.
func (r *rail) To(stage string) string {
	switch stage {
	case "Safeguard":
		return pageOf(r.Job, r.Bay, "safeguard")
	case "Plan":
		return pageOf(r.Job, r.Bay, "") + "#planned"
	case "Carry out":
		return pageOf(r.Job, r.Bay, "") + "#out"
	case "Confirm":
		return pageOf(r.Job, r.Bay, "confirm")
	case "Hand over":
		return pageOf(r.Job, r.Bay, "hand-over")
	}
	return pageOf(r.Job, r.Bay, "")
}
