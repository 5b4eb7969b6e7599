package plan

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"

	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Labelling is what is said of a volume that gets another label.
type Labelling struct {
	Label string `json:"label,omitempty"` // "" for none
}

func (Labelling) Do() Do { return Label }

// labelling gives a volume another label.
var labelling = kind{blank: Labelling{}, valid: validLabel, lay: layLabel}

func validLabel(s Step) error {
	step := Of[Labelling](s)
	if err := s.named(); err != nil {
		return err
	}
	if n := len(utf16.Encode([]rune(step.Label))); n > 32 || strings.ContainsFunc(step.Label, unicode.IsControl) {
		return fmt.Errorf("the label has %d letters; 32 fit, and no signs that are not written", n)
	}
	return nil
}

// layLabel gives a volume another label, empty for none.
func layLabel(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	step := Of[Labelling](c.Step)
	c.Title = fmt.Sprintf("Label %s %q", p.Title(), step.Label)
	var o *Obstacle
	switch {
	case p.Volume == nil:
		o = NewObstacle(NoVolume, fmt.Sprintf("%s holds no volume.", p.Title()), p.Number)
	case p.Volume.Kind != volume.NTFS:
		o = NewObstacle(
			NotYet, fmt.Sprintf("%s is %s; this version labels NTFS volumes.", p.Title(), p.Volume.Kind), p.Number,
		)
	case p.Volume.Label == step.Label:
		o = NewObstacle(NothingToDo, "It has that label already.", p.Number)
	default:
		o = MayTake(p, 0)
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	parts := l.Partitions()
	for i := range parts {
		if q := &parts[i]; q.Number == p.Number {
			v := *q.Volume
			v.Label, q.Volume = step.Label, &v
		}
	}
	c.Detail, c.Layout = fmt.Sprintf("instead of %q", p.Volume.Label), l.With(parts)
}
