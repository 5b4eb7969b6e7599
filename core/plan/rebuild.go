package plan

import (
	"cmp"
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// Rebuilding is what is said of a partition that is made again as a record has it, empty.
type Rebuilding struct {
	Record   string   `json:"record,omitempty"`
	StartLBA disk.LBA `json:"start_lba,omitempty"` // 0 for where there is room
	Size     string   `json:"size,omitempty"`      // "" for the one that it had
	As       string   `json:"as,omitempty"`        // the name by which later steps speak of it
}

func (Rebuilding) Do() Do { return Rebuild }

func (b Rebuilding) record() string { return b.Record }

func (b Rebuilding) named() string { return b.As }

func (b Rebuilding) amount() string { return b.Size }

func (b Rebuilding) withAmount(text string) Body {
	b.Size = text
	return b
}

// rebuilding makes a partition as a record has it, empty.
var rebuilding = kind{
	blank: Rebuilding{},
	valid: validRebuild, lay: layRebuild, whole: always, makes: true, fills: itself, copies: filledFrom, priced: priceOfMaking,
}

func validRebuild(s Step) error {
	if Of[Rebuilding](s).Record == "" {
		return errors.New("rebuild names no record")
	}
	if Of[Rebuilding](s).Size != "" {
		_, err := disk.ParseAmount(Of[Rebuilding](s).Size, 1<<60)
		return err
	}
	return nil
}

// layRebuild makes a partition again as a record has it: with the type, attributes, name and
// label that it had, at the wanted size, and empty.
func layRebuild(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	step := Of[Rebuilding](c.Step)
	c.Title = "Rebuild"
	r, o := f.record(step.Record)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	again := Again(l, &r.Span)
	again.Size, again.StartLBA = cmp.Or(step.Size, again.Size), step.StartLBA
	again.lay(c, l, f)
	c.Title = "Rebuild " + r.Span.Title()
	if c.Layout != nil {
		c.Detail += ", with its former type"
		if l.Scheme == "gpt" {
			c.Detail += " and attributes"
		}
	}
}

// typeOfRole is the type, as a step names it, of a new partition with a role; basic for all others.
var typeOfRole = map[layout.Role]string{
	layout.EFI: "efi", layout.Reserved: "reserved", layout.Recovery: "recovery", layout.OEM: "oem",
	layout.Swap: "swap",
}

// Again is a partition like one that was, empty.
func Again(l *layout.Layout, p *layout.Span) Creation {
	again := Creation{
		Size: fmt.Sprintf("%d B", p.Bytes), Type: p.TypeID, Format: "none", Name: p.Name, Attributes: p.Attributes,
	}
	if p.Volume != nil {
		again.Label, again.Format = p.Volume.Label, "ntfs"
		if p.Volume.Kind == volume.FAT32 {
			again.Format = "fat32"
		}
	}
	if l.Scheme == "mbr" {
		again.Name, again.Attributes = "", ""
	}
	if p.TypeID == "" || (len(p.TypeID) == 2) != (l.Scheme == "mbr") { // it was on a table of the other kind
		again.Type = cmp.Or(typeOfRole[p.Role], "basic")
	}
	return again
}
