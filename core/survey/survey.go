// Package survey reads a drive: its table, what lies in each partition, what
// each is for, and what is wrong.
package survey

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/table"
	"jadetrail/core/volume"
	"jadetrail/core/volume/recognise"
)

// Survey is a drive as read, with what is needed to go on working on it.
type Survey struct {
	Layout  *layout.Layout
	Table   *table.Table
	Volumes map[int]volume.Volume // by partition number; those that can be looked into
}

// Identity of a drive, from IMAGE.drive.json beside an image that carries none
// itself.
type Identity struct {
	Model     string `json:"model"`
	Serial    string `json:"serial"`
	Removable bool   `json:"removable,omitempty"`
	// ReadOnly tells that the drive is attached for evidence; nothing on it may change.
	ReadOnly bool `json:"read_only,omitempty"`
}

// ReadIdentity reads the identity beside an image; a missing file is an empty
// identity.
func ReadIdentity(image string) (Identity, error) {
	var id Identity
	b, err := os.ReadFile(image + ".drive.json")
	if errors.Is(err, fs.ErrNotExist) {
		return id, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &id)
	}
	if err != nil {
		return id, fmt.Errorf("the drive's identity beside %s cannot be read: %w", image, err)
	}
	return id, nil
}

// Window is the part of the drive that a partition takes.
func Window(dev disk.Device, s layout.Span) *disk.Window {
	return disk.NewWindow(dev, s.Start.Offset(dev.SectorBytes()), s.Bytes)
}

// Read reads the drive. facts may be nil; without them no system is the start
// system. Only a failing device is an error; what is wrong with the drive is a
// finding.
func Read(dev disk.Device, facts *pc.Facts) (*Survey, error) {
	t, err := table.Read(dev)
	if err != nil {
		return nil, err
	}
	s := &Survey{Table: t, Volumes: map[int]volume.Volume{}}
	l := &layout.Layout{
		Scheme: string(t.Scheme), Size: dev.Size(), Sector: dev.SectorBytes(), DiskID: t.DiskID,
		FirstUsable: t.FirstUsable, LastUsable: t.LastUsable, Slots: t.Slots(), Findings: append(finding.List{}, t.Findings...),
	}
	if t.Scheme == table.None {
		l.Findings.Add(finding.Note, "no-table", "The drive has no partition table.")
	}
	last := l.Size.At(l.Sector) - 1
	var parts []layout.Span
	for _, e := range t.Entries {
		p := span(e, l.Sector)
		if t.Scheme == table.MBR {
			p.UniqueID = layout.PlaceID(t.DiskID, p.Start.Offset(l.Sector))
		}
		if e.End >= e.Start && e.End <= last && p.Role != layout.Container {
			found, err := recognise.Open(Window(dev, p))
			if err != nil {
				return nil, fmt.Errorf("partition %d: %w", e.Slot, err)
			}
			p.Volume = found.Info
			l.Findings = append(l.Findings, found.Findings.On(e.Slot)...)
			if found.Volume != nil {
				s.Volumes[e.Slot] = found.Volume
			}
		}
		s.judge(&p, e, facts)
		if f := disagreement(p); f != nil {
			l.Findings = append(l.Findings, *f)
		}
		parts = append(parts, p)
	}
	s.Layout = l.With(parts)
	return s, nil
}

func span(e table.Entry, sector disk.Bytes) layout.Span {
	return layout.Span{
		Kind: layout.Partition, Number: e.Slot, Start: e.Start, End: e.End, Bytes: max(e.Bytes(sector), 0),
		TypeID: e.TypeID, TypeName: table.TypeName(e.TypeID), UniqueID: e.UniqueID, Name: e.Name,
		Attributes: fmt.Sprintf("0x%016x", e.Attributes), Active: e.Active, Hidden: e.Hidden, Container: e.Container, Record: e.Record,
	}
}

var roles = map[string]layout.Role{
	table.TypeEFI: layout.EFI, table.TypeReserved: layout.Reserved, table.TypeRecovery: layout.Recovery,
	table.TypeOEM: layout.OEM, table.TypeOEM2: layout.OEM, table.TypeSwap: layout.Swap,
	"ef": layout.EFI, "27": layout.Recovery, "12": layout.OEM, "82": layout.Swap, "05": layout.Container, "0f": layout.Container,
	"85": layout.Container, "15": layout.Container, "1f": layout.Container,
}

var members = map[string]bool{
	table.TypeDynamic: true, table.TypeDynMeta: true, table.TypePool: true, table.TypeRAID: true, "42": true, "fd": true,
}

