package run

import (
	"context"
	"errors"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"jadetrail/core/plan"
	"jadetrail/core/prove"
	"jadetrail/core/ran"
	"jadetrail/core/survey"
	"jadetrail/core/volume"
)

// TestReport: what a run says of itself is kept, and with every file compared when that was
// asked for.
func TestReport(t *testing.T) {
	s := newShop(t, deleteRecovery, plan.Step{Partition: "5", Body: plan.Sliding{By: "-20 MiB"}}, plan.Step{Partition: "3", Body: plan.Growth{By: "4 MiB"}})
	im := s.open(t)
	o := s.options(im)
	o.Compare = true
	var ticks atomic.Int64
	o.Now = func() time.Time { return day.Add(time.Duration(ticks.Add(1)) * time.Millisecond) }
	res, err := CarryOut(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	m, r, err := ran.Read(o.Runs, res.Run)
	if err != nil || r == nil || r.Ended != ran.EndDone || !r.Good || r.Why != "" || len(r.Volumes) != 4 || len(m.Before.Partitions()) != 6 || len(m.After.Partitions()) != 5 {
		t.Fatalf("%+v, %v", r, err)
	}
	if x := r.Compared; x == nil || x.Files != 1+60+30+9 || x.Unread != 0 {
		t.Errorf("compared: %+v", x)
	}
	for _, v := range r.Volumes {
		if !v.Sound || v.Text != "" {
			t.Errorf("%+v", v)
		}
	}
	if len(r.Start) == 0 || r.Took.Prepare <= 0 || r.Took.Prove <= 0 || r.Written == 0 || r.Rewritten < r.Written {
		t.Errorf("%+v", r)
	}
	if _, _, err := ran.Read(o.Runs, "../"+res.Run); !errors.Is(err, ran.ErrNothing) {
		t.Errorf("a path was taken for a run: %v", err)
	}
	// One byte of one file, behind the run's back.
	sv, err := survey.Read(im, nil)
	if err != nil {
		t.Fatal(err)
	}
	files, err := sv.Volume(5).Files()
	if err != nil {
		t.Fatal(err)
	}
	x, _ := sv.Layout.Find(5)
	for _, f := range files {
		if f.Kind == volume.Plain && len(f.Extents) == 1 && f.Extents[0].Off > 0 {
			if _, err := im.WriteAt([]byte("?"), int64(x.Start.Offset(512)+f.Extents[0].Off)); err != nil {
				t.Fatal(err)
			}
			break
		}
	}
	if sv, err = survey.Read(im, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := prove.CompareContents(filepath.Join(o.Runs, res.Run), sv, nil); !errors.Is(err, prove.ErrDiffers) {
		t.Errorf("a changed file was not seen: %v", err)
	}
}
