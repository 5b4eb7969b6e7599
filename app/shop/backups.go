package shop

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jadetrail/app/store"
	"jadetrail/app/work"
	"jadetrail/core/facts"
	"jadetrail/core/plan"
	"jadetrail/core/rehearse"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// missingBackups are the partitions whose backup the plan of a job misses.
func (s *Shop) missingBackups(at Errand) (numbers []int, err error) {
	st, err := s.WorkOut(at.Job, at.Bay)
	if err != nil {
		return nil, err
	}
	defer st.Drive.Close()
	backups, releases, _ := st.Missing()
	for _, o := range append(backups, releases...) {
		if o.Code == plan.BackupMissing || o.AsksFor(plan.LiftBackup) { // with a backup nothing is waived
			numbers = append(numbers, o.Partitions...)
		}
	}
	return numbers, nil
}

// BackUp begins to make the backup of one partition onto a shelf; with only nil, all that the plan of the job
// misses.
func (s *Shop) BackUp(at Errand, sh *shelf.Shelf, kind shelf.Kind, only *int) error {
	var numbers []int
	if only != nil {
		numbers = []int{*only}
	} else {
		var err error
		if numbers, err = s.missingBackups(at); err != nil {
			return err
		}
	}
	if len(numbers) == 0 {
		return errors.New("no backup is missing")
	}
	return s.begin(at, undertaking{kind: "back-up", title: "Backup", do: func(ctx context.Context, w *workplace) (string, error) {
		o := w.options
		o.Shelf = sh
		var made []string
		for i, n := range numbers {
			kind := kind
			if w.drive.Survey.Volume(n) == nil {
				kind = shelf.Image // its files cannot be read
			}
			m, err := run.BackUp(ctx, o, run.Wanted{Partition: n, Kind: kind}, func(p shelf.Progress) {
				w.report(work.Update{Phase: p.Phase, Step: i, Done: p.Done, Total: p.Total})
			})
			if errors.Is(err, context.Canceled) {
				return "", errors.New("the backup was stopped; what had been written was taken away")
			}
			if err != nil {
				return "", err
			}
			made = append(made, fmt.Sprintf("%s, %s on the shelf, %s", m.From.Span.Title(), m.Stored, m.Where()))
		}
		return "Backed up and verified by reading back: " + strings.Join(made, "; ") + ".", nil
	}})
}

func fromShelf(report func(work.Update)) func(shelf.Progress) {
	return func(p shelf.Progress) { report(work.Update{Phase: p.Phase, Done: p.Done, Total: p.Total}) }
}

// onShelf starts work on the backups; there is one piece of it at a time.
func (s *Shop) onShelf(kind, title string, f func(ctx context.Context, report func(shelf.Progress)) (string, error)) error {
	return s.Desk.Start("shelf", kind, title, func(ctx context.Context, report func(work.Update)) (string, error) {
		return f(ctx, fromShelf(report))
	})
}

// VerifyBackup begins to read a backup back and to compare it with its hashes.
func (s *Shop) VerifyBackup(who *store.Technician, id string) error {
	return s.onShelf("verify-backup", "Verification", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		now := s.Now()
		m, err := s.Shelf().Verify(ctx, id, now, report)
		var damage *shelf.Damage
		if err != nil && !errors.As(err, &damage) {
			return "", err
		}
		tail, e2 := s.tail()
		if e2 != nil {
			return "", e2
		}
		text := fmt.Sprintf("Backup of %s read back and compared, whole", m.From.Span.Title())
		if damage != nil {
			text = fmt.Sprintf("Backup of %s read back and compared: damaged, %s", m.From.Span.Title(), damage.What())
		}
		return fmt.Sprintf("%s is whole: every piece reads back as it was written.", m.ID), errors.Join(err, s.Store.Append(trail.Entry{
			ID: "e-verify-" + tail, Time: now, Who: who.Name, Act: trail.ActVerify, Backup: m.ID, Partition: m.From.Span.Number, Drive: m.From.Drive(), Text: text,
		}))
	})
}

