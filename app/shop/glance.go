package shop

import (
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/survey"
)

// Glance is a drive as a list shows it: what it is, how it is laid out, and what is known of its PC. It is read from
// the drive, and kept as long as the drive's files are as they were then.
type Glance struct {
	Identity survey.Identity
	Layout   *layout.Layout
	PC       *pc.Facts
}

// glances are the drives that were glanced at, by their paths.
type glances struct {
	mu   sync.Mutex
	list map[string]glanced
}

type glanced struct {
	stamp [4]fileStamp
	Glance
}

// fileStamp is what of a file changes with whatever is written to it; zero for one that is not there.
type fileStamp struct {
	inode         uint64
	bytes         int64
	written, kept unix.Timespec // its contents, and what is known of it
}

// settledAfter is for how long nothing may have been written to a drive before what was read of it is kept: a later
// write could have the same time.
const settledAfter = 2 * time.Second

// stampOf is the stamp of a drive's image and of what lies beside it. settled tells that nothing was written to any of
// them lately.
func stampOf(path string, now time.Time) (stamp [4]fileStamp, settled bool) {
	settled = true
	for i, ends := range []string{"", IdentityEnds, ".pc.json", ".bad.json"} {
		var st unix.Stat_t
		if err := unix.Stat(path+ends, &st); err != nil {
			continue
		}
		stamp[i] = fileStamp{st.Ino, st.Size, st.Mtim, st.Ctim}
		for _, at := range []unix.Timespec{st.Mtim, st.Ctim} {
			settled = settled && now.Sub(time.Unix(at.Unix())) > settledAfter
		}
	}
	return stamp, settled
}

// mostGlances is how many drives are kept.
const mostGlances = 500

// Glance looks at the drive in a bay.
func (s *Shop) Glance(b *store.Bay) (Glance, error) {
	if b == nil || b.Image == nil {
		return Glance{}, ErrNoDrive
	}
	path := s.ImageOf(b)
	stamp, settled := stampOf(path, time.Now())
	s.glances.mu.Lock()
	x, known := s.glances.list[path]
	s.glances.mu.Unlock()
	if known && x.stamp == stamp && stamp[0] != (fileStamp{}) {
		return x.Glance.own(), nil
	}
	d, err := s.Open(b, false)
	if err != nil {
		return Glance{}, err
	}
	defer d.Close()
	x = glanced{stamp, Glance{d.Identity, d.Survey.Layout, d.PC}}
	if after, _ := stampOf(path, time.Now()); settled && after == stamp {
		s.glances.mu.Lock()
		defer s.glances.mu.Unlock()
		if s.glances.list == nil || len(s.glances.list) >= mostGlances {
			s.glances.list = map[string]glanced{}
		}
		s.glances.list[path] = x
	}
	return x.Glance.own(), nil
}

// own is a glance of which the layout is the caller's own to write findings into.
func (g Glance) own() Glance {
	l := *g.Layout
	l.Findings, l.Spans = slices.Clone(l.Findings), slices.Clone(l.Spans)
	g.Layout = &l
	return g
}

// Row works a job out as a list shows it. Where it has a plan, or several drives, all of it is worked out; otherwise a
// glance at its drive will do. bays are those of the job. The drive is open then, and nothing in it can be looked into.
func (s *Shop) Row(j *store.Job, bays []store.Bay) (*JobState, error) {
	if j.Plan != nil || len(bays) != 1 {
		bay := ""
		if len(bays) == 1 {
			bay = bays[0].Letter
		}
		return s.WorkOut(j.Number, bay)
	}
	g, err := s.Glance(&bays[0])
	if err != nil {
		return nil, err
	}
	d := &Drive{Bay: bays[0].Letter, Shelf: bays[0].Shelf, Path: s.ImageOf(&bays[0]), Identity: g.Identity, PC: g.PC}
	if d.Image, err = disk.OpenImage(d.Path, 0, false); err != nil {
		return nil, err
	}
	d.Survey = &survey.Survey{Layout: g.Layout}
	st := &JobState{Job: j, Drive: d}
	st.Facts.PC, st.Facts.Asleep = g.PC, facts.Asleep(g.Layout, g.PC)
	if err = s.pending(st); err == nil {
		err = s.history(st)
	}
	if err != nil {
		d.Close()
		return nil, err
	}
	return st, nil
}
