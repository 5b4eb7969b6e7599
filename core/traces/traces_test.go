package traces

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// TestFound hides a text in every way, and finds it; and finds nothing where it is not.
func TestFound(t *testing.T) {
	const text = "X-rays/box 17"
	wide := []byte{}
	for _, c := range []byte(text) {
		wide = append(wide, c, 0)
	}
	z, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	hidden := map[string][]byte{
		"plain": []byte("before " + text + " behind"), "wide": append([]byte("!"), wide...),
		"packed": z.EncodeAll([]byte("before "+text), nil), "skipped": []byte(text),
	}
	for skip, before := range []string{"", "-", "--"} {
		hidden["encoded "+string(rune('0'+skip))] = []byte(base64.StdEncoding.EncodeToString([]byte(before + text + "behind")))
		hidden["wide encoded "+string(rune('0'+skip))] = []byte(base64.StdEncoding.EncodeToString(append([]byte(before), wide...)))
	}
	hidden["another"] = []byte("X-rays/box 18")
	dir := t.TempDir()
	for name, b := range hidden {
		if err := os.WriteFile(filepath.Join(dir, name), b, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	found := map[string]bool{}
	needles := Needles{}
	needles.Add(Forms(text)...)
	err = Files(dir, func(p string) bool { return filepath.Base(p) == "skipped" }, func(p string, b []byte) {
		if needles.In(b) != nil {
			found[filepath.Base(p)] = true
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	for name := range hidden {
		if want := name != "skipped" && name != "another"; found[name] != want {
			t.Errorf("%s: found %v, want %v", name, found[name], want)
		}
	}
}
