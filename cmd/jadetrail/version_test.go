package main

import (
	"runtime/debug"
	"testing"
)

func TestBuilt(t *testing.T) {
	at := func(settings ...debug.BuildSetting) *debug.BuildInfo {
		return &debug.BuildInfo{GoVersion: "go1", Settings: settings}
	}
	revision := debug.BuildSetting{Key: "vcs.revision", Value: "0123456789abcdef"}
	day := debug.BuildSetting{Key: "vcs.time", Value: "2026-03-02"}
	for _, c := range []struct {
		of   *debug.BuildInfo
		want string
	}{
		{nil, "built from a source that is not known"},
		{at(), "built from a source that is not known, with go1"},
		{at(revision, day), "built from 0123456789ab of 2026-03-02, with go1"},
		{at(revision, day, debug.BuildSetting{Key: "vcs.modified", Value: "true"}), "built from 0123456789ab of 2026-03-02, with changes that are not committed, with go1"},
	} {
		if got := built(c.of, c.of != nil); got != c.want {
			t.Errorf("%+v: %q, not %q", c.of, got, c.want)
		}
	}
}
