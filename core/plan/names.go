package plan

import (
	"strconv"

	"jadetrail/core/disk"
)

// shelved are files that a step copies out to the shelf: the backup, "" while there is none,
// and about how much room they take.
type shelved struct {
	id    string
	bytes disk.Bytes
}

// names are what steps of a plan have been given names for: partitions by their numbers,
// and files that were copied out.
type names struct {
	parts   map[string]string
	backups map[string]shelved
	holds   map[string]*Hold
	left    map[string]bool // unique ids of what was deleted
}

func newNames() *names {
	return &names{map[string]string{}, map[string]shelved{}, map[string]*Hold{}, map[string]bool{}}
}

// resolve puts into a step what names of earlier steps stand for.
func (n *names) resolve(s Step) Step {
	if number, ok := n.parts[s.Partition]; ok {
		s.Partition = number
	}
	if b, ok := s.Body.(referring); ok {
		if number, known := n.parts[b.refers()]; known {
			s.Body = b.referringTo(number)
		}
	}
	return s
}

// note keeps the names that a step gives.
func (n *names) note(s Step, c *Column) {
	as := s.As()
	if as == "" {
		return
	}
	switch {
	case c.Hold != nil:
		n.holds[as] = c.Hold
	case s.Do() == CopyOut:
		n.backups[as] = shelved{c.Backup, c.Waits}
	case s.kind().makes:
		n.parts[as] = strconv.Itoa(c.Number)
	}
}
