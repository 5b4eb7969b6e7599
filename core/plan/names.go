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
	for _, at := range []*string{&s.Partition, &s.Into, &s.Volume} {
		if number, ok := n.parts[*at]; ok {
			*at = number
		}
	}
	return s
}

// note keeps the names that a step gives.
func (n *names) note(s Step, c *Column) {
	if s.As == "" {
		return
	}
	switch {
	case c.Hold != nil:
		n.holds[s.As] = c.Hold
	case s.Do == CopyOut:
		n.backups[s.As] = shelved{c.Backup, c.Waits}
	case s.kind().makes:
		n.parts[s.As] = strconv.Itoa(c.Number)
	}
}
