package main

import (
	"context"
	"regexp"
	"strings"
	"testing"
	"time"

	"jadetrail/app/shop"
	"jadetrail/app/store"
	"jadetrail/app/store/storetest"
	"jadetrail/core/trail"
)

// database makes a database with empty tables, and returns the address of the application's account.
func database(t *testing.T) string {
	t.Helper()
	ownerDSN, appDSN := storetest.Database(t)
	if err := store.Migrate(context.Background(), ownerDSN, "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	return appDSN
}

// A demo is opened as one and as nothing else, and a shop is no demo.
func TestDemoStaysADemo(t *testing.T) {
	for _, first := range []bool{true, false} {
		st, err := store.Open(database(t))
		if err != nil {
			t.Fatal(err)
		}
		defer st.Close()
		if err := rightKind(st, first); err != nil {
			t.Fatal(err)
		}
		if !first {
			if err := st.OpenShop(store.Settings{Name: "A shop", OpenedAt: time.Now()}, &store.Technician{Login: "odile", Name: "Odile Farrow", Role: store.Leader}, nil, trail.Entry{ID: "e-1", Act: trail.ActShop}); err != nil {
				t.Fatal(err)
			}
		}
		if err := rightKind(st, first); err != nil {
			t.Errorf("once more: %v", err)
		}
		if err := rightKind(st, !first); err == nil || !strings.Contains(err.Error(), "Nothing was started") {
			t.Errorf("begun as a demo: %v, opened otherwise: %v", first, err)
		}
		if _, err := st.SignIn(t.Context(), "odile", "lantern-odile"); (err == nil) != first {
			t.Errorf("the demo's lead signs in: %v", err)
		}
	}
}

// Accounts are kept at the terminal, beside a server that runs, and when no lead is left.
func TestPeopleAtTheTerminal(t *testing.T) {
	t.Setenv("JADETRAIL_DSN", database(t))
	data := t.TempDir()
	t.Setenv("JADETRAIL_DATA", data)
	run := func(args ...string) (int, string) {
		code, said, _ := bin(t, append([]string{"people"}, args...)...)
		return code, said
	}
	if code, _ := run("list"); code != exitUse {
		t.Errorf("before the first day: %d", code)
	}
	st, leave, err := enterShop(data) // the server runs meanwhile
	if err != nil {
		t.Fatal(err)
	}
	defer leave()
	if st.Key, err = shopKey(data, st); err != nil {
		t.Fatal(err)
	}
	s, err := shop.New(shop.Options{Store: st, Data: data})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	first, err := s.Welcome()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.OpenUp(t.Context(), shop.FirstDay{Code: first, Shop: "Lantern Quay Repairs", Login: "odile", Name: "Odile Farrow", Password: "four herons mend a kiln", Bays: 3}); err != nil {
		t.Fatal(err)
	}
	codeForm := regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}-[A-Z2-7]{4}`)
	code, said := run("add", "ines", "Ines Marsh")
	if code != 0 || !codeForm.MatchString(said) {
		t.Fatalf("%d, %q", code, said)
	}
	if _, err := s.Enter(t.Context(), "ines", codeForm.FindString(said), "slow barges carry salt"); err != nil {
		t.Error(err)
	}
	for _, x := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"add", "ines", "Another"}, exitNo, ""},
		{[]string{"add", "rhea", "Rhea Moss", "--role", "boss"}, exitUse, ""},
		{[]string{"add", "rhea", "Rhea Moss", "--role", "reader"}, 0, "within a week"},
		{[]string{"disable", "odile"}, exitNo, ""}, // the last lead
		{[]string{"disable", "nobody"}, exitNo, ""},
		{[]string{"disable", "ines"}, 0, "switched off"},
		{[]string{"reset", "odile", "--second"}, 0, "within a day"}, // also the last lead, who has forgotten the password
		{[]string{"reset", "ines"}, 0, "within a day"},              // and is on again
		{[]string{"list"}, 0, "no password chosen yet"},
		{[]string{"add", "one"}, exitUse, ""},
	} {
		if code, said := run(x.args...); code != x.code || !strings.Contains(said, x.says) {
			t.Errorf("people %v: %d, %q; want %d, %q", x.args, code, said, x.code, x.says)
		}
	}
	list, err := st.Entries(store.Filter{})
	if err != nil || len(list) < 6 || !strings.HasSuffix(list[0].Who, "at the terminal") || list[0].Signature == "" {
		t.Errorf("%d entries, the newest %+v, %v", len(list), list[:1], err)
	}
}
