package web

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// shopDeed is an act of the shop that touches more than one of files, database and trail. It begins on the
// demo's bench with a file in the dock.
type shopDeed struct {
	before  string                              // the deed that must have been done before
	do      func(t *testing.T, s *front) string // what it says
	enters  trail.Act
	done    func(t *testing.T, s *front, inBay map[string]string) int // how often the files and tables say it was
	repeats bool                                                      // doing it once more changes no file
	already int                                                       // how many such entries come from the deed before
}

var deeds = map[string]shopDeed{
	"attach": {enters: trail.ActAttach,
		do: func(t *testing.T, s *front) string {
			s.post(t, "/dock/attach", "file", "waiting.img", "bay", s.freeBay(t), "model", "Quayline 64", "serial", "WAIT-0001")
			return s.wait(t, "dock")
		},
		done: func(t *testing.T, s *front, _ map[string]string) int { return 1 - s.files(t, "dock/waiting.img") }},
	"backup": {enters: trail.ActBackup,
		do: func(t *testing.T, s *front) string {
			s.post(t, "/jobs/J-1042/back-up", "partition", "4", "kind", "image")
			return s.settle(t)
		},
		done: func(t *testing.T, s *front, _ map[string]string) int { return len(s.backups(t)) }},
	"backup deleted": {enters: trail.ActDeleteBackup, before: "backup",
		do: func(t *testing.T, s *front) (said string) {
			for _, m := range s.backups(t) {
				said += s.post(t, "/shelf/delete", "backup", m.ID, "reason", "no longer wanted")
			}
			return said
		},
		done: func(t *testing.T, s *front, _ map[string]string) int { return one(len(s.backups(t)) == 0) }},
	"blank": {enters: trail.ActAttach,
		do: func(t *testing.T, s *front) string {
			return s.post(t, "/dock/blank", "bay", s.freeBay(t), "model", "Quayline 64", "serial", "BLANK-0001", "size", "64 MiB")
		},
		done: func(t *testing.T, s *front, inBay map[string]string) int {
			return one(inBay["blank-0001.img"] != "") + one(inBay["blank-0001-2.img"] != "")
		}},
	"compared": {enters: trail.ActCompare,
		do: func(t *testing.T, s *front) string {
			s.post(t, "/jobs/J-1042/compare", "partition", "4", "with", "B:1")
			return s.wait(t, "compare")
		},
		done: func(t *testing.T, s *front, _ map[string]string) int { return s.files(t, "coverage/*.json") }},
	"detach": {enters: trail.ActDetach,
		do: func(t *testing.T, s *front) string { return s.post(t, "/dock/detach", "bay", "A") },
		done: func(t *testing.T, s *front, _ map[string]string) int {
			return s.files(t, "dock/tidewater-reception.img")
		}},
	"evidence": {enters: trail.ActAttach, repeats: true,
		do: func(t *testing.T, s *front) string { return s.post(t, "/dock/how", "bay", "A", "read_only", "yes") },
		done: func(t *testing.T, s *front, _ map[string]string) int {
			return s.holds("drives/tidewater-reception.img.drive.json", `"read_only": true`)
		}},
	"files restored": {enters: trail.ActRestore, before: "backup",
		do: func(t *testing.T, s *front) string {
			s.post(t, "/shelf/"+s.backups(t)[0].ID+"/to-folder", "all", "yes")
			return s.wait(t, "shelf")
		},
		done: func(t *testing.T, s *front, _ map[string]string) int { return s.files(t, "restored/*") }},
	"letter": {enters: trail.ActLetter, repeats: true,
		do: func(t *testing.T, s *front) string {
			return s.post(t, "/jobs/J-1042/letter", "partition", "4", "letter", "Q")
		},
		done: func(t *testing.T, s *front, _ map[string]string) int {
			return s.holds("drives/tidewater-reception.img.pc.json", `"Q"`)
		}},
	"no shelf": {enters: trail.ActShelf, repeats: true,
		do:   func(t *testing.T, s *front) string { return s.post(t, "/dock/no-shelf", "bay", "B") },
		done: func(t *testing.T, s *front, _ map[string]string) int { return 1 - s.shelvesIn(t, "B") }},
	"searched": {enters: trail.ActSearch,
		do: func(t *testing.T, s *front) string {
			s.post(t, "/jobs/J-1042/search")
			return s.settle(t)
		}, repeats: true,
		done: func(t *testing.T, s *front, _ map[string]string) int {
			_, d, err := s.OpenJob("J-1042", "", false)
			if err != nil {
				return 0 // the drive is never away
			}
			defer d.Close()
			k := s.SearchedBefore(d)
			return one(k != nil && k.Reached == k.Size)
		}},
	"shelf made": {enters: trail.ActShelf, repeats: true, before: "no shelf", already: 1,
		do:   func(t *testing.T, s *front) string { return s.post(t, "/dock/shelf", "bay", "B") },
		done: func(t *testing.T, s *front, _ map[string]string) int { return s.shelvesIn(t, "B") }},
	"taken in": {enters: trail.ActTakeIn,
		do:   func(t *testing.T, s *front) string { return s.send(t, "other.jsonl", otherTrail(t)) },
		done: func(t *testing.T, s *front, _ map[string]string) int { return s.files(t, "taken-in/*") }},
}

