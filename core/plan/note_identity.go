package plan

import (
	"fmt"
	"strings"

	"jadetrail/core/layout"
)

// NotingIdentity is a partition whose identity is noted: its number says all.
type NotingIdentity struct{}

func (NotingIdentity) Do() Do { return NoteIdentity }

// notingIdentity enters in the trail what tells a partition from all others.
var notingIdentity = kind{
	blank: NotingIdentity{},
	valid: Step.named, lay: layNoteIdentity, ofThePC: true, tableOnly: true,
}

func layNoteIdentity(c *Column, l *layout.Layout, p *layout.Span, _ Facts) {
	c.Title, c.Detail, c.Layout = "Record the ids of "+p.Title(), Identity(*p), l
}

// Identity is what tells a partition from all others, in a line.
func Identity(p layout.Span) string {
	t := []string{fmt.Sprintf("partition %d, sectors %d to %d", p.Number, p.Start, p.End), "type " + p.TypeID}
	if p.UniqueID != "" {
		t = append(t, "unique id "+p.UniqueID)
	}
	t = append(t, "attributes "+p.Attributes)
	if p.Active {
		t = append(t, "active")
	}
	if p.Name != "" {
		t = append(t, fmt.Sprintf("name %q", p.Name))
	}
	if v := p.Volume; v != nil {
		t = append(t, string(v.Kind))
		if v.Label != "" {
			t = append(t, fmt.Sprintf("label %q", v.Label))
		}
		if v.Serial != "" {
			t = append(t, "serial "+v.Serial)
		}
	}
	if p.Letter != "" {
		t = append(t, "letter "+p.Letter+":")
	}
	return strings.Join(t, ", ")
}
