package held_test

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"jadetrail/core/compare"
	"jadetrail/core/held"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/sample/drives"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// kinds are the kinds of what is held, each with its name, in order.
func kinds(all []held.Holding) (out []string) {
	for _, h := range all {
		out = append(out, h.Kind+" "+h.Name)
	}
	slices.Sort(out)
	return out
}

// write puts a file where an installation has it.
func write(t *testing.T, v any, path ...string) {
	t.Helper()
	b, err := json.Marshal(v)
	to := filepath.Join(path...)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(to), 0o700)
	}
	if err == nil {
		err = os.WriteFile(to, b, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// TestOf finds what an installation holds of one partition in each of the places where it may, and nothing of
// another partition, of another drive, or of the run that asks. Taken away, nothing is held any more.
func TestOf(t *testing.T) {
	o := drives.Opened(t)
	o.Coverage = compare.Store{Dir: filepath.Join(filepath.Dir(o.Image), "comparisons")}
	sv, err := survey.Read(o.Dev, o.PC)
	if err != nil {
		t.Fatal(err)
	}
	here := o.Named(sv.Layout)
	span, _ := sv.Layout.Find(5)
	other, _ := sv.Layout.Find(3)
	elsewhere := trail.Drive{DiskID: drives.UID(0xd1), Model: "another", Serial: "ANO7-000-0001"}
	find := func(besides held.Besides, own string) []held.Holding {
		t.Helper()
		got, err := held.Of(o.Shop, besides, here, *span, own)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	if got := find(nil, ""); len(got) != 0 {
		t.Errorf("of an installation that has nothing: %v", kinds(got))
	}
	for id, of := range map[string]struct {
		drive trail.Drive
		span  layout.Span
	}{"d-this": {here, *span}, "d-other": {here, *other}, "d-elsewhere": {elsewhere, *span}} {
		rec := &trail.Record{Version: 1, ID: id, Time: drives.Day, Drive: of.drive, Span: of.span, Before: sv.Layout, After: sv.Layout}
		if _, err := o.Records.Save(rec, trail.Contents{First: []byte("its first bytes")}); err != nil {
			t.Fatal(err)
		}
	}
	for id, serial := range map[string]string{"r-this": o.Identity.Serial, "r-own": o.Identity.Serial, "r-elsewhere": elsewhere.Serial} {
		m := &ran.Meta{
			Version: ran.Version, ID: id, Image: o.Image, DiskID: drives.UID(0xd0), Begun: drives.Day, Before: sv.Layout, After: sv.Layout,
			Plan: &plan.Plan{Version: 1}, Identity: survey.Identity{Serial: serial, Model: "test drive"},
		}
		if serial != o.Identity.Serial {
			m.DiskID = elsewhere.DiskID
		}
		write(t, m, o.Runs, id, ran.MetaFile)
		write(t, ran.Report{Ended: ran.EndDone}, o.Runs, id, ran.EndedFile)
		write(t, "what the run kept", o.Runs, id, ran.ContentsFile)
	}
	side := func(s layout.Span) compare.Side {
		return compare.Side{Place: compare.Place{DiskID: here.DiskID, Model: here.Model, Serial: here.Serial, Span: s}}
	}
	for id, of := range map[string]layout.Span{"c-this": *span, "c-other": *other} {
		if err := o.Coverage.Save(&compare.Result{Version: 1, ID: id, Time: drives.Day, Here: side(of), There: side(*other)}); err != nil {
			t.Fatal(err)
		}
	}
	folder := func(d trail.Drive, s layout.Span) ([]held.Holding, error) {
		if !d.Same(here) || !layout.SamePartition(s, *span) {
			t.Errorf("asked for %v, %v", d, s)
		}
		return []held.Holding{{Kind: "restored folder", Name: "back", Bytes: 7}}, nil
	}
	got := find(folder, "r-own")
	if want := []string{"comparison c-this", "record d-this", "restored folder back", "run r-this"}; !slices.Equal(kinds(got), want) {
		t.Errorf("%v, not %v", kinds(got), want)
	}
	if text := held.Text(got[:3]); text == "" || held.Text(got) == text {
		t.Errorf("%q", text)
	}
	for _, h := range got {
		if h.Kind != "restored folder" {
			if h.Bytes == 0 {
				t.Errorf("%s %s takes nothing", h.Kind, h.Name)
			}
			if err := h.Erase(); err != nil {
				t.Errorf("%s %s: %v", h.Kind, h.Name, err)
			}
		}
	}
	if got := find(nil, "r-own"); len(got) != 0 {
		t.Errorf("after it was taken away: %v", kinds(got))
	}
	rec, _, err := o.Records.Load("d-other")
	if err != nil || o.Records.Whole(rec) != nil {
		t.Errorf("another partition's record: %v, %v", err, o.Records.Whole(rec))
	}
	wrong := errors.New("cannot be looked at")
	if _, err := held.Of(o.Shop, func(trail.Drive, layout.Span) ([]held.Holding, error) { return nil, wrong }, here, *span, ""); !errors.Is(err, wrong) {
		t.Errorf("what cannot be looked at: %v", err)
	}
}

// TestText counts what is held, by kind.
func TestText(t *testing.T) {
	all := []held.Holding{{Kind: "run", Bytes: 1024}, {Kind: "record", Bytes: 512}, {Kind: "run", Bytes: 512}}
	if got := held.Text(all); got != "1 record, 2 runs (2 KiB)" {
		t.Errorf("%s", got)
	}
}
