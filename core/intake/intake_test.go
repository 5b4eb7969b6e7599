package intake

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"jadetrail/core/disk"
)

// driveSize is a whole number of the cylinders that a VHD tells, by which some programs
// go.
const driveSize = 18428 * 512

// contents is what the drive in testdata holds: words, bytes that do not compress, and
// much nothing.
func contents() []byte {
	b := make([]byte, driveSize)
	rng := rand.New(rand.NewPCG(1043, 1))
	for i := 0; i < 40000; i += 16 {
		copy(b[i:], fmt.Sprintf("celadon %06d \n", i))
	}
	for i := range 5000 {
		b[3<<20+700+i] = byte(rng.Uint32())
	}
	copy(b[driveSize-100:], "the end of the drive")
	return b
}

func drive(t *testing.T, b []byte) *disk.Image {
	t.Helper()
	im, err := disk.CreateImage(filepath.Join(t.TempDir(), "d.img"), disk.Bytes(len(b)), 512)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { im.Close() })
	for i := 0; i < len(b); i += 4096 {
		if p := b[i:min(i+4096, len(b))]; !disk.Zeros(p) {
			im.WriteAt(p, int64(i))
		}
	}
	return im
}

// taken takes an image file in and returns what it holds.
func taken(t *testing.T, path string, room disk.Bytes) ([]byte, Format, error) {
	t.Helper()
	s, err := Open(path)
	if err != nil {
		return nil, "", err
	}
	defer s.Close()
	to := filepath.Join(t.TempDir(), "taken.img")
	last := Progress{}
	if err := s.TakeIn(context.Background(), to, room, func(p Progress) { last = p }); err != nil {
		if _, e := os.Stat(to); e == nil {
			t.Errorf("%s: half an image was left behind", path)
		}
		return nil, s.Format, err
	}
	if last.Done > last.Total {
		t.Errorf("%s: progress %+v", path, last)
	}
	b, err := os.ReadFile(to)
	return b, s.Format, err
}

func TestFormats(t *testing.T) {
	want := contents()
	dev := drive(t, want)
	for _, format := range []Format{Raw, Gzip, Zstd, VHDFixed, VHDDynamic, Qcow2} {
		path := filepath.Join(t.TempDir(), "out"+format.Ends())
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := HandOut(context.Background(), dev, f, format, nil); err != nil {
			t.Fatal(format, err)
		}
		f.Close()
		got, found, err := taken(t, path, disk.GiB)
		if err != nil || found != format || !bytes.Equal(got, want) {
			t.Errorf("%s: read as %s, %d bytes, %v", format, found, len(got), err)
		}
		if st, _ := os.Stat(path); format == Qcow2 && st.Size() > 1<<20 || format == VHDDynamic && st.Size() > 7<<20 {
			t.Errorf("%s: takes %d bytes", format, st.Size())
		}
		// Another program's opinion, where there is one.
		if tool, err := exec.LookPath("qemu-img"); err == nil && format != Gzip && format != Zstd {
			kind := map[Format]string{Raw: "raw", VHDFixed: "vpc", VHDDynamic: "vpc", Qcow2: "qcow2"}[format]
			raw := filepath.Join(t.TempDir(), "raw")
			os.WriteFile(raw, want, 0o644)
			if out, err := exec.Command(tool, "compare", "-f", kind, "-F", "raw", path, raw).CombinedOutput(); err != nil {
				t.Errorf("%s: %s", format, out)
			}
			if out, err := exec.Command(tool, "check", "-f", kind, path).CombinedOutput(); err != nil && (format == Qcow2) {
				t.Errorf("%s: %s", format, out)
			}
		}
	}
}

// unpacked is an image of another program from testdata.
func unpacked(t *testing.T, name string) string {
	t.Helper()
	f, err := os.Open("testdata/" + name + ".zst")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := zstd.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	path := filepath.Join(t.TempDir(), name)
	out, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.Copy(out, z); err != nil {
		t.Fatal(err)
	}
	out.Close()
	return path
}

var others = map[string]Format{
	"dynamic.vhd": VHDDynamic, "fixed.vhd": VHDFixed, "plain.qcow2": Qcow2, "old.qcow2": Qcow2, "deflate.qcow2": Qcow2, "zstd.qcow2": Qcow2, "small.qcow2": Qcow2,
}

