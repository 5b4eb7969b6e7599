package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadetrail/core/layout"
)

// Lifts is what an approval lifts.
type Lifts string

// What only the lead lifts.
const (
	LiftProtection Lifts = "release" // of what a PC starts from
	LiftBackup     Lifts = "waiver"  // of what may be somebody's
	LiftType       Lifts = "retag"   // the table may call what may be somebody's something else
	LiftPlace      Lifts = "place"   // what may be somebody's may lie where nobody takes it for that
)

// Ask is what a technician asks the lead for: that one step of a plan may lift something of one
// partition.
type Ask struct {
	Lifts     Lifts  `json:"lifts"`
	Partition int    `json:"partition"`
	UniqueID  string `json:"unique_id"` // of the partition in the table
	// Purpose stands for the step as it is, with its reasons, after those that come before it: see
	// Purpose.
	Purpose string `json:"purpose"`
	// Touched are the partitions that the plan touches up to the step: the contents of all of them
	// are what the lead looks at.
	Touched []int `json:"touched"`
	// Text says what is asked for, Reason why, in the technician's words.
	Text   string `json:"text"`
	Reason string `json:"reason"`
}

// Approval is the lead's yes to an ask, for the contents as they were then. It is among the facts of a
// plan only while they are the same.
type Approval struct {
	Ask
	ID     string    `json:"id"` // of its entry in the trail
	Lead   string    `json:"lead"`
	Reason string    `json:"lead_reason"`
	Time   time.Time `json:"time"`
}

// Of tells whether an approval is the answer to an ask.
func (a Approval) Of(x Ask) bool {
	return a.Lifts == x.Lifts && a.Partition == x.Partition && a.UniqueID == x.UniqueID && a.Purpose == x.Purpose
}

