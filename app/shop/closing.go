package shop

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/run"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Settlement is what is on the bench of a job that is to be closed.
type Settlement struct {
	Drives   []Docked
	Backups  []JobBackup
	Away     []trail.Entry // of backups that are on no shelf in a bay
	Pictures int
	Stands   []string // what stands against closing it
}

// Settlement looks at what a job leaves on the bench.
func (s *Shop) Settlement(number string) (out Settlement, err error) {
	j, _, err := s.Store.Job(number, "")
	if err != nil {
		return out, err
	}
	if out.Backups, out.Away, err = s.BackupsOfJob(number); err != nil {
		return out, err
	}
	pictures, err := s.pictures(number)
	if err != nil {
		return out, err
	}
	out.Pictures = len(pictures)
	bays, err := s.Store.BaysOf(number)
	if err != nil {
		return out, err
	}
	stands := func(format string, args ...any) { out.Stands = append(out.Stands, fmt.Sprintf(format, args...)) }
	for _, b := range bays {
		out.Drives = append(out.Drives, s.Docked(b))
		d, err := s.Open(&b, false)
		if err != nil {
			continue // it can be given back all the same
		}
		if pending, err := s.Unfinished(d); err != nil || pending != nil {
			stands("a run on the drive in bay %s is not finished: finish it or take it back", b.Letter)
		}
		if s.Desk.Busy(d.Path) {
			stands("work on the drive in bay %s is under way", b.Letter)
		}
		d.Close()
	}
	if steps, _, err := j.Steps(); err != nil || len(steps) > 0 {
		stands(
			"its plan has %s that were not carried out: carry them out, or take them out",
			words.Plural(len(steps), "step", "steps"),
		)
	}
	if j.HandedAt == nil {
		stands("it was not handed over")
	}
	return out, nil
}

// CloseJob closes a job: its drives leave the bays, and its backups and pictures are kept until a day, as 2027-02-28.
// Of each drive in a bay stays tells whether it stays here as the shop's own; the others are given back.
func (s *Shop) CloseJob(who *store.Technician, number, until string, stays map[string]bool) error {
	day, err := s.keptUntil(until)
	if err != nil {
		return err
	}
	what, err := s.Settlement(number)
	if err != nil {
		return err
	}
	if len(what.Stands) > 0 {
		return fmt.Errorf("the job stays open, and nothing was changed: %s", strings.Join(what.Stands, "; "))
	}
	// 1. What is kept, which can be done again.
	if err := s.keepAll(what.Backups, day); err != nil {
		return err
	}
	// 2. The drives, each an act of its own.
	back, here := 0, 0
	for _, d := range what.Drives {
		if stays[d.Letter] {
			here++
			_, err = s.MoveDrive(who, d.Letter, "")
		} else {
			back++
			_, err = s.TakeOutOfBay(who, d.Letter)
		}
		if err != nil && !errors.Is(err, ErrLater) {
			return fmt.Errorf("the job stays open, since the drive in bay %s stays where it is: %w", d.Letter, err)
		}
	}
	// 3. The job.
	return s.actOnJob(who.Name, number, trail.ActCloseJob, func(j *store.Job, _ *store.Customer) (string, error) {
		if j.ClosedAt != nil {
			return "", store.ErrClosed
		}
		now := s.Now().UTC()
		j.ClosedAt, j.ClosedBy, j.KeptUntil, j.ClearedAt = &now, who.Name, &day, nil
		text := fmt.Sprintf(
			"Job closed: %s and %s are kept until %s", words.Plural(len(what.Backups), "backup", "backups"),
			words.Plural(what.Pictures, "picture", "pictures"), until,
		)
		if n := len(what.Away); n > 0 {
			text += fmt.Sprintf("; %s on no shelf in a bay", words.Plural(n, "other is", "others are"))
		}
		if back > 0 {
			text += fmt.Sprintf("; %s given back", words.Plural(back, "drive", "drives"))
		}
		if here > 0 {
			text += fmt.Sprintf("; %s here as the shop's own", words.Plural(here, "drive stays", "drives stay"))
		}
		return text, nil
	})
}

