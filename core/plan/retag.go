package plan

import (
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"

	"jadetrail/core/layout"
	"jadetrail/core/table"
	"jadetrail/core/volume"
)

// Retagging is what the table is to say of a partition; what is left out stays as it is.
type Retagging struct {
	Release    string `json:"release,omitempty"` // why the protection is lifted
	Type       string `json:"type,omitempty"`    // a word or an id
	Name       string `json:"name,omitempty"`
	Attributes string `json:"attributes,omitempty"` // in hex
	Active     *bool  `json:"active,omitempty"`     // on an MBR, nil for as it is
}

func (Retagging) Do() Do { return Retag }

func (b Retagging) reasons() (release, waiver string) { return b.Release, "" }

func (b Retagging) withReasons(release, _ string) Body {
	b.Release = release
	return b
}

// retagging gives a partition another type, name, attributes or active flag in the table.
var retagging = kind{blank: Retagging{}, valid: Step.validRetag, lay: layRetag, tableOnly: true}

// validRetag checks the words of a step that changes what the table says of a partition.
func (s Step) validRetag() error {
	step := Of[Retagging](s)
	switch {
	case s.Partition == "":
		return errors.New("retag names no partition")
	case step.Type == "" && step.Attributes == "" && step.Name == "" && step.Active == nil:
		return errors.New("retag changes nothing: it has no type, attributes, name or active")
	case len(utf16.Encode([]rune(step.Name))) > 36:
		return fmt.Errorf("the name has %d letters; 36 fit", len(utf16.Encode([]rune(step.Name))))
	case len(step.Type) > 36:
		return fmt.Errorf("%q is not a type", step.Type)
	}
	if step.Attributes != "" {
		if _, err := strconv.ParseUint(strings.TrimPrefix(step.Attributes, "0x"), 16, 64); err != nil {
			return fmt.Errorf("attributes are %q, not a number in hex", step.Attributes)
		}
	}
	return nil
}

// typeFor is the id of a type that a plan names by a word or by its id, on a table of the
// given scheme; "" when there is none.
func typeFor(scheme, typ string) (id string, role layout.Role, known bool) {
	if k, word := typeIDs[typ]; word {
		id = k[0]
		if scheme == "mbr" {
			id = k[1]
		}
		return id, roleOf[typ], id != ""
	}
	id = strings.ToLower(typ)
	for word, k := range typeIDs {
		if k[0] == id || k[1] == id {
			role = roleOf[word]
		}
	}
	raw, err := hex.DecodeString(strings.ReplaceAll(id, "-", ""))
	fits := err == nil && (scheme == "mbr" && len(raw) == 1 && len(id) == 2 || scheme != "mbr" && len(raw) == 16 && len(id) == 36)
	return id, role, fits && slices.ContainsFunc(raw, func(b byte) bool { return b != 0 })
}

// layRetag changes what the table says of a partition; what it holds stays as it is.
func layRetag(c *Column, l *layout.Layout, p *layout.Span, f Facts) {
	c.Title = "Change the table entry of " + p.Title()
	q, said, o := retagged(c.Step, l, p)
	if o == nil {
		o = againstRetag(c.Step, l, p, &q, f)
	}
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	missing := []*Obstacle{notReleased(p, c.Step, f), needsLead(c, p, f)}
	if q.TypeID != p.TypeID && guarded(q.Role) && personal(p, f) {
		missing = append(missing, c.asks(p, LiftType, f))
	}
	for _, m := range missing {
		if m != nil {
			c.Missing = append(c.Missing, *m)
		}
	}
	a, _ := strconv.ParseUint(strings.TrimPrefix(q.Attributes, "0x"), 16, 64)
	q.Protected = guarded(q.Role) && q.Role != layout.Swap ||
		l.Scheme != "mbr" && a&(table.AttrRequired|table.AttrReadOnly) != 0
	parts := l.Partitions()
	parts[slices.IndexFunc(parts, func(x layout.Span) bool { return x.Number == p.Number })] = q
	c.Detail, c.Layout = strings.Join(said, ", "), l.With(parts)
}

