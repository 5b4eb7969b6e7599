package compile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/script"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume/ntfs"
)

func uid(n int) string { return fmt.Sprintf("5a1c77e0-1042-4d0b-9c3e-0000000000%02x", n) }

// two is a drive with two NTFS volumes and a gap behind the second.
func two(t *testing.T) (*disk.Image, *survey.Survey) {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), 128*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	var entries []table.Entry
	for i := range disk.Bytes(2) {
		at := disk.MiB + i*32*disk.MiB
		entries = append(entries, table.NewEntry(table.Entry{Slot: int(i) + 1, TypeID: table.TypeBasic, UniqueID: uid(int(i) + 1), Start: at.At(512), End: (at + 32*disk.MiB).At(512) - 1, Name: "kept"}))
		if err := ntfs.Make(disk.NewWindow(im, at, 32*disk.MiB), ntfs.Options{Label: "V", Hidden: uint32(at / 512), Time: time.Unix(1.79e9, 0)}); err != nil {
			t.Fatal(err)
		}
	}
	if err := table.New(im, uid(0xd0), entries...).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	return im, sv
}

func lay(t *testing.T, sv *survey.Survey, f plan.Facts, s plan.Step) plan.Column {
	t.Helper()
	c := plan.Lay(sv.Layout, f, []plan.Step{s})[0]
	if len(c.Obstacles) > 0 {
		t.Fatal(c.Obstacles)
	}
	return c
}

func TestGrowLengthensTheEntryFirst(t *testing.T) {
	im, sv := two(t)
	d, err := Step(sv, lay(t, sv, plan.Facts{}, plan.Step{Partition: "2", Body: plan.Growth{By: "40 MiB"}}), Given{})
	s := d.Script
	if err != nil {
		t.Fatal(err)
	}
	// At every moment the partition is at least as long as its volume.
	for i := range s {
		if err := s[i:i+1].Apply(im, nil); err != nil {
			t.Fatal(err)
		}
		now, err := survey.Read(im, nil)
		if err != nil {
			t.Fatal(err)
		}
		if p, ok := now.Layout.Find(2); !ok || p.Volume == nil || p.Volume.TotalBytes > p.Bytes || p.Volume.Kind != "ntfs" {
			t.Fatalf("after operation %d: %+v", i, p)
		}
	}
	now, _ := survey.Read(im, nil)
	if p, _ := now.Layout.Find(2); p.Bytes != 72*disk.MiB || p.Name != "kept" || now.Check().FirstError() != nil {
		t.Errorf("%+v, %v", p, now.Check())
	}
	// Nothing is written outside the table's places and the volume's own.
	allowed := append(sv.Table.Ranges(), disk.Range{Start: 33 * disk.MiB, End: 105 * disk.MiB})
	for _, op := range s {
		inside := op.Kind == script.Barrier
		for _, r := range allowed {
			inside = inside || op.Off >= r.Start && op.Off+op.Len <= r.End
		}
		if !inside {
			t.Errorf("writes %d bytes at %d", op.Len, op.Off)
		}
	}
}

func TestBringBackElsewhere(t *testing.T) {
	im, sv := two(t)
	gone, _ := sv.Layout.Find(1)
	raw, err := disk.ReadFull(im, disk.MiB, 32*disk.MiB)
	if err != nil {
		t.Fatal(err)
	}
	m := &shelf.Manifest{ID: "b-1", Bytes: gone.Bytes, From: shelf.Origin{Sector: 512}}
	for off := disk.Bytes(0); off < gone.Bytes; off += 4 * disk.MiB {
		m.Pieces = append(m.Pieces, shelf.Piece{Off: off, Len: 4 * disk.MiB, Hash: "not looked at here"})
	}
	facts := plan.Facts{NewID: uid(9), Records: map[string]plan.Record{"d-1": {Span: *gone, Backup: "b-1"}}}
	col := lay(t, sv, facts, plan.Step{Body: plan.BringingBack{Record: "d-1"}})
	g := Gone{Entry: sv.Table.Entries[0].Raw, Image: Image{Backup: m, Raw: bytes.NewReader(raw)}}
	d, err := Step(sv, col, Given{Gone: map[string]Gone{"d-1": g}})
	s := d.Script
	if err != nil {
		t.Fatal(err)
	}
	hidden := 0
	for _, op := range s {
		if op.Kind == script.Write && op.Off >= 65*disk.MiB && op.Off < 97*disk.MiB {
			hidden++
			if n := binary.LittleEndian.Uint32(op.Data[28:]); n != uint32(65*disk.MiB/512) {
				t.Errorf("a boot sector counts %d sectors before it", n)
			}
		}
	}
	if hidden != 2 {
		t.Errorf("%d boot sectors were fitted to the place", hidden)
	}
	last := s[len(s)-1]
	if last.Kind != script.Barrier || s[0].Kind != script.Fill {
		t.Error("the entry must come after the contents")
	}
	for name, spoil := range map[string]func(g *Gone){
		"no record":         func(g *Gone) { g.Entry = nil },
		"no backup":         func(g *Gone) { g.Backup = nil },
		"another size":      func(g *Gone) { x := *m; x.Bytes++; g.Backup = &x },
		"other sector size": func(g *Gone) { x := *m; x.From.Sector = 4096; g.Backup = &x },
	} {
		h := g
		spoil(&h)
		if _, err := Step(sv, col, Given{Gone: map[string]Gone{"d-1": h}}); !errors.Is(err, ErrCannot) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestRefusedByTheBytes(t *testing.T) {
	im, sv := two(t)
	// The bitmap calls a used cluster free: only the bytes show that.
	v, err := ntfs.Open(survey.Window(im, sv.Layout.Partitions()[1]))
	if err != nil {
		t.Fatal(err)
	}
	bitmap := v.Places(false)[1]
	im.WriteAt([]byte{0}, int64(33*disk.MiB+bitmap.Off))
	sv, _ = survey.Read(im, nil)
	if _, err := Step(sv, lay(t, sv, plan.Facts{}, plan.Step{Partition: "2", Body: plan.Growth{By: "all"}}), Given{}); !errors.Is(err, ErrCannot) {
		t.Errorf("%v", err)
	}
	if _, err := Step(sv, plan.Column{Step: plan.Step{}}, Given{}); !errors.Is(err, ErrCannot) {
		t.Errorf("%v", err)
	}
	if id := UniqueID([16]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}); id != "ffffffff-ffff-4fff-bf00-000000000000" {
		t.Errorf("a unique id is %s", id)
	}
}
