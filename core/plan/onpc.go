package plan

import (
	"fmt"
	"strconv"
	"strings"

	"jadetrail/core/layout"
)

// unknownPC is what stands against a step about a PC of which nothing is known.
func unknownPC(f Facts, n ...int) *Obstacle {
	if f.PC != nil {
		return nil
	}
	return NewObstacle(
		NoPC, "It is a matter of the PC, and the facts about this drive's PC are not known. Read them in.", n...,
	).ClearedBy("read-facts")
}

// byID finds a partition by its unique id.
func byID(l *layout.Layout, id string) (layout.Span, bool) {
	for _, p := range l.Partitions() {
		if id != "" && strings.EqualFold(p.UniqueID, id) {
			return p, true
		}
	}
	return layout.Span{}, false
}

func sentence(err error) string {
	s := err.Error()
	return strings.ToUpper(s[:1]) + s[1:] + "."
}

// ofThePC lists the acts that are about the PC, for the partitions that they concern.
func ofThePC(l *layout.Layout, p *layout.Span, f Facts) []Act {
	var out []Act
	if p.Role == layout.Recovery || f.PC != nil && f.PC.Recovery != nil && strings.EqualFold(f.PC.Recovery.Partition, p.UniqueID) {
		park := Act{Do: ParkRecovery}
		if _, to, o := mayPark(l, f); o != nil {
			park.Obstacle = o
		} else if !strings.EqualFold(f.PC.Recovery.Partition, p.UniqueID) {
			park.Obstacle = NewObstacle(NotParked, "The PC's recovery environment lies in another partition.", p.Number)
		} else {
			park.Note = fmt.Sprintf(
				"It is copied into a folder of %s, and can be taken back into use from there.", to.Title(),
			)
		}
		c := Column{Step: Step{Partition: strconv.Itoa(p.Number), Body: UsingRecovery{}}}
		use := Act{Do: UseRecovery, Obstacle: useRecovery(&c, l, p, f)}
		if use.Obstacle == nil {
			use.Note = strings.ToUpper(c.Detail[:1]) + c.Detail[1:] + "."
		}
		out = append(out, park, use)
	}
	if p.Role == layout.StartSystem || p.Role == layout.OtherSystem {
		c := Column{Step: Step{Partition: strconv.Itoa(p.Number), Body: Ordering{}}}
		first := Act{Do: StartOrder, Obstacle: startOrder(&c, l, p, f)}
		switch {
		case first.Obstacle != nil:
		case f.PC.Starts(p.UniqueID):
			first.Note = fmt.Sprintf("The PC starts it by default; the boot menu waits %d s.", f.PC.Wait)
		default:
			first.Note = fmt.Sprintf(
				"It becomes the system that the PC starts by default. The boot menu waits %d s.", f.PC.Wait,
			)
		}
		drop := Act{Do: DropStartEntry, Obstacle: mayDrop(p, f)}
		if drop.Obstacle == nil {
			drop.Note = "The PC no longer offers to start it. Its files stay."
		}
		out = append(out, first, drop)
	}
	return append(out, Act{Do: NoteIdentity, Note: "What tells it from all others goes into the trail as it is now."})
}

// noPartition tells that a step about the PC names none.
func noPartition(s Step) bool { return s.Partition == "" }

// onPC makes a way of laying a step about the PC of one that says what stands against it.
func onPC(lay func(*Column, *layout.Layout, *layout.Span, Facts) *Obstacle) func(*Column, *layout.Layout, *layout.Span, Facts) {
	return func(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
		if o := lay(c, l, p, f); o != nil {
			c.Obstacles = append(c.Obstacles, *o)
		}
	}
}
