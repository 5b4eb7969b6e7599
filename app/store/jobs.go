package store

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"jadetrail/core/trail"
)

// Customer is somebody whose drives come to the shop.
type Customer struct {
	ID        uint64
	Name      string
	Telephone string // as it was said
	Digits    string // of it
	Email     string
	Address   string
}

// Waits is whom or what a job waits for.
type Waits string

// What jobs wait for.
const (
	WaitsNot      Waits = ""
	WaitsCustomer Waits = "customer"
	WaitsLead     Waits = "lead"
	WaitsPart     Waits = "part"
)

// Note is what somebody wrote to a job, or a picture of it.
type Note struct {
	ID      string `gorm:"primaryKey"`
	Job     string
	Who     string
	MadeAt  time.Time
	Text    string
	Picture bool
	GoneAt  *time.Time // when its picture was taken out
}

// Sentinel errors of jobs.
var (
	// ErrClosed tells that a job is closed.
	ErrClosed = errors.New("the job is closed; nothing was changed. Open it again first")
	// ErrNotClosed tells that a job is open.
	ErrNotClosed = errors.New("the job is open; nothing was changed")
)

// Digits are the digits of a telephone number.
func Digits(telephone string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, telephone)
}

// like is a pattern of what holds a text.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
}

// mostFound is how many customers or jobs one search shows.
const mostFound = 50

// FindCustomers are those whose name holds a text, or whose telephone number holds its digits, by their names.
func (s *Store) FindCustomers(text string) (out []Customer, err error) {
	q := s.db.Where("name LIKE ?", like(text))
	if d := Digits(text); len(d) >= 3 {
		q = q.Or("digits LIKE ?", like(d))
	}
	return out, q.Order("name, id").Limit(mostFound).Find(&out).Error
}

// Customer returns one.
func (s *Store) Customer(id uint64) (*Customer, error) {
	var c Customer
	if err := s.db.First(&c, id).Error; err != nil {
		return nil, found(err, "customer %d", id)
	}
	return &c, nil
}

// OpenJob opens a job for a customer, who is new where the ID is 0, and enters it in the trail: all of it, or nothing.
// It returns the number that the job got: the next one.
func (s *Store) OpenJob(j Job, c Customer, e trail.Entry) (number string, err error) {
	return number, s.inChain(func(tx *gorm.DB, add adding) error {
		if number, err = nextNumber(tx); err != nil {
			return err
		}
		if c.ID == 0 {
			if err := tx.Create(&c).Error; err != nil {
				return err
			}
		} else if err := keepCustomer(tx, &c); err != nil {
			return err
		}
		j.Number, j.Customer, j.CustomerID = number, c.Name, &c.ID
		if err := tx.Create(&j).Error; err != nil {
			return err
		}
		e.Job = number
		return add(e)
	})
}

// keepCustomer keeps what is known of a customer, who is called so in all jobs.
func keepCustomer(tx *gorm.DB, c *Customer) error {
	if err := tx.First(&Customer{}, c.ID).Error; err != nil {
		return found(err, "customer %d", c.ID)
	}
	if err := tx.Save(c).Error; err != nil {
		return err
	}
	return tx.Model(&Job{}).Where("customer_id = ?", c.ID).Update("customer", c.Name).Error
}

// firstNumber is the number of a shop's first job.
const firstNumber = 1001

// nextNumber is the number of the next job: one more than the largest.
func nextNumber(tx *gorm.DB) (string, error) {
	var last *int64
	q := tx.Model(&Job{}).Where("number REGEXP '^J-[0-9]{1,9}$'")
	err := q.Select("MAX(CAST(SUBSTRING(number, 3) AS UNSIGNED))").Scan(&last).Error
	next := int64(firstNumber)
	if last != nil {
		next = max(next, *last+1)
	}
	return fmt.Sprintf("J-%d", next), err
}

// ChangeJob changes a job and its customer, and enters it in the trail where change gives an entry for it: all of it,
// or nothing. The plan is not changed by it.
func (s *Store) ChangeJob(number string, change func(j *Job, c *Customer) (*trail.Entry, error)) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		var j Job
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&j, "number = ?", number).Error; err != nil {
			return found(err, "job %s", number)
		}
		var c Customer
		if j.CustomerID != nil {
			if err := tx.First(&c, *j.CustomerID).Error; err != nil {
				return err
			}
		}
		e, err := change(&j, &c)
		if err != nil {
			return err
		}
		if c.ID != 0 {
			if err := keepCustomer(tx, &c); err != nil {
				return err
			}
			j.Customer = c.Name
		}
		if err := tx.Omit("Plan", "Expect", "Rehearsed", "PlanState", "PlanEnded").Save(&j).Error; err != nil {
			return err
		}
		if e == nil {
			return nil
		}
		return add(*e)
	})
}

// JobFilter is which jobs are listed.
type JobFilter struct {
	Text   string // in the number, the customer, the PC or the wish; or digits of the telephone number
	Given  uint64 // to whom, 0 for anybody
	Closed bool   // those too that are closed
}

// FindJobs lists jobs, the newest first, at most limit.
func (s *Store) FindJobs(f JobFilter, limit int) (out []Job, err error) {
	q := s.db.Model(&Job{})
	if f.Text != "" {
		p := like(f.Text)
		any := s.db.Where("number LIKE ?", p).Or("customer LIKE ?", p).Or("pc LIKE ?", p).Or("want LIKE ?", p)
		if d := Digits(f.Text); len(d) >= 3 {
			any = any.Or("customer_id IN (?)", s.db.Model(&Customer{}).Select("id").Where("digits LIKE ?", like(d)))
		}
		q = q.Where(any)
	}
	if f.Given != 0 {
		q = q.Where("given_to = ?", f.Given)
	}
	if !f.Closed {
		q = q.Where("closed_at IS NULL")
	}
	return out, q.Order("LENGTH(number) DESC, number DESC").Limit(limit).Find(&out).Error
}

// DueJobs are closed ones of which the day has passed until which backups and pictures were to be kept, and that
// nothing was done about.
func (s *Store) DueJobs(today time.Time) (out []Job, err error) {
	q := s.db.Where("closed_at IS NOT NULL AND cleared_at IS NULL AND kept_until < ?", today.Format(time.DateOnly))
	return out, q.Order("number").Limit(mostFound).Find(&out).Error
}

// AddNote keeps a note.
func (s *Store) AddNote(n Note) error { return s.db.Create(&n).Error }

// Notes are those of a job, the newest first, at most 200.
func (s *Store) Notes(job string) (out []Note, err error) {
	return out, s.db.Where("job = ?", job).Order("made_at DESC, id DESC").Limit(200).Find(&out).Error
}

// PictureGone keeps that the picture of a note was taken out.
func (s *Store) PictureGone(id string, when time.Time) error {
	return s.db.Model(&Note{}).Where("id = ? AND picture", id).Updates(map[string]any{"gone_at": when.UTC()}).Error
}

// JobsFor are the other jobs of a customer, the newest first.
func (s *Store) JobsFor(customer uint64, but string) (out []Job, err error) {
	q := s.db.Where("customer_id = ? AND number <> ?", customer, but)
	return out, q.Order("LENGTH(number) DESC, number DESC").Limit(mostFound).Find(&out).Error
}