// one is 1 for true.
func one(b bool) int { return map[bool]int{true: 1}[b] }

// files are how many files of that name are in the data folder.
func (s *front) files(t *testing.T, pattern string) int {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(s.Data, filepath.FromSlash(pattern)))
	if err != nil {
		t.Fatal(err)
	}
	return len(list)
}

// holds tells whether a file of the data folder holds a text, as a number.
func (s *front) holds(name, text string) int {
	b, _ := os.ReadFile(filepath.Join(s.Data, filepath.FromSlash(name)))
	return one(strings.Contains(string(b), text))
}

// shelvesIn is 1 where the drive in a bay is a shelf.
func (s *front) shelvesIn(t *testing.T, bay string) int {
	t.Helper()
	db, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var is bool
	if err := db.QueryRow("SELECT shelf FROM bays WHERE letter = ?", bay).Scan(&is); err != nil {
		t.Fatal(err)
	}
	return one(is)
}

// otherTrail is the trail of another shop.
func otherTrail(t *testing.T) []byte {
	t.Helper()
	p := filepath.Join(t.TempDir(), "trail.jsonl")
	if err := (trail.File{Path: p}).Append(trail.Entry{ID: "e-1", Time: time.Unix(1780000000, 0), Who: "Odile Farrow", Act: trail.ActLetter, Text: "Something elsewhere"}); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(p)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func (s *front) backups(t *testing.T) []*shelf.Manifest {
	t.Helper()
	all, err := s.Shelf().List()
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func (s *front) freeBay(t *testing.T) string {
	t.Helper()
	bays, err := s.Store.Bays()
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range bays {
		if b.Image == nil {
			return b.Letter
		}
	}
	t.Fatal("no bay is free")
	return ""
}

// prepare does what must come before a deed.
func (s *front) prepare(t *testing.T, deed string) {
	t.Helper()
	if before := deeds[deed].before; before != "" {
		deeds[before].do(t, s)
	}
}

// withWaiting puts a small drive into the dock, with what it is beside it.
func (s *front) withWaiting(t *testing.T) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(s.Data, "dock", "waiting.img.drive.json"), []byte(`{"model": "Quayline 64", "serial": "WAIT-0001"}`), 0o644); err != nil {
		t.Fatal(err)
	}
	im, err := disk.CreateImage(filepath.Join(s.Data, "dock", "waiting.img"), 8*disk.MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	im.Close()
}

// faults are what comes between the beginning of an act and its end: a kill, a database that is away,
// one thing that fails and works when tried again, and everything failing until the next start.
var faults = []string{"killed", "database away", "one error", "errors from there on"}

var errFailing = &fs.PathError{Op: "write", Path: "a file", Err: syscall.EIO}

// TestCracks has every act fail at every place that it passes, in every way. After the next start, or
// once the database is back, it has happened exactly once or not at all, what was said of it was so,
// and nothing is blocked or gone: a checker says so that knows only files, tables and trail.
func TestCracks(t *testing.T) {
	cut, places, every := 0, 0, 19
	if os.Getenv("JADETRAIL_PROVE") != "" {
		every = 1
	}
	for _, name := range slices.Sorted(maps.Keys(deeds)) {
		// The list of places is made by the act itself.
		var passed []string
		t.Run(name, func(t *testing.T) {
			s := open(t)
			s.withWaiting(t)
			s.prepare(t, name)
			s.Books.Fault = func(place string) error { passed = append(passed, place); return nil }
			deeds[name].do(t, s)
			s.sound(t, name, name, true)
			if len(passed) < 3 {
				t.Fatalf("%s passes only %v", name, passed)
			}
		})
		for i, place := range passed {
			for _, fault := range faults {
				if places++; places%every != 0 {
					continue
				}
				cut++
				t.Run(fmt.Sprintf("%s, %s, %s", name, place, fault), func(t *testing.T) { failAt(t, name, i, fault) })
			}
		}
	}
	t.Logf("%d places, of which %d were made to fail", places, cut)
}

// failAt has an act fail at the place with that number, and sees what comes of it.
func failAt(t *testing.T, name string, place int, fault string) {
	s := open(t)
	s.withWaiting(t)
	s.prepare(t, name)
	at := 0
	back := func() {}
	s.Books.Fault = func(string) error {
		at++
		switch {
		case at <= place:
		case fault == "killed":
			return shop.ErrKilled // it is dead from then on
		case fault == "database away" && at == place+1:
			back = s.takeDatabaseAway(t)
		case fault == "one error" && at == place+1, fault == "errors from there on":
			return errFailing
		}
		return nil
	}
	said := deeds[name].do(t, s)
	s.Books.Fault = nil
	back()
	if fault == "one error" { // the application goes on
		s.get(t, "/")
	} else {
		again, err := serve(s.Store, s.Data)
		if err != nil {
			t.Fatalf("the next start: %v", err)
		}
		again.Close()
	}
	if n := s.Books.Waiting(); n > 0 {
		t.Errorf("%d acts are still open", n)
	}
	s.sound(t, "afterwards", name, false)
	if strings.Contains(said, errFailing.Error()) {
		later := strings.Contains(strings.ToLower(said), shop.ErrLater.Error())
		if n := deeds[name].done(t, s, s.inBays(t, "afterwards")); n != one(later) {
			t.Errorf("it happened %d times, and what was said is %.2000s", n, said)
		}
	}
	// Nothing is blocked: the same can be done now, or was done.
	deeds[name].do(t, s)
	s.sound(t, "done again", name, true)
}

// takeDatabaseAway lets nothing more be written to the trail and the bays, as a database that was
// stopped would not; what it returns gives it back.
func (s *front) takeDatabaseAway(t *testing.T) func() {
	t.Helper()
	owner, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := owner.Exec("RENAME TABLE trail_entries TO trail_away, bays TO bays_away"); err != nil {
		t.Fatal(err)
	}
	return func() {
		defer owner.Close()
		if _, err := owner.Exec("RENAME TABLE trail_away TO trail_entries, bays_away TO bays"); err != nil {
			t.Fatal(err)
		}
	}
}

// inBays are the bays of the drives that are in one, each there and in no second one.
func (s *front) inBays(t *testing.T, how string) map[string]string {
	t.Helper()
	db, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	inBay := map[string]string{}
	rows, err := db.Query("SELECT letter, image FROM bays WHERE image IS NOT NULL")
	if err != nil {
		t.Fatalf("%s: %v", how, err)
	}
	defer rows.Close()
	for rows.Next() {
		var letter, image string
		if err := rows.Scan(&letter, &image); err != nil {
			t.Fatal(err)
		}
		if other, twice := inBay[image]; twice {
			t.Errorf("%s: %s is in the bays %s and %s", how, image, other, letter)
		}
		inBay[image] = letter
		if _, err := os.Stat(filepath.Join(s.Data, "drives", image)); err != nil {
			t.Errorf("%s: the drive of bay %s is not there", how, letter)
		}
	}
	return inBay
}

// sound checks the shop from its files, tables and trail alone: every drive is in one bay or in the
// dock, whole with what belongs to it; what was done stands in the trail once, and nothing that was
// not done stands there.
func (s *front) sound(t *testing.T, how, deed string, done bool) {
	t.Helper()
	inBay := s.inBays(t, how)
	list, err := filepath.Glob(filepath.Join(s.Data, "drives", "*.img*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range list {
		name, _, _ := strings.Cut(filepath.Base(p), ".img")
		if _, there := inBay[name+".img"]; !there {
			t.Errorf("%s: %s is in no bay", how, filepath.Base(p))
		}
	}
	acts := map[string]int{}
	db, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	lines, err := db.Query("SELECT line FROM trail_entries")
	if err != nil {
		t.Fatal(err)
	}
	defer lines.Close()
	for lines.Next() {
		var line string
		if err := lines.Scan(&line); err != nil {
			t.Fatal(err)
		}
		var e trail.Entry
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			t.Fatal(err)
		}
		acts[string(e.Act)]++
	}
	_, waits := os.Stat(filepath.Join(s.Data, "dock", "waiting.img"))
	if _, beside := os.Stat(filepath.Join(s.Data, "dock", "waiting.img.drive.json")); (beside == nil) != (waits == nil) {
		t.Errorf("%s: the drive lies in the dock: %v, and what it is: %v", how, waits == nil, beside == nil)
	}
	d := deeds[deed]
	was, entered := d.done(t, s, inBay), acts[string(d.enters)]-d.already
	if was != entered && !(d.repeats && was == 1 && entered >= 1) {
		t.Errorf("%s: it happened %d times, and is entered %d times", how, was, entered)
	}
	if done && was == 0 {
		t.Errorf("%s: it did not happen", how)
	}
}

// TestSmallFileStays attaches a file that is no drive: it stays in the dock.
func TestSmallFileStays(t *testing.T) {
	s := open(t)
	p := filepath.Join(s.Data, "dock", "tiny.img")
	if err := os.WriteFile(p, make([]byte, 512), 0o644); err != nil {
		t.Fatal(err)
	}
	s.post(t, "/dock/attach", "file", "tiny.img", "bay", s.freeBay(t), "model", "m", "serial", "TINY-1")
	if said := s.wait(t, "dock"); !strings.Contains(said, "too little") {
		t.Errorf("said %q", said)
	}
	if _, err := os.Stat(p); err != nil {
		t.Errorf("it left the dock: %v", err)
	}
}

// TestDetachInTheWay takes a drive out of its bay while a file in the dock has the name of one that goes
// with it: all stays as it was, and goes once that file is away.
func TestDetachInTheWay(t *testing.T) {
	s := open(t)
	for _, name := range []string{"tidewater-reception.img.drive.json", "tidewater-reception.img.pc.json"} {
		inTheWay := filepath.Join(s.Data, "dock", name)
		if err := os.WriteFile(inTheWay, []byte("{}"), 0o644); err != nil {
			t.Fatal(err)
		}
		if page := s.post(t, "/dock/detach", "bay", "A"); !strings.Contains(page, "nothing was replaced. Take it out of the folder dock first") {
			t.Errorf("with %s in the way: %.300s", name, page)
		}
		if n := s.Books.Waiting(); n != 0 {
			t.Fatalf("%d acts are open", n)
		}
		if b, err := os.ReadFile(inTheWay); err != nil || string(b) != "{}" {
			t.Errorf("%s holds %q, %v", name, b, err)
		}
		os.Remove(inTheWay)
		s.sound(t, name, "detach", false)
	}
	deeds["detach"].do(t, s)
	s.sound(t, "with nothing in the way", "detach", true)
}

// TestGoneImage takes a drive out of its bay whose image is not there: the bay is free then.
func TestGoneImage(t *testing.T) {
	s := open(t)
	if err := os.Remove(filepath.Join(s.Data, "drives", "tidewater-reception.img")); err != nil {
		t.Fatal(err)
	}
	if page := s.post(t, "/dock/detach", "bay", "A"); !strings.Contains(page, "Bay A is empty") {
		t.Errorf("says %.300s", page)
	}
}

// TestShelfStays takes a shelf's drive out of its bay while the deletion of a backup on it, which is
// entered, was cut short: the drive stays until the backup is gone, and goes then.
func TestShelfStays(t *testing.T) {
	s := open(t)
	deeds["backup"].do(t, s)
	cut := errors.New("cut")
	s.Books.Fault = func(place string) error {
		if place == "after the database" {
			return cut
		}
		return nil
	}
	deeds["backup deleted"].do(t, s)
	if len(s.backups(t)) != 1 {
		t.Fatal("the backup was deleted")
	}
	if page := s.post(t, "/dock/detach", "bay", "B"); !strings.Contains(page, "the drives stay in their bays until then") {
		t.Errorf("the shelf is taken out: %.300s", page)
	}
	s.Books.Fault = nil
	s.post(t, "/dock/detach", "bay", "B")
	drives, err := filepath.Glob(filepath.Join(s.Data, "dock", "*.img"))
	if err != nil || len(drives) != 1 {
		t.Fatalf("in the dock: %v, %v", drives, err)
	}
	s.post(t, "/dock/attach", "file", filepath.Base(drives[0]), "bay", "B", "model", "Quayline 64", "serial", "SHELF-1")
	s.wait(t, "dock")
	s.post(t, "/dock/shelf", "bay", "B")
	if got := s.backups(t); len(got) != 0 {
		t.Errorf("it is back: %v", got[0].ID)
	}
}

// TestShelfWasAway takes a shelf out of its bay and puts it back: nobody knows what was done to its backups
// meanwhile, and nothing is deleted in their name until they are read again.
func TestShelfWasAway(t *testing.T) {
	s := open(t)
	deeds["backup"].do(t, s)
	gate := func() string {
		t.Helper()
		return s.get(t, "/jobs/J-1042/safeguard")
	}
	s.planned(t, plan.Step{Partition: "4", Body: plan.Deletion{Release: "not wanted"}})
	if page := gate(); !strings.Contains(page, "All is settled") {
		t.Fatalf("with a backup that was just verified: %.3000s", page)
	}
	s.post(t, "/dock/detach", "bay", "B")
	drives, err := filepath.Glob(filepath.Join(s.Data, "dock", "*.img"))
	if err != nil || len(drives) != 1 {
		t.Fatalf("in the dock: %v, %v", drives, err)
	}
	s.post(t, "/dock/attach", "file", filepath.Base(drives[0]), "bay", "B", "model", "Quayline 64", "serial", "SHELF-1")
	s.wait(t, "dock")
	s.post(t, "/dock/shelf", "bay", "B")
	all := s.backups(t)
	if len(all) != 1 || all[0].Verified != nil || !all[0].Away {
		t.Fatalf("%+v", all)
	}
	if page := gate(); !strings.Contains(page, "has left its bay since it was verified") || strings.Contains(page, "All is settled") {
		t.Errorf("the gate says %.3000s", page)
	}
	s.post(t, s.shown(t, "J-1042", "carry-out"), "serial", "7F3K")
	if out := s.settle(t); !strings.Contains(out, "has left its bay") {
		t.Errorf("it was carried out: %s", out)
	}
	s.post(t, "/shelf/verify", "backup", all[0].ID)
	s.wait(t, "shelf")
	if page := gate(); !strings.Contains(page, "All is settled") {
		t.Errorf("once it was read again: %.3000s", page)
	}
}

// planned gives J-1042 a plan, and has the lead approve of all that it needs.
func (s *front) planned(t *testing.T, steps ...plan.Step) {
	t.Helper()
	s.plannedFor(t, "J-1042", steps...)
}

// plannedFor is planned for another job.
func (s *front) plannedFor(t *testing.T, job string, steps ...plan.Step) {
	t.Helper()
	_, d, err := s.OpenJob(job, "", false)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	if err := s.Store.SavePlan(job, store.Change{Steps: steps, Expect: d.Survey.Layout, Who: "Ines Marsh", When: s.Now()}); err != nil {
		t.Fatal(err)
	}
	st, err := s.state(job, "")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Drive.Close()
	lead, err := s.Store.Lead("odile")
	if err != nil {
		t.Fatal(err)
	}
	for _, ask := range shop.OpenAsks(st.Columns) {
		id, err := s.KeepAsk(st.JobState, ask, "Ines Marsh")
		if err == nil {
			err = s.Store.Answer(id, lead.ID, true, "as it was asked", s.Now())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// TestAsSeen carries out, and rehearses, only the plan and the drive that the page showed.
func TestAsSeen(t *testing.T) {
	s := open(t)
	drop := plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}}
	s.planned(t, drop)
	for _, act := range []string{"carry-out", "rehearse"} {
		was := s.shown(t, "J-1042", act)
		if page := s.post(t, "/jobs/J-1042/"+act, "serial", "7F3K"); !strings.Contains(page, "which plan and which drive") {
			t.Errorf("%s without saying of what: %.200s", act, page)
		}
		if page := s.post(t, was[:len(was)-4]+"0000", "serial", "7F3K"); !strings.Contains(page, "another one than you looked at") {
			t.Errorf("%s of another drive: %.200s", act, page)
		}
		s.planned(t, drop, plan.Step{Partition: "5", Body: plan.Labelling{Label: act}}) // a colleague
		if page := s.post(t, was, "serial", "7F3K"); !strings.Contains(page, "was changed since you looked at it") {
			t.Errorf("%s of a plan that was changed: %.200s", act, page)
		}
	}
	if r, err := s.Store.Unended(trail.Drive{}); err != nil || len(r) > 0 {
		t.Errorf("a run was begun: %v, %v", r, err)
	}
}

// TestEndOfPlan ends a run with the database away: the plan is at an end with the run, once it is
// back, and is not carried out a second time.
func TestEndOfPlan(t *testing.T) {
	s := open(t)
	s.planned(t, plan.Step{Partition: "6", Body: plan.Deletion{Release: "not wanted", Waiver: "none needed"}})
	j, d, err := s.OpenJob("J-1042", "", true)
	if err != nil {
		t.Fatal(err)
	}
	o := s.Options(d, j, "Tobias Wren")
	steps, _, _ := j.Steps()
	o.Plan, o.Serial = &plan.Plan{Version: 1, Steps: steps}, "7F3K"
	o.Trail = &endless{s.Store}
	_, err = run.CarryOut(context.Background(), o)
	d.Close()
	if !errors.Is(err, run.ErrWaiting) {
		t.Fatal(err)
	}
	again, err := serve(s.Store, s.Data)
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
	if j, _, err := s.Store.Job("J-1042", ""); err != nil || j.Plan != nil {
		t.Errorf("the plan is still there: %v", err)
	}
	if r, err := s.Store.Unended(trail.Drive{}); err != nil || len(r) > 0 {
		t.Errorf("still open: %v, %v", r, err)
	}
}

// endless is a trail that takes every beginning and no end.
type endless struct{ *store.Store }

func (e *endless) Append(entries ...trail.Entry) error {
	if entries[0].Ends() {
		return errors.New("the database is away")
	}
	return e.Store.Append(entries...)
}

// relay stands between the application and its database; closing it takes the database away.
type relay struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
}

func newRelay(t *testing.T, to string) *relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	r := &relay{Listener: l}
	t.Cleanup(r.cut)
	go func() {
		for {
			a, err := l.Accept()
			if err != nil {
				return
			}
			b, err := net.Dial("tcp", to)
			if err != nil {
				a.Close()
				continue
			}
			r.mu.Lock()
			r.conns = append(r.conns, a, b)
			r.mu.Unlock()
			go io.Copy(a, b)
			go io.Copy(b, a)
		}
	}()
	return r
}

