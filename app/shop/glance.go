package shop

import (
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"jadetrail/app/store"
	"jadetrail/core/facts"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/survey"
)

// Glance is a drive as a list shows it: what it is, how it is laid out, and what is known of its PC. It is read from
// the drive, and kept as long as the drive's files are as they were then.
type Glance struct {
	Identity survey.Identity
	PC       *pc.Facts
	Layout   *layout.Layout
	read     *survey.Kept
	facts    []byte // of the PC, as they are kept beside the drive; nil for none
}

// glances are the drives that were read, by their paths.
type glances struct {
	mu   sync.Mutex
	list map[string]glanced
}

type glanced struct {
	stamp [4]fileStamp
	Glance
}

// of is what is kept of a drive whose files have that stamp.
func (x *glances) of(path string, stamp [4]fileStamp) (Glance, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	g, known := x.list[path]
	if !known || g.stamp != stamp || stamp[0] == (fileStamp{}) {
		return Glance{}, false
	}
	return g.again()
}

// last is what was kept of a drive last, whatever has been written to it since; the drive is the same one still, whose
// files have that stamp now.
func (x *glances) last(path string, now [4]fileStamp) (Glance, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if g, known := x.list[path]; known && g.stamp[0].inode == now[0].inode && g.stamp[1] == now[1] {
		return g.again()
	}
	return Glance{}, false
}

// again is a copy of what was kept, for its caller alone.
func (g glanced) again() (Glance, bool) {
	if g.facts != nil {
		var err error
		if g.PC, err = pc.Parse(g.facts); err != nil {
			return Glance{}, false
		}
	}
	g.Layout = g.read.Layout()
	return g.Glance, true
}

// keep keeps what was read of a drive whose files had that stamp before.
func (x *glances) keep(d *Drive, facts []byte, stamp [4]fileStamp) {
	if after, _ := stampOf(d.Path, time.Now()); after != stamp {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.list == nil || len(x.list) >= mostGlances {
		x.list = map[string]glanced{}
	}
	x.list[d.Path] = glanced{stamp, Glance{Identity: d.Identity, read: d.Survey.Keep(), facts: facts}}
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
	stamp, _ := stampOf(path, time.Now())
	if g, known := s.glances.of(path, stamp); known {
		return g, nil
	}
	d, err := s.Open(b, false)
	if err != nil {
		return Glance{}, err
	}
	defer d.Close()
	return Glance{Identity: d.Identity, PC: d.PC, Layout: d.Survey.Layout}, nil
}

// GlanceAtWork is what was read of a drive that is being worked on, before that; it is looked at where nothing is kept.
func (s *Shop) GlanceAtWork(b *store.Bay) (Glance, error) {
	if b != nil && b.Image != nil {
		stamp, _ := stampOf(s.ImageOf(b), time.Now())
		if g, known := s.glances.last(s.ImageOf(b), stamp); known {
			return g, nil
		}
	}
	return s.Glance(b)
}

// Row works a job out as a list shows it. Where it has a plan, or several drives, all of it is worked out; otherwise a
// glance at its drive will do, and told, which may be from a look at the trail just before. bays are those of the job.
// The drive is open then, and nothing in it can be looked into.
func (s *Shop) Row(j *store.Job, bays []store.Bay, told Told) (*JobState, error) {
	if j.Plan != nil || len(bays) != 1 {
		bay := ""
		if len(bays) == 1 {
			bay = bays[0].Letter
		}
		return s.WorkOut(j.Number, bay)
	}
	d, err := s.Open(&bays[0], false)
	if err != nil {
		return nil, err
	}
	st := &JobState{Job: j, Drive: d}
	st.Facts.PC, st.Facts.Asleep = d.PC, facts.Asleep(d.Survey.Layout, d.PC)
	if err = s.pending(st, told); err == nil {
		err = s.history(st, told)
	}
	if err != nil {
		d.Close()
		return nil, err
	}
	return st, nil
}
