package facts

import (
	"slices"
	"strconv"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// standing returns the best backup that stands for a partition as it is now, nil
// for none: one that is verified and made from the same state if there is any.
func standing(o Sources, sv *survey.Survey, p layout.Span, backups []*shelf.Manifest) (*plan.Backup, error) {
	of := o.Named(sv.Layout)
	var best *plan.Backup
	var now string
	for _, m := range backups {
		if !sameOrigin(m, of, p) || !m.Whole() {
			continue
		}
		if now == "" {
			var err error
			if now, err = o.print(sv, p); err != nil {
				return nil, err
			}
		}
		b := plan.Backup{
			ID: m.ID, Verified: m.Verified != nil, Same: m.From.Fingerprint == now, Away: m.Away, Foreign: m.Foreign,
			Kind: string(m.Kind), Made: m.Made,
		}
		if m.Verified != nil {
			b.Checked = *m.Verified
			if err := m.Lies(); err != nil {
				b.Verified, b.Lost = false, err.Error()
			}
		}
		if best == nil || b.Verified && b.Same && !(best.Verified && best.Same) {
			best = &b
		}
	}
	return best, nil
}

// covering returns a comparison that proves that a volume's contents as they are now are on another volume
// too, which is still there and as it was then, nil for none.
func covering(o Sources, sv *survey.Survey, p layout.Span, proofs []*compare.Result, steps []plan.Step) (*plan.Backup, error) {
	if !slices.ContainsFunc(proofs, func(r *compare.Result) bool { return r.Here.Place.Span.UniqueID == p.UniqueID }) {
		return nil, nil
	}
	print, err := insidePrint(sv, p.Number)
	if err != nil || print == "" {
		return nil, err
	}
	var going []string
	for _, q := range sv.Layout.Partitions() {
		if slices.ContainsFunc(steps, func(s plan.Step) bool {
			n, _ := strconv.Atoi(s.Partition)
			return s.Deletes() && (s.Do() == plan.Clear || n == q.Number)
		}) {
			going = append(going, q.UniqueID)
		}
	}
	for _, r := range proofs {
		if !r.Stands(o.Named(sv.Layout), p, print, going) {
			continue
		}
		still, err := stillThere(o, sv, r)
		if err != nil {
			return nil, err
		}
		if still {
			return &plan.Backup{
				ID: r.ID, Verified: true, Same: true, Coverage: true, Made: r.Time, Checked: r.Time,
			}, nil
		}
	}
	return nil, nil
}

// insidePrint is the fingerprint of what a volume holds, "" where that cannot be looked into.
func insidePrint(sv *survey.Survey, number int) (string, error) {
	return survey.Remembered(sv, "fingerprint "+strconv.Itoa(number), func() (string, error) {
		if v := sv.Volume(number); v != nil {
			return v.Fingerprint()
		}
		return "", nil
	})
}

// stillThere tells that the other side of a comparison is there, and as it was when it was compared. Of a
// drive that cannot be looked at now that is not known.
func stillThere(o Sources, sv *survey.Survey, r *compare.Result) (bool, error) {
	there := r.There.Place
	if there.Fingerprint == "" {
		return false, nil
	}
	if r.Elsewhere() {
		if o.Elsewhere == nil {
			return false, nil
		}
		print, err := o.Elsewhere(there)
		return print == there.Fingerprint, err
	}
	for _, p := range sv.Layout.Partitions() {
		if p.UniqueID != there.Span.UniqueID {
			continue
		}
		if print, err := insidePrint(sv, p.Number); err != nil || print != "" {
			return print == there.Fingerprint, err
		}
	}
	return false, nil
}

func sameOrigin(m *shelf.Manifest, of trail.Drive, p layout.Span) bool {
	was := m.From.Span
	return m.From.Drive().Same(of) && was.UniqueID == p.UniqueID && (was.Number == p.Number || was.Start == p.Start) && was.Bytes == p.Bytes
}

// ForRecord is the verified backup that covers what a record's partition held.
func ForRecord(rec *trail.Record, backups []*shelf.Manifest) *shelf.Manifest {
	for _, m := range backups {
		if m.Kind == shelf.Image && m.Verified != nil && sameOrigin(m, rec.Drive, rec.Span) && m.From.Fingerprint == rec.Fingerprint {
			return m
		}
	}
	return nil
}

// Fills is how much a backup of a whole partition writes where it is put.
func Fills(m *shelf.Manifest) (n disk.Bytes) {
	for _, p := range m.Pieces {
		if !p.Zero {
			n += p.Len
		}
	}
	return n
}
