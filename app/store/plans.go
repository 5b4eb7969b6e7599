package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
)

// PlanState is what a job's plan was after one change.
type PlanState struct {
	ID     uint64
	Job    string
	Comes  uint64 // after which state, 0 for none
	Steps  *string
	Expect *string
	What   string // what was changed
	Who    string
	MadeAt time.Time
}

// Change is a change of a job's plan. Without steps there is no plan.
type Change struct {
	// From is the state that whoever made the change had seen, nil for whichever there is.
	From   *uint64
	Steps  []plan.Step
	Expect *layout.Layout
	What   string
	Who    string
	When   time.Time
}

// Meanwhile tells that a plan was changed by somebody else since it was looked at. Nothing
// was overwritten.
type Meanwhile struct{ PlanState }

func (m *Meanwhile) Error() string {
	return fmt.Sprintf(
		"%s has changed this plan meanwhile (%s), so your change was not made. The plan is shown as it is now; make your change again if it still fits",
		m.Who, m.What,
	)
}

// ErrNoState is returned where there is nothing to take back, or to do again.
var ErrNoState = errors.New("there is no such change of the plan")

// latest reads a job for changing its plan.
func latest(tx *gorm.DB, number string) (*Job, error) {
	var j Job
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&j, "number = ?", number).Error; err != nil {
		return nil, found(err, "job %s", number)
	}
	return &j, nil
}

func unchanged(tx *gorm.DB, j *Job, from *uint64) error {
	if from == nil || *from == j.PlanState {
		return nil
	}
	var now PlanState
	if err := tx.First(&now, j.PlanState).Error; err != nil {
		now = PlanState{Who: "Somebody", What: "it was carried out, or taken out"}
	}
	return &Meanwhile{now}
}

// SavePlan keeps a job's plan as a new state that comes after the present one. A changed
// plan has not been rehearsed.
func (s *Store) SavePlan(number string, c Change) error {
	state := PlanState{Job: number, What: c.What, Who: c.Who, MadeAt: c.When.UTC()}
	if len(c.Steps) > 0 {
		steps, err := json.Marshal(c.Steps)
		if err != nil {
			return err
		}
		expect, err := json.Marshal(c.Expect)
		if err != nil {
			return err
		}
		a, b := string(steps), string(expect)
		state.Steps, state.Expect = &a, &b
	}
	if r := []rune(state.What); len(r) > 300 {
		state.What = string(r[:299]) + "…"
	}
	return s.db.Transaction(func(tx *gorm.DB) error {
		j, err := latest(tx, number)
		if err == nil {
			err = unchanged(tx, j, c.From)
		}
		if err != nil {
			return err
		}
		state.Comes = j.PlanState
		if err := tx.Create(&state).Error; err != nil {
			return err
		}
		if err := voidOthers(tx, number, c.Steps, "the plan was changed: "+c.What, c.When); err != nil {
			return err
		}
		return put(tx, number, &state)
	})
}

// put makes a state the job's plan.
func put(tx *gorm.DB, number string, st *PlanState) error {
	return tx.Model(&Job{}).Where("number = ?", number).Updates(map[string]any{
		"plan": st.Steps, "expect": st.Expect, "rehearsed": nil, "plan_state": st.ID,
	}).Error
}

// endPlan leaves a job without a plan and without anything to take back: it was carried out.
// That happens with the entry of the trail that ends the run.
func endPlan(tx *gorm.DB, number string, when time.Time) error {
	if _, err := latest(tx, number); err != nil {
		return err
	}
	var last uint64
	if err := tx.Model(&PlanState{}).Where("job = ?", number).Select("COALESCE(MAX(id), 0)").Scan(&last).Error; err != nil {
		return err
	}
	if err := tx.Model(&Job{}).Where("number = ?", number).Update("plan_ended", last).Error; err != nil {
		return err
	}
	if err := voidOthers(tx, number, nil, "it was carried out", when); err != nil {
		return err
	}
	return put(tx, number, &PlanState{})
}

// NamingPlans counts the former plans of a job that name files or folders of its drives.
func (s *Store) NamingPlans(job string) (n int64, err error) {
	return n, s.db.Model(&PlanState{}).Where(naming, job).Count(&n).Error
}

// naming are former plans that name files or folders.
const naming = `job = ? AND steps LIKE '%"only"%'`

// ForgetNames forgets the former plans of a job that name files or folders. The present one is not
// among them once it was carried out.
func (s *Store) ForgetNames(job string) error {
	return s.db.Model(&PlanState{}).Where(naming, job).Updates(map[string]any{
		"steps": nil, "expect": nil, "what": "forgotten: a partition was erased",
	}).Error
}

// next finds the change that was taken back last.
func next(tx *gorm.DB, j *Job) (to PlanState, err error) {
	err = tx.Where("job = ? AND comes = ? AND id > ?", j.Number, j.PlanState, j.PlanEnded).Order("id DESC").First(&to).Error
	return to, err
}

