// Package words makes words for people of what the core says in codes: one table for each kind of code, from
// which the pages and the terminal take what they show. Nothing reads words back.
package words

import (
	"fmt"

	"jadetrail/core/plan"
)

// step are the words of one kind of step.
type step struct {
	offered string // as an act that can be chosen for a partition or a gap
	entered string // as an entry of the trail: what was done
	// does says what it does with the partition that it names, in the step whose number comes behind it.
	does string
	with string // what is to be said besides of that partition
}

// steps are the words of every kind of step, and of what can be chosen beside these.
var steps = map[plan.Do]step{
	plan.Absorb:         {entered: "absorbed", does: "its files move to another volume", with: ", and it goes"},
	plan.BringBack:      {offered: "Bring a partition back", entered: "brought back"},
	plan.Clear:          {offered: "Make a table", entered: "cleared", does: "deleted", with: ", with all others"},
	plan.Combine:        {offered: "Combine with another"},
	plan.Container:      {entered: "container changed"},
	plan.CopyBack:       {entered: "files put back", does: "given files", with: "; those that are there stay as they are"},
	plan.CopyOut:        {entered: "files taken out", does: "its files are copied out"},
	plan.Create:         {offered: "Create a volume here", entered: "created"},
	plan.Delete:         {offered: "Delete", entered: "deleted", does: "deleted"},
	plan.DropStartEntry: {offered: "Leave the start order", entered: "start entry dropped", does: "leaves the start order"},
	plan.Grow:           {offered: "Grow toward the end", entered: "grown", does: "grown", with: "; its files stay where they are"},
	plan.Label:          {entered: "labelled", does: "labelled anew", with: "; its files stay where they are"},
	plan.Letter:         {offered: "Letter", entered: "PC changed", does: "given another letter"},
	plan.Look:           {offered: "Look inside"},
	plan.Mend:           {entered: "table mended"},
	plan.NoteIdentity:   {offered: "Record its ids in the trail", entered: "ids recorded", does: "its ids are recorded"},
	plan.ParkRecovery:   {offered: "Keep a copy of recovery", entered: "copy of recovery kept", does: "a copy of its recovery is kept"},
	plan.Rebuild:        {entered: "made again"},
	plan.Restart:        {entered: "PC restarted"},
	plan.Retag:          {entered: "table entry changed", does: "its table entry is changed", with: "; what it holds stays as it is"},
	plan.Shrink:         {offered: "Shrink", entered: "made smaller", does: "made smaller", with: "; its files are the same"},
	plan.Slide:          {offered: "Slide", entered: "slid", does: "moved", with: "; its files are the same"},
	plan.Split:          {offered: "Split"},
	plan.StartOrder:     {offered: "Start it by default", entered: "start order"},
	plan.UseRecovery:    {offered: "Use the recovery environment", entered: "recovery in use", does: "the recovery environment is used from it"},
}

// ofContainer are the words of what is done with an extended container.
var ofContainer = map[plan.ContainerAct]step{
	plan.GrowIt:   {offered: "Make the container larger", does: "made larger", with: "; the volumes in it stay as they are"},
	plan.ShrinkIt: {offered: "Make the container smaller", does: "made smaller", with: "; the volumes in it stay as they are"},
	plan.Dissolve: {offered: "Dissolve the container", does: "dissolved", with: "; no volume is in it"},
}

// Offered says what can be done with a partition or a gap.
func Offered(a plan.Act) string {
	switch {
	case a.Edge == "head":
		return "Grow toward the start"
	case a.Do == plan.Container:
		return ofContainer[a.Act].offered
	}
	return steps[a.Do].offered
}

// Does says what the step with a number, from 1 on, does with the partition that it names.
func Does(s plan.Step, n int) string {
	w := steps[s.Do()]
	switch {
	case s.Do() == plan.StartOrder:
		return fmt.Sprintf("started by default from step %d on", n)
	case s.Do() == plan.Container:
		w = ofContainer[plan.Of[plan.Containing](s).Act]
	case s.Erases():
		w.does += " and erased"
	}
	return fmt.Sprintf("%s in step %d%s", w.does, n, w.with)
}