// TestOtherPrograms takes in what another program has written.
func TestOtherPrograms(t *testing.T) {
	want := contents()
	for name, format := range others {
		got, found, err := taken(t, unpacked(t, name), disk.GiB)
		// A VHD's length is rounded up by its geometry.
		if err != nil || found != format || len(got) < len(want) || !bytes.Equal(got[:len(want)], want) || len(got) > len(want)+1<<20 {
			t.Errorf("%s: read as %s, %d bytes, %v", name, found, len(got), err)
		}
	}
}

func TestRefusals(t *testing.T) {
	dir := t.TempDir()
	file := func(name string, b []byte) string {
		p := filepath.Join(dir, name)
		os.WriteFile(p, b, 0o644)
		return p
	}
	patch := func(name string, at int, b ...byte) string {
		raw, err := os.ReadFile(unpacked(t, name))
		if err != nil {
			t.Fatal(err)
		}
		if at < 0 {
			at += len(raw)
		}
		copy(raw[at:], b)
		return file(fmt.Sprint("patched-", at, "-", b[0], name), raw)
	}
	var z bytes.Buffer
	w, _ := zstd.NewWriter(&z)
	w.Write(contents())
	w.Close()
	for name, c := range map[string]struct {
		path string
		room disk.Bytes
		want error
		says string
	}{
		"empty":                {file("empty", nil), disk.GiB, ErrFormat, "empty"},
		"a letter":             {file("letter", []byte("Dear Sir")), disk.GiB, ErrFormat, "sectors"},
		"a folder":             {dir, disk.GiB, ErrFormat, "plain file"},
		"cut zstd":             {file("cut.zst", z.Bytes()[:z.Len()/2]), disk.GiB, ErrFormat, "cut off"},
		"damaged gzip":         {file("d.gz", append([]byte{0x1f, 0x8b, 8}, make([]byte, 600)...)), disk.GiB, ErrFormat, ""},
		"no room":              {file("room.zst", z.Bytes()), 20000, ErrRoom, "taken away"},
		"VHD checksum":         {patch("fixed.vhd", -512+20, 9), disk.GiB, ErrFormat, "checksum"},
		"VHD header":           {patch("dynamic.vhd", 512+30, 9), disk.GiB, ErrFormat, "checksum"},
		"qcow2 of a version":   {patch("plain.qcow2", 7, 9), disk.GiB, ErrFormat, "version 9"},
		"qcow2 with a base":    {patch("plain.qcow2", 15, 9), disk.GiB, ErrFormat, "another image"},
		"qcow2 encrypted":      {patch("plain.qcow2", 35, 1), disk.GiB, ErrFormat, "encrypted"},
		"qcow2 elsewhere":      {patch("plain.qcow2", 79, 4), disk.GiB, ErrFormat, "another file"},
		"qcow2 of no size":     {patch("plain.qcow2", 24, 0x7f), disk.GiB, ErrFormat, "claims"},
		"qcow2 with its table": {patch("plain.qcow2", 40, 0x7f), disk.GiB, ErrFormat, "first table"},
	} {
		if _, _, err := taken(t, c.path, c.room); !errors.Is(err, c.want) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	for name := range others {
		s, err := Open(unpacked(t, name))
		if err != nil {
			t.Fatal(err)
		}
		if err := s.TakeIn(ctx, filepath.Join(dir, "stopped"), disk.GiB, nil); !errors.Is(err, context.Canceled) {
			t.Errorf("%s, stopped: %v", name, err)
		}
		s.Close()
	}
}

// FuzzOpen opens whatever a file holds and takes it in.
func FuzzOpen(f *testing.F) {
	for name := range others {
		z, err := os.ReadFile("testdata/" + name + ".zst")
		if err != nil {
			f.Fatal(err)
		}
		d, _ := zstd.NewReader(nil)
		b, err := d.DecodeAll(z, nil)
		if err != nil || len(b) > 1<<20 {
			continue
		}
		f.Add(b)
	}
	f.Add(vhdFooter(1<<20, 3, 0))
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > 16<<20 {
			return
		}
		p := filepath.Join(t.TempDir(), "f")
		os.WriteFile(p, b, 0o644)
		s, err := Open(p)
		if err != nil {
			return
		}
		defer s.Close()
		if s.Size > 256*disk.MiB { // it takes as long as the drive is large
			return
		}
		if err := s.TakeIn(context.Background(), p+".img", 64*disk.MiB, nil); err == nil {
			if st, _ := os.Stat(p + ".img"); s.Size >= 0 && disk.Bytes(st.Size()) != s.Size {
				t.Errorf("took in %d bytes of %d", st.Size(), s.Size)
			}
		}
	})
}
