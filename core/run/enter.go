package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"jadetrail/core/disk"
	"jadetrail/core/ran"
	"jadetrail/core/trail"
)

// waitingFile stands in the folder of a run whose end the trail has not taken yet.
const waitingFile = "waiting.json"

// ErrWaiting tells that a run has ended as it says, and that the trail does not know it yet.
var ErrWaiting = errors.New("the run has ended, and its end waits to be entered in the trail")

// enter enters the end of a run in the trail, or lets it wait.
func enter(o Options, run string, closing []trail.Entry) error {
	err := o.Trail.Append(closing...)
	if err == nil {
		return nil
	}
	b, e := json.Marshal(closing)
	if e == nil {
		e = disk.WriteDurably(filepath.Join(o.Runs, run, waitingFile), b)
	}
	return errors.Join(fmt.Errorf("%w: %w", ErrWaiting, err), e)
}

// Waiting tells that the end of a run waits to be entered.
func Waiting(runs string) bool {
	found, err := filepath.Glob(filepath.Join(runs, "*", waitingFile))
	return err == nil && len(found) > 0
}

// Enter enters what waits in the folders of runs: ends that the trail could not take when they
// came, or that were cut short before. Each is entered once. It returns for which runs.
func Enter(runs string, to trail.Sink) (entered []string, err error) {
	open, err := to.Unended(trail.Drive{})
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, b := range open {
		known[b.Run] = true
	}
	dirs, _, err := ran.Folders(runs)
	if err != nil {
		return nil, err
	}
	for _, d := range dirs {
		if err := forgotten(runs, &d); err != nil {
			return entered, err
		}
		waiting := filepath.Join(runs, d.ID, waitingFile)
		_, e := os.Stat(waiting)
		if !d.Ended || errors.Is(e, fs.ErrNotExist) && !known[d.ID] {
			continue
		}
		_, r, e := ran.Read(runs, d.ID)
		if e != nil || r == nil {
			continue // told as a stray one
		}
		closing := r.Closing
		if len(closing) == 0 && known[d.ID] { // nothing was written of it
			closing = []trail.Entry{neverBegan(runs, &d, r)}
		}
		if e := to.Append(closing...); e != nil {
			return entered, e
		}
		if e := os.Remove(waiting); e != nil && !errors.Is(e, fs.ErrNotExist) {
			return entered, e
		}
		entered = append(entered, d.ID)
	}
	return entered, nil
}

// forgotten takes away what a run that erased a partition keeps to be taken back, where it has ended
// and was cut short before it did that itself.
func forgotten(runs string, d *ran.Folder) error {
	if _, err := os.Stat(filepath.Join(runs, d.ID, ran.JournalFile)); !d.Ended || err != nil {
		return nil
	}
	m, r, err := ran.Read(runs, d.ID)
	if err != nil || r == nil || r.Ended != ran.EndDone || len(m.Erased) == 0 {
		return nil // told as a stray one, or not erased
	}
	return ran.Forget(runs, m)
}

// neverBegan is the end of a run of which the trail knows, and of which nothing was written.
func neverBegan(runs string, d *ran.Folder, r *ran.Report) trail.Entry {
	e := trail.Entry{
		ID: trail.EndID(d.ID, "void"), Time: r.Time, Act: trail.ActVoid, Run: d.ID,
		Text: "The run came to nothing: nothing was written to the drive",
	}
	if m, _, err := ran.Read(runs, d.ID); err == nil {
		e.Who, e.Job, e.Drive = m.Who, m.Job, m.Drive()
	}
	return e
}
