package plan

import (
	"errors"
	"fmt"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/volume"
)

// rebuilding makes a partition as a record has it, empty.
var rebuilding = kind{
	valid: validRebuild, lay: layRebuild, amount: bySize, whole: always, makes: true, fills: itself, copies: filledFrom, priced: priceOfMaking,
}

func validRebuild(s Step) error {
	if s.Record == "" {
		return errors.New("rebuild names no record")
	}
	if s.Size != "" {
		_, err := disk.ParseAmount(s.Size, 1<<60)
		return err
	}
	return validFolder(s.Folder)
}

// layRebuild makes a partition again as a record has it: with the type, attributes, name and
// label that it had, at the wanted size, and empty.
func layRebuild(c *Column, l *layout.Layout, _ *layout.Span, f Facts) {
	c.Title = "Rebuild"
	r, o := f.record(c.Step.Record)
	if o != nil {
		c.Obstacles = append(c.Obstacles, *o)
		return
	}
	s := Again(l, &r.Span)
	s.Do, s.Record, s.As = Rebuild, c.Step.Record, c.Step.As
	if c.Step.Size != "" {
		s.Size = c.Step.Size
	}
	s.StartLBA = c.Step.StartLBA
	c.Step = s
	layCreate(c, l, nil, f)
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

// Again is the step that makes a partition like one that was, empty.
func Again(l *layout.Layout, p *layout.Span) Step {
	s := Step{
		Do: Create, Size: fmt.Sprintf("%d B", p.Bytes), Type: p.TypeID, Format: "none", Name: p.Name,
		Attributes: p.Attributes,
	}
	if p.Volume != nil {
		s.Label, s.Format = p.Volume.Label, "ntfs"
		if p.Volume.Kind == volume.FAT32 {
			s.Format = "fat32"
		}
	}
	if l.Scheme == "mbr" {
		s.Name, s.Attributes = "", ""
	}
	if p.TypeID == "" || (len(p.TypeID) == 2) != (l.Scheme == "mbr") { // it was on a table of the other kind
		s.Type = typeOfRole[p.Role]
		if s.Type == "" {
			s.Type = "basic"
		}
	}
	return s
}