// retagged is a partition as a step has the table say it, and what that changes in words.
func retagged(s Step, l *layout.Layout, p *layout.Span) (q layout.Span, said []string, o *Obstacle) {
	step := Of[Retagging](s)
	q = *p
	if step.Type != "" {
		id, role, ok := typeFor(l.Scheme, step.Type)
		if !ok {
			text := fmt.Sprintf("A table of kind %s has no type %q.", l.Scheme, step.Type)
			return q, nil, NewObstacle(BadAmount, text, p.Number)
		}
		q.TypeID, q.TypeName = id, table.TypeName(id)
		switch {
		case role != "":
			q.Role = role
		case p.Role != layout.StartSystem && p.Role != layout.OtherSystem:
			q.Role = layout.Data
		}
		said = append(said, "type "+strings.TrimSpace(q.TypeName+" "+id))
	}
	if step.Attributes != "" {
		a, _ := strconv.ParseUint(strings.TrimPrefix(step.Attributes, "0x"), 16, 64)
		q.Attributes = fmt.Sprintf("0x%016x", a)
		said = append(said, "attributes "+q.Attributes)
	}
	if step.Name != "" {
		q.Name = step.Name
		said = append(said, fmt.Sprintf("name %q", q.Name))
	}
	if step.Active != nil {
		q.Active = *step.Active
		if q.Active {
			said = append(said, "active")
		} else {
			said = append(said, "not active")
		}
	}
	return q, said, nil
}

// againstRetag is what stands against having the table say of p that it is q, nil for nothing.
func againstRetag(s Step, l *layout.Layout, p, q *layout.Span, f Facts) *Obstacle {
	step := Of[Retagging](s)
	switch {
	case p.Role == layout.Container:
		return NewObstacle(HasVolumes, "It is a container: its type says where its volumes are found.", p.Number)
	case p.Held != "":
		return heldOpen(p)
	case p.Member || p.Volume != nil && p.Volume.Kind == volume.Member:
		return sealedWhole(p)
	case l.Scheme == "mbr" && (step.Name != "" || step.Attributes != ""):
		return NewObstacle(BadAmount, "A table of kind mbr keeps no names and no attributes.", p.Number)
	case l.Scheme != "mbr" && step.Active != nil:
		return NewObstacle(
			BadAmount, "Active is a flag of an MBR; a PC starts a GPT drive from its EFI partition.", p.Number,
		)
	}
	if o := againstActive(l, p, q, f); o != nil {
		return o
	}
	if o := againstType(l, p, q, f); o != nil {
		return o
	}
	if q.TypeID == p.TypeID && q.Attributes == p.Attributes && q.Name == p.Name && q.Active == p.Active {
		return NewObstacle(NothingToDo, "The table says so already.", p.Number)
	}
	return nil
}

// againstActive is what stands against giving or taking the flag of the active partition.
func againstActive(l *layout.Layout, p, q *layout.Span, f Facts) *Obstacle {
	if p.Active && !q.Active && f.StartsHere {
		return NewObstacle(
			OnlyEFI,
			"It is the active partition of the drive that the PC starts from. Without it the PC cannot start.",
			p.Number,
		)
	}
	if !q.Active || p.Active {
		return nil
	}
	if p.Container != 0 {
		return NewObstacle(BadAmount, "A logical volume cannot be active.", p.Number)
	}
	for _, x := range l.Partitions() {
		if x.Active && x.Number != p.Number {
			text := fmt.Sprintf("%s is active, and only one can be: take the flag from it first.", x.Title())
			return NewObstacle(InTheWay, text, x.Number).ClearedBy("retag")
		}
	}
	return nil
}

// againstType is what stands against another type.
func againstType(l *layout.Layout, p, q *layout.Span, f Facts) *Obstacle {
	if q.TypeID == p.TypeID {
		return nil
	}
	if p.Role == layout.StartSystem && q.Role != layout.StartSystem {
		text := "The PC starts this system: of another type it would not be found."
		return NewObstacle(IsStart, text, p.Number).ClearedBy("start-order")
	}
	another := func(x layout.Span) bool { return x.Role == layout.EFI && x.Number != p.Number }
	if p.Role == layout.EFI && f.StartsHere && !slices.ContainsFunc(l.Partitions(), another) {
		return NewObstacle(
			OnlyEFI,
			"It is the only EFI partition of the drive that the PC starts from. Of another type the PC would not find it.",
			p.Number,
		)
	}
	return nil
}