// Today is the day that it is in the shop, as days are kept: the beginning of that day, were it UTC.
func (s *Shop) Today() time.Time {
	y, m, d := s.Now().Local().Date()
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// keptUntil reads the day until which something is kept.
func (s *Shop) keptUntil(text string) (time.Time, error) {
	day, err := time.Parse(time.DateOnly, text)
	if err != nil {
		return day, fmt.Errorf(
			"%.20q is no day; nothing was changed. Say until when backups and pictures are kept, as 2027-02-28", text,
		)
	}
	if now := s.Today(); day.Before(now) || day.After(now.AddDate(20, 0, 0)) {
		return day, errors.New("backups are kept until a day that is to come, of the next 20 years; nothing was changed")
	}
	return day, nil
}

// keepAll notes until when backups are kept.
func (s *Shop) keepAll(list []JobBackup, day time.Time) error {
	here := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, time.Local)
	for _, b := range list {
		if err := s.Shelf().Keep(b.ID, &here); err != nil {
			return fmt.Errorf("the job stays as it is, since until when the backup %s is kept could not be noted: %w", b.ID, err)
		}
	}
	return nil
}

// HandOverJob keeps that the customer is handed the drives and the report, and until which day backups and pictures
// are kept, as 2027-02-28, so that it stands there.
func (s *Shop) HandOverJob(who *store.Technician, number, until string) error {
	day, err := s.keptUntil(until)
	if err != nil {
		return err
	}
	j, _, err := s.Store.Job(number, "")
	switch {
	case err != nil:
		return err
	case j.ClosedAt != nil:
		return store.ErrClosed
	case j.HandedAt != nil:
		return errHanded
	}
	here, _, err := s.BackupsOfJob(number)
	if err != nil {
		return err
	}
	if err := s.keepAll(here, day); err != nil {
		return err
	}
	seq, hash, err := s.Store.Head()
	if err != nil {
		return err
	}
	return s.actOnJob(who.Name, number, trail.ActHandOver, func(j *store.Job, _ *store.Customer) (string, error) {
		switch {
		case j.ClosedAt != nil:
			return "", store.ErrClosed
		case j.HandedAt != nil:
			return "", errHanded
		}
		now := s.Now().UTC()
		j.HandedAt, j.HandedBy, j.KeptUntil = &now, who.Name, &day
		j.WaitsFor, j.WaitsWhy, j.WaitsSince = store.WaitsNot, "", nil
		return fmt.Sprintf(
			"Handed over, after entry %d (%.12s) of the trail; %s kept until %s", seq, hash,
			words.Plural(len(here), "backup is", "backups are"), until,
		), nil
	})
}

var errHanded = errors.New("the job was handed over before; nothing was changed")

// ReopenJob opens a closed job again.
func (s *Shop) ReopenJob(who *store.Technician, number, why string) error {
	why, err := lineSaid("why it is opened again", why, 500, true)
	if err != nil {
		return err
	}
	return s.actOnJob(who.Name, number, trail.ActReopen, func(j *store.Job, _ *store.Customer) (string, error) {
		if j.ClosedAt == nil {
			return "", store.ErrNotClosed
		}
		j.ClosedAt, j.ClosedBy, j.HandedAt, j.HandedBy, j.KeptUntil = nil, "", nil, "", nil
		return "Job opened again: " + why, nil
	})
}

// Due is a closed job of which the day has passed until which things were kept, and what is left of them.
type Due struct {
	store.Job
	Backups []JobBackup   // that are here
	Away    []trail.Entry // of backups that are on no shelf in a bay
}

// Due are the jobs of which something was to be taken away before now.
func (s *Shop) Due() (out []Due, err error) {
	jobs, err := s.Store.DueJobs(s.Today())
	for _, j := range jobs {
		here, away, err := s.BackupsOfJob(j.Number)
		if err != nil {
			return nil, err
		}
		out = append(out, Due{j, here, away})
	}
	return out, err
}

// cleared is what one try took away of what was kept of a job, and what it left.
type cleared struct {
	backups, pictures int
	longer            int   // backups of which somebody has said since that they are kept longer
	away              int   // backups on no shelf in a bay
	lead              error // why a backup waits for a lead, nil for none that does
}

