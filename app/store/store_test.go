package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"reflect"
	"strings"
	"sync"
	"testing"
	"time"

	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// fresh gives the test a database of its own on the private server that the
// test command starts.
func fresh(t *testing.T) (s *Store, owner *sql.DB) {
	t.Helper()
	ownerDSN, appDSN := os.Getenv("JADETRAIL_TEST_OWNER_DSN"), os.Getenv("JADETRAIL_TEST_DSN")
	if ownerDSN == "" {
		t.Skip("needs the private MariaDB that `make test` starts")
	}
	name := fmt.Sprintf("jadetrail_t%d", time.Now().UnixNano())
	admin, err := sql.Open("mysql", ownerDSN)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := admin.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { admin.Exec("DROP DATABASE " + name); admin.Close() })
	at := func(dsn string) string { return strings.Replace(dsn, "/jadetrail", "/"+name, 1) }
	if err := Migrate(context.Background(), at(ownerDSN), "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	if s, err = Open(at(appDSN)); err != nil {
		t.Fatal(err)
	}
	owner, err = sql.Open("mysql", at(ownerDSN))
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
	r, err := s.Verify(context.Background())
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
			if r, err := s.Verify(context.Background()); err != nil || r.Sound() != (i == 1) {
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
	if r, err := s.Verify(context.Background()); err != nil || !r.Sound() || r.Entries != 80 {
		t.Errorf("%+v, %v", r, err)
	}
	list, err := s.Entries(Filter{Job: "J-1042", Text: "ENTRY 703", Limit: 5})
	if err != nil || len(list) != 1 || list[0].Record != "d-703" {
		t.Errorf("%+v, %v", list, err)
	}
}

func TestSignInAndPlans(t *testing.T) {
	s, _ := fresh(t)
	for range 2 { // seeding twice changes nothing
		if err := s.SeedDemo(); err != nil {
			t.Fatal(err)
		}
	}
	if p, err := s.SignIn(" Ines ", "lantern-ines"); err != nil || p.Name != "Ines Marsh" || p.Lead || strings.Contains(p.PasswordHash, "lantern") {
		t.Errorf("%+v, %v", p, err)
	}
	for _, c := range [][2]string{{"ines", "wrong"}, {"nobody", "lantern-ines"}, {"", ""}} {
		if _, err := s.SignIn(c[0], c[1]); !errors.Is(err, ErrSignIn) {
			t.Errorf("%v: %v", c, err)
		}
	}
	steps := []plan.Step{{Do: plan.Delete, Partition: "4", Release: "r"}}
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
	if err := s.EndPlan("J-1042"); err != nil {
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
