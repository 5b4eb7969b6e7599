package compile

import (
	"fmt"

	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/survey"
)

// kinds are how each kind of step becomes bytes: what it stands in is the file of its name. Those that change
// nothing on the drive have nothing to do here.
var kinds = map[plan.Do]compiler{
	plan.Absorb:         absorb,
	plan.BringBack:      scripted(bringBack),
	plan.Clear:          scripted(clearDrive),
	plan.Container:      scripted(container),
	plan.CopyBack:       copyBack,
	plan.CopyOut:        acrossIfAny,
	plan.Create:         scripted(create),
	plan.Delete:         scripted(remove),
	plan.DropStartEntry: nothing,
	plan.Grow:           scripted(growOrSlide),
	plan.Label:          scripted(relabel),
	plan.Letter:         nothing,
	plan.Mend:           scripted(mend),
	plan.NoteIdentity:   nothing,
	plan.ParkRecovery:   acrossIfAny,
	plan.Rebuild:        scripted(create),
	plan.Restart:        nothing,
	plan.Retag:          scripted(retag),
	plan.Shrink:         scripted(shrink),
	plan.Slide:          scripted(slid),
	plan.StartOrder:     nothing,
	plan.UseRecovery:    acrossIfAny,
}

// Step returns the script of a column without obstacles.
func Step(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
	compiled := kinds[col.Step.Do()]
	if compiled == nil {
		return Done{}, fmt.Errorf("%w: %q", ErrCannot, col.Step.Do())
	}
	return compiled(sv, col, g)
}

// compiler makes the bytes of one kind of step.
type compiler func(sv *survey.Survey, col plan.Column, g Given) (Done, error)

// scripted is for a step with which no files come in.
func scripted(of func(*survey.Survey, plan.Column, Given) (script.Script, error)) compiler {
	return func(sv *survey.Survey, col plan.Column, g Given) (Done, error) {
		s, err := of(sv, col, g)
		return Done{Script: s}, err
	}
}

// nothing is for a step that is about the PC, or the trail.
func nothing(*survey.Survey, plan.Column, Given) (Done, error) { return Done{}, nil }
