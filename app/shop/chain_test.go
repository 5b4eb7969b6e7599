package shop

import (
	"testing"
	"time"

	"jadetrail/core/trail"
)

// TestChainDue checks a short trail at each look, and a long one no more than a twentieth of the time, however often
// people look and whatever is entered meanwhile; what was not whole, or not checked at all, is checked at once.
func TestChainDue(t *testing.T) {
	now := time.Date(2026, 12, 2, 9, 0, 0, 0, time.UTC)
	checked := func(took, ago time.Duration) *chain {
		return &chain{report: &trail.Report{}, head: "a", took: took, at: now.Add(-ago)}
	}
	broken := checked(9*time.Second, time.Second)
	broken.trouble = "the database is away"
	for _, x := range []struct {
		what string
		k    *chain
		head string
		want bool
	}{
		{"never checked", &chain{}, "a", true},
		{"could not be checked", broken, "a", true},
		{"short, as it was", checked(20*time.Millisecond, time.Second), "a", false},
		{"short, as it was long ago", checked(20*time.Millisecond, time.Minute), "a", true},
		{"short, grown", checked(20*time.Millisecond, time.Second), "b", true},
		{"long, as it was", checked(9*time.Second, time.Minute), "a", false},
		{"long, grown", checked(9*time.Second, time.Minute), "b", false},
		{"long, grown, and long ago", checked(9*time.Second, 4*time.Minute), "b", true},
	} {
		if got := x.k.due(x.head, now); got != x.want {
			t.Errorf("%s: due %v", x.what, got)
		}
	}
}
