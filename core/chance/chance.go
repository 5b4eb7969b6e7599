// Package chance gives tests the same chance each time, and the long runs a fresh one.
package chance

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"time"
)

// Of is a source of chance for a test: the same each time, so that what fails can be run again; a fresh one in the
// long runs (JADETRAIL_PROVE); or the one whose seed JADETRAIL_SEED names. The seed stands in the test's output.
func Of(t testing.TB) *rand.Rand {
	t.Helper()
	seed := uint64(1)
	if os.Getenv("JADETRAIL_PROVE") != "" {
		seed = uint64(time.Now().UnixNano())
	}
	if text := os.Getenv("JADETRAIL_SEED"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			t.Fatalf("JADETRAIL_SEED is %q, and no seed", text)
		}
		seed = n
	}
	t.Logf("JADETRAIL_SEED=%d", seed)
	return rand.New(rand.NewPCG(seed, 1))
}
