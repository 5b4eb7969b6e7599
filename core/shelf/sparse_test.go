package shelf

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"

	"jadetrail/core/disk"
	"jadetrail/core/volume"
)

// TestMemberReads reads contents with holes from every place, and compares with the whole.
func TestMemberReads(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		whole := noise(1 + rng.IntN(5000))
		e := Entry{File: volume.File{Bytes: disk.Bytes(len(whole))}}
		for at := rng.IntN(900); at < len(whole); {
			n := min(1+rng.IntN(900), len(whole)-at)
			clear(whole[at : at+n])
			e.Holes = append(e.Holes, volume.Extent{Off: disk.Bytes(at), Len: disk.Bytes(n)})
			at += n + rng.IntN(600)
		}
		stored := []byte("before")
		for _, p := range e.data() {
			stored = append(stored, whole[p.Off:p.Off+p.Len]...)
		}
		if n, ok := e.stored(); !ok || int(n) != len(stored)-6 {
			t.Fatalf("%v: stored in %d bytes, %v, not %d", e.Holes, n, ok, len(stored)-6)
		}
		m := member{bytes.NewReader(stored), 6, e.Bytes, e.Holes}
		for range 20 {
			off := rng.IntN(len(whole))
			b := make([]byte, 1+rng.IntN(3000))
			n, err := m.ReadAt(b, int64(off))
			if want := whole[off:min(off+len(b), len(whole))]; !bytes.Equal(b[:n], want) || (n < len(b)) != (err == io.EOF) {
				t.Fatalf("%v: %d bytes from %d on are not these, %v", e.Holes, n, off, err)
			}
		}
	}
}

// TestHostileHoles refuses holes that overlap, go backwards, or lie beyond the file.
func TestHostileHoles(t *testing.T) {
	for _, text := range []string{"0+10,5+10", "20+5,0+5", "90+20", "-5+3", "5+-3", "5+0", "9223372036854775807+1", "1+9223372036854775807"} {
		e := Entry{File: volume.File{Bytes: 100}, Holes: holesOf(text)}
		if n, ok := e.stored(); ok {
			t.Errorf("%s: %v, stored in %d bytes", text, e.Holes, n)
		}
	}
	for _, text := range []string{"", "x", "1", "1+", "+1", "1+2,", "1+2;3+4"} {
		if got := holesOf(text); got != nil {
			t.Errorf("%q gives %v", text, got)
		}
	}
}

// TestUnmasked gives only the keys of the sparse format their names, not what a file's own name or
// stream says.
func TestUnmasked(t *testing.T) {
	name := "a file called GNU,sparse.major=1\n GNU,sparse.name=x"
	h := &tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Format: tar.FormatPAX, PAXRecords: map[string]string{
		keySparseIn + "major": "1", keySparseIn + "minor": "0", keySparseIn + "name": name, keySparseIn + "realsize": "4096", keyHoles: "0+4096", keyStream + "s": " GNU,sparse.major=1\n"}}
	var b bytes.Buffer
	if err := tar.NewWriter(&b).WriteHeader(h); err != nil {
		t.Fatal(err)
	}
	got := unmasked(b.Bytes(), h)
	if len(got) != b.Len() || !bytes.Equal(got[:tarBlock], b.Bytes()[:tarBlock]) {
		t.Fatal("its length or its block has changed")
	}
	for _, want := range []string{" GNU.sparse.major=1\n", " GNU.sparse.name=" + name + "\n", keyStream + "s= GNU,sparse.major=1\n"} {
		if !bytes.Contains(got, []byte(want)) {
			t.Errorf("%q does not stand there: %q", want, got[tarBlock:])
		}
	}
}

// TestSparseInFolder restores a sparse file into a folder, where it is one too.
func TestSparseInFolder(t *testing.T) {
	im, v := withFiles(t)
	sh, _ := Open(t.TempDir())
	m, err := sh.Make(context.Background(), filesRequest(im, v), nil)
	if err != nil {
		t.Fatal(err)
	}
	list, err := sh.ListOf(m)
	i := slices.IndexFunc(list, func(e Entry) bool { return e.Path == "sparse file.bin" })
	if err != nil || i < 0 || len(list[i].Holes) != 3 {
		t.Fatalf("the list has %+v, %v", list[max(i, 0)], err)
	}
	a, r, err := sh.Inside(m)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	to := t.TempDir()
	if _, err := ToFolder(context.Background(), a, []string{"sparse file.bin"}, filepath.Join(to, "out"), nil); err != nil {
		t.Fatal(err)
	}
	st, err := os.Stat(filepath.Join(to, "out", "sparse file.bin"))
	if err != nil || st.Size() != 6<<20 || st.Sys().(*syscall.Stat_t).Blocks*512 > 3<<20 {
		t.Errorf("it has %v bytes, %v", st, err)
	}
}

// FuzzHoles reads what a header says of holes: what passes divides the file, and is read without a panic.
func FuzzHoles(f *testing.F) {
	f.Add("0+10,20+5", int64(100), int64(3))
	f.Add("9223372036854775807+1", int64(1<<62), int64(0))
	f.Fuzz(func(t *testing.T, text string, size, off int64) {
		e := Entry{File: volume.File{Bytes: disk.Bytes(size)}, Holes: holesOf(text)}
		n, ok := e.stored()
		if !ok {
			return
		}
		if data := volume.LengthOf(e.data()); n < 0 || n > e.Bytes || data != n {
			t.Fatalf("%q of %d bytes: stored in %d, with %d of data", text, size, n, data)
		}
		b := make([]byte, 100)
		if got, _ := (member{bytes.NewReader(nil), 0, e.Bytes, e.Holes}).ReadAt(b, off); got < 0 || got > len(b) {
			t.Fatalf("%d bytes were read", got)
		}
	})
}
