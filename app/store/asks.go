package store

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

// Ask is what a technician asks the lead for, and what the lead said to it.
type Ask struct {
	ID         string `gorm:"primaryKey"` // of the entry that answers it, too
	Job        string
	Disk       string
	Model      string
	Serial     string
	Lifts      plan.Lifts
	Number     int    // of the partition
	UniqueID   string // of it in the table
	Purpose    string
	State      string // of the partitions touched, as they were when it was asked
	Touched    []int  `gorm:"serializer:json"`
	Text       string
	Reason     string
	AskedBy    string
	AskedAt    time.Time
	Yes        *bool // nil while it waits
	AnsweredBy string
	AnsweredAt *time.Time
	Why        string
	VoidAt     *time.Time // when what it was for was another
	VoidWhy    string
}

// Waits tells that nobody has answered it.
func (a *Ask) Waits() bool { return a.Yes == nil && a.VoidAt == nil }

// Drive names the drive that it is about.
func (a *Ask) Drive() trail.Drive {
	return trail.Drive{DiskID: a.Disk, Model: a.Model, Serial: a.Serial}
}

// Sentinel errors of answers.
var (
	ErrAnswered = errors.New("it was answered before, or is not asked any more; nothing was changed")
	ErrNotLead  = errors.New("only the lead answers that; nothing was changed")
)

// AskLead keeps an ask, unless the very same one waits already or was answered: nobody gets another answer
// by asking once more. One that was for other contents than there are now is void. It returns the id of the
// one that waits, "" for none.
func (s *Store) AskLead(a Ask) (waits string, err error) {
	return waits, s.db.Transaction(func(tx *gorm.DB) error {
		j, err := latest(tx, a.Job)
		if err != nil {
			return err
		}
		if steps, _, err := j.Steps(); err != nil || !slices.Contains(plan.Purposes(steps), a.Purpose) {
			return err // the plan was changed meanwhile
		}
		alike := tx.Model(&Ask{}).Where("job = ? AND disk = ? AND serial = ?", a.Job, a.Disk, a.Serial).
			Where("lifts = ? AND unique_id = ? AND purpose = ? AND void_at IS NULL", a.Lifts, a.UniqueID, a.Purpose).
			Session(&gorm.Session{})
		other := map[string]any{"void_at": a.AskedAt, "void_why": "the contents have changed since it was asked for"}
		if err := alike.Where("state <> ?", a.State).Updates(other).Error; err != nil {
			return err
		}
		var same []Ask
		err = alike.Find(&same).Error
		if err == nil && len(same) == 0 {
			same = []Ask{a}
			err = tx.Create(&a).Error
		}
		if err == nil && same[0].Waits() {
			waits = same[0].ID
		}
		return err
	})
}

// Asks are those of a job, the newest first, at most 100.
func (s *Store) Asks(job string) (out []Ask, err error) {
	return out, s.db.Where("job = ?", job).Order("asked_at DESC, id DESC").Limit(100).Find(&out).Error
}

// Waiting are the asks that nobody has answered, the oldest first.
func (s *Store) Waiting() (out []Ask, err error) {
	return out, s.db.Where("yes IS NULL AND void_at IS NULL").Order("asked_at, id").Limit(100).Find(&out).Error
}

// Ask returns one.
func (s *Store) Ask(id string) (*Ask, error) {
	var a Ask
	if err := s.db.First(&a, "id = ?", id).Error; err != nil {
		return nil, found(err, "what is asked under %s", id)
	}
	return &a, nil
}

// Answer keeps what the lead says to an ask, and enters it in the trail, both or nothing.
func (s *Store) Answer(id string, lead uint64, yes bool, why string, when time.Time) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		var t Technician
		err := tx.First(&t, "id = ? AND role = ? AND off_at IS NULL", lead, Leader).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return ErrNotLead
		}
		if err != nil {
			return err
		}
		var a Ask
		if err := tx.First(&a, "id = ?", id).Error; err != nil {
			return found(err, "what is asked under %s", id)
		}
		if _, err := latest(tx, a.Job); err != nil { // its plan stays as it is meanwhile
			return err
		}
		said := map[string]any{"yes": yes, "answered_by": t.Name, "answered_at": when.UTC(), "why": why}
		done := tx.Model(&Ask{}).Where("id = ? AND yes IS NULL AND void_at IS NULL", id).Updates(said)
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return ErrAnswered
		}
		return add(a.answer(t.Name, yes, why, when))
	})
}

// answer is the entry of what the lead says to an ask.
func (a *Ask) answer(lead string, yes bool, why string, when time.Time) trail.Entry {
	e := trail.Entry{
		ID: a.ID, Time: when, Who: lead, Act: trail.ActAnswer, Job: a.Job, Drive: a.Drive(), Partition: a.Number,
		Reason: why,
	}
	e.Text = "Not approved, as " + a.AskedBy + " asked: " + a.Text
	if yes {
		e.Text = "Approved, as " + a.AskedBy + " asked: " + a.Text
	}
	e.Answer = &trail.Answer{
		Yes: yes, Lifts: string(a.Lifts), Purpose: a.Purpose, UniqueID: a.UniqueID, State: a.State, Touched: a.Touched,
		AskedBy: a.AskedBy, AskedFor: a.Reason,
	}
	return e
}

// LatestAnswer is the ask of a job that was answered last; nil for none.
func (s *Store) LatestAnswer(job string) (*Ask, error) {
	var a Ask
	q := s.db.Where("job = ? AND answered_at IS NOT NULL", job).Order("answered_at DESC, id DESC")
	err := q.Limit(1).Take(&a).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	return &a, err
}

// Approved are the entries of the trail by which the lead approved of something in a job's plan, of those
// that are not void.
func (s *Store) Approved(job string) (out []trail.Entry, err error) {
	var ids []string
	err = s.db.Model(&Ask{}).Where("job = ? AND yes AND void_at IS NULL", job).Pluck("id", &ids).Error
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	all, err := s.Entries(Filter{Job: job, Act: string(trail.ActAnswer)})
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if e.Answer != nil && e.Answer.Yes && slices.Contains(ids, e.ID) {
			out = append(out, e)
		}
	}
	return out, nil
}

// voidOthers ends the asks of a job that are for no step of its plan any more.
func voidOthers(tx *gorm.DB, job string, steps []plan.Step, why string, when time.Time) error {
	if r := []rune(why); len(r) > 300 {
		why = string(r[:299]) + "…"
	}
	q := tx.Model(&Ask{}).Where("job = ? AND void_at IS NULL", job)
	if len(steps) > 0 {
		q = q.Where("purpose NOT IN ?", plan.Purposes(steps))
	}
	if err := q.Updates(map[string]any{"void_at": when.UTC(), "void_why": why}).Error; err != nil {
		return fmt.Errorf("what the lead was asked for: %w", err)
	}
	return nil
}
