package disk

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestParseAmount(t *testing.T) {
	for text, want := range map[string]Bytes{
		"42 GiB": 42 * GiB, "43008 MiB": 42 * GiB, "45 GB": 45e9, "+7 GiB": 7 * GiB, "half": 50 * GiB, "all": 100 * GiB,
		"all but 20 GiB": 80 * GiB, "1.5GiB": 3 * GiB / 2, "0,5 gib": GiB / 2, "  7   MiB ": 7 * MiB, "100 GiB": 100 * GiB, "512 B": 512, "ALL": 100 * GiB,
	} {
		if got, err := ParseAmount(text, 100*GiB); err != nil || got != want {
			t.Errorf("%q = %d, %v; want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"-5", "lots", "", "5", "5 pounds", "101 GiB", "all but all", "0 GiB", "1e9 B", "9999999999999999999999 TiB", "-5 GiB", "all but", "GiB", "1..5 GiB"} {
		if got, err := ParseAmount(text, 100*GiB); !errors.Is(err, ErrAmount) {
			t.Errorf("%q = %d, %v", text, got, err)
		} else if len(err.Error()) < 20 {
			t.Errorf("%q says only %q", text, err)
		}
	}
}

func TestWords(t *testing.T) {
	for b, want := range map[Bytes]string{0: "0 B", 1023: "1023 B", 138 * GiB: "138 GiB", 1290 * MiB: "1.26 GiB", 260 * MiB: "260 MiB", -GiB: "-1 GiB"} {
		if b.String() != want {
			t.Errorf("%d is %q, want %q", b, b, want)
		}
	}
	if s := Bytes(512110190592).Decimal(); s != "512.1 GB" {
		t.Error(s)
	}
	if s := Bytes(1234567).Exact(); s != "1\u00a0234\u00a0567 bytes" {
		t.Error(s)
	}
}

func TestOpenImageRefuses(t *testing.T) {
	dir := t.TempDir()
	for name, c := range map[string]struct {
		b    []byte
		want error
	}{"empty": {nil, ErrEmpty}, "a letter.txt": {[]byte(strings.Repeat("Dear customer, ", 999)), ErrNotImage}, "tiny": {make([]byte, 512), ErrNotImage}} {
		p := filepath.Join(dir, name)
		os.WriteFile(p, c.b, 0o644)
		if _, err := OpenImage(p, 0, false); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := OpenImage(dir, 0, false); !errors.Is(err, ErrNotImage) {
		t.Errorf("a folder: %v", err)
	}
	if _, err := OpenImage(filepath.Join(dir, "none"), 0, false); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("nothing: %v", err)
	}
}

// TestOverlay compares an overlay with a plain copy under the same random writes
// and holes.
func TestOverlay(t *testing.T) {
	const size = 256 << 10
	im, err := CreateImage(filepath.Join(t.TempDir(), "d"), size, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	rng := rand.New(rand.NewPCG(1, 2))
	want := make([]byte, size)
	for i := range 100000 {
		want[i] = byte(rng.Uint32())
	}
	im.WriteAt(want, 0)
	o, err := NewOverlay(im, "")
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	for range 500 {
		off, n := rng.IntN(size), 1+rng.IntN(20000)
		n = min(n, size-off)
		if rng.IntN(3) == 0 {
			clear(want[off : off+n])
			if err := o.Zero(Bytes(off), Bytes(n)); err != nil {
				t.Fatal(err)
			}
		} else {
			for i := range n {
				want[off+i] = byte(rng.Uint32())
			}
			o.WriteAt(want[off:off+n], int64(off))
		}
		at := rng.IntN(size)
		m := min(rng.IntN(30000), size-at)
		got, err := ReadFull(o, Bytes(at), Bytes(m))
		if err != nil || !bytes.Equal(got, want[at:at+m]) {
			t.Fatalf("read of %d at %d differs, %v", m, at, err)
		}
	}
	if _, err := o.WriteAt([]byte{1}, size); !errors.Is(err, ErrBounds) {
		t.Errorf("beyond the end: %v", err)
	}
	for at := Bytes(0); at < size; { // everything outside Data reads as zeros
		s, e, ok := o.Data(at)
		if !ok {
			s, e = size, size
		}
		for _, c := range want[at:min(s, size)] {
			if c != 0 {
				t.Fatalf("data between %d and %d is not reported", at, s)
			}
		}
		at = max(e, at+1)
	}
}

func TestPower(t *testing.T) {
	im, _ := CreateImage(filepath.Join(t.TempDir(), "d"), MiB, 512)
	defer im.Close()
	p := &Power{At: 3, Torn: true}
	f := NewFaulty(im, p)
	for i := range 2 {
		if _, err := f.WriteAt(bytes.Repeat([]byte{1}, 1024), int64(i)*4096); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.WriteAt(bytes.Repeat([]byte{2}, 2048), 8192); !errors.Is(err, ErrPowerCut) {
		t.Fatal(err)
	}
	b, _ := ReadFull(im, 8192, 2048)
	if b[1023] != 2 || b[1024] != 0 {
		t.Error("the write was not torn in its middle")
	}
	if f.Sync() == nil || p.Writes() != 3 {
		t.Error("the power came back")
	}
	w := NewWindow(im, 4096, 512)
	if _, err := w.WriteAt(make([]byte, 2), 511); !errors.Is(err, ErrBounds) {
		t.Errorf("a window can be left: %v", err)
	}
	if im2, _ := OpenImage(im.f.Name(), 512, false); im2 != nil {
		defer im2.Close()
		if _, err := im2.WriteAt([]byte{1}, 0); !errors.Is(err, ErrReadOnly) {
			t.Errorf("read-only: %v", err)
		}
	}
}

// TestLocks lets one writer at a drive, and none while it is read as a whole.
func TestLocks(t *testing.T) {
	p := filepath.Join(t.TempDir(), "d")
	w, err := CreateImage(p, MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := OpenImage(p, 0, true); !errors.Is(err, ErrInUse) {
		t.Errorf("a second writer: %v", err)
	}
	r, err := OpenImage(p, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if err := r.Share(); !errors.Is(err, ErrInUse) {
		t.Errorf("read as a whole while a writer is at work: %v", err)
	}
	w.Close()
	if err := r.Share(); err != nil {
		t.Error(err)
	}
	if _, err := OpenImage(p, 0, true); !errors.Is(err, ErrInUse) {
		t.Errorf("a writer while it is read as a whole: %v", err)
	}
	other, err := OpenImage(p, 0, false)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	if err := other.Share(); err != nil {
		t.Errorf("two readers: %v", err)
	}
}

func TestRecorder(t *testing.T) {
	im, err := CreateImage(filepath.Join(t.TempDir(), "d"), MiB, 512)
	if err != nil {
		t.Fatal(err)
	}
	defer im.Close()
	r := NewRecorder(im)
	r.WriteAt([]byte("abc"), 10)
	r.Zero(100, 50)
	if w := r.Written(); len(w) != 2 || w[0] != (Range{10, 13}) || w[1] != (Range{100, 150}) {
		t.Errorf("%v", w)
	}
}

func FuzzParseAmount(f *testing.F) {
	for _, s := range []string{"42 GiB", "all but half", "1,5tib", "+0.0000000001 B", "999999999999999999999999999999 TB"} {
		f.Add(s, int64(1<<40))
	}
	f.Fuzz(func(t *testing.T, text string, whole int64) {
		if whole < 0 {
			return
		}
		b, err := ParseAmount(text, Bytes(whole))
		if err == nil && (b < 1 || b > Bytes(whole)) {
			t.Errorf("%q of %d is %d", text, whole, b)
		}
	})
}
