package main

import (
	"bytes"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jadetrail/core/trail"
)

// entries is a trail that a key is held against.
type entries []trail.Entry

func (l entries) last(ok func(e *trail.Entry) bool) (*trail.Entry, error) {
	for i := len(l) - 1; i >= 0; i-- {
		if ok(&l[i]) {
			return &l[i], nil
		}
	}
	return nil, nil
}

func (l entries) NewestSigned() (*trail.Entry, error) {
	return l.last(func(e *trail.Entry) bool { return e.Signature != "" })
}

func (l entries) NewestKey() (*trail.Entry, error) {
	return l.last(func(e *trail.Entry) bool { return e.Act == trail.ActKey })
}

// add signs an entry into the trail.
func (l *entries) add(t *testing.T, e trail.Entry, key ed25519.PrivateKey) {
	t.Helper()
	_, sealed, err := trail.Seal(e, int64(len(*l)+1), trail.First, key)
	if err != nil {
		t.Fatal(err)
	}
	*l = append(*l, sealed)
}

// TestShopKey starts with a key that is gone, another one, or one that its public half does not
// belong to: each is refused, and nothing is made in its place.
func TestShopKey(t *testing.T) {
	stranger := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize))
	text := func(b []byte) []byte { return []byte(base64.StdEncoding.EncodeToString(b) + "\n") }
	for name, c := range map[string]struct {
		spoil func(dir string)
		says  string
	}{
		"as it was":      {func(string) {}, ""},
		"no public half": {func(dir string) { os.Remove(filepath.Join(dir, publicFile)) }, ""},
		"gone":           {func(dir string) { os.Remove(filepath.Join(dir, keyFile)) }, "is gone"},
		"another": {func(dir string) {
			os.WriteFile(filepath.Join(dir, keyFile), text(stranger.Seed()), 0o600)
			os.Remove(filepath.Join(dir, publicFile))
		}, "did not sign"},
		"no key": {func(dir string) { os.WriteFile(filepath.Join(dir, keyFile), []byte("x"), 0o600) }, "does not hold a key"},
		"another public one": {func(dir string) {
			os.WriteFile(filepath.Join(dir, publicFile), text(stranger.Public().(ed25519.PublicKey)), 0o644)
		}, "does not belong"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			var l entries
			key, err := shopKey(dir, l) // the first start
			if err != nil {
				t.Fatal(err)
			}
			l.add(t, trail.Entry{ID: "e-1", Time: time.Now(), Act: trail.ActBackup}, key)
			c.spoil(dir)
			was, _ := os.ReadFile(filepath.Join(dir, keyFile))
			again, err := shopKey(dir, l)
			is, _ := os.ReadFile(filepath.Join(dir, keyFile))
			switch {
			case c.says == "" && (err != nil || !again.Equal(key)):
				t.Errorf("refused: %v", err)
			case c.says != "" && (!errors.Is(err, errKey) || !strings.Contains(err.Error(), c.says) || !strings.Contains(err.Error(), "Nothing was changed")):
				t.Errorf("says %v", err)
			case !bytes.Equal(was, is):
				t.Error("the key was replaced")
			}
		})
	}
}

// TestNewKeyCutShort cuts the change of the key short before and after the trail has it.
func TestNewKeyCutShort(t *testing.T) {
	for _, entered := range []bool{false, true} {
		dir := t.TempDir()
		var l entries
		key, err := shopKey(dir, l)
		if err != nil {
			t.Fatal(err)
		}
		l.add(t, trail.Entry{ID: "e-1", Time: time.Now(), Act: trail.ActBackup}, key)
		fresh := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{9}, ed25519.SeedSize))
		if err := writeKey(filepath.Join(dir, comingKey), fresh); err != nil {
			t.Fatal(err)
		}
		want := key
		if entered {
			public, _ := key.Public().(ed25519.PublicKey)
			l.add(t, trail.Entry{ID: "e-2", Time: time.Now(), Act: trail.ActKey, Key: trail.NewKey(public, fresh, false)}, key)
			// The next entry would be signed with the new key.
			want = fresh
		}
		got, err := shopKey(dir, l)
		if err != nil || !got.Equal(want) {
			t.Errorf("entered %v: %v", entered, err)
		}
		if _, err := os.Stat(filepath.Join(dir, comingKey)); err == nil {
			t.Errorf("entered %v: the coming key is left", entered)
		}
	}
}