func (r *relay) cut() {
	r.Close()
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range r.conns {
		c.Close()
	}
}

// openCut opens the shop with something between it and its database that can be cut.
func openCut(t *testing.T) (s *front, cut func()) {
	t.Helper()
	var between *relay
	s = openBy(t, func(dsn string) string {
		cfg, err := mysql.ParseDSN(dsn)
		if err != nil {
			t.Fatal(err)
		}
		between = newRelay(t, cfg.Addr)
		return strings.Replace(dsn, cfg.Addr, between.Addr().String(), 1)
	})
	return s, between.cut
}

// TestAwayMeanwhile takes the database away in the middle of an act: the page says what became of it,
// and never that it was not done where it was, or will be.
func TestAwayMeanwhile(t *testing.T) {
	for place, said := range map[string]string{
		"before the database": "It is written down and will be finished by itself",
		"after the database":  "Bay A is empty",
	} {
		s, cut := openCut(t)
		s.Books.Fault = func(at string) error {
			if at == place {
				cut()
			}
			return nil
		}
		page := s.post(t, "/dock/detach", "bay", "A")
		if !strings.Contains(page, said) || strings.Count(page, "<html") != 1 || strings.Contains(page, "was not done") || !strings.Contains(page, "The database is away") {
			t.Errorf("cut %s: %.1500s", place, page)
		}
	}
}

