package volume

import (
	"math"
	"testing"
	"time"
)

// TestFileTime goes to file times and back, far before and after what nanoseconds can count.
func TestFileTime(t *testing.T) {
	for _, c := range []struct {
		text  string
		units uint64
	}{
		{"1601-01-01T00:00:00Z", 0},
		{"1601-01-01T00:00:00.0000001Z", 1},
		{"1650-07-01T12:00:00.1234567Z", 15619824001234567},
		{"1969-12-31T23:59:59.9999999Z", 116444735999999999},
		{"1970-01-01T00:00:00Z", 116444736000000000},
		{"2026-11-30T09:30:00.0000005Z", 134405046000000005},
		{"2300-01-01T00:00:00Z", 220582656000000000},
		{"9999-12-31T23:59:59.9999999Z", lastFileTime},
	} {
		want, err := time.Parse(time.RFC3339Nano, c.text)
		if err != nil {
			t.Fatal(err)
		}
		if got := FromFileTime(c.units); !got.Equal(want) {
			t.Errorf("%d is %s, want %s", c.units, got.Format(time.RFC3339Nano), c.text)
		}
		if got := FileTime(want); got != c.units {
			t.Errorf("%s is %d, want %d", c.text, got, c.units)
		}
	}
	if got := FromFileTime(math.MaxUint64); got.Year() != 9999 {
		t.Errorf("the last one is %s", got)
	}
	if got := FileTime(time.Date(1500, 1, 1, 0, 0, 0, 0, time.UTC)); got != 0 {
		t.Errorf("before there were any: %d", got)
	}
	now := time.Date(2026, 11, 30, 9, 30, 0, 5, time.UTC)
	if Stamp(now) != "1796031000000000005" {
		t.Errorf("stamp %s", Stamp(now))
	}
	seen := map[string]bool{}
	for year := 1601; year < 9999; year += 7 {
		seen[Stamp(now.AddDate(year-2026, 0, 0))] = true
	}
	if len(seen) != 1200 {
		t.Errorf("%d stamps of 1200 moments", len(seen))
	}
}
