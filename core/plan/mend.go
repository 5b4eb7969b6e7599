package plan

import (
	"fmt"

	"jadetrail/core/layout"
)

// mending writes one copy of the table again from the other.
var mending = kind{
	valid: validMend, lay: layMend, whole: always, tableOnly: true,
	// A damaged table is what it is for.
	despite: func(*Obstacle, Facts) bool { return true },
}

func validMend(s Step) error {
	if s.Keep < 0 || s.Keep > 2 {
		return fmt.Errorf("keep is %d; a table has the copies 1 and 2", s.Keep)
	}
	return nil
}

// layMend rewrites one copy of the table from the other.
func layMend(c *Column, _ *layout.Layout, _ *layout.Span, f Facts) {
	c.Title, c.Detail = "Mend the table", "the other copy is written again"
	after := f.Mended[c.Step.Keep].Layout
	switch {
	case f.ReadOnly:
		c.Obstacles = append(c.Obstacles, *AgainstAll(f))
	case after == nil:
		text := f.MendTrouble
		if text == "" {
			text = "Both copies of the table are whole and the same: there is nothing to mend."
		}
		c.Obstacles = append(c.Obstacles, *NewObstacle(TableUnsafe, text))
	default:
		c.Layout = after
	}
}