// OwnBackup begins to make a backup that this shop has not signed one of its own.
func (s *Shop) OwnBackup(who *store.Technician, id, reason string) error {
	switch {
	case !who.Lead():
		return fmt.Errorf(
			"%w: a backup that this shop has not signed is taken in by the lead. Nothing was changed", run.ErrLead,
		)
	case reason == "" || len(reason) > MaxReason:
		return errors.New("it does not say why the backup can be trusted; nothing was changed")
	}
	return s.onShelf("take-in", "Taking in", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		now := s.Now()
		m, err := s.Shelf().TakeIn(ctx, id, who.Name, now, report)
		if err != nil {
			return "", err
		}
		tail, err := s.tail()
		if err != nil {
			return "", err
		}
		e := trail.Entry{
			ID: "e-own-" + tail, Time: now, Who: who.Name, Act: trail.ActTakeIn, Backup: m.ID, Drive: m.From.Drive(),
			Reason: reason,
		}
		e.Partition = m.From.Span.Number
		e.Text = fmt.Sprintf(
			"Backup %s taken in, which this shop had not signed: of %s, as it says of itself, made by %s", m.ID,
			m.From.Span.Title(), m.Who,
		)
		return fmt.Sprintf(
			"%s was read, is whole, and is one of the shop's backups from now on.", m.ID,
		), s.Store.Append(e)
	})
}

// ExportBackup begins to write a backup out as it can be handed over.
func (s *Shop) ExportBackup(id string) error {
	return s.onShelf("export", "Export", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		m, err := s.Shelf().Export(ctx, id, report)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s can be handed over; SHA-256 of what it unpacks to: %s.", m.ID, m.SHA256), nil
	})
}

// TakeOffShelf takes a backup off the shelf. A plan that needs it stands against that.
func (s *Shop) TakeOffShelf(who *store.Technician, id, reason string) error {
	jobs, err := s.Store.Jobs()
	if err != nil {
		return err
	}
	for _, j := range jobs {
		steps, _, err := j.Steps()
		if err != nil {
			return err
		}
		if slices.ContainsFunc(steps, func(x plan.Step) bool { return x.Backup() == id }) {
			return fmt.Errorf(
				"the plan of %s puts files back from this backup; nothing was deleted. Take that step out first",
				j.Number,
			)
		}
	}
	if len(reason) > MaxReason {
		return errors.New("that reason is too long; nothing was deleted")
	}
	o := run.Options{Options: rehearse.Options{
		Sources: facts.Sources{Shop: facts.Shop{Shelf: s.Shelf(), Records: s.Records, Trail: s.Store}, Lead: who.Lead()},
		Who:     who.Name, Now: s.Now,
	}}
	e, err := run.Gone(o, id, reason)
	if err != nil {
		return err
	}
	return s.Books.Do(Act{ID: e.ID, Backup: id, Entry: e})
}

// RestoreToFolder begins to put files of a backup into a new folder on the bench; only are the paths that are
// wanted, none for all.
func (s *Shop) RestoreToFolder(who *store.Technician, id string, only []string) error {
	return s.onShelf("restore", "Restoring files", func(ctx context.Context, report func(shelf.Progress)) (string, error) {
		m, err := s.Shelf().Load(id)
		if err != nil {
			return "", err
		}
		tail, err := s.tail()
		if err != nil {
			return "", err
		}
		to := filepath.Join(s.Data, "restored", m.ID+"-"+tail)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return "", err
		}
		// It has its name only once all of it is there and can be entered.
		coming, held := to+comingEnds, &Held{Sink: s.Store}
		defer os.RemoveAll(coming)
		out, err := run.RestoreToFolder(
			ctx,
			run.Options{Options: rehearse.Options{
				Sources: facts.Sources{
					Shop: facts.Shop{Shelf: s.Shelf(), Records: s.Records, Trail: held}, Random: s.Random,
				},
				Who: who.Name, Now: s.Now,
			}},
			id, only, coming, report,
		)
		if err != nil {
			return "", err
		}
		restored := func(path string) string { return filepath.Join("restored", filepath.Base(path)) }
		origin, err := json.Marshal(restoredFrom{m.From.Drive(), m.From.Span})
		if err != nil {
			return "", err
		}
		act := Act{ID: "restored-" + tail, Entry: held.Entries[0]}
		act.Moves = []Move{{From: restored(coming), To: restored(to)}}
		act.Files = []File{{Name: filepath.Join(OriginsFolder, filepath.Base(to)+".json"), Data: origin}}
		if err := s.Books.Do(act); err != nil {
			return "", err
		}
		text := fmt.Sprintf(
			"%s, %s, put into the folder %s on the bench and read back: %d compared, all the same.",
			words.Count(out.Files, "file"), out.Bytes, filepath.Join("restored", filepath.Base(to)), out.Compared,
		)
		if n := len(out.NotThere); n > 0 {
			text += fmt.Sprintf(" %d could not be restored, the first: %s.", n, out.NotThere[0])
		}
		return text, nil
	})
}