// TestNoRoomForSessions lets the database have no room: what was done is told on a page that says so, and a
// page whose session cannot be kept is not sent as well.
func TestNoRoomForSessions(t *testing.T) {
	s := open(t)
	stays := s.client.CheckRedirect
	s.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	s.post(t, "/dock/detach", "bay", "Z") // the next page has something to say
	s.client.CheckRedirect = stays
	owner, err := sql.Open("mysql", s.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer owner.Close()
	if _, err := owner.Exec("CREATE TRIGGER no_room BEFORE INSERT ON sessions FOR EACH ROW SIGNAL SQLSTATE 'HY000' SET MYSQL_ERRNO = 1114, MESSAGE_TEXT = 'The table sessions is full'"); err != nil {
		t.Fatal(err)
	}
	looked, sent := s.get(t, "/dock"), s.post(t, "/dock/detach", "bay", "A")
	for how, page := range map[string]string{"looked at": looked, "sent": sent} {
		if strings.Count(page, "<html") != 1 || !strings.Contains(page, "The database has no room left") || strings.Contains(page, "was not done") {
			t.Errorf("%s: %d pages, %.1500s", how, strings.Count(page, "<html"), page)
		}
	}
	if !strings.Contains(sent, "Bay A is empty") {
		t.Errorf("what was done is not told: %.1500s", sent)
	}
}

// TestThereAtOnce has the first page after the database is back show what was done, with what waited
// entered.
func TestThereAtOnce(t *testing.T) {
	s := open(t)
	var back func()
	s.Books.Fault = func(place string) error {
		if place == "before the database" && back == nil {
			back = s.takeDatabaseAway(t)
		}
		return nil
	}
	deeds["detach"].do(t, s)
	if s.Books.Waiting() != 1 {
		t.Fatal("nothing waits")
	}
	back()
	if page := s.get(t, "/"); !strings.Contains(page, "Bay A is empty") || !strings.Contains(page, "Drive taken out of bay A") || s.Books.Waiting() != 0 {
		t.Errorf("%d acts wait, the page says %.3000s", s.Books.Waiting(), page)
	}
	s.sound(t, "the first page", "detach", true)
}

// TestAway takes the database away from under the pages: each says so, and what goes on.
func TestAway(t *testing.T) {
	s, cut := openCut(t)
	health := func(want int) {
		t.Helper()
		r, err := s.client.Get(s.url + "/healthz")
		if err != nil || r.StatusCode != want {
			t.Errorf("healthz: %v, %v, want %d", r, err, want)
		}
		r.Body.Close()
	}
	health(200)
	cut()
	for _, path := range []string{"/", "/jobs/J-1042", "/trail", "/trail.jsonl", "/shelf", "/dock", "/sign-in"} {
		r, err := s.client.Get(s.url + path)
		if err != nil {
			t.Fatal(err)
		}
		if page := read(t)(r, nil); r.StatusCode != 503 || !strings.Contains(page, "The database is away") || strings.Contains(page, "Internal Server Error") {
			t.Errorf("%s: %d, %.200s", path, r.StatusCode, page)
		}
	}
	if page := s.post(t, "/dock/detach", "bay", "A"); !strings.Contains(page, "was not done") {
		t.Errorf("what was sent: %.300s", page)
	}
	_, verified := s.Store.Verify(t.Context(), nil, nil)
	for what, err := range map[string]error{
		"words": s.Store.LearnWords(), "lines": s.Store.Lines(t.Context(), "J-1042", func(string) error { return nil }), "verify": verified,
		"append": s.Store.Append(trail.Entry{ID: "e-x"}), "ping": s.Store.Ping(t.Context()),
	} {
		if err == nil || err.Error() != "the database cannot be reached" || !store.Away(err) {
			t.Errorf("%s: %v", what, err)
		}
	}
	health(503)
	if r, err := s.client.Get(s.url + "/static/css/basics.css"); err != nil || r.StatusCode != 200 {
		t.Errorf("the style: %v, %v", r, err)
	}
}
