package compile

import (
	"errors"
	"testing"

	"jadetrail/core/plan"
)

// TestKinds names the kinds of steps of which nothing says how they become bytes.
func TestKinds(t *testing.T) {
	for _, do := range plan.Kinds() {
		if kinds[do] == nil {
			t.Errorf("%s: it does not become bytes", do)
		}
	}
	if len(kinds) != len(plan.Kinds()) {
		t.Errorf("%d kinds become bytes, a plan has %d", len(kinds), len(plan.Kinds()))
	}
	if _, err := Step(nil, plan.Column{Step: plan.Step{}}, Given{}); !errors.Is(err, ErrCannot) {
		t.Errorf("a kind that nobody knows: %v", err)
	}
}
