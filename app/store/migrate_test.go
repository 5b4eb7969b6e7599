package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/pressly/goose/v3"

	"jadetrail/app/store/storetest"
)

// TestFromEveryVersion brings the database of each earlier version up to date, with people, jobs and drives in it: all
// of them are there afterwards, and who was a lead is one.
func TestFromEveryVersion(t *testing.T) {
	last, err := newest()
	if err != nil {
		t.Fatal(err)
	}
	for version := int64(1); version < last; version++ {
		t.Run(fmt.Sprint("version ", version), func(t *testing.T) {
			ownerDSN, appDSN := storetest.Database(t)
			db, err := sql.Open("mysql", ownerDSN+"?parseTime=true")
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			p, err := goose.NewProvider(goose.DialectMySQL, db, migrationFiles())
			if err == nil {
				_, err = p.UpTo(t.Context(), version)
			}
			if err != nil {
				t.Fatal(err)
			}
			hash := "$argon2id$v=19$m=1024,t=1,p=1$AAAAAAAAAAAAAAAAAAAAAA$AAAA"
			people := "INSERT INTO technicians (login, name, `lead`, password_hash) VALUES ('ines', 'Ines Marsh', 0, '" + hash + "'), ('odile', 'Odile Farrow', 1, '" + hash + "')"
			its := []string{"INSERT INTO jobs (number, customer, pc, story, want) VALUES ('J-1042', 'Tidewater Vets', 'reception PC', 's', 'w'), ('J-1043', 'Tidewater Vets', 'second PC', 's', 'w')"}
			signedIn := 0
			if version >= 8 { // with roles, customers and settings, and sessions that last
				signedIn = 1
				people = strings.NewReplacer("`lead`", "role", " 0,", " 'technician',", " 1,", " 'lead',").Replace(people)
				its = []string{
					"INSERT INTO shops (id, name, address, demo, opened_at) VALUES (1, 'A shop', '', 1, UTC_TIMESTAMP(3))",
					"INSERT INTO customers (id, name) VALUES (7, 'Tidewater Vets')",
					strings.NewReplacer("want)", "want, customer_id)", "'w')", "'w', 7)").Replace(its[0]),
				}
			}
			for _, q := range append(its,
				people,
				"INSERT INTO bays (letter, image, job) VALUES ('A', 'a.img', 'J-1042'), ('B', NULL, NULL)",
				"INSERT INTO sessions (token, data, expiry) VALUES ('t', 'd', '2030-01-01')",
			) {
				if _, err := db.Exec(q); err != nil {
					t.Fatal(err)
				}
			}
			if err := Migrate(context.Background(), ownerDSN, "jadetrail_app"); err != nil {
				t.Fatal(err)
			}
			s, err := Open(appDSN)
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			all, err := s.Accounts()
			if err != nil || len(all) != 2 || all[0].Role != Worker || all[1].Role != Leader || all[1].PasswordHash != hash {
				t.Errorf("%+v, %v", all, err)
			}
			jobs, err := s.OpenJobs()
			if err != nil || len(jobs) != 2 || jobs[0].CustomerID == nil || *jobs[0].CustomerID != *jobs[1].CustomerID || jobs[0].PC != "reception PC" {
				t.Errorf("%+v, %v", jobs, err)
			}
			if set, err := s.Settings(); err != nil || !set.Demo { // its people's passwords were the demo's
				t.Errorf("%+v, %v", set, err)
			}
			if bays, err := s.BaysOf("J-1042"); err != nil || len(bays) != 1 {
				t.Errorf("%+v, %v", bays, err)
			}
			var sessions int
			if err := db.QueryRow("SELECT COUNT(*) FROM sessions").Scan(&sessions); err != nil || sessions != signedIn {
				t.Errorf("%d sessions of before, %v", sessions, err)
			}
		})
	}
}

// The application's account can do to the new tables what it needs, and no more.
func TestRightsOfTheAccount(t *testing.T) {
	s, _ := fresh(t)
	for _, q := range []string{
		"DELETE FROM technicians", "DELETE FROM jobs", "DELETE FROM customers", "DELETE FROM notes", "DELETE FROM shops",
		"DELETE FROM known_browsers", "DROP TABLE notes", "ALTER TABLE shops ADD x INT", "TRUNCATE sittings", "CREATE TABLE x (y INT)",
		"DELETE FROM trail_entries", "UPDATE trail_entries SET line = ''", "DROP TRIGGER trail_entries_no_update",
		"DELETE FROM goose_db_version", "CREATE USER x",
	} {
		if err := s.db.Exec(q).Error; err == nil || !strings.Contains(err.Error(), "denied") {
			t.Errorf("%s: %v", q, err)
		}
	}
}
