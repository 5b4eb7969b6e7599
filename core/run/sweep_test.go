package run

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/held"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/traces"
	"jadetrail/core/trail"
)

// left looks for texts in every file of a folder but drives, in all their forms. It returns in which
// files it found something.
func left(t *testing.T, root string, texts []string) (found []string) {
	t.Helper()
	drives := func(path string) bool { return strings.HasSuffix(path, ".img") }
	if err := traces.Files(root, drives, func(path string, b []byte) {
		for _, x := range texts {
			for _, n := range traces.Forms(x) {
				if bytes.Contains(b, n) {
					found = append(found, fmt.Sprintf("%s (%q)", strings.TrimPrefix(path, root), n))
					return
				}
			}
		}
	}); err != nil {
		t.Fatal(err)
	}
	return found
}

// TestNothingLeft gives a partition a history, and erases it: afterwards nothing in any file has the
// name of a file of it, or what it held.
func TestNothingLeft(t *testing.T) {
	s := newShop(t)
	im := s.open(t)
	do := func(steps ...plan.Step) *Result {
		t.Helper()
		s.steps = steps
		o := s.options(im)
		o.Compare = true
		o.Coverage = compare.Store{Dir: filepath.Join(s.dir, "coverage")}
		res, err := CarryOut(context.Background(), o)
		if err != nil {
			t.Fatal(err)
		}
		return res
	}
	for _, k := range []shelf.Kind{shelf.Image, shelf.Files} {
		if _, err := BackUp(context.Background(), s.options(im), Wanted{Partition: 5, Kind: k}, nil); err != nil {
			t.Fatal(err)
		}
	}
	res := do(plan.Step{Partition: "5", Body: plan.Deletion{Waiver: "for now"}})
	do(plan.Step{Body: plan.BringingBack{Record: res.Records[0]}})
	do(plan.Step{Partition: "5", Body: plan.Shrinking{By: "10 MiB"}})
	do(plan.Step{Partition: "5", Body: plan.Sliding{By: "6 MiB"}}, plan.Step{Partition: "5", Body: plan.Growth{By: "2 MiB", Edge: "head"}})
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	p, _ := sv.Layout.Find(5)
	side := compare.Side{Volume: sv.Volume(5), Place: compare.Place{DiskID: sv.Layout.DiskID, Span: *p}}
	other := side
	other.Volume = sv.Volume(3)
	c, err := compare.Run(context.Background(), side, other, nil)
	if err != nil {
		t.Fatal(err)
	}
	c.ID = "c-20261120-164000-aaaaaaaa-p5"
	if err := (compare.Store{Dir: filepath.Join(s.dir, "coverage")}).Save(c); err != nil {
		t.Fatal(err)
	}
	if r, err := s.options(im).Shelf.List(); err != nil || len(r) != 2 {
		t.Fatal(r, err)
	}
	// The files of other volumes are named alike; what is looked for must be of this one.
	texts := []string{"X-rays/box", "X-rays 3. X-rays 3.", "X-rays 17. X-rays 17.", "X-rays 29. X-rays 29."}
	if before := left(t, s.dir, texts); len(before) < 5 {
		t.Fatalf("the history has left only %v", before)
	}
	o := s.options(im)
	o.Coverage = compare.Store{Dir: filepath.Join(s.dir, "coverage")}
	have, err := held.Of(o.Shop, nil, o.Named(sv.Layout), *p, "")
	if text := held.Text(have); err != nil || !strings.Contains(text, "1 comparison, 1 record, ") || !strings.Contains(text, " runs (") {
		t.Errorf("holds %s, %v", text, err)
	}
	res = do(plan.Step{Partition: "5", Body: plan.Deletion{Erase: true, Backups: "delete", Waiver: "the owner wants it gone"}})
	if !strings.Contains(res.Columns[0].Detail, "1 comparison, 1 record") {
		t.Errorf("it was not told before: %s", res.Columns[0].Detail)
	}
	for _, f := range left(t, s.dir, texts) {
		t.Errorf("it is still in %s", f)
	}
	for _, said := range []string{"overwritten and gone", "Looked through: the records of deletions", "1 comparison"} {
		if !strings.Contains(res.Report.Proof, said) {
			t.Errorf("does not say %q: %s", said, res.Report.Proof)
		}
	}
	// On the drive itself too, wherever the partition had been.
	for at := disk.Bytes(0); at < im.Size(); {
		start, end, some := im.Data(at)
		if !some {
			break
		}
		b, err := disk.ReadFull(im, start, end-start)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range texts[1:] {
			if i := bytes.Index(b, []byte(text)); i >= 0 {
				t.Errorf("byte %d of the drive still holds %q", start+disk.Bytes(i), text)
			}
		}
		at = end
	}
	// The trail is whole, and knows the record as it is now.
	f, err := os.Open(filepath.Join(s.dir, "trail.jsonl"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if r, err := trail.Verify(f, nil); err != nil || !r.Sound() {
		t.Errorf("the trail: %+v, %v", r, err)
	}
	recs := s.options(im).Records
	all, err := recs.Of(trail.Drive{DiskID: sv.Layout.DiskID})
	if err != nil || len(all) != 2 {
		t.Fatal(all, err)
	}
	for _, rec := range all {
		_, hash, _ := recs.Load(rec.ID)
		if known, err := s.options(im).Trail.RecordHash(rec.ID); err != nil || known != hash || !rec.Erased {
			t.Errorf("record %s: %v, known %v, %v", rec.ID, rec.Erased, known == hash, err)
		}
	}
}
