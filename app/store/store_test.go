package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"golang.org/x/sys/unix"

	"jadetrail/app/store/storetest"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// fresh gives the test a database of its own on the private server that the
// test command starts.
func fresh(t *testing.T) (s *Store, owner *sql.DB) {
	t.Helper()
	ownerDSN, appDSN := storetest.Database(t)
	if err := Migrate(context.Background(), ownerDSN, "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	var err error
	if s, err = Open(appDSN); err != nil {
		t.Fatal(err)
	}
	owner, err = sql.Open("mysql", ownerDSN)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close(); owner.Close() })
	return s, owner
}

func entry(i int) trail.Entry {
	return trail.Entry{ID: fmt.Sprint("e-", i), Time: time.Now(), Who: "Ines Marsh", Act: trail.ActDelete, Job: "J-1042", Text: fmt.Sprint("entry ", i), Record: fmt.Sprint("d-", i)}
}

func TestTrailCannotBeChanged(t *testing.T) {
	s, owner := fresh(t)
	for i := range 5 {
		if err := s.Append(entry(i), entry(i)); err != nil {
			t.Fatal(err)
		}
	}
	app, _ := s.SQL()
	for _, q := range []string{
		"UPDATE trail_entries SET who = 'x'", "DELETE FROM trail_entries", "TRUNCATE trail_entries", "DROP TABLE trail_entries", "ALTER TABLE trail_entries ADD x INT",
		"DROP TRIGGER trail_entries_no_update", "CREATE TRIGGER x BEFORE INSERT ON trail_entries FOR EACH ROW SET @a = 1", "REPLACE INTO trail_entries SELECT * FROM trail_entries",
		"INSERT INTO trail_entries SELECT * FROM trail_entries ON DUPLICATE KEY UPDATE who = 'x'", "UPDATE goose_db_version SET version_id = 9",
	} {
		if _, err := app.Exec(q); err == nil {
			t.Errorf("the application's account can: %s", q)
		}
	}
	for _, q := range []string{"UPDATE trail_entries SET who = 'x'", "DELETE FROM trail_entries"} {
		if _, err := owner.Exec(q); err == nil || !strings.Contains(err.Error(), "never") {
			t.Errorf("no trigger refuses %q: %v", q, err)
		}
	}
	r, err := s.Verify(context.Background(), nil, nil)
	if err != nil || !r.Sound() || r.Entries != 5 {
		t.Fatalf("%+v, %v", r, err)
	}
	var out bytes.Buffer
	if err := s.Export(context.Background(), &out); err != nil {
		t.Fatal(err)
	}
	if r, _ := trail.Verify(&out, nil); !r.Sound() || r.Entries != 5 {
		t.Errorf("exported: %+v", r)
	}
	// Behind its back, with the triggers away.
	for _, q := range []string{"DROP TRIGGER trail_entries_no_update", "DROP TRIGGER trail_entries_no_delete"} {
		if _, err := owner.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	for name, c := range map[string][2]string{
		"line altered": {`UPDATE trail_entries SET line = REPLACE(line, 'entry 2', 'entry 9') WHERE seq = 3`, `UPDATE trail_entries SET line = REPLACE(line, 'entry 9', 'entry 2') WHERE seq = 3`},
		"who altered":  {`UPDATE trail_entries SET who = 'Tobias Wren' WHERE seq = 2`, `UPDATE trail_entries SET who = 'Ines Marsh' WHERE seq = 2`},
		"removed":      {`UPDATE trail_entries SET seq = 99 WHERE seq = 3`, `UPDATE trail_entries SET seq = 3 WHERE seq = 99`},
	} {
		for i, q := range c {
			if _, err := owner.Exec(q); err != nil {
				t.Fatal(err)
			}
			if r, err := s.Verify(context.Background(), nil, nil); err != nil || r.Sound() != (i == 1) {
				t.Errorf("%s, %d: %+v, %v", name, i, r, err)
			}
		}
	}
}

func TestTrailManyWriters(t *testing.T) {
	s, _ := fresh(t)
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 10 {
				if err := s.Append(entry(w*100 + i)); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	if r, err := s.Verify(context.Background(), nil, nil); err != nil || !r.Sound() || r.Entries != 80 {
		t.Errorf("%+v, %v", r, err)
	}
	list, err := s.Entries(Filter{Job: "J-1042", Text: "ENTRY 703", Limit: 5})
	if err != nil || len(list) != 1 || list[0].Record != "d-703" {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestTrailFilters compares what filters with a limit let through, which comes from memory, with
// what the entries say; what came since is found too.
func TestTrailFilters(t *testing.T) {
	s, db := fresh(t)
	var all []trail.Entry
	add := func(n int) {
		for range n {
			i := len(all)
			e := entry(i)
			e.Time = time.Date(2026, 11, 1+i%9, 8, 0, i, 0, time.UTC)
			e.Who, e.Job, e.Act = []string{"Ines Marsh", "Tobias Wren"}[i%2], fmt.Sprint("J-", 1040+i%3), []trail.Act{trail.ActDelete, trail.ActGrow}[i/2%2]
			if e.Drive.DiskID = fmt.Sprint("disk ", i%4); i%4 == 1 { // whose table is made anew now and then
				e.Drive = trail.Drive{DiskID: fmt.Sprint("table ", i), Serial: "S-1", Model: "m"}
			}
			e.Text = fmt.Sprintf("Größe of partition %d", i%7)
			if err := s.Append(e); err != nil {
				t.Fatal(err)
			}
			all = append(all, e)
		}
	}
	for range 2 {
		add(60)
		for _, f := range []Filter{
			{Text: "GRÖSSE of"}, {Text: "größe OF partition 3"}, {Job: "J-1041"}, {Label: "disk 2", Act: "delete"}, {Who: "Tobias Wren", Text: "partition 1"}, {Label: "S-1"},
			{Record: "d-41"}, {From: time.Date(2026, 11, 3, 0, 0, 0, 0, time.UTC), To: time.Date(2026, 11, 5, 0, 0, 0, 0, time.UTC)}, {Before: 33, Job: "J-1042"}, {Before: 12}, {Text: "100%_"},
		} {
			var want []string
			for i := len(all) - 1; i >= 0 && len(want) < 7; i-- {
				e := all[i]
				is := func(w, h string) bool { return w == "" || w == h }
				if (f.Before == 0 || int64(i+1) < f.Before) && is(f.Job, e.Job) && is(f.Label, cmp.Or(e.Drive.Serial, e.Drive.DiskID)) && is(f.Act, string(e.Act)) && is(f.Who, e.Who) && is(f.Record, e.Record) &&
					(f.From.IsZero() || !e.Time.Before(f.From)) && (f.To.IsZero() || e.Time.Before(f.To)) && strings.Contains(strings.ToLower(e.Text), strings.ToLower(f.Text)) {
					want = append(want, e.ID)
				}
			}
			f.Limit = 7
			got, err := s.Entries(f)
			if err != nil || len(got) != len(want) {
				t.Fatalf("%+v: %d entries instead of %d, %v", f, len(got), len(want), err)
			}
			for i := range got {
				if got[i].ID != want[i] {
					t.Errorf("%+v: %s instead of %s", f, got[i].ID, want[i])
				}
			}
		}
	}
	if got, err := s.Drives(); err != nil || len(got) != 4 || got[3] != (Choice{"S-1", "S-1, m"}) {
		t.Errorf("%+v, %v", got, err)
	}
	// What comes after the newest were cut off is found too.
	for _, q := range []string{"DROP TRIGGER trail_entries_no_delete", "DELETE FROM trail_entries WHERE seq > 50"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	all = all[:50]
	add(1)
	if got, err := s.Entries(Filter{Text: "größe", Limit: 3}); err != nil || len(got) != 3 || got[0].Seq != 51 {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestSignInAndPlans(t *testing.T) {
	s, _ := fresh(t)
	for range 2 { // seeding twice changes nothing
		if err := s.Seed(opening()); err != nil {
			t.Fatal(err)
		}
	}
	if p, err := s.SignIn(t.Context(), " Ines ", "lantern-ines"); err != nil || p.Name != "Ines Marsh" || p.Lead() || strings.Contains(p.PasswordHash, "lantern") {
		t.Errorf("%+v, %v", p, err)
	}
	for _, c := range [][2]string{{"ines", "wrong"}, {"nobody", "lantern-ines"}, {"", ""}} {
		if _, err := s.SignIn(t.Context(), c[0], c[1]); !errors.Is(err, ErrSignIn) {
			t.Errorf("%v: %v", c, err)
		}
	}
	steps := []plan.Step{{Partition: "4", Body: plan.Deletion{Release: "r"}}}
	if err := s.SavePlan("J-1042", Change{Steps: steps, Expect: &layout.Layout{Scheme: "gpt", DiskID: "d"}, When: time.Now()}); err != nil {
		t.Fatal(err)
	}
	j, bay, err := s.Job("J-1042", "")
	if err != nil || bay == nil || bay.Letter != "A" {
		t.Fatalf("%+v, %v", bay, err)
	}
	if got, l, err := j.Steps(); err != nil || len(got) != 1 || !reflect.DeepEqual(got[0], steps[0]) || l.DiskID != "d" {
		t.Errorf("%+v, %+v, %v", got, l, err)
	}
	if err := s.Append(trail.Entry{ID: trail.EndID("r-1", "done"), Time: time.Now(), Act: trail.ActDone, Run: "r-1", Job: "J-1042"}); err != nil {
		t.Fatal(err)
	}
	if j, _, _ := s.Job("J-1042", ""); j.Plan != nil {
		t.Error("the plan is still there")
	}
	if _, _, err := s.Job("J-9999", ""); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
}

func TestOtherSchemas(t *testing.T) {
	s, owner := fresh(t)
	appDSN := os.Getenv("JADETRAIL_TEST_DSN")
	var name string
	owner.QueryRow("SELECT DATABASE()").Scan(&name)
	dsn := strings.Replace(appDSN, "/jadetrail", "/"+name, 1)
	s.Close()
	owner.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)")
	if _, err := Open(dsn); !errors.Is(err, ErrSchema) || !strings.Contains(err.Error(), "newer") {
		t.Errorf("a newer schema: %v", err)
	}
	owner.Exec("DELETE FROM goose_db_version WHERE version_id > 0")
	if _, err := Open(dsn); !errors.Is(err, ErrSchema) || !strings.Contains(err.Error(), "migrate") {
		t.Errorf("an older schema: %v", err)
	}
	if _, err := Open("jadetrail_app:x@tcp(127.0.0.1:1)/jadetrail"); !errors.Is(err, ErrUnreachable) {
		t.Errorf("no server: %v", err)
	}
}

// TestTampering alters the stored trail in every way that somebody with all rights over the
// database can, and checks what is found: with the chain and the signatures alone, and with
// heads that were kept elsewhere.
func TestTampering(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	_, other, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	// anew writes the rows as somebody would who knows how they are made, with a key or none.
	anew := func(db *sql.DB, k ed25519.PrivateKey, from int, change func(e *trail.Entry)) {
		t.Helper()
		previous := trail.First
		if err := db.QueryRow("SELECT hash FROM trail_entries WHERE seq = ?", from-1).Scan(&previous); err != nil && from > 1 {
			t.Fatal(err)
		}
		rows, err := db.Query("SELECT line FROM trail_entries WHERE seq >= ? ORDER BY seq", from)
		if err != nil {
			t.Fatal(err)
		}
		var all []trail.Entry
		for rows.Next() {
			var line string
			var e trail.Entry
			if err := rows.Scan(&line); err != nil || json.Unmarshal([]byte(line), &e) != nil {
				t.Fatal(err)
			}
			all = append(all, e)
		}
		rows.Close()
		for i, e := range all {
			if change(&e); e.ID == "" {
				continue
			}
			line, sealed, err := trail.Seal(e, int64(from+i), previous, k)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := db.Exec("UPDATE trail_entries SET line = ?, hash = ?, who = ?, id = ? WHERE seq = ?", line, sealed.Hash, e.Who, e.ID, sealed.Seq); err != nil {
				t.Fatal(err)
			}
			previous = sealed.Hash
		}
	}
	exec := func(q ...string) func(db *sql.DB) {
		return func(db *sql.DB) {
			for _, x := range q {
				if _, err := db.Exec(x); err != nil {
					t.Fatal(x, err)
				}
			}
		}
	}
	for _, c := range []struct {
		name        string
		do          func(db *sql.DB)
		alone, with string // what is said without and with the kept head of entry 8, of 10
	}{
		{"a column altered", exec("UPDATE trail_entries SET who = 'Nobody' WHERE seq = 4"), "Entry 4: the column who", "Entry 4: the column who"},
		{"a time altered", exec("UPDATE trail_entries SET time = '2020-01-01' WHERE seq = 4"), "Entry 4: the column time", "Entry 4: the column time"},
		{"a line altered", exec("UPDATE trail_entries SET line = REPLACE(line, 'entry 3', 'entry X') WHERE seq = 4"), "Entry 4: its contents do not fit its hash", "Entry 4: its contents"},
		{"a row removed", exec("DELETE FROM trail_entries WHERE seq = 4"), "Entry 4: it has number 5", "Entry 4: it has number 5"},
		{"a row added", exec("INSERT INTO trail_entries (seq, id, time, who, act, job, disk, record, hash, line) SELECT 11, 'e-x', time, who, act, job, disk, record, hash, line FROM trail_entries WHERE seq = 10"), "Entry 11: it has number 10", "Entry 11: it has number 10"},
		{"two rows changed about", exec("UPDATE trail_entries SET seq = 99 WHERE seq = 4", "UPDATE trail_entries SET seq = 4 WHERE seq = 5", "UPDATE trail_entries SET seq = 5 WHERE seq = 99"), "Entry 4: it has number 5", "Entry 4: it has number 5"},
		{"a row sealed anew", func(db *sql.DB) {
			n := 0
			anew(db, key, 4, func(e *trail.Entry) {
				if n++; n == 1 {
					e.Text = "something else"
				} else {
					e.ID = ""
				}
			})
		}, "Entry 5: it does not follow the entry before it", "Entry 5: it does not follow"},
		{"all written anew with another key", func(db *sql.DB) { anew(db, other, 4, func(e *trail.Entry) { e.Who = "Nobody" }) }, "Entry 4: its signature was not made with this key", "Entry 4: its signature"},
		{"all written anew without a key", func(db *sql.DB) { anew(db, nil, 4, func(e *trail.Entry) { e.Who = "Nobody" }) }, "Entry 4: it is not signed", "Entry 4: it is not signed"},
		// What the chain alone cannot show:
		{"all written anew with the shop's own key", func(db *sql.DB) { anew(db, key, 4, func(e *trail.Entry) { e.Who = "Nobody" }) }, "", "Entry 8: it is not the one whose head was signed and kept on the shelf"},
		{"the newest five cut off", exec("DELETE FROM trail_entries WHERE seq > 5"), "", "Entries 6 to 8 are gone: the head of entry 8"},
		{"all removed", exec("DELETE FROM trail_entries"), "", "Entries 1 to 8 are gone"},
		// And what a head of entry 8 cannot show:
		{"those after the head cut off", exec("DELETE FROM trail_entries WHERE seq > 8"), "", ""},
		{"those after the head written anew with the shop's own key", func(db *sql.DB) { anew(db, key, 9, func(e *trail.Entry) { e.Who = "Nobody" }) }, "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, owner := fresh(t)
			s.Key = key
			var heads []trail.Head
			for i := range 10 {
				if err := s.Append(entry(i)); err != nil {
					t.Fatal(err)
				}
				if i == 7 {
					seq, hash, err := s.Head()
					if err != nil || seq != 8 {
						t.Fatal(seq, err)
					}
					heads = append(heads, trail.SignHead(seq, hash, time.Now(), key))
				}
			}
			if r, err := s.Verify(context.Background(), heads, nil); err != nil || !r.Sound() || r.Kept != 8 || r.Signed != 10 {
				t.Fatalf("untouched: %+v, %v", r, err)
			}
			exec("DROP TRIGGER trail_entries_no_update", "DROP TRIGGER trail_entries_no_delete")(owner)
			c.do(owner)
			for want, heads := range map[string][]trail.Head{"alone " + c.alone: nil, "with " + c.with: heads} {
				_, want, _ = strings.Cut(want, " ")
				r, err := s.Verify(context.Background(), heads, nil)
				if err != nil || r.Sound() != (want == "") || !strings.Contains(strings.Join(r.Problems, " "), want) {
					t.Errorf("%d heads: %v, %v; not %q", len(heads), r.Problems, err, want)
				}
			}
			forged := trail.SignHead(8, strings.Repeat("0", 64), time.Now(), other)
			if r, _ := s.Verify(context.Background(), []trail.Head{forged}, nil); !strings.Contains(strings.Join(r.Problems, " "), "was not signed with this shop's key") {
				t.Errorf("a forged head: %v", r.Problems)
			}
		})
	}
}

// TestTrouble gives errors of the database their words, and keeps what they are.
func TestTrouble(t *testing.T) {
	full := &mysqldriver.MySQLError{Number: 1114, Message: "The table 'trail_entries' is full"}
	for _, c := range []struct {
		err        error
		away, full bool
		text       string
	}{
		{&net.OpError{Op: "dial", Err: errors.New("connection refused")}, true, false, "the database cannot be reached"},
		{fmt.Errorf("entering: %w", mysqldriver.ErrInvalidConn), true, false, "the database cannot be reached"},
		{full, false, true, "the database has no room left on its disk"},
		{&mysqldriver.MySQLError{Number: 1030, Message: `Got error 28 "No space left on device" from storage engine`}, false, true, "the database has no room left on its disk"},
		{&mysqldriver.MySQLError{Number: 1062, Message: "Duplicate entry"}, false, false, "Error 1062: Duplicate entry"},
	} {
		said := inWords(c.err)
		if said.Error() != c.text || Away(said) != c.away || Full(said) != c.full || !errors.Is(said, c.err) && !errors.Is(c.err, said) {
			t.Errorf("%v: %v, away %v, full %v", c.err, said, Away(said), Full(said))
		}
		if c.full && !errors.Is(said, unix.ENOSPC) {
			t.Errorf("%v is no full disk", said)
		}
		if again := inWords(fmt.Errorf("once more: %w", said)); again.Error() != "once more: "+c.text {
			t.Errorf("worded twice: %v", again)
		}
	}
}

// opening is a shop with three people, two jobs and their drives.
func opening() Opening {
	reception, studio, shelf := "reception.img", "studio.img", "shelf.img"
	first, second := "J-1042", "J-1043"
	return Opening{
		People: []NewPerson{
			{Name: "Ines Marsh", Login: "ines", Password: "lantern-ines"},
			{Name: "Tobias Wren", Login: "tobias", Password: "lantern-tobias"},
			{Name: "Odile Farrow", Login: "odile", Password: "lantern-odile", Role: Leader},
		},
		Jobs: []Job{{Number: first, Customer: "Tidewater Vets"}, {Number: second, Customer: "Kiln & Clover pottery"}},
		Bays: []Bay{
			{Letter: "A", Image: &reception, Job: &first}, {Letter: "B", Image: &shelf, Shelf: true}, {Letter: "C"},
			{Letter: "D", Image: &studio, Job: &second},
		},
	}
}

// TestPast compares a drive's history in short with all of it, for drives that have a serial number, a table, both and
// neither, and whose tables were made anew.
func TestPast(t *testing.T) {
	s, _ := fresh(t)
	rnd := rand.New(rand.NewPCG(7, 20))
	drives := []trail.Drive{
		{Serial: "AA-1", DiskID: "d1"}, {Serial: "AA-1", DiskID: "d2"}, {Serial: "BB-2", DiskID: "d1"}, {DiskID: "d1"}, {DiskID: "d3"}, {Serial: "CC-3"}, {},
	}
	acts := []trail.Act{trail.ActDone, trail.ActUndone, trail.ActMark, trail.ActPlan, trail.ActDelete, trail.ActVoid}
	at := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	good, last, open := 0, 0, 0
	var began []string
	for round := range 12 {
		var list []trail.Entry
		for i := range 25 {
			e := trail.Entry{
				ID: fmt.Sprintf("past-%d-%d", round, i), Time: at.Add(time.Duration(round*100+i) * time.Second), Who: "Ines Marsh",
				Act: acts[rnd.IntN(len(acts))], Drive: drives[rnd.IntN(len(drives))], Run: fmt.Sprintf("run-%d", rnd.IntN(4)), Text: "x",
			}
			if e.Act == trail.ActPlan {
				e.Run = "run of " + e.ID
				began = append(began, e.Run)
			} else if len(began) > 0 && rnd.IntN(3) == 0 {
				e.Run = began[rnd.IntN(len(began))]
			}
			list = append(list, e)
		}
		writer := &Trail{db: s.Trail.db, Log: s.Trail.Log} // somebody else's, every other time
		if round%2 == 0 {
			writer = s.Trail
		}
		if err := writer.Append(list...); err != nil {
			t.Fatal(err)
		}
		for _, d := range append(drives, drives...) { // found, and kept
			begun, err := s.Unended(d)
			anew, err2 := (&Trail{db: s.Trail.db}).Unended(d)
			if err != nil || err2 != nil || !reflect.DeepEqual(begun, anew) {
				t.Errorf("%+v: begun %+v, %v; want %+v, %v", d, begun, err, anew, err2)
			}
			open += len(begun)
			all, err := s.Entries(Filter{Drive: &d})
			if err != nil {
				t.Fatal(err)
			}
			want := Past{Entries: len(all)}
			if i := slices.IndexFunc(all, func(e trail.Entry) bool { return e.Act == trail.ActDone || e.Act == trail.ActUndone }); i >= 0 {
				want.Last = &all[i]
				want.Good = slices.ContainsFunc(all, func(e trail.Entry) bool { return e.Act == trail.ActMark && e.Run == want.Last.Run })
				last++
			}
			got, err := s.Past(d)
			if err != nil || !reflect.DeepEqual(got, want) {
				t.Errorf("%+v: %+v, %v; want %+v", d, got, err, want)
			}
			look, err := s.Look()
			if err != nil {
				t.Fatal(err)
			}
			if once, err := look.Past(d); err != nil || !reflect.DeepEqual(once, want) {
				t.Errorf("%+v, looked at once: %+v, %v; want %+v", d, once, err, want)
			}
			if once, err := look.Unended(d); err != nil || !reflect.DeepEqual(once, anew) {
				t.Errorf("%+v, looked at once: begun %+v, %v; want %+v", d, once, err, anew)
			}
			if got.Good {
				good++
			}
		}
	}
	if open == 0 {
		t.Error("no run was ever open")
	}
	if good == 0 || good == last {
		t.Errorf("of %d runs %d were good: nothing is told apart", last, good)
	}
}

// TestJobsOfBackups compares what is kept of the jobs of backups with the whole trail, while entries come to it from here
// and behind its back.
func TestJobsOfBackups(t *testing.T) {
	s, _ := fresh(t)
	rnd := rand.New(rand.NewPCG(3, 21))
	want := map[string]string{}
	at := time.Date(2026, 12, 2, 9, 0, 0, 0, time.UTC)
	for round := range 10 {
		var list []trail.Entry
		for i := range rnd.IntN(6) {
			e := trail.Entry{
				ID: fmt.Sprintf("jobs-%d-%d", round, i), Time: at, Who: "Ines Marsh", Act: trail.ActBackup, Text: "x",
				Backup: fmt.Sprintf("b-%d", rnd.IntN(20)), Job: fmt.Sprintf("J-%d", rnd.IntN(9)),
			}
			if rnd.IntN(3) == 0 {
				e.Act = trail.ActVerify
			} else {
				want[e.Backup] = e.Job
			}
			list = append(list, e)
		}
		writer := &Trail{db: s.Trail.db, Log: s.Trail.Log}
		if round%2 == 0 {
			writer = s.Trail
		}
		if err := writer.Append(list...); err != nil {
			t.Fatal(err)
		}
		for range 2 {
			got, err := s.JobsOfBackups()
			if err != nil || !maps.Equal(got, want) {
				t.Fatalf("round %d: %v, %v; want %v", round, got, err, want)
			}
			clear(got) // the caller's own
		}
	}
}
