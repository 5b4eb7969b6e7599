package main

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"jadetrail/app/shop"
	"jadetrail/app/store"
)

// Accounts are kept at the terminal, beside a server that runs, and when no lead is left.
func TestPeopleAtTheTerminal(t *testing.T) {
	ownerDSN, appDSN := os.Getenv("JADETRAIL_TEST_OWNER_DSN"), os.Getenv("JADETRAIL_TEST_DSN")
	if ownerDSN == "" {
		t.Skip("needs the private MariaDB that `make test` starts")
	}
	name := fmt.Sprintf("jadetrail_p%d", time.Now().UnixNano())
	admin, err := sql.Open("mysql", ownerDSN)
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if _, err := admin.Exec("CREATE DATABASE " + name); err != nil {
		t.Fatal(err)
	}
	defer admin.Exec("DROP DATABASE " + name)
	at := func(dsn string) string { return strings.Replace(dsn, "/jadetrail", "/"+name, 1) }
	if err := store.Migrate(context.Background(), at(ownerDSN), "jadetrail_app"); err != nil {
		t.Fatal(err)
	}
	data := t.TempDir()
	t.Setenv("JADETRAIL_DATA", data)
	t.Setenv("JADETRAIL_DSN", at(appDSN))
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
