package plan

import (
	"fmt"
	"slices"
	"strings"

	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Deletion is what is said of a partition that goes.
type Deletion struct {
	Release string `json:"release,omitempty"` // why the protection is lifted
	Waiver  string `json:"waiver,omitempty"`  // why it goes without a backup
	Erase   bool   `json:"erase,omitempty"`   // its place is overwritten
	Backups string `json:"backups,omitempty"` // of one that is erased: kept, or with "delete" taken away too
}

func (Deletion) Do() Do { return Delete }

func (b Deletion) reasons() (release, waiver string) { return b.Release, b.Waiver }

func (b Deletion) withReasons(release, waiver string) Body {
	b.Release, b.Waiver = release, waiver
	return b
}

// deletion takes a partition out of the table, and may overwrite its place.
var deletion = kind{
	blank: Deletion{},
	valid: validDelete, lay: layDelete, deletes: true, counted: priceOfDelete,
	// That another entry is broken stands against changing it, not against taking this one out.
	despite: func(stands *Obstacle, f Facts) bool {
		return f.entries.text != "" && stands.Text == f.entries.obstacle().Text
	},
}

func validDelete(s Step) error {
	step := Of[Deletion](s)
	if err := s.named(); err != nil {
		return err
	}
	if step.Backups != "" && step.Backups != "keep" && step.Backups != "delete" {
		return fmt.Errorf("backups is %q, not keep or delete", step.Backups)
	}
	return nil
}

// Erases tells that the step overwrites the place of what it deletes.
func (s Step) Erases() bool { return Of[Deletion](s).Erase }

// DeletesJust tells that the step deletes one partition, the named one.
func (s Step) DeletesJust(partition string) bool { return s.Do() == Delete && s.Partition == partition }

// wipes tells that the step takes a partition's backups away with it.
func (s Step) wipes() bool { b := Of[Deletion](s); return b.Erase && b.Backups == "delete" }

func layDelete(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title, c.Detail = "Delete "+p.Title(), "kept as record"
	if Of[Deletion](c.Step).Erase {
		c.Title, c.Detail = "Delete and erase "+p.Title(), "overwritten; the record keeps no contents"
	}
	if o := AgainstDeleting(l, p, f); o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	c.Missing = missing(c, p, f)
	leaves(c, p, f)
	c.Layout = l.With(slices.DeleteFunc(l.Partitions(), func(s layout.Span) bool { return s.Number == p.Number }))
}

func priceOfDelete(sum *tally, c Column, was *layout.Span, _ *layout.Layout) {
	if was == nil {
		return
	}
	sum.gone(was)
	if Of[Deletion](c.Step).Erase {
		sum.Zeroed += was.Bytes
	}
}

// leaves tells what a deletion means for the PC: a system that goes leaves the start
// order first, and a recovery environment goes with its partition.
func leaves(c *Column, p *layout.Span, f Facts) {
	if f.PC == nil {
		return
	}
	c.PC = f.PC.Gone(p.UniqueID)
	if f.PC.InOrder(p.UniqueID) {
		c.Notes = append(c.Notes, *NewObstacle(
			StartEntryLeft,
			fmt.Sprintf("The PC offers to start %s. It leaves the start order before it is deleted.", p.Title()),
			p.Number,
		))
	}
	if r := f.PC.Recovery; r != nil && r.InUse && strings.EqualFold(r.Partition, p.UniqueID) {
		text := fmt.Sprintf(
			"The PC's recovery environment is in use from %s. Keep a copy of it first, or the PC is without one.", p.Title(),
		)
		c.Notes = append(c.Notes, *NewObstacle(RecoveryInUse, text, p.Number).ClearedBy("park-recovery"))
	}
}

// AgainstDeleting says why a partition cannot be deleted at all, or nil.
func AgainstDeleting(l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	if f.entries.of(p.Number) { // whatever else is wrong, it may go
		f.entries = entries{}
	}
	if o := AgainstAll(f); o != nil {
		return o
	}
	switch {
	case f.Shelved[p.Number] != "":
		return keepsBackups(p, f)
	case p.Role == layout.StartSystem:
		return NewObstacle(IsStart, "The PC starts this system. Name another start system first.", p.Number).ClearedBy("start-order")
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return NewObstacle(
			SetMember, "It belongs to a set of several drives; without the others nobody can say what would be lost.",
			p.Number,
		)
	case p.Held != "":
		return heldOpen(p)
	case p.Role == layout.Container:
		for _, q := range l.Partitions() {
			if q.Container == p.Number {
				return NewObstacle(
					HasVolumes, "It holds logical volumes. Delete them first, each by itself.",
					InsideOf(l, p.Number)...,
				).ClearedBy("delete")
			}
		}
	case p.Role == layout.EFI && f.StartsHere:
		if !slices.ContainsFunc(l.Partitions(), func(q layout.Span) bool { return q.Role == layout.EFI && q.Number != p.Number }) {
			return NewObstacle(
				OnlyEFI,
				"It is the only EFI partition of the drive that the PC starts from. Without it the PC cannot start.",
				p.Number,
			)
		}
	case p.Active && f.StartsHere:
		return NewObstacle(
			OnlyEFI,
			"It is the active partition of the drive that the PC starts from. Without it the PC cannot start.",
			p.Number,
		)
	}
	return nil
}

// MayDelete tells whether a partition of the layout could be deleted, whatever the
// gate still asks for.
func MayDelete(l *layout.Layout, number int, f Facts) bool {
	f.entries = brokenEntries(l)
	p, ok := l.Find(number)
	return ok && AgainstDeleting(l, p, f) == nil
}
