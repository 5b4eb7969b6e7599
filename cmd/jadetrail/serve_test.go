package main

import (
	"testing"
	"time"
)

func TestProveAfter(t *testing.T) {
	for text, want := range map[string]time.Duration{"": 0, "24": 24 * time.Hour, "0.5": 30 * time.Minute, "0": time.Nanosecond} {
		if got, err := proveAfter(text); err != nil || got != want {
			t.Errorf("%q: %v, %v", text, got, err)
		}
	}
	for _, text := range []string{"a day", "-1", "1e9", "NaN"} {
		if got, err := proveAfter(text); err == nil {
			t.Errorf("%q: %v", text, got)
		}
	}
}
