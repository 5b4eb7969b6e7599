package signin

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
)

var monday = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

func TestPasswords(t *testing.T) {
	ctx := context.Background()
	kept, err := Hash(ctx, "four lanterns on a quay", Public)
	if err != nil || strings.Contains(kept, "lanterns") {
		t.Fatalf("kept %q, %v", kept, err)
	}
	for password, want := range map[string]bool{
		"four lanterns on a quay": true, "four lanterns on a quay ": false, "": false,
		strings.Repeat("x", 1<<20): false,
	} {
		if got, err := Check(ctx, kept, password); got != want || err != nil {
			t.Errorf("Check(%.30q) is %v, %v; want %v", password, got, err, want)
		}
	}
	for _, hash := range []string{"", "x", "$argon2id$v=19$m=999999999,t=1,p=1$AAAA$AAAA", "$argon2id$$$$", "$argon2id$v=19$m=1024,t=1,p=1$AAAA$"} {
		if got, err := Check(ctx, hash, "anything at all"); got || err != nil {
			t.Errorf("Check of %q is %v, %v", hash, got, err)
		}
	}
}

func TestGood(t *testing.T) {
	for password, want := range map[string]error{
		"short":                   ErrShort,
		"Zwölf Zeich":             ErrShort,
		"password1234":            ErrCommon,
		"qwertyuiop12":            ErrCommon,
		"aaaaaaaaaaaaaaaa":        ErrCommon,
		"odilefarrow1":            ErrCommon,
		"lantern quay":            ErrCommon,
		"four herons mend a kiln": nil,
		"x8!kQ2pLw9#z":            nil,
		strings.Repeat("äß ", 50): ErrLong,
	} {
		if err := Good(password, "odile", "Odile Farrow", "Lantern Quay Repairs"); !errors.Is(err, want) {
			t.Errorf("Good(%q) is %v, want %v", password, err, want)
		}
	}
}

// However many passwords are sent at once, two are looked at.
func TestHashingIsBounded(t *testing.T) {
	var mu sync.Mutex
	var all sync.WaitGroup
	now, most := 0, 0
	for range 30 {
		all.Go(func() {
			if err := look(context.Background(), func() {
				mu.Lock()
				now++
				most = max(most, now)
				mu.Unlock()
				time.Sleep(2 * time.Millisecond)
				mu.Lock()
				now--
				mu.Unlock()
			}); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if most != cap(looking) {
		t.Errorf("%d were looked at at once, want %d", most, cap(looking))
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	looking <- struct{}{}
	looking <- struct{}{}
	defer func() { <-looking; <-looking }()
	if err := look(ctx, func() { t.Error("it was looked at") }); !errors.Is(err, ErrBusy) {
		t.Errorf("without a place: %v", err)
	}
}

func TestCodes(t *testing.T) {
	code := NewCode()
	kept := KeptOf(code)
	for given, want := range map[string]bool{
		code: true, strings.ToLower(code): true, strings.ReplaceAll(code, "-", " "): true,
		strings.ReplaceAll(code, "-", ""): true, code[1:]: false, "": false, NewCode(): false,
	} {
		if SameCode(kept, given) != want {
			t.Errorf("SameCode(%q) of %q is not %v", given, code, want)
		}
	}
	if SameCode("", "") {
		t.Error("no code is a code")
	}
}

func TestSecond(t *testing.T) {
	secret, err := NewSecond()
	if err != nil {
		t.Fatal(err)
	}
	number, err := totp.GenerateCode(secret, monday)
	if err != nil {
		t.Fatal(err)
	}
	in, ok := Second(secret, number[:3]+" "+number[3:], monday.Add(20*time.Second), 0)
	if !ok {
		t.Fatal("the number of now is refused")
	}
	for name, x := range map[string]struct {
		number string
		at     time.Time
		last   int64
		want   bool
	}{
		"the same once more":       {number, monday.Add(time.Second), in, false},
		"a clock half a minute on": {number, monday.Add(35 * time.Second), 0, true},
		"a clock a minute on":      {number, monday.Add(65 * time.Second), 0, false},
		"no number":                {"", monday, 0, false},
		"letters":                  {"abcdef", monday, 0, false},
	} {
		if _, ok := Second(secret, x.number, x.at, x.last); ok != x.want {
			t.Errorf("%s: %v", name, ok)
		}
	}
	if link := SecondLink(secret, "Lantern Quay & Sons", "odile"); !strings.HasPrefix(link, "otpauth://totp/Lantern%20Quay%20%26%20Sons:odile?secret="+secret) {
		t.Error(link)
	}
}

func TestLimits(t *testing.T) {
	l := NewLimits()
	stranger := Attempt{Source: "10.0.0.9", Account: "3"}
	for i := range perSource {
		if wait := l.Wait(stranger, monday); wait != 0 {
			t.Fatalf("failure %d waits %v", i, wait)
		}
		l.Failed(stranger, monday)
	}
	other := stranger
	other.Account = "4"
	if l.Wait(stranger, monday) != span || l.Wait(other, monday) != span {
		t.Error("the source may go on, with this account or another")
	}
	// From many sources, the account is the bound; its owner's browser is not kept out.
	for i := range 2 * perAccount {
		a := Attempt{Source: fmt.Sprint("10.0.1.", i), Account: "3"}
		if i < perAccount-perSource && l.Wait(a, monday) != 0 {
			t.Errorf("source %d waits", i)
		}
		l.Failed(a, monday)
	}
	if l.Wait(Attempt{Source: "10.0.2.1", Account: "3"}, monday) == 0 {
		t.Error("the account may be tried further")
	}
	if wait := l.Wait(Attempt{Source: "10.0.0.9", Account: "3", Known: "browser"}, monday); wait != 0 {
		t.Errorf("its owner waits %v", wait)
	}
	if l.Wait(stranger, monday.Add(span)) != 0 {
		t.Error("it is never over")
	}
}
