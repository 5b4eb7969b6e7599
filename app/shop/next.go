package shop

import (
	"errors"
	"slices"
	"strings"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/trail"
)

// Turn is what is next for a job.
type Turn string

// The turns, in the order in which one comes before the others.
const (
	TurnAttach   Turn = "attach"    // its drive is in no bay
	TurnUnread   Turn = "unread"    // its drive cannot be read
	TurnWatch    Turn = "watch"     // work on the drive goes on
	TurnFinish   Turn = "finish"    // a run was cut short
	TurnAnew     Turn = "anew"      // the drive is not the one that the plan was made for
	TurnUnblock  Turn = "unblock"   // a step cannot be done
	TurnBackUp   Turn = "back-up"   // backups are missing
	TurnReason   Turn = "reason"    // somebody must say why
	TurnLead     Turn = "lead"      // the lead must say yes
	TurnCarryOut Turn = "carry-out" // all is there
	TurnConfirm  Turn = "confirm"   // it was carried out, and nobody has marked the state as good
	TurnOther    Turn = "other"     // the drive is not as its last run left it
	TurnHandOver Turn = "hand-over"
	TurnClose    Turn = "close"
	TurnClosed   Turn = "closed"
	TurnMend     Turn = "mend"   // the table is damaged
	TurnAwake    Turn = "awake"  // a system is hibernated
	TurnSearch   Turn = "search" // a partition is missing of which the PC knows the letter
	TurnLetter   Turn = "letter" // only a letter is missing
	TurnPlan     Turn = "plan"   // nothing is planned yet
)

// Turns are all of them.
var Turns = []Turn{
	TurnAttach, TurnUnread, TurnWatch, TurnFinish, TurnAnew, TurnUnblock, TurnBackUp, TurnReason, TurnLead, TurnCarryOut,
	TurnConfirm, TurnOther, TurnHandOver, TurnClose, TurnClosed, TurnMend, TurnAwake, TurnSearch, TurnLetter, TurnPlan,
}

// Next is what is next for a job, and what there is to say of it.
type Next struct {
	Turn Turn
	// Backups and Reasons are how many are missing.
	Backups, Reasons int
	Asks             int // what the lead has to say yes to
	// Give is the one reason that is missing, where that is one for a deletion; nil else.
	Give *Reason
	// Asked is what the lead is asked first, nil for nothing, or where it was not asked yet.
	Asked *store.Ask
	// Step is the one that cannot be done, from 1; Why is what stands against it, or what is wrong.
	Step int
	Why  string
	// Tight is a volume that is nearly full, nil for none.
	Tight *layout.Span
	// Missing is the letter that is missing, Lacking the number of the partition that lacks it, 0 for one that is
	// missing itself.
	Missing pc.Missing
	Lacking int
	// Found is the likeliest find on the drive, where a partition is missing; nil for none that is known of.
	Found *seek.Find
	Work  work.State
	Last  *trail.Entry // what was carried out last, nil for nothing
}

// Reason is one that a deletion lacks.
type Reason struct {
	Step   plan.Step
	Title  string // of the partition
	Waiver bool   // why it needs no backup; else why it goes although it is protected
}

// lacking is the one reason that a plan lacks, nil where it lacks none or several, or one of another kind of step.
func (st *JobState) lacking() (one *Reason) {
	now := st.Drive.Survey.Layout
	for i, c := range st.Columns {
		before := now
		if now = c.Layout; before == nil {
			return nil
		}
		for _, o := range c.Missing {
			waiver := o.Code == plan.WaiverMissing
			if o.Code == plan.BackupMissing || o.Ask != nil {
				continue
			}
			if one != nil || c.Step.Do() != plan.Delete || !waiver && o.Code != plan.ReleaseMissing {
				return nil
			}
			one = &Reason{Step: st.Steps[i], Waiver: waiver}
			if p, ok := before.Find(c.Number); ok {
				one.Title = p.Title()
			}
		}
	}
	return one
}

// NextOf is what is next for a job of which no drive can be looked at, for a reason.
func NextOf(j *store.Job, why error) Next {
	switch {
	case j.ClosedAt != nil:
		return Next{Turn: TurnClosed}
	case j.HandedAt != nil:
		return Next{Turn: TurnClose}
	case errors.Is(why, ErrNoDrive):
		return Next{Turn: TurnAttach}
	}
	return Next{Turn: TurnUnread, Why: why.Error()}
}

