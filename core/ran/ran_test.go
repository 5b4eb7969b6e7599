package ran

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/sample"
	"jadetrail/core/script"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

var day = time.Date(2026, 11, 24, 9, 30, 0, 0, time.UTC)

// aRun is a run on the reception's drive that takes its recovery partition away.
func aRun(id string) *Meta {
	before := sample.Reception()
	before.DiskID = "d-before"
	after := before.With(slices.DeleteFunc(before.Partitions(), func(p layout.Span) bool { return p.Number == 4 }))
	after.DiskID = "d-after"
	return &Meta{
		Version: Version, ID: id, Image: "/drives/a.img", DiskID: "d-before", Begun: day, Who: "Odile Farrow", Home: "/shop/runs",
		Plan: &plan.Plan{Version: 1, Steps: []plan.Step{{Partition: "4", Body: plan.Deletion{}}}}, Before: before, After: after,
		Prints: map[string]string{"3": "p3", "5": "p5"}, Were: map[string]string{"5": "was5"}, Identity: survey.Identity{Serial: "TLX5-220-7F3K"},
	}
}

// put writes a run's files into its folder.
func put(t testing.TB, runs, id string, files map[string]any) {
	t.Helper()
	dir := filepath.Join(runs, id)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	for name, v := range files {
		b, raw := v.([]byte)
		if !raw {
			var err error
			if b, err = json.Marshal(v); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// TestFolders reads folders of runs in every state that a cut, or somebody's hand, can leave them in.
func TestFolders(t *testing.T) {
	m := aRun("r-1")
	text, err := json.Marshal(m)
	if err != nil {
		t.Fatal(err)
	}
	begun := Begun{Version: 1, Run: "r-1", Begun: day, Drive: m.Drive(), Size: m.Before.Size, Meta: SumOf(text)}
	other := *m
	other.Version = Version + 1
	for name, c := range map[string]struct {
		files  map[string]any
		meta   bool
		broken string // "" where nothing is wrong
		stray  bool
	}{
		"under way":                    {map[string]any{MetaFile: text, BegunFile: begun, JournalFile: []byte("j")}, true, "", false},
		"cut before its journal":       {map[string]any{MetaFile: text}, true, "", false},
		"cut before all":               {map[string]any{}, false, "", false},
		"its plan is gone":             {map[string]any{BegunFile: begun, JournalFile: []byte("j")}, false, "run.json is gone", false},
		"a journal alone":              {map[string]any{JournalFile: []byte("j")}, false, "run.json is gone", true},
		"its plan was changed":         {map[string]any{MetaFile: append(slices.Clone(text), ' '), BegunFile: begun, JournalFile: []byte("j")}, false, "not what was written", false},
		"its plan cannot be read":      {map[string]any{MetaFile: []byte("{"), JournalFile: []byte("j")}, false, "not what was written", true},
		"another run's plan":           {map[string]any{MetaFile: aRun("r-2")}, false, "not what was written", true},
		"its note was changed":         {map[string]any{MetaFile: text, BegunFile: []byte("null"), JournalFile: []byte("j")}, true, "begun.json is not what was written", false},
		"a plan that says nothing":     {map[string]any{MetaFile: []byte(`{"version":2,"id":"r-1"}`)}, false, "not what was written", true},
		"of another version":           {map[string]any{MetaFile: other}, false, "another version", true},
		"ended, and the rest is noise": {map[string]any{MetaFile: []byte("x"), EndedFile: Report{Ended: EndDone}}, false, "", false},
	} {
		t.Run(name, func(t *testing.T) {
			runs := t.TempDir()
			put(t, runs, "r-1", c.files)
			got, stray, err := Folders(runs)
			if err != nil || len(got) != 1 {
				t.Fatal(got, err)
			}
			d := got[0]
			_, ended := c.files[EndedFile]
			if (d.Meta != nil) != c.meta || d.Ended != ended || (d.Broken == nil) != (c.broken == "") || slices.Contains(stray, "r-1") != c.stray {
				t.Errorf("plan %v, ended %v, broken %v, stray %v", d.Meta != nil, d.Ended, d.Broken, stray)
			}
			if d.Broken != nil && (!errors.Is(d.Broken, ErrBroken) || !strings.Contains(d.Broken.Error(), c.broken)) {
				t.Errorf("%v does not say %q", d.Broken, c.broken)
			}
			if d.Meta != nil && d.Meta.Hash != SumOf(text) {
				t.Errorf("known again by %s", d.Meta.Hash)
			}
		})
	}
	if got, stray, err := Folders(filepath.Join(t.TempDir(), "none")); err != nil || len(got)+len(stray) != 0 {
		t.Errorf("no folder at all: %v, %v, %v", got, stray, err)
	}
	runs := t.TempDir()
	if err := os.WriteFile(filepath.Join(runs, "note.txt"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if stray, err := Stray(runs); err != nil || !slices.Equal(stray, []string{"note.txt"}) {
		t.Errorf("a file among the runs: %v, %v", stray, err)
	}
}

// TestIsOn tells a run's drive from others, by its serial number, its table before or after, its size and its path.
func TestIsOn(t *testing.T) {
	m := aRun("r-1")
	size := m.Before.Size
	with, without := Folder{Meta: m}, Folder{Begun: &Begun{Drive: m.Drive(), Size: size}}
	nameless := aRun("r-2")
	nameless.DiskID, nameless.Identity.Serial, nameless.After.DiskID = "", "", ""
	for name, c := range map[string]struct {
		d     Folder
		drive trail.Drive
		size  disk.Bytes
		image string
		want  bool
	}{
		"its serial number":              {with, trail.Drive{Serial: "tlx5-220-7f3k", DiskID: "d-else"}, size, "/b.img", true},
		"another one":                    {with, trail.Drive{Serial: "TLX5-220-0000", DiskID: "d-before"}, size, "/drives/a.img", false},
		"its table before":               {with, trail.Drive{DiskID: "d-before"}, size, "/b.img", true},
		"its table after":                {with, trail.Drive{DiskID: "D-AFTER"}, size, "/b.img", true},
		"another size":                   {with, trail.Drive{DiskID: "d-before"}, size - 512, "/drives/a.img", false},
		"a size that nobody knows":       {with, trail.Drive{DiskID: "d-before"}, 0, "", true},
		"its path, and a table":          {with, trail.Drive{DiskID: "d-else"}, size, "/drives/a.img", false},
		"no name, its path":              {Folder{Meta: nameless}, trail.Drive{}, size, "/drives/a.img", true},
		"no name, another path":          {Folder{Meta: nameless}, trail.Drive{}, size, "/b.img", false},
		"by its note alone":              {without, trail.Drive{Serial: "TLX5-220-7F3K"}, size, "", true},
		"by its note, of another size":   {without, trail.Drive{Serial: "TLX5-220-7F3K"}, size + 1, "", false},
		"where nothing is known of it":   {Folder{}, trail.Drive{Serial: "TLX5-220-7F3K"}, size, "/drives/a.img", false},
		"by its note, when it was begun": {without, trail.Drive{DiskID: "d-before"}, size, "", true},
	} {
		if got := c.d.IsOn(c.drive, c.size, c.image); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	if !with.At().Equal(day) || !(&Folder{Begun: &Begun{Begun: day}}).At().Equal(day) || !(&Folder{}).At().IsZero() {
		t.Error("when it was begun")
	}
}

// TestRead reads a run that has an end, and one that has none.
func TestRead(t *testing.T) {
	runs := t.TempDir()
	for _, id := range []string{"", "..", "../r-1", "r-1/x", "r-9"} {
		if _, _, err := Read(runs, id); !errors.Is(err, ErrNothing) {
			t.Errorf("the run %q: %v", id, err)
		}
	}
	put(t, runs, "r-1", map[string]any{MetaFile: aRun("r-1")})
	m, r, err := Read(runs, "r-1")
	if err != nil || r != nil || m.Who != "Odile Farrow" || len(m.Before.Partitions()) != len(m.After.Partitions())+1 {
		t.Fatalf("%+v, %+v, %v", m, r, err)
	}
	if err := WriteReport(runs, "r-1", day, &Report{Ended: EndUndone}); err != nil {
		t.Fatal(err)
	}
	if _, r, err := Read(runs, "r-1"); err != nil || r == nil || r.Ended != EndUndone || !r.Time.Equal(day) {
		t.Errorf("%+v, %v", r, err)
	}
	put(t, runs, "r-1", map[string]any{EndedFile: []byte("[")})
	if _, _, err := Read(runs, "r-1"); err == nil || errors.Is(err, ErrNothing) {
		t.Errorf("an end that cannot be read: %v", err)
	}
}

// TestWas has the fingerprints of volumes before a run: as noted where it touches them, else as they stay.
func TestWas(t *testing.T) {
	m := aRun("r-1")
	for number, want := range map[string]string{"3": "p3", "5": "was5", "4": ""} {
		if got := m.Was()[number]; got != want {
			t.Errorf("partition %s: %q, want %q", number, got, want)
		}
	}
}

// TestMoved finds what a run named again when all of the shop's folder was moved.
func TestMoved(t *testing.T) {
	m := aRun("r-1")
	for path, want := range map[string]string{
		"/shop/shelf": "/new/place/shelf", "/shop/a/b.jsonl": "/new/place/a/b.jsonl", "/else/shelf": "/else/shelf", "": "", "/shopping": "/shopping",
	} {
		if got := m.Moved("/new/place/runs", path); got != want {
			t.Errorf("%s lies at %s, want %s", path, got, want)
		}
	}
	if got := m.Moved("/shop/runs", "/shop/shelf"); got != "/shop/shelf" {
		t.Errorf("not moved, and at %s", got)
	}
}

// TestPlaces keeps where a run writes, step by step, and what undo does not bring back.
func TestPlaces(t *testing.T) {
	dir := t.TempDir()
	if _, ok, err := Wrote(dir); ok || err != nil {
		t.Errorf("of a run of which nothing was kept: %v, %v", ok, err)
	}
	s := script.Script{
		{Kind: script.Write, Step: 0, Off: 0, Len: 512, Data: make([]byte, 512)},
		{Kind: script.Write, Step: 1, Off: 8192, Len: 512, Data: make([]byte, 512)},
		{Kind: script.Write, Step: 1, Off: 4096, Len: 4096, Data: make([]byte, 4096)},
		{Kind: script.Write, Step: 7, Off: 1 << 20, Len: 512, Data: make([]byte, 512)}, // of no step of the plan
	}
	if err := NotePlaces(dir, s, 2); err != nil {
		t.Fatal(err)
	}
	got, ok, err := Wrote(dir)
	if err != nil || !ok || fmt.Sprint(got.From(0)) != "[{0 B 512 B} {4 KiB 8.50 KiB}]" || fmt.Sprint(got.From(1)) != "[{4 KiB 8.50 KiB}]" || len(got.From(2)) != 0 {
		t.Errorf("%v, %v, %v", got, ok, err)
	}
	// An earlier version kept the steps alone: then nothing counts as brought back.
	if err := os.WriteFile(filepath.Join(dir, placesFile), []byte("[[[0,512]],[[4096,8704]]]"), 0o644); err != nil {
		t.Fatal(err)
	}
	if got, ok, err := Wrote(dir); err != nil || !ok || len(got.Unkept) != 2 || len(got.From(1)) != 1 {
		t.Errorf("of an earlier version: %v, %v, %v", got, ok, err)
	}
	if err := os.WriteFile(filepath.Join(dir, placesFile), []byte("{}"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Wrote(dir); err == nil {
		t.Error("noise was read as places")
	}
}

// TestForget takes names and contents out of what is kept of a run, and leaves the rest.
func TestForget(t *testing.T) {
	runs := t.TempDir()
	m := aRun("r-1")
	m.Plan.Steps[0].Body = plan.CopyingBack{Backup: "b-1", Only: []string{"letters/unheardof.txt"}}
	m.Arrivals = []Arrival{{Number: 5, Files: 1, Sums: []Sum{{Path: "letters/unheardof.txt"}}, Renamed: map[string]string{"unheardof": "u"}}}
	put(t, runs, "r-1", map[string]any{MetaFile: m, JournalFile: []byte("unheardof"), ContentsFile: []byte("unheardof"), PiecesFile: []byte("unheardof")})
	if !m.HoldsNames() {
		t.Error("it does not know of its names")
	}
	if err := Forget(runs, m); err != nil {
		t.Fatal(err)
	}
	left, err := filepath.Glob(filepath.Join(runs, "r-1", "*"))
	if err != nil || len(left) != 1 {
		t.Fatalf("left are %v, %v", left, err)
	}
	b, err := os.ReadFile(left[0])
	if err != nil || strings.Contains(string(b), "unheardof") {
		t.Errorf("%s, %v", b, err)
	}
	if m, _, err := Read(runs, "r-1"); err != nil || m.HoldsNames() || m.Arrivals[0].Files != 1 || len(m.Before.Partitions()) == 0 {
		t.Errorf("%+v, %v", m, err)
	}
	if err := Forget(runs, m); err != nil {
		t.Errorf("once more: %v", err)
	}
}

// FuzzFolder reads a run's folder whatever its files hold: it never panics, and what it gives out can be asked.
func FuzzFolder(f *testing.F) {
	m := aRun("r-1")
	text, err := json.Marshal(m)
	if err != nil {
		f.Fatal(err)
	}
	note, err := json.Marshal(Begun{Version: 1, Run: "r-1", Drive: m.Drive(), Size: m.Before.Size, Meta: SumOf(text)})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(text, note, []byte(`{"ended":"done"}`), []byte(`{"version":2,"steps":[[[0,512]]],"unkept":[]}`))
	f.Add([]byte(`{"version":2,"id":"r-1","fingerprints":{"3":"x"}}`), []byte{}, []byte("null"), []byte("[[[0,512]]]"))
	f.Add([]byte(`{"version":2,"id":"r-1","fingerprints":{"3":"x"},"before":{},"arrivals":[{"from_partition":2}]}`), []byte{}, []byte("null"), []byte("[]"))
	f.Fuzz(func(t *testing.T, meta, begun, ended, places []byte) {
		if len(meta)+len(begun)+len(ended)+len(places) > 1<<20 {
			return
		}
		runs := t.TempDir()
		put(t, runs, "r-1", map[string]any{MetaFile: meta, JournalFile: []byte{}, placesFile: places})
		if len(begun) > 0 {
			put(t, runs, "r-1", map[string]any{BegunFile: begun})
		}
		found, _, err := Folders(runs)
		if err != nil || len(found) != 1 {
			t.Fatal(found, err)
		}
		found[0].At()
		found[0].IsOn(trail.Drive{Serial: "TLX5-220-7F3K"}, 0, "/a")
		put(t, runs, "r-1", map[string]any{EndedFile: ended})
		if m, _, err := Read(runs, "r-1"); err == nil {
			m.Was()
			m.Drive()
			m.HoldsNames()
			m.Moved("/b/runs", m.Shelf)
			for i := range m.Arrivals {
				m.Arrivals[i].Source()
			}
		}
		if p, ok, err := Wrote(filepath.Join(runs, "r-1")); ok && err == nil {
			p.From(0)
		}
	})
}
