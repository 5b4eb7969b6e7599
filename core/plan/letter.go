package plan

import (
	"fmt"

	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/volume"
)

// Lettering is what is said of a volume that gets another letter.
type Lettering struct {
	Letter string `json:"letter,omitempty"` // "" for none
}

func (Lettering) Do() Do { return Letter }

// lettering gives a volume another letter in the PC, or none.
var lettering = kind{blank: Lettering{}, valid: validLetter, lay: onPC(newLetter), ofThePC: true, tableOnly: true}

func validLetter(s Step) error {
	step := Of[Lettering](s)
	if err := s.named(); err != nil {
		return err
	}
	if step.Letter != "" && !pc.Letter(step.Letter) {
		return fmt.Errorf("%q is not a letter from A to Z", step.Letter)
	}
	return nil
}

func newLetter(c *Column, l *layout.Layout, p *layout.Span, f Facts) *Obstacle {
	step := Of[Lettering](c.Step)
	c.Title = "Give " + p.Title() + " the letter " + step.Letter + ":"
	if step.Letter == "" {
		c.Title = "Take the letter of " + p.Title() + " away"
	}
	if o := unknownPC(f, p.Number); o != nil {
		return o
	}
	if o := heldOpen(p); o != nil {
		return o
	}
	facts := f.PC
	if _, id, taken := facts.Holder(step.Letter); taken && f.names != nil && f.names.left[id] { // it takes the place of one that the plan deletes
		facts, _ = facts.WithLetter(id, "")
	}
	after, err := facts.WithLetter(p.UniqueID, step.Letter)
	if err != nil {
		return NewObstacle(LetterTaken, sentence(err), p.Number).ClearedBy("letter")
	}
	parts := l.Partitions()
	for i := range parts {
		if parts[i].Number == p.Number {
			parts[i].Letter = step.Letter
		}
	}
	c.PC, c.Layout = after, l.With(parts)
	c.Detail = "people see it under " + step.Letter + ":"
	if step.Letter == "" {
		c.Detail = "people do not see it then"
	}
	return nil
}

func letter(l *layout.Layout, p *layout.Span, f Facts) Act {
	a := Act{Do: Letter}
	switch {
	case p.Role == layout.Container || p.Role == layout.Reserved || p.Role == layout.EFI:
		a.Obstacle = NewObstacle(NoVolume, "It is not for people's files; it has no letter.", p.Number)
	case p.Volume == nil || sealedWhole(p) != nil || !getsLetter(p.Volume.Kind):
		a.Obstacle = NewObstacle(
			NoVolume, "It holds no file system to which a PC of this kind gives a letter.", p.Number,
		)
	case f.PC == nil:
		a.Obstacle = NewObstacle(
			NoPC, "Letters belong to a PC, and the facts about this drive's PC are not known. Read them in.",
			p.Number,
		).ClearedBy("read-facts")
	case f.Lacks[p.UniqueID].Letter != "":
		m := f.Lacks[p.UniqueID]
		a.Note = fmt.Sprintf("The volume is there, only its letter %s: is missing.", m.Letter)
		if m.Holder != "" {
			a.Obstacle = NewObstacle(
				LetterTaken,
				fmt.Sprintf(
					"The volume is there and its files are too. Its letter %s: is missing, because %s has it. %s: is free; or take %s: from %s first.",
					m.Letter, m.Holder, m.Propose, m.Letter, m.Holder,
				),
				p.Number,
			).ClearedBy("letter")
		}
	case f.Removable && p.Letter == "" && !first(l, p):
		a.Obstacle = NewObstacle(
			Removable,
			"The drive is a stick or card, and most PCs give a letter only to the first partition of those.",
			p.Number,
		)
	case p.Letter != "":
		a.Note = fmt.Sprintf("It has %s:. It can be changed, or taken away to hide the volume.", p.Letter)
	default:
		a.Note = "It has none, so people do not see it."
	}
	return a
}

// getsLetter tells that a PC of this kind gives volumes of the kind letters.
func getsLetter(k volume.Kind) bool {
	return k.IsFAT() || k == volume.NTFS || k == volume.ExFAT || k == volume.ReFS
}
