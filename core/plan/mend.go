package plan

import (
	"fmt"

	"jadetrail/core/layout"
)

// Mending is what is said of a table that is mended.
type Mending struct {
	Keep int `json:"keep,omitempty"` // the copy that is kept, 1 or 2; 0 for the one that is whole
}

func (Mending) Do() Do { return Mend }

// mending writes one copy of the table again from the other.
var mending = kind{
	blank: Mending{},
	valid: validMend, lay: layMend, whole: always, tableOnly: true,
	// A damaged table is what it is for.
	despite: func(*Obstacle, Facts) bool { return true },
}

func validMend(s Step) error {
	step := Of[Mending](s)
	if step.Keep < 0 || step.Keep > 2 {
		return fmt.Errorf("keep is %d; a table has the copies 1 and 2", step.Keep)
	}
	return nil
}

// layMend rewrites one copy of the table from the other.
func layMend(c *Column, _ *layout.Layout, _ *layout.Span, f Facts) {
	c.Title, c.Detail = "Mend the table", "the other copy is written again"
	after := f.Mended[Of[Mending](c.Step).Keep].Layout
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
