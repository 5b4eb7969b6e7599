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

// duty is a job with what is next for it, while that is put into words. bay is the drive that its pages are about,
// lead whether a lead looks.
type duty struct {
	*store.Job
	bay  string
	n    shop.Next
	lead bool
	next
}

// says puts a sentence down; care tells that somebody has to do something about it.
func (d *duty) says(care bool, text string) { d.Text, d.Care = text, care }

// leads has the control lead to a page of the job, or to a place on the page of its drive.
func (d *duty) leads(label, page string) { d.Label, d.Link = label, pageOf(d.Number, d.bay, page) }

func (d *duty) leadsOnDrive(label, place string) {
	d.leads(label, "")
	d.Link += place
}

// sends has the control send a form.
func (d *duty) sends(label, address string, fields ...choice) {
	d.Label, d.Link, d.Form, d.Fields = label, address, true, fields
}

// duties put each turn into words.
var duties = map[shop.Turn]func(d *duty){
	shop.TurnAttach: func(d *duty) {
		d.says(true, "Its drive is in no bay.")
		d.Label, d.Link = "Attach a drive", "/dock"
	},
	shop.TurnUnread: func(d *duty) { d.says(true, "Its drive cannot be read: "+strings.TrimSuffix(d.n.Why, ".")+".") },
	shop.TurnWatch: func(d *duty) {
		d.says(false, d.n.Work.Title+" is under way.")
		d.leadsOnDrive("Watch it", "")
	},
	shop.TurnFinish: func(d *duty) {
		d.says(true, "A run was cut short. Finish it, or take it back.")
		d.leadsOnDrive("Look at it", "#out")
	},
	shop.TurnAnew: func(d *duty) {
		d.says(true, "The drive is not as it was when the plan was made.")
		d.sends("Lay the plan anew", actOf(d.Number, d.bay, d.PlanState, "anew"))
	},
	shop.TurnUnblock: func(d *duty) {
		d.says(true, fmt.Sprintf("Step %d cannot be done: %s", d.n.Step, d.n.Why))
		d.leadsOnDrive("Look at the plan", "#planned")
	},
	shop.TurnBackUp: func(d *duty) {
		d.says(true, missing(d.n)+" missing.")
		d.sends("Back up now", pageOf(d.Number, d.bay, "back-up"), choice{"all", "yes"})
		d.Also = []crumb{{"choose, give reasons", pageOf(d.Number, d.bay, "safeguard")}}
	},
	shop.TurnReason: func(d *duty) {
		d.says(true, missing(d.n)+" missing.")
		d.leads("Give the "+words.Either(d.n.Reasons == 1, "reason", "reasons"), "safeguard")
		if d.n.Give != nil {
			d.asksWhy()
		}
	},
	shop.TurnLead: func(d *duty) {
		d.says(true, "The lead has to say yes.")
		d.leads("Ask the lead", "safeguard")
		if d.n.Asks == 0 { // it cannot be asked for yet
			d.says(true, d.n.Why)
			d.leadsOnDrive("Look at the plan", "#planned")
			return
		}
		if d.n.Asked != nil {
			d.says(d.lead, "The lead is asked since "+when(d.n.Asked.AskedAt)+".")
			d.leads("See what was asked", "safeguard")
		}
		if d.lead {
			d.leads("Answer", "safeguard")
		}
	},
	shop.TurnCarryOut: func(d *duty) {
		d.says(false, "All that the plan needs is there.")
		d.leadsOnDrive("Carry it out", "#out")
	},
	shop.TurnConfirm: func(d *duty) {
		d.says(false, "Carried out "+when(d.n.Last.Time)+" and proven. Look at what became of the drive, and mark it as good.")
		d.leads("Confirm", "confirm")
	},
	shop.TurnOther: func(d *duty) {
		d.says(true, "The drive is not as the run of "+when(d.n.Last.Time)+" left it. "+d.n.Why)
		d.leads("What is different", "confirm")
	},
	shop.TurnHandOver: func(d *duty) {
		d.says(false, "Carried out "+when(d.n.Last.Time)+", proven, and marked as good.")
		d.leads("Hand over", "hand-over")
	},
	shop.TurnClose: func(d *duty) {
		d.says(false, "It was handed over "+when(*d.HandedAt)+".")
		d.Label, d.Link = "Close the job", pageOf(d.Number, "", "close")
	},
	shop.TurnClosed: func(d *duty) {
		d.says(false, "The job was closed "+when(*d.ClosedAt)+".")
		d.Label, d.Link = "What is kept", aboutOf(d.Number)
	},
	shop.TurnMend: func(d *duty) {
		d.says(true, d.n.Why)
		d.leadsOnDrive("Look at it", "#findings")
	},
	shop.TurnAwake: func(d *duty) {
		d.says(true, d.n.Why+" is hibernated: start it once on its PC and shut it down. Until then it is only looked at.")
		d.leadsOnDrive("Look at the drive", "")
	},
	shop.TurnSearch: func(d *duty) {
		d.says(true, fmt.Sprintf("The partition of %s: is missing.", d.n.Missing.Letter))
		d.leads("Search for it", "search")
		if f := d.n.Found; f != nil {
			d.says(true, fmt.Sprintf(
				"The partition of %s: is missing; %s was found (%s, %s).", d.n.Missing.Letter, f.Title(), f.Bytes, f.Confidence,
			))
			d.Label, d.Link = "Look at it", findLink(d.Number, d.bay, *f)
			d.Also = []crumb{{"search further", pageOf(d.Number, d.bay, "search")}}
		}
	},
	shop.TurnLetter: func(d *duty) {
		d.says(true, fmt.Sprintf("The volume of %s: is there; only its letter is missing.", d.n.Missing.Letter))
		d.leads("Letters of the PC", "pc")
		if m := d.n.Missing; m.Device {
			d.says(true, fmt.Sprintf("The volume of %s: is there; %s has its letter.", m.Letter, m.Holder))
		}
		if p, ok := d.n.Lacking, d.n.Missing; p > 0 && (ok.Device || ok.Holder == "") {
			d.sends("Open "+d.n.Missing.Letter+": again", pageOf(d.Number, d.bay, "letter"),
				choice{"partition", fmt.Sprint(p)}, choice{"opens", d.n.Missing.Letter}, choice{"back", "job"})
			d.Also = []crumb{{"letters of the PC", pageOf(d.Number, d.bay, "pc")}}
		}
	},
	shop.TurnPlan: func(d *duty) {
		d.says(false, "Nothing is planned yet.")
		if p := d.n.Tight; p != nil {
			d.says(true, fmt.Sprintf("%s is nearly full, %s left.", p.Title(), p.Volume.Free()))
		}
		d.leadsOnDrive("Choose a goal", "#goal")
	},
}

