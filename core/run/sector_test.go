package run

import (
	"context"
	"maps"
	"path/filepath"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/volume/ntfs"
)

// otherSectors is a shop whose drive has sectors of 512 bytes and a volume made for 4096.
func otherSectors(t *testing.T, steps ...plan.Step) *shop {
	t.Helper()
	dir := t.TempDir()
	s := &shop{dir: dir, image: filepath.Join(dir, "d.img"), steps: steps}
	im, err := disk.CreateImage(s.image, 128*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	paper := disk.NewPaper(40*disk.MiB, 4096)
	if err := ntfs.Make(paper, ntfs.Options{Label: "Other", Serial: 5, Hidden: 2 * 2048 / 8, Time: day, Files: files("other", 20)}); err != nil {
		t.Fatal(err)
	}
	b, err := disk.ReadFull(paper, 0, paper.Size())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := im.WriteAt(b, int64(2*disk.MiB)); err != nil {
		t.Fatal(err)
	}
	e := table.NewEntry(table.Entry{Slot: 1, TypeID: table.TypeBasic, UniqueID: uid(1), Start: 4096, End: 4096 + (40 * disk.MiB).At(512) - 1})
	if err := table.New(im, uid(0xd0), e).Apply(im, nil); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestOtherSectors changes such a volume in every way: it stays sound, with all its files, and counts
// the sectors before it in its own.
func TestOtherSectors(t *testing.T) {
	for name, steps := range map[string][]plan.Step{
		"grow":   {{Partition: "1", Body: plan.Growth{By: "8 MiB"}}},
		"shrink": {{Partition: "1", Body: plan.Shrinking{By: "8 MiB"}}},
		"slide":  {{Partition: "1", Body: plan.Sliding{By: "4 MiB"}}},
		"head":   {{Partition: "1", Body: plan.Growth{By: "1 MiB", Edge: "head"}}},
		"label":  {{Partition: "1", Body: plan.Labelling{Label: "New"}}},
	} {
		t.Run(name, func(t *testing.T) {
			s := otherSectors(t, steps...)
			im := s.open(t)
			before := contents(t, im)
			o := s.options(im)
			o.PC = nil
			if _, err := CarryOut(context.Background(), o); err != nil {
				t.Fatal(err)
			}
			sv, err := survey.Read(im, nil)
			if err != nil {
				t.Fatal(err)
			}
			if l := sv.Check(); len(l) > 0 {
				t.Errorf("found %v", l)
			}
			if !maps.Equal(before, contents(t, im)) {
				t.Error("the files are not as they were")
			}
		})
	}
}
