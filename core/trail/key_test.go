package trail

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"strings"
	"testing"
	"time"
)

func keyOf(n byte) (ed25519.PublicKey, ed25519.PrivateKey) {
	k := ed25519.NewKeyFromSeed(bytes.Repeat([]byte{n}, ed25519.SeedSize))
	public, _ := k.Public().(ed25519.PublicKey)
	return public, k
}

// signedBy makes a trail of entries each of which is signed with a key; 0 for the entry that changes
// the key, as change has it.
func signedBy(t *testing.T, keys []byte, change func(i int) (*KeyChange, byte)) []byte {
	t.Helper()
	var out []byte
	previous := First
	for i, n := range keys {
		e := Entry{ID: fmt.Sprint("e-", i), Time: time.Unix(int64(i), 0), Act: ActBackup, Who: "Ines Marsh"}
		if n == 0 {
			e.Act, e.Who, e.Reason = ActKey, "Odile Farrow", "the old one was lost"
			e.Key, n = change(i)
		}
		_, key := keyOf(n)
		line, sealed, err := Seal(e, int64(i+1), previous, key)
		if err != nil {
			t.Fatal(err)
		}
		out = append(append(out, line...), '\n')
		previous = sealed.Hash
	}
	return out
}

// TestFormerHeads holds a trail against heads that the former key signed.
func TestFormerHeads(t *testing.T) {
	one, first := keyOf(1)
	two, second := keyOf(2)
	_, third := keyOf(3)
	b := signedBy(t, []byte{1, 1, 0, 2}, func(int) (*KeyChange, byte) { return NewKey(one, second, false), 1 })
	hash := func(n int) string {
		e, err := ReadLine(bytes.Split(b, []byte("\n"))[n-1])
		if err != nil {
			t.Fatal(err)
		}
		return e.Hash
	}
	now := time.Unix(9, 0)
	for name, c := range map[string]struct {
		head Head
		says string
	}{
		"by the former key":      {SignHead(2, hash(2), now, first), ""},
		"of another entry":       {SignHead(2, hash(1), now, first), "Entry 2: it is not the one"},
		"of one that is gone":    {SignHead(9, hash(2), now, first), "are gone"},
		"by a stranger":          {SignHead(2, hash(2), now, third), "does not count"},
		"by the key that it has": {SignHead(4, hash(4), now, second), ""},
	} {
		r, err := Verify(bytes.NewReader(b), two, c.head)
		if err != nil {
			t.Fatal(err)
		}
		said := strings.Join(r.Problems, " ")
		if c.says == "" && (!r.Sound() || r.Kept != c.head.Seq) || !strings.Contains(said, c.says) {
			t.Errorf("%s: says %q, want %q; kept up to %d", name, said, c.says, r.Kept)
		}
	}
}

// TestKeys changes the key that signs the trail: signed over by the former one, or begun anew.
func TestKeys(t *testing.T) {
	one, _ := keyOf(1)
	two, second := keyOf(2)
	three, third := keyOf(3)
	over := func(int) (*KeyChange, byte) { return NewKey(one, second, false), 1 }
	anew := func(int) (*KeyChange, byte) { return NewKey(one, second, true), 2 }
	for name, c := range map[string]struct {
		keys   []byte
		change func(int) (*KeyChange, byte)
		with   ed25519.PublicKey
		says   string // "" for sound
	}{
		"one key":                    {[]byte{1, 1, 1}, nil, one, ""},
		"signed over":                {[]byte{1, 1, 0, 2, 2}, over, two, ""},
		"begun anew":                 {[]byte{1, 1, 0, 2, 2}, anew, two, ""},
		"begun anew, not said so":    {[]byte{1, 1, 0, 2}, func(int) (*KeyChange, byte) { return NewKey(one, second, false), 2 }, two, "signature was not made"},
		"the former key again":       {[]byte{1, 0, 2, 1}, over, two, "Entry 4: its signature"},
		"checked with the former":    {[]byte{1, 0, 2}, over, one, "another key"},
		"another key, without a say": {[]byte{1, 1, 2}, nil, one, "Entry 3: its signature"},
		"twice": {[]byte{1, 0, 2, 0, 3}, func(i int) (*KeyChange, byte) {
			if i == 1 {
				return NewKey(one, second, false), 1
			}
			return NewKey(two, third, false), 2
		}, three, ""},
		"an entry by a stranger before it": {[]byte{3, 0, 2}, over, two, "Entry 1: its signature"},
		"the new key has not agreed": {[]byte{1, 0, 2}, func(int) (*KeyChange, byte) {
			k := NewKey(one, third, false)
			k.New = NewKey(one, second, false).New
			return k, 1
		}, two, "has not agreed"},
	} {
		t.Run(name, func(t *testing.T) {
			r, err := Verify(bytes.NewReader(signedBy(t, c.keys, c.change)), c.with)
			if err != nil {
				t.Fatal(err)
			}
			said := strings.Join(r.Problems, " ")
			if c.says == "" && !r.Sound() || c.says != "" && !strings.Contains(said, c.says) {
				t.Errorf("says %q, want %q", said, c.says)
			}
			if want := bytes.Count(c.keys, []byte{0}); len(r.Keys) != want {
				t.Errorf("tells of %d changes, want %d", len(r.Keys), want)
			}
		})
	}
}
