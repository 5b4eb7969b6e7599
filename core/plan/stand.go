package plan

import (
	"fmt"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
)

// Stand is what has become, in its former place, of what a partition had in use when it was deleted or
// lost.
type Stand struct {
	Used      disk.Bytes `json:"used_bytes"`
	Untouched disk.Bytes `json:"untouched_bytes"`
	Taken     disk.Bytes `json:"taken_bytes"`
	Unknown   disk.Bytes `json:"unknown_bytes"`
	// Returns is how much the record kept that the place does not hold any more, and that is put
	// back; it counts as untouched.
	Returns disk.Bytes `json:"returned_bytes,omitempty"`
	// Whole tells that nobody knows what was in use: all of the place counts as if it had been.
	Whole bool `json:"whole,omitempty"`
	// Tables is how much of what is taken was not of files: the file system's own tables, or all of
	// one that cannot be looked into.
	Tables disk.Bytes `json:"tables_bytes,omitempty"`
	// Wrong are the files in whose place something else lies; Doubted is of how many nobody knows.
	Wrong   []string `json:"wrong,omitempty"`
	Doubted int      `json:"doubted,omitempty"`
	// Partly tells that not all of its files could be listed.
	Partly bool `json:"partly,omitempty"`
}

// Words says which share is as it was.
func (s *Stand) Words() string {
	var text string
	switch of := "that were in use"; {
	case s.Used == 0:
		text = "nothing of it was in use"
	case s.Taken == 0 && s.Unknown == 0:
		text = fmt.Sprintf("all of the %s %s untouched, as far as is known here", s.Used, of)
	default:
		if s.Whole {
			of = "of its place, of which nobody knows what was in use"
		}
		text = fmt.Sprintf(
			"of the %s %s, %s untouched, %s taken by something else, %s unknown", s.Used, of, s.Untouched, s.Taken,
			s.Unknown,
		)
	}
	if s.Returns > 0 {
		text += fmt.Sprintf("; %s that the record kept put back", s.Returns)
	}
	return text
}

// Damage is why a partition that comes back needs a reason, nil where nothing of it is known to be gone.
func (s *Stand) Damage(p *layout.Span) *Obstacle {
	hurt := s.hurt(p)
	if hurt == "" {
		return nil
	}
	return NewObstacle(DamageMissing, hurt+" To bring it back all the same, say why.", p.Number).ClearedBy("damaged")
}

// hurt says what of a partition does not come back as it was, "" where nothing is known to be missing.
func (s *Stand) hurt(p *layout.Span) string {
	if s.Taken == 0 {
		return ""
	}
	text := fmt.Sprintf(
		"%s does not come back whole: in place of %s of the %s that it had in use something else lies, or was written.",
		p.Title(), s.Taken, s.Used,
	)
	switch n := len(s.Wrong); {
	case n == 1:
		text += fmt.Sprintf(" 1 file has wrong contents then: %s.", s.Wrong[0])
	case n > 1:
		text += fmt.Sprintf(" %d files have wrong contents then: %s.", n, few(s.Wrong))
	}
	if s.Tables > 0 {
		switch {
		case p.Volume == nil || s.Tables == s.Taken && len(s.Wrong) == 0 && s.Doubted == 0 && !opens(p):
			text += " It cannot be looked into, so that nobody knows what that was."
		default:
			text += fmt.Sprintf(
				" %s of that were tables of its file system, so that it may not open, or not show all of its files.",
				s.Tables,
			)
		}
	}
	if s.Partly {
		text += " Not all of its files could be listed."
	}
	return text
}

// opens tells that a volume's files can be listed.
func opens(p *layout.Span) bool { return p.Volume != nil && p.Volume.ClusterBytes > 0 }

// few are names, as many as can be read.
func few(names []string) string {
	const most = 20
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// accepted asks for a reason where a partition comes back damaged, and notes what is to be known of it.
func accepted(c *Column, p *layout.Span, s *Stand) {
	if o := s.Damage(p); o != nil && strings.TrimSpace(Of[BringingBack](c.Step).Damaged) == "" {
		c.Missing = append(c.Missing, *o)
	} else if o != nil {
		c.Notes = append(c.Notes, *NewObstacle(WrongContents, s.hurt(p), p.Number))
	}
	if s.Unknown > 0 {
		text := fmt.Sprintf("Of %s that %s had in use nobody knows whether they are as they were", s.Unknown, p.Title())
		if s.Whole {
			text = fmt.Sprintf(
				"Of %s in the place of %s nobody knows whether they are as they were", s.Unknown, p.Title(),
			)
		}
		if s.Doubted == 1 {
			text += "; 1 file lies there"
		} else if s.Doubted > 1 {
			text += fmt.Sprintf("; %d files lie there", s.Doubted)
		}
		c.Notes = append(c.Notes, *NewObstacle(NotKnown, text+". Look at them once it is back.", p.Number))
	}
}

// Damage is why the gate asks for a reason to bring a partition back damaged, nil where it does not.
func (c *Column) Damage() *Obstacle {
	for i := range c.Missing {
		if c.Missing[i].Code == DamageMissing {
			return &c.Missing[i]
		}
	}
	return nil
}
