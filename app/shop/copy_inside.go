package shop

import (
	"context"
	"errors"
	"fmt"

	"jadetrail/core/plan"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/words"
)

// Picked is what somebody has picked while looking into a volume, and where it is to be copied.
type Picked struct {
	Partition   int      // that is looked into
	Paths       []string // files, and folders with all that is in them
	Bay, Target string   // the volume in the plan of that bay's drive, by its number or the name that a step gives it
	Folder      string   // of that volume; "" for its root
}

// CopyPicked begins to back up what was picked, and plans then, as a step, that it is put into another volume: what is on
// the shelf is what is copied, whatever becomes of the volume meanwhile.
func (s *Shop) CopyPicked(at Errand, sh *shelf.Shelf, x Picked) error {
	switch {
	case len(x.Paths) == 0:
		return errors.New("nothing was picked; nothing was begun. Tick files or folders first")
	case x.Target == "" || x.Bay == "":
		return errors.New("no volume was chosen; nothing was begun")
	}
	do := func(ctx context.Context, w *workplace) (string, error) { return s.copyPicked(ctx, at, w, sh, x) }
	return s.begin(at, undertaking{kind: "back-up", title: "Backup of what was picked", do: do})
}

// copyPicked is that work, on the drive that is looked into.
func (s *Shop) copyPicked(ctx context.Context, at Errand, w *workplace, sh *shelf.Shelf, x Picked) (string, error) {
	if x.Bay == w.drive.Bay && x.Target == fmt.Sprint(x.Partition) {
		return "", errors.New("it is in that volume already; nothing was copied. Choose another volume")
	}
	o := w.options
	o.Shelf = sh
	wanted := run.Wanted{Partition: x.Partition, Kind: shelf.Files, Folders: x.Paths}
	m, err := run.BackUp(ctx, o, wanted, fromShelf(w.report))
	if errors.Is(err, context.Canceled) {
		return "", errors.New("the backup was stopped; what had been written was taken away, and nothing was planned")
	}
	if err != nil {
		return "", err
	}
	held := words.Plural(m.Count, "file is", "files are") + " on the shelf, verified"
	step := plan.Step{Partition: x.Target, Body: plan.CopyingBack{Backup: m.ID, Folder: x.Folder}}
	job, err := s.stageInBay(By{Who: at.Who}, x.Bay, step, w.drive.Path)
	if err != nil {
		return "", fmt.Errorf("%s (%s), but nothing was planned: %w", held, m.ID, err)
	}
	return fmt.Sprintf("%s. Putting them into the volume is a step of the plan of %s now.", held, job), nil
}
