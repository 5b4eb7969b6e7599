package main

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
)

func bringBackCmd() *cobra.Command {
	var p places
	var asJSON, all bool
	var record, pcPath, damaged, serial string
	var find, told int64
	c := &cobra.Command{Use: "bring-back (--record ID | --find START_LBA [--told BYTE] | --all) [--damaged REASON] [--serial LAST4] [--runs DIR] [--shelf DIR] [--trail FILE] IMAGE", Short: "Bring a deleted or lost partition back: from its record, or as a search finds it", Args: oneArg("image"),
		RunE: func(cmd *cobra.Command, args []string) error {
			named := 0
			for _, is := range []bool{record != "", find != 0, all} {
				if is {
					named++
				}
			}
			if named != 1 {
				return errUse{errors.New("name the record with --record, the first sector of what a search has found with --find, or --all that is surely or likely lost")}
			}
			o, im, err := p.options(args[0], pcPath, true)
			if err != nil {
				return err
			}
			defer im.Close()
			var steps []plan.Step
			switch {
			case record != "":
				_, _, err = o.Records.Load(record)
				steps = []plan.Step{{Body: plan.BringingBack{Record: record}}}
			case all:
				steps, err = allLost(cmd.Context(), &o, im)
			default:
				steps, err = oneLost(cmd.Context(), &o, im, disk.LBA(find), disk.Bytes(told))
			}
			if err != nil {
				return err
			}
			for i := range steps {
				steps[i] = steps[i].Accepting(damaged)
			}
			o.Plan, o.Serial = &plan.Plan{Version: 1, Steps: steps}, serial
			return carryOut(cmd.Context(), o, asJSON)
		}}
	p.flags(c, "runs", "shelf", "trail", "who")
	c.Flags().BoolVar(&asJSON, "json", false, "for programs")
	c.Flags().BoolVar(
		&all, "all", false, "all that a search finds, sure or likely; a table is made where there is none",
	)
	c.Flags().Int64Var(
		&told, "told", -1,
		"byte of the drive at which that lies which tells of the find, where several begin at one sector",
	)
	c.Flags().StringVar(
		&damaged, "damaged", "", "why it comes back although something else lies in place of some of it",
	)
	c.Flags().StringVar(
		&serial, "serial", "", "the last four characters of the drive's serial number, where a table is made",
	)
	c.Flags().StringVar(&record, "record", "", "record of the deletion")
	c.Flags().Int64Var(&find, "find", 0, "first sector of what a search has found")
	c.Flags().StringVar(&pcPath, "pc", "", "facts about the PC")
	return c
}

// oneLost are the steps that bring one find back: on a drive without a table, that is made first.
func oneLost(ctx context.Context, o *run.Options, im *disk.Image, start disk.LBA, told disk.Bytes) ([]plan.Step, error) {
	step, err := findAt(ctx, o, im, start, told)
	if err != nil {
		return nil, err
	}
	sv, err := survey.Read(im, o.PC)
	if err != nil {
		return nil, err
	}
	steps := []plan.Step{step}
	f, err := facts.Gather(o.Sources, sv, steps)
	if err != nil {
		return nil, err
	}
	return append(plan.TableFirst(sv.Layout, f, []layout.Span{f.Finds[start].Span}), step), nil
}

// allLost are the steps that bring back all that a search through the whole drive finds, sure or likely.
func allLost(ctx context.Context, o *run.Options, im *disk.Image) ([]plan.Step, error) {
	sv, err := survey.Read(im, o.PC)
	if err != nil {
		return nil, err
	}
	s, err := searched(ctx, im, sv, o.Records, o.Identity.Serial, true, func([]seek.Find) bool { return false })
	if err != nil {
		return nil, err
	}
	o.Seen = seen(s)
	var steps []plan.Step
	for _, f := range s.Finds() {
		if !f.Ghost && f.Confidence != seek.Doubtful {
			steps = append(steps, plan.Step{Body: plan.BringingBack{Find: f.Start, Told: f.At}})
		}
	}
	if len(steps) == 0 {
		return nil, errNoFind
	}
	f, err := facts.Gather(o.Sources, sv, steps)
	if err != nil {
		return nil, err
	}
	back, no := plan.AllBack(sv.Layout, f, steps)
	if len(no) > 0 {
		return nil, &rehearse.Blocked{Obstacles: no}
	}
	return back.Steps, nil
}
