package store

import (
	"maps"
	"slices"
	"sync"

	"jadetrail/core/trail"
)

// lately is what the trail was found to tell of drives, for as long as no entry of theirs comes to it: entries are only
// added, whoever adds them, so that it is enough to look at the newest.
type lately struct {
	mu    sync.Mutex
	seq   uint64 // the newest entry that was looked at
	hash  string
	pasts map[trail.Drive]Past
	begun map[trail.Drive][]trail.Begun
	// jobs are those that backups were made for, as the entries up to jobsTo tell.
	jobs   map[string]string
	jobsTo uint64
}

// mostLately is of how many drives it is kept.
const mostLately = 2000

// look forgets what newer entries are about, and all of it where the trail is not the one that it was.
func (x *lately) look(t *Trail) error {
	var rows []struct {
		Seq                uint64
		Hash, Disk, Serial string
	}
	q := t.db.Model(&trailEntry{}).Select("seq", "hash", "disk", "COALESCE(serial, '') AS serial")
	if x.seq == 0 {
		q = q.Order("seq DESC").Limit(1)
	} else {
		q = q.Where("seq >= ?", x.seq).Order("seq")
	}
	if err := q.Find(&rows).Error; err != nil {
		return err
	}
	known := len(rows) == 0 && x.seq == 0 && x.pasts != nil
	if len(rows) > 0 {
		known = rows[0].Seq == x.seq && rows[0].Hash == x.hash
	}
	if !known || len(x.pasts)+len(x.begun) > mostLately {
		x.pasts, x.begun = map[trail.Drive]Past{}, map[trail.Drive][]trail.Begun{}
		x.seq, x.hash, x.jobs, x.jobsTo = 0, "", nil, 0
	}
	for _, r := range rows {
		about := func(d trail.Drive) bool {
			return d.DiskID != "" && d.DiskID == r.Disk || d.Serial != "" && d.Serial == r.Serial
		}
		if r.Seq > x.seq { // its own entry was looked at before
			forget(x.pasts, about)
			forget(x.begun, about)
		}
		x.seq, x.hash = r.Seq, r.Hash
	}
	return nil
}

func forget[T any](list map[trail.Drive]T, about func(d trail.Drive) bool) {
	for d := range list {
		if about(d) {
			delete(list, d)
		}
	}
}

// Look is the trail at one moment, for a page that asks about many drives: what is new in it, and which runs are open,
// is asked once for all of them. What is added to it is added to the trail.
type Look struct {
	*Trail
	open []openRun
}

// Look looks at the trail.
func (t *Trail) Look() (*Look, error) {
	if err := t.lookNow(); err != nil {
		return nil, err
	}
	open, err := t.openRuns()
	return &Look{t, open}, err
}

// lookNow forgets what newer entries are about.
func (t *Trail) lookNow() error {
	t.lately.mu.Lock()
	defer t.lately.mu.Unlock()
	return t.lately.look(t)
}

// Past is a drive's history in short.
func (l *Look) Past(d trail.Drive) (Past, error) {
	return keptSince(l.Trail, d, pastsOf, func() (Past, error) { return l.past(d) })
}

// Unended implements trail.Sink.
func (l *Look) Unended(d trail.Drive) ([]trail.Begun, error) { return l.unended(d, l.open, keptSince) }

func pastsOf(x *lately) map[trail.Drive]Past          { return x.pasts }
func begunOf(x *lately) map[trail.Drive][]trail.Begun { return x.begun }

// kept finds what is kept of a drive in one of the lists.
type kept[T any] func(t *Trail, d trail.Drive, list func(x *lately) map[trail.Drive]T, f func() (T, error)) (T, error)

// keptOf returns what is kept of a drive as the trail is now, or else what f finds.
func keptOf[T any](t *Trail, d trail.Drive, list func(x *lately) map[trail.Drive]T, f func() (T, error)) (T, error) {
	if err := t.lookNow(); err != nil {
		var none T
		return none, err
	}
	return keptSince(t, d, list, f)
}

// keptSince returns what is kept of a drive as the trail was when it was looked at last, or else what f finds, and
// keeps that unless the trail has grown meanwhile.
func keptSince[T any](t *Trail, d trail.Drive, list func(x *lately) map[trail.Drive]T, f func() (T, error)) (T, error) {
	x := &t.lately
	x.mu.Lock()
	kept, known := list(x)[d]
	seq, hash := x.seq, x.hash
	x.mu.Unlock()
	if known {
		return kept, nil
	}
	found, err := f()
	if err != nil {
		return found, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.look(t); err != nil {
		return found, err
	}
	if x.seq == seq && x.hash == hash {
		list(x)[d] = found
	}
	return found, nil
}

// JobsOfBackups are the jobs that backups were made for, by the backups' ids, as the trail tells. The map is the caller's.
func (t *Trail) JobsOfBackups() (map[string]string, error) {
	x := &t.lately
	x.mu.Lock()
	defer x.mu.Unlock()
	if err := x.look(t); err != nil {
		return nil, err
	}
	if x.seq > x.jobsTo || x.jobs == nil {
		list, err := t.Entries(Filter{Act: string(trail.ActBackup), After: int64(x.jobsTo)})
		if err != nil {
			return nil, err
		}
		if x.jobs == nil {
			x.jobs = map[string]string{}
		}
		for _, e := range slices.Backward(list) { // the newest one of a backup counts
			if x.jobs[e.Backup] = e.Job; uint64(e.Seq) > x.jobsTo {
				x.jobsTo = uint64(e.Seq)
			}
		}
		x.jobsTo = max(x.jobsTo, x.seq)
	}
	return maps.Clone(x.jobs), nil
}
