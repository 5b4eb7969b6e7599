package shelf

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestOwn tells a shop's own backups from those of others and from its own that were altered, and takes one
// in once all of it was read.
func TestOwn(t *testing.T) {
	im, v, _ := withVolume(t)
	ours, key, _ := ed25519.GenerateKey(nil)
	former, old, _ := ed25519.GenerateKey(nil)
	_, strange, _ := ed25519.GenerateKey(nil)
	made := func(t *testing.T, k ed25519.PrivateKey) *Shelf {
		t.Helper()
		sh, err := Open(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		if sh.Key = k; k != nil {
			sh.Keys = []ed25519.PublicKey{k.Public().(ed25519.PublicKey)}
		}
		if _, err := sh.Make(context.Background(), request(im, v), nil); err != nil {
			t.Fatal(err)
		}
		sh.Key, sh.Keys = key, []ed25519.PublicKey{ours, former}
		return sh
	}
	// altered changes what a manifest says, with a sum that fits.
	altered := func(sh *Shelf, change func(m *Manifest)) error {
		path := filepath.Join(sh.Dir, "b-1", manifestFile)
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		var m Manifest
		if err := json.Unmarshal(b, &m); err != nil {
			return err
		}
		change(&m)
		if m.Sum, err = m.sum(); err != nil {
			return err
		}
		if b, err = json.Marshal(m); err != nil {
			return err
		}
		return os.WriteFile(path, b, 0o644)
	}
	for name, c := range map[string]struct {
		key     ed25519.PrivateKey
		change  func(m *Manifest)
		foreign bool
	}{
		"ours":                    {key, nil, false},
		"signed with our old key": {old, nil, false},
		"not signed":              {nil, nil, true},
		"of another shop":         {strange, nil, true},
		"said to be of another":   {key, func(m *Manifest) { m.From.Fingerprint = "other" }, true},
		"said to be verified":     {key, func(m *Manifest) { at := day.Add(time.Hour); m.Verified = &at }, true},
	} {
		t.Run(name, func(t *testing.T) {
			sh := made(t, c.key)
			if c.change != nil {
				if err := altered(sh, c.change); err != nil {
					t.Fatal(err)
				}
			}
			m, err := sh.Load("b-1")
			if err != nil || m.Foreign != c.foreign || (m.Verified == nil) != c.foreign {
				t.Fatalf("%+v, %v", m, err)
			}
			if _, err := sh.Verify(context.Background(), "b-1", day, nil); errors.Is(err, ErrForeign) != c.foreign {
				t.Errorf("verified: %v", err)
			}
			if err := sh.Keep("b-1", &day); errors.Is(err, ErrForeign) != c.foreign {
				t.Errorf("kept: %v", err)
			}
			if m, err := sh.Load("b-1"); err != nil || m.Foreign != c.foreign {
				t.Errorf("it has become the shop's: %v", err)
			}
			if _, err = sh.TakeIn(context.Background(), "b-1", "Odile Farrow", day, nil); (err == nil) != c.foreign {
				t.Fatalf("taken in: %v", err)
			}
			if !c.foreign {
				return
			}
			if m, err = sh.Load("b-1"); err != nil || m.Foreign || m.Verified == nil || m.TakenIn == nil || m.TakenIn.Who != "Odile Farrow" {
				t.Errorf("taken in: %+v, %v", m, err)
			}
		})
	}
	// What is not whole is not taken in.
	sh := made(t, strange)
	f, err := os.OpenFile(filepath.Join(sh.Dir, "b-1", Image.file()), os.O_RDWR, 0)
	if err == nil {
		_, err = f.WriteAt([]byte("something else"), 1000)
		f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if m, err := sh.TakeIn(context.Background(), "b-1", "Odile Farrow", day, nil); err == nil || !m.Foreign {
		t.Errorf("damaged, and taken in: %v", err)
	}
}

// TestLies tells, without reading them, of contents that are gone, cut short, or written to.
func TestLies(t *testing.T) {
	im, v, _ := withVolume(t)
	for name, c := range map[string]struct {
		change func(path string) error
		want   string
	}{
		"as it was":  {func(string) error { return nil }, ""},
		"gone":       {os.Remove, "are not on the shelf any more"},
		"cut short":  {func(p string) error { return os.Truncate(p, 4096) }, "are there, of"},
		"written to": {func(p string) error { return os.Chtimes(p, time.Now(), time.Now().Add(time.Minute)) }, "written to after"},
	} {
		sh, _ := Open(t.TempDir())
		if _, err := sh.Make(context.Background(), request(im, v), nil); err != nil {
			t.Fatal(err)
		}
		if err := c.change(filepath.Join(sh.Dir, "b-1", Image.file())); err != nil {
			t.Fatal(err)
		}
		m, err := sh.Load("b-1")
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if err := m.Lies(); err != nil {
			got = err.Error()
		}
		if (c.want == "") != (got == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s: %q", name, got)
		}
		if name != "written to" {
			continue
		}
		if _, err := sh.Verify(context.Background(), "b-1", day, nil); err != nil {
			t.Fatal(err)
		}
		if m, err = sh.Load("b-1"); err != nil || m.Lies() != nil {
			t.Errorf("verified again: %v, %v", err, m.Lies())
		}
	}
}
