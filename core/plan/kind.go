package plan

import (
	"fmt"
	"maps"
	"slices"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// kind is one kind of step: all that a plan knows of it and of no other. Each kind has a file of its name, in
// which it stands as a variable, and is registered in kinds. What a kind leaves out does not hold for it.
type kind struct {
	// blank is the body of a step of the kind that says nothing.
	blank Body
	// valid says what is wrong with the words of a step, before any drive is looked at.
	valid func(s Step) error
	// lay works out what a step leads to on a drive that is laid out as l, and tells it to the column. p is the
	// partition that the step names, nil where it is about none.
	lay func(c *Column, l *layout.Layout, p *layout.Span, f Facts)
	// whole tells that a step is about no single partition: about a gap, the drive or its PC.
	whole func(s Step) bool
	// despite tells that what stands against every change of the drive is not in the way of this one.
	despite func(stands *Obstacle, f Facts) bool
	// ofThePC tells that it is about the drive's PC: it may name a partition that nothing else may touch.
	ofThePC bool
	// tableOnly tells that it writes to the partition table alone, or to no drive at all.
	tableOnly bool
	// deletes tells that a partition, or more than one, is gone after it.
	deletes bool
	// makes tells that it makes a partition, by whose number later steps can call it.
	makes bool
	// fills is the partition that it puts something of somebody's into, 0 for none.
	fills func(c *Column) int
	// over tells that it writes into places that were free, where what was deleted before may lie.
	over func(c Column) bool
	// counted adds to a plan's price what counts even where the step cannot be done. was is the partition as it
	// was before, nil where there was none.
	counted func(sum *tally, c Column, was *layout.Span, before *layout.Layout)
	// priced adds what else is only this kind's.
	priced func(sum *tally, c Column, was *layout.Span, before *layout.Layout)
	// rewrites is about how much is written that moves a volume or changes its size.
	rewrites func(c Column, was, is *layout.Span) disk.Bytes
	// copies is about how much comes into the partition is from elsewhere; is may be nil.
	copies func(c Column, is *layout.Span, before *layout.Layout, f Facts) disk.Bytes
}

// kinds are all kinds of steps. They are entered when the program starts, because what lays one asks of others.
var kinds map[Do]*kind

func init() {
	kinds = map[Do]*kind{}
	for _, k := range []*kind{
		&absorbing, &bringingBack, &clearing, &containing, &copyingBack, &copyingOut, &creation, &deletion,
		&droppingStartEntry, &growth, &labelling, &lettering, &mending, &notingIdentity, &parking, &rebuilding,
		&restarting, &retagging, &shrinking, &sliding, &ordering, &usingRecovery,
	} {
		kinds[k.blank.Do()] = k
	}
}

// Kinds are all kinds of steps that can be carried out, in the order of their names.
func Kinds() []Do { return slices.Sorted(maps.Keys(kinds)) }

// kind is what kind a step is; one that nobody knows does nothing.
func (s Step) kind() *kind {
	if k := kinds[s.Do()]; k != nil {
		return k
	}
	return &kind{}
}

// always is for a kind of which something holds for every step.
func always(Step) bool { return true }

// named refuses a step that names no partition.
func (s Step) named() error {
	if s.Partition == "" {
		return fmt.Errorf("%s names no partition", s.Do())
	}
	return nil
}

// Deletes tells whether a partition, or more than one, is gone after the step.
func (s Step) Deletes() bool { return s.kind().deletes }

// Writes tells whether a step writes to more of a drive than its table.
func (s Step) Writes() bool { return !s.kind().tableOnly }