// Undo takes the latest change of a plan back, or with again does the one that was taken
// back last once more. It returns what was changed.
func (s *Store) Undo(number string, from *uint64, again bool, when time.Time) (what string, err error) {
	return what, s.db.Transaction(func(tx *gorm.DB) error {
		j, err := latest(tx, number)
		if err == nil {
			err = unchanged(tx, j, from)
		}
		if err != nil {
			return err
		}
		var now, to PlanState
		if again {
			if to, err = next(tx, j); err != nil {
				return ErrNoState
			}
			what = to.What
			return restore(tx, number, &to, "the plan was changed: "+what, when)
		}
		if err := tx.First(&now, j.PlanState).Error; err != nil {
			return ErrNoState
		}
		if what = now.What; now.Comes != 0 {
			if err := tx.First(&to, now.Comes).Error; err != nil {
				return err
			}
		}
		return restore(tx, number, &to, "taken back: "+what, when)
	})
}

// restore makes a former state the job's plan again. What the lead approved of for another is void, and
// stays so when that comes back.
func restore(tx *gorm.DB, number string, st *PlanState, why string, when time.Time) error {
	var steps []plan.Step
	if st.Steps != nil {
		if err := json.Unmarshal([]byte(*st.Steps), &steps); err != nil {
			return err
		}
	}
	if err := voidOthers(tx, number, steps, why, when); err != nil {
		return err
	}
	return put(tx, number, st)
}

// Around tells what taking the plan's latest change back would take back, and what doing the
// next one again would do; "" for nothing. After a plan has ended nothing can be done again.
func (s *Store) Around(j *Job) (undo, redo string) {
	var now PlanState
	if j.PlanState != 0 && s.db.First(&now, j.PlanState).Error == nil {
		undo = now.What
	}
	if to, err := next(s.db, j); err == nil {
		redo = to.What
	}
	return undo, redo
}

// Latest is the state that a job's plan is in, with who made it and what.
func (s *Store) Latest(number string) (st PlanState, err error) {
	var j Job
	if err := s.db.Select("plan_state").First(&j, "number = ?", number).Error; err != nil {
		return st, err
	}
	if j.PlanState == 0 {
		return st, nil
	}
	return st, s.db.Select("id", "who", "what").First(&st, j.PlanState).Error
}

// KeptPlan is a plan that was kept under a name.
type KeptPlan struct {
	ID     uint64
	Name   string
	Job    string
	Steps  string
	Expect string
	Who    string
	MadeAt time.Time
}

// Plan reads the steps, and the drive that they were made for.
func (k *KeptPlan) Plan() (steps []plan.Step, l *layout.Layout, err error) {
	if err = json.Unmarshal([]byte(k.Steps), &steps); err == nil {
		err = json.Unmarshal([]byte(k.Expect), &l)
	}
	return steps, l, err
}

// ErrName is returned for a name under which a plan of the job is kept already.
var ErrName = errors.New("a plan of this job is kept under that name already; nothing was kept")

// KeepPlan keeps a plan under a name.
func (s *Store) KeepPlan(name, job, who string, steps []plan.Step, expect *layout.Layout, when time.Time) error {
	a, err := json.Marshal(steps)
	if err != nil {
		return err
	}
	b, err := json.Marshal(expect)
	if err != nil {
		return err
	}
	var n int64
	if err := s.db.Model(&KeptPlan{}).Where("job = ? AND name = ?", job, name).Count(&n).Error; err != nil {
		return err
	}
	if n > 0 {
		return ErrName
	}
	return s.db.Create(&KeptPlan{
		Name: name, Job: job, Steps: string(a), Expect: string(b), Who: who, MadeAt: when.UTC(),
	}).Error
}

// KeptPlans returns the kept plans of all jobs, the newest first.
func (s *Store) KeptPlans() (out []KeptPlan, err error) {
	return out, s.db.Order("made_at DESC").Limit(200).Find(&out).Error
}

// KeptPlan returns one kept plan.
func (s *Store) KeptPlan(id uint64) (*KeptPlan, error) {
	var k KeptPlan
	if err := s.db.First(&k, id).Error; err != nil {
		return nil, fmt.Errorf("the kept plan: %w", ErrNotFound)
	}
	return &k, nil
}

// DropPlan no longer keeps a plan.
func (s *Store) DropPlan(id uint64) error { return s.db.Delete(&KeptPlan{}, id).Error }

// DriveRate is what a drive has been measured to write in a second.
type DriveRate struct {
	Disk string `gorm:"primaryKey"`
	Rate disk.Bytes
	Runs int
}

// Rate returns what a drive was measured to write, and in how many runs; 0 for none.
func (s *Store) Rate(label string) (DriveRate, error) {
	var r DriveRate
	err := s.db.Where("disk = ?", label).Limit(1).Find(&r).Error
	return r, err
}

// Learn takes a measurement into a drive's rate: the latest few runs count.
func (s *Store) Learn(label string, wrote disk.Bytes, took time.Duration) (DriveRate, error) {
	r, err := s.Rate(label)
	if err != nil {
		return r, err
	}
	now := disk.Bytes(float64(wrote) / took.Seconds())
	weight := disk.Bytes(min(r.Runs, 4))
	r.Disk, r.Rate, r.Runs = label, (r.Rate*weight+now)/(weight+1), r.Runs+1
	return r, s.db.Save(&r).Error
}