// Purpose stands for step i of a plan: a hash of it and of the steps before it, without the reasons that
// those were given, and without those that touch no partition. What is approved for it is void as soon as
// it is another.
func Purpose(steps []Step, i int) string {
	var what []Step
	for k, s := range steps[:i+1] {
		if s.Do() == Restart {
			continue
		}
		if k < i {
			s = s.Unreasoned()
		}
		what = append(what, s)
	}
	b, err := json.Marshal(what)
	if err != nil {
		return "" // of strings, numbers and truths there is no error
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Purposes are those of all steps of a plan.
func Purposes(steps []Step) []string {
	out := make([]string, len(steps))
	for i := range steps {
		out[i] = Purpose(steps, i)
	}
	return out
}

// asking is the step at hand, as an ask needs it.
type asking struct {
	purpose string
	touched []int
}

// askingFor is what asks of step i of a plan say of it.
func askingFor(now *layout.Layout, steps []Step, i int) asking {
	a := asking{purpose: Purpose(steps, i)}
	for _, s := range steps[:i+1] {
		for _, name := range []string{s.Partition, s.Other()} {
			n, err := strconv.Atoi(name)
			if _, there := now.Find(n); err == nil && there && !slices.Contains(a.touched, n) {
				a.touched = append(a.touched, n)
			}
		}
	}
	return a
}

// asks tells that only the lead may lift something of p, nil where the lead did or does.
func (c *Column) asks(p *layout.Span, lifts Lifts, f Facts) *Obstacle {
	if f.Lead {
		return nil
	}
	s := c.Step
	ask := Ask{
		Lifts: lifts, Partition: p.Number, UniqueID: p.UniqueID, Purpose: f.asking.purpose, Touched: f.asking.touched,
	}
	if !slices.Contains(ask.Touched, p.Number) {
		ask.Touched = append(slices.Clone(ask.Touched), p.Number)
	}
	slices.Sort(ask.Touched)
	var why string
	ask.Text = c.Title
	if named := []int{c.Number, c.Absorbed, c.From}; !slices.Contains(named, p.Number) {
		ask.Text += ", and with it " + p.Title()
	}
	switch lifts {
	case LiftProtection:
		why = fmt.Sprintf("The PC may start from %s: only the lead may release it.", p.Title())
		ask.Text, ask.Reason = ask.Text+"; the PC may start from it", strings.TrimSpace(s.Release())
	case LiftBackup:
		why = fmt.Sprintf("%s may hold personal files: only the lead may let it go without a backup.", p.Title())
		ask.Text, ask.Reason = ask.Text+" without a backup", strings.TrimSpace(s.Waiver())
		if s.wipes() {
			ask.Text = c.Title + ", and all its backups"
		}
		ask.Text += "; it may hold personal files"
	case LiftType:
		why = fmt.Sprintf(
			"%s may hold personal files: only the lead may have the table call it something else.", p.Title(),
		)
		ask.Text += "; it may hold personal files"
	case LiftPlace:
		why = fmt.Sprintf(
			"What goes into %s may be personal files, and nobody takes what lies there for that: only the lead may have them put there.",
			p.Title(),
		)
		ask.Text += "; nobody takes what lies there for personal files"
	}
	if i := slices.IndexFunc(f.Approvals, func(a Approval) bool { return a.Of(ask) }); i >= 0 {
		c.Approved = append(c.Approved, f.Approvals[i])
		return nil
	}
	o := NewObstacle(LeadMissing, why, p.Number).ClearedBy("lead")
	if f.made[p.Number] { // nobody can look at what is not there yet
		o.Text += " This plan makes it: carry out what comes before, and the lead is asked for the rest then."
		return o
	}
	o.Ask = &ask
	return o
}

// stowed asks for the lead where what may be somebody's is put into a partition whose contents nobody takes
// for that: a later plan would not see that they are.
func stowed(c *Column, l *layout.Layout, f Facts) {
	into, ok := l.Find(c.Number)
	if !ok || !guarded(into.Role) || into.Personal { // as a later plan will see it
		return
	}
	puts := slices.Contains([]Do{Absorb, CopyOut, CopyBack}, c.Step.Do())
	from, known := l.Find(max(c.Absorbed, c.From))
	if !puts || known && !personal(from, f) || !known && c.Step.Do() != CopyBack {
		return
	}
	if o := c.asks(into, LiftPlace, f); o != nil {
		c.Missing = append(c.Missing, *o)
	}
}

// guarded tells that a partition of a role holds nobody's files by what it is for.
func guarded(r layout.Role) bool {
	return slices.Contains([]layout.Role{layout.EFI, layout.Reserved, layout.Recovery, layout.OEM, layout.Swap}, r)
}

// needsLead tells that a release is for the lead alone: of what a PC may start from.
func needsLead(c *Column, p *layout.Span, f Facts) *Obstacle {
	if strings.TrimSpace(c.Step.Release()) == "" || !starts(p, f) {
		return nil
	}
	return c.asks(p, LiftProtection, f)
}

// starts tells that a PC may start from a partition: as it is now, or as it was when the plan began.
func starts(p *layout.Span, f Facts) bool {
	return p.Role == layout.EFI || p.Active || f.starting[p.Number]
}

// notReleased tells that the protection of a partition is to be lifted first, nil where it was or has none.
func notReleased(p *layout.Span, s Step, f Facts) *Obstacle {
	if !p.Protected && !starts(p, f) || strings.TrimSpace(s.Release()) != "" {
		return nil
	}
	return NewObstacle(
		ReleaseMissing, fmt.Sprintf("%s is protected. Release it with a reason.", p.Title()), p.Number,
	).ClearedBy("release")
}

// ApprovedFor is the approval by which a column's step lifts something of a partition, nil where none
// was needed.
func (c Column) ApprovedFor(number int, lifts Lifts) *Approval {
	for i, a := range c.Approved {
		if a.Partition == number && a.Lifts == lifts {
			return &c.Approved[i]
		}
	}
	return nil
}
