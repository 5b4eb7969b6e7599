package shop

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"jadetrail/core/layout"
)

// TestPrints keeps what was read of a drive as long as nobody writes to it, and whatever its times say then, no longer.
func TestPrints(t *testing.T) {
	path := filepath.Join(t.TempDir(), "d.img")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("as it was")
	var x prints
	if get, put := x.of(path); get != nil || put != nil {
		t.Error("kept of a drive that is written to just now")
	}
	time.Sleep(settledAfter + 100*time.Millisecond)
	p, q := layout.Span{Start: 0, End: 7}, layout.Span{Start: 8, End: 15}
	get, put := x.of(path)
	put(p, "first")
	if get(p) != "first" || get(q) != "" {
		t.Errorf("%q and %q", get(p), get(q))
	}
	if get, _ := x.of(path); get(p) != "first" {
		t.Error("forgotten though nobody wrote to it")
	}
	long := time.Now().Add(-time.Hour)
	write("as it is!") // of the same length
	if err := os.Chtimes(path, long, long); err != nil {
		t.Fatal(err)
	}
	put(q, "read before, told after")
	time.Sleep(settledAfter + 100*time.Millisecond)
	if get, _ := x.of(path); get(p) != "" || get(q) != "" {
		t.Errorf("of other bytes: %q and %q", get(p), get(q))
	}
	if get, _ := x.of(filepath.Join(t.TempDir(), "none.img")); get != nil {
		t.Error("kept of a drive that is not there")
	}
}
