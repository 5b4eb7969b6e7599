package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/script"
	"jadetrail/core/seek"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// placesFile keeps, in a run's folder, where the run writes, step by step.
const placesFile = "places.json"

// notePlaces keeps where a script writes, before it does.
func notePlaces(dir string, s script.Script, steps int) error {
	byStep := make([]script.Script, steps)
	for _, op := range s {
		if op.Step >= 0 && op.Step < steps {
			byStep[op.Step] = append(byStep[op.Step], op)
		}
	}
	out := make([][][2]disk.Bytes, steps)
	for i, part := range byStep {
		out[i] = places(part, 0)
	}
	b, err := json.Marshal(out)
	if err != nil {
		return err
	}
	return disk.WriteDurably(filepath.Join(dir, placesFile), b)
}

// wrote is where a run wrote from a step on, in bytes of the drive. ok is false for a run of
// which that was not kept.
func wrote(dir string, from int) (out [][2]disk.Bytes, ok bool, err error) {
	b, err := os.ReadFile(filepath.Join(dir, placesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	var all [][][2]disk.Bytes
	if err := json.Unmarshal(b, &all); err != nil {
		return nil, false, fmt.Errorf("where the run %s wrote cannot be read: %w", filepath.Base(dir), err)
	}
	for i, part := range all {
		if i >= from {
			out = append(out, part...)
		}
	}
	return out, true, nil
}

// Since lists what has come to lie over a drive's places since a deletion, by what lies there
// now, by what partitions there were meanwhile, and by what runs wrote.
func Since(o Options, sv *survey.Survey, rec *trail.Record) ([]seek.Cover, error) {
	covers := seek.Living(o.Dev, sv, 0)
	dirs, err := os.ReadDir(o.Runs)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, d := range dirs {
		m, r, err := Ran(o.Runs, d.Name())
		if errors.Is(err, ErrNothing) {
			continue
		}
		if err != nil {
			return nil, err
		}
		own := rec.Run == m.ID
		if !own && (m.Begun.Before(rec.Time) || rec.Run == "" && m.Begun.Equal(rec.Time)) || !sameDrive(m, o, rec) || r != nil && r.Ended == EndVoid {
			continue
		}
		state := seek.Taken
		if r == nil || r.Ended == EndUndone {
			state = seek.Unsure // it was written to, and what was promised was brought back
		}
		from := 0
		if own {
			from = rec.Step
		}
		written, known, err := wrote(filepath.Join(o.Runs, m.ID), from)
		if err != nil {
			return nil, err
		}
		for _, w := range written {
			covers = append(covers, seek.Cover{From: w[0], To: w[1], State: state, By: "the run " + m.ID})
		}
		layouts := []*layout.Layout{m.After}
		if !own {
			layouts = append(layouts, m.Before)
		}
		if !known { // of a run by an earlier version of this program
			covers = append(covers, seek.Cover{From: 0, To: o.Dev.Size(), State: seek.Unsure, By: "the run " + m.ID})
		}
		for _, l := range layouts {
			covers = append(covers, had(l, rec)...)
		}
	}
	return covers, nil
}

func sameDrive(m *Meta, o Options, rec *trail.Record) bool {
	return m.Image == o.Image || m.DiskID != "" && strings.EqualFold(m.DiskID, rec.Drive.DiskID)
}

// had are the places that other partitions had: their volumes could write there.
func had(l *layout.Layout, rec *trail.Record) []seek.Cover {
	var out []seek.Cover
	if l == nil {
		return nil
	}
	for _, p := range l.Partitions() {
		if p.Role == layout.Container || p.Start == rec.Span.Start && p.UniqueID == rec.Span.UniqueID {
			continue
		}
		out = append(out, seek.Cover{From: p.Start.Offset(l.Sector), To: (p.End + 1).Offset(l.Sector), State: seek.Unsure, By: p.Title()})
	}
	return out
}

// StandOf works out how the formerly used part of a deleted partition stands today. alike are
// ranges of its place, counted from its start, that a comparison has found to be as they were.
func StandOf(o Options, sv *survey.Survey, rec *trail.Record, alike [][2]disk.Bytes) (*seek.Stand, error) {
	if rec.Erased {
		return &seek.Stand{}, nil
	}
	b, err := o.Records.Blob(rec, trail.BlobRanges)
	if err != nil {
		return nil, err
	}
	var used [][2]disk.Bytes
	if err := json.Unmarshal(b, &used); err != nil {
		return nil, fmt.Errorf("%w: what was in use cannot be read: %v", trail.ErrNoRecord, err)
	}
	start := rec.Span.Start.Offset(o.Dev.SectorBytes())
	for i := range used {
		used[i][0], used[i][1] = used[i][0]+start, used[i][1]+start
	}
	covers, err := Since(o, sv, rec)
	if err != nil {
		return nil, err
	}
	for _, r := range alike {
		covers = append(covers, seek.Cover{From: start + r[0], To: start + r[1], State: seek.Untouched})
	}
	return seek.Stands(used, covers, seek.Untouched), nil
}