// asksWhy asks for the one reason that is missing.
func (d *duty) asksWhy() {
	gone := plan.Of[plan.Deletion](d.n.Give.Step)
	d.sends("Give the reason", actOf(d.Number, d.bay, d.PlanState, "steps"),
		choice{"do", string(plan.Delete)}, choice{"partition", d.n.Give.Step.Partition}, choice{"backups", gone.Backups})
	if gone.Erase {
		d.Fields = append(d.Fields, choice{"erase", "yes"})
	}
	d.Ask, d.AskLabel = "release", "Reason for deleting "+d.n.Give.Title+" although it is protected"
	other := choice{"waiver", gone.Waiver}
	if d.n.Give.Waiver {
		d.Ask, d.AskLabel = "waiver", "Reason for deleting "+d.n.Give.Title+" without a backup"
		other = choice{"release", gone.Release}
	}
	d.Fields = append(d.Fields, other)
}

// isDue is the next thing of a job as its pages say it.
func isDue(j *store.Job, bay string, n shop.Next, lead bool) next {
	d := &duty{Job: j, bay: bay, n: n, lead: lead, next: next{Turn: n.Turn}}
	duties[n.Turn](d)
	return d.next
}

// missing says how many backups and reasons are missing, and whether the lead has to say yes.
func missing(n shop.Next) string {
	var all []string
	if n.Backups > 0 {
		all = append(all, words.Plural(n.Backups, "backup", "backups"))
	}
	if n.Reasons > 0 {
		all = append(all, words.Plural(n.Reasons, "reason", "reasons"))
	}
	if n.Asks > 0 {
		all = append(all, "the lead's yes")
	}
	return plan.Join(all) + words.Either(n.Backups+n.Reasons == 1 && n.Asks == 0, " is", " are")
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
	"safeguard": "Safeguard", "confirm": "Confirm", "handover": "Hand over",
	"search": "Look", "find": "Look", "inside": "Look", "holds": "Look", "pc": "", "about": "", "close": "", "compare": "", "compared": "",
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
	st, err := shown(s.Row(j, drivesOf(j, bayOf(c), all), s.Store))
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