// ClearJob takes away what was kept of a closed job until a day that has passed: its pictures, and its backups. What
// only a lead takes away, the last backup of what was deleted, waits for one; and what is on no shelf in a bay waits
// for its shelf, or for a lead who settles the job without it. The trail tells what each try took, and no more.
func (s *Shop) ClearJob(who *store.Technician, number string) (said string, err error) {
	j, _, err := s.Store.Job(number, "")
	if err != nil {
		return "", err
	}
	if j.ClosedAt == nil || j.KeptUntil == nil || !j.KeptUntil.Before(s.Today()) {
		return "", fmt.Errorf("what was kept of %s is kept still; nothing was taken away", number)
	}
	x, err := s.takeAway(who, j)
	taken := fmt.Sprintf(
		"%s and %s", words.Plural(x.backups, "backup", "backups"), words.Plural(x.pictures, "picture", "pictures"),
	)
	done := err == nil && x.lead == nil && (x.away == 0 || who.Lead())
	if done || x.backups+x.pictures > 0 {
		e := s.actOnJob(who.Name, number, trail.ActClearJob, func(j *store.Job, _ *store.Customer) (string, error) {
			if now := s.Now().UTC(); done {
				j.ClearedAt = &now
			}
			return fmt.Sprintf("Kept until %s, and taken away: %s%s", dayOf(j.KeptUntil), taken, x.left()), nil
		})
		err = errors.Join(err, e)
	}
	said = fmt.Sprintf("Of %s were taken away: %s%s.", number, taken, x.left())
	return said, errors.Join(err, x.lead)
}

// left says what was not taken away, and why.
func (x *cleared) left() (text string) {
	if x.longer > 0 {
		text += fmt.Sprintf("; %s kept longer", words.Plural(x.longer, "backup is", "backups are"))
	}
	if x.away > 0 {
		text += fmt.Sprintf("; %s on no shelf in a bay", words.Plural(x.away, "backup is", "backups are"))
	}
	if x.lead != nil {
		text += "; what is the last backup of something deleted waits for a lead"
	}
	return text
}

// takeAway takes away what it may of what was kept of a job.
func (s *Shop) takeAway(who *store.Technician, j *store.Job) (x cleared, err error) {
	if x.pictures, err = s.clearPictures(j.Number); err != nil {
		return x, err
	}
	here, away, err := s.BackupsOfJob(j.Number)
	x.away = len(away)
	for _, b := range here {
		if b.Until != nil && dayOf(b.Until) > dayOf(j.KeptUntil) {
			x.longer++
			continue
		}
		why := fmt.Sprintf("kept until %s, as settled when %s was closed by %s", dayOf(j.KeptUntil), j.Number, j.ClosedBy)
		switch err := s.TakeOffShelf(who, b.ID, why); {
		case errors.Is(err, run.ErrLead):
			x.lead = err
		case err != nil && !errors.Is(err, ErrLater):
			return x, err
		default:
			x.backups++
		}
	}
	return x, err
}

// clearPictures takes the pictures of a job away.
func (s *Shop) clearPictures(number string) (gone int, err error) {
	list, err := s.pictures(number)
	if err != nil {
		return 0, err
	}
	for _, n := range list {
		if err := s.takePicture(n); err != nil {
			return gone, err
		}
		gone++
	}
	return gone, nil
}

func (s *Shop) takePicture(n store.Note) error {
	if err := os.Remove(s.picturePath(n.ID)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return s.Store.PictureGone(n.ID, s.Now())
}

func (s *Shop) picturePath(id string) string {
	return filepath.Join(s.Folder("pictures"), filepath.Base(id)+".jpg")
}

// clearing takes away what was kept until a day, once it has passed. What needs a lead waits for one on the bench.
func (s *Shop) clearing() {
	jobs, err := s.Store.DueJobs(s.Today())
	if err != nil {
		return // the database is away: it is tried again
	}
	for _, j := range jobs {
		settled := &store.Technician{Name: "Jade Trail, as " + j.ClosedBy + " had settled", Role: store.Worker}
		s.ClearJob(settled, j.Number) // the bench tells what stays
	}
}
