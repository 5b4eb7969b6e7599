package rehearse

import (
	"testing"

	"jadetrail/core/plan"
)

// TestKinds names the kinds of steps that a run does not know.
func TestKinds(t *testing.T) {
	for _, do := range plan.Kinds() {
		if _, known := kinds[do]; !known {
			t.Errorf("%s: a run does not know it", do)
		}
	}
	if len(kinds) != len(plan.Kinds()) {
		t.Errorf("a run knows %d kinds, a plan has %d", len(kinds), len(plan.Kinds()))
	}
}