// judge decides what a partition is for: by its type, its attributes, what lies
// in it, and the PC's facts.
func (s *Survey) judge(p *layout.Span, e table.Entry, facts *pc.Facts) {
	role, known := roles[e.TypeID]
	switch {
	case facts != nil && facts.Start != "" && strings.EqualFold(facts.Start, p.UniqueID):
		role = layout.StartSystem
	case known:
	case s.system(e.Slot):
		role = layout.OtherSystem
	case e.Attributes&table.AttrRequired != 0:
		role = layout.OEM
	case p.Volume != nil && p.Volume.Kind == volume.Swap:
		role = layout.Swap
	case p.Volume != nil && p.Volume.Kind != volume.Unknown:
		role = layout.Data
	default:
		role = layout.Unknown
	}
	p.Role = role
	p.Member = members[e.TypeID]
	switch role {
	case layout.EFI, layout.Reserved, layout.Recovery, layout.OEM:
		p.Protected = true
	default:
		p.Protected = e.Attributes&(table.AttrRequired|table.AttrReadOnly) != 0
	}
	if facts != nil {
		for id, letter := range facts.Letters {
			if strings.EqualFold(id, p.UniqueID) {
				p.Letter = letter
			}
		}
		for id, by := range facts.Held {
			if facts.State == pc.Running && strings.EqualFold(id, p.UniqueID) {
				p.Held, p.Loses = by, facts.Loses[id]
			}
		}
		if role == layout.StartSystem && facts.State == pc.Running && p.Held == "" {
			p.Held = "the running system"
		}
		if p.Volume != nil {
			has := func(ids []string) bool {
				return slices.ContainsFunc(ids, func(id string) bool { return strings.EqualFold(id, p.UniqueID) })
			}
			p.Volume.Hibernated = p.Volume.Hibernated || has(facts.Hibernated)
			p.Volume.RestorePoints = p.Volume.RestorePoints || has(facts.RestorePoints)
		}
	}
}

// folders that only a system has at its root.
type folders interface{ HasFolders(paths ...string) bool }

// system tells whether a volume holds an operating system, by its folders.
func (s *Survey) system(number int) bool {
	v, ok := s.Volumes[number].(folders)
	return ok && (v.HasFolders("Windows", "System32", "config") || v.HasFolders("etc", "init.d"))
}

// disagreement is the finding when a partition's type and contents do not fit
// together.
func disagreement(p layout.Span) *finding.Finding {
	say := func(code, text string) *finding.Finding {
		return &finding.Finding{Code: code, Severity: finding.Warning, Text: text, Partition: p.Number}
	}
	switch {
	case p.Role == layout.EFI && (p.Volume == nil || p.Volume.Kind != volume.FAT32 && p.Volume.Kind != volume.FAT16 && p.Volume.Kind != volume.FAT12):
		return say("efi-without-fat", fmt.Sprintf("Partition %d is of the type EFI system, but holds no FAT volume: a PC cannot start from it.", p.Number))
	case p.Role == layout.Recovery && p.Volume == nil:
		return say("recovery-empty", fmt.Sprintf("Partition %d is of the type recovery, but holds nothing.", p.Number))
	case p.Role == layout.Reserved && p.Volume != nil && p.Volume.Kind != volume.Unknown:
		return say("reserved-with-volume", fmt.Sprintf("Partition %d is of the type reserved, but holds a %s volume.", p.Number, p.Volume.Kind))
	}
	return nil
}

// Relabel gives the logical volumes of an MBR the numbers by which another layout
// of the drive knows those at the same places; what is new gets numbers behind them.
func (s *Survey) Relabel(like *layout.Layout) {
	numbers, most := map[int]int{}, 4
	for _, p := range like.Partitions() {
		most = max(most, p.Number)
	}
	for _, p := range s.Layout.Partitions() {
		if p.Container == 0 {
			continue
		}
		if i := slices.IndexFunc(like.Spans, func(q layout.Span) bool { return q.Container != 0 && q.Kind == layout.Partition && q.Start == p.Start }); i >= 0 {
			numbers[p.Number] = like.Spans[i].Number
		} else {
			most++
			numbers[p.Number] = most
		}
	}
	if len(numbers) == 0 {
		return
	}
	s.Table.Relabel(numbers)
	volumes := map[int]volume.Volume{}
	for n, v := range s.Volumes {
		if to, ok := numbers[n]; ok {
			n = to
		}
		volumes[n] = v
	}
	s.Volumes = volumes
	for i := range s.Layout.Spans {
		if p := &s.Layout.Spans[i]; p.Kind == layout.Partition && p.Container != 0 {
			p.Number = numbers[p.Number]
		}
	}
	for i, f := range s.Layout.Findings {
		if to, ok := numbers[f.Partition]; ok {
			s.Layout.Findings[i].Partition = to
		}
	}
}

// Check returns what is wrong with the table and with every volume, whose own
// structures are compared with each other.
func (s *Survey) Check() finding.List {
	out := append(finding.List{}, s.Layout.Findings...)
	for _, p := range s.Layout.Partitions() {
		v := s.Volumes[p.Number]
		if v == nil {
			continue
		}
		out = append(out, v.Check().On(p.Number)...)
		if h, ok := v.(interface{ Hidden() uint32 }); ok && disk.LBA(h.Hidden()) != p.Start {
			out = append(out, finding.Finding{Code: "hidden-sectors", Severity: finding.Note, Partition: p.Number,
				Text: fmt.Sprintf("The volume's boot sector counts %d sectors before it, but it begins at sector %d.", h.Hidden(), p.Start)})
		}
	}
	return out
}