// Next is what is next for the job. asks are those of the job, the latest first.
func (st *JobState) Next(asks []store.Ask) Next {
	backups, releases, obstacles := st.Missing()
	n := Next{Backups: len(backups), Work: st.Work, Last: st.Last}
	open := OpenAsks(st.Columns)
	// Of what the plan itself makes nobody can be asked yet.
	var later []plan.Obstacle
	for _, o := range releases {
		if o.Code == plan.LeadMissing && o.Ask == nil {
			later = append(later, o)
		}
	}
	n.Reasons, n.Asks = len(releases)-len(open)-len(later), len(open)
	for i := range asks {
		a := &asks[i]
		is := func(x plan.Ask) bool { return x.Purpose == a.Purpose && x.Partition == a.Number && x.Lifts == a.Lifts }
		if a.Waits() && slices.ContainsFunc(open, is) {
			n.Asked = a
		}
	}
	switch {
	case st.Busy:
		n.Turn = TurnWatch
	case st.Pending != nil:
		n.Turn = TurnFinish
	case st.Job.ClosedAt != nil:
		n.Turn = TurnClosed
	case len(st.Steps) > 0 && len(st.Changed) > 0:
		n.Turn = TurnAnew
	case len(obstacles) > 0:
		n.Turn, n.Why = TurnUnblock, obstacles[0].Text
		n.Step = 1 + slices.IndexFunc(st.Columns, func(c plan.Column) bool { return len(c.Obstacles) > 0 })
	case len(backups) > 0:
		n.Turn = TurnBackUp
	case n.Reasons > 0:
		n.Turn, n.Give = TurnReason, st.lacking()
	case len(open) > 0:
		n.Turn = TurnLead
	case len(later) > 0:
		n.Turn, n.Why = TurnLead, later[0].Text
	case len(st.Steps) > 0:
		n.Turn = TurnCarryOut
	case st.Job.HandedAt != nil:
		n.Turn = TurnClose
	case st.Last != nil && st.Last.Act == trail.ActDone:
		st.carriedOut(&n)
	default:
		st.untouched(&n)
	}
	return n
}

// carriedOut is what is next for a drive on which a plan was carried out last.
func (st *JobState) carriedOut(n *Next) {
	if n.Turn = TurnConfirm; st.Good {
		n.Turn = TurnHandOver
	}
	if st.Last.After == nil {
		return
	}
	if other := layout.Differ(st.Last.After, st.Drive.Survey.Layout); len(other) > 0 {
		n.Turn, n.Why = TurnOther, other[0]
	}
}

// untouched is what is next for a drive without a plan, on which nothing was carried out.
func (st *JobState) untouched(n *Next) {
	l := st.Drive.Survey.Layout
	n.Turn = TurnPlan
	if f := l.Findings.FirstError(); f != nil {
		n.Turn, n.Why = TurnMend, f.Text
		return
	}
	if len(st.Facts.Asleep) > 0 {
		n.Turn, n.Why = TurnAwake, st.Facts.Asleep[0]
		return
	}
	for _, p := range l.Partitions() {
		if Tight(&p) && p.Letter != "" {
			n.Tight = &p
			break
		}
	}
	if st.Drive.PC == nil {
		return
	}
	if missing := st.Drive.PC.MissingLetters(l.Has); len(missing) > 0 {
		n.Missing = missing[0]
		if n.Turn = TurnLetter; n.Missing.Gone {
			n.Turn = TurnSearch
			n.Found = Likeliest(st.Finds)
		}
		for _, p := range l.Partitions() {
			if strings.EqualFold(p.UniqueID, n.Missing.Partition) {
				n.Lacking = p.Number
			}
		}
	}
}

// Likeliest is the find that is sure or likely and can be believed most, nil for none.
func Likeliest(finds []seek.Find) *seek.Find {
	for _, how := range []seek.Confidence{seek.Sure, seek.Likely} {
		for i := range finds {
			if f := &finds[i]; !f.Ghost && f.Confidence == how {
				return f
			}
		}
	}
	return nil
}

// Tight tells that a volume needs space: less than a tenth is left.
func Tight(p *layout.Span) bool {
	v := p.Volume
	return v != nil && v.ClusterBytes > 0 && v.Free() < v.TotalBytes/10
}
