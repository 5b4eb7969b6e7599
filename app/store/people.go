package store

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"jadetrail/app/signin"
	"jadetrail/core/trail"
)

var accountForm = regexp.MustCompile(`^[a-z_]{1,32}$`)

// Role is what somebody may do.
type Role string

// The roles, from the one that may do least.
const (
	Reader Role = "reader" // sees, and changes nothing
	Worker Role = "technician"
	Leader Role = "lead"
)

// Roles are all of them, as they are chosen from.
var Roles = []Role{Worker, Leader, Reader}

// May tells whether somebody with a role may do what needs another.
func (r Role) May(needs Role) bool { return r.rank() >= needs.rank() && r.rank() > 0 }

func (r Role) rank() int {
	switch r {
	case Reader:
		return 1
	case Worker:
		return 2
	case Leader:
		return 3
	}
	return 0
}

// Technician has an account.
type Technician struct {
	ID           uint64
	Login, Name  string
	Role         Role
	PasswordHash string
	OffAt        *time.Time // since when nobody can sign in to it, nil for one that is on
	CodeHash     string     // what is kept of the one-time code, "" for none
	CodeUntil    *time.Time
	SecondSecret string   // of the second factor, "" for none
	SecondLast   int64    // the last period of which a number was used
	Recovery     []string `gorm:"serializer:json"` // what is kept of the recovery codes
}

// Works tells that the account may change something.
func (t *Technician) Works() bool { return t.Role.May(Worker) }

// Lead tells that the account is a lead's.
func (t *Technician) Lead() bool { return t.Role == Leader }

// Sentinel errors of accounts.
var (
	// ErrSignIn is returned for a name and password that do not belong together.
	ErrSignIn = errors.New("name and password do not belong together")
	// ErrLogin tells that somebody has the name for signing in already.
	ErrLogin = errors.New("somebody signs in by this name already; nothing was changed. Take another")
	// ErrLastLead tells that nobody would be left who may do what only a lead may.
	ErrLastLead = errors.New("no lead would be left who can sign in; nothing was changed. Make somebody else a lead first")
	// ErrOpened tells that the shop has been opened before.
	ErrOpened = errors.New("the shop has been opened before; nothing was changed. Sign in")
)

// loginOf is a name as accounts have it.
func loginOf(login string) string { return strings.ToLower(strings.TrimSpace(login)) }

// Account finds who signs in by a name; ErrNotFound for nobody.
func (s *Store) Account(login string) (*Technician, error) {
	var t Technician
	if err := s.db.First(&t, "login = ?", loginOf(login)).Error; err != nil {
		return nil, found(err, "the account %.80q", login)
	}
	return &t, nil
}

// SignIn returns the technician whose login and password these are, of an account that is on.
func (s *Store) SignIn(ctx context.Context, login, password string) (*Technician, error) {
	t, err := s.Account(login)
	if errors.Is(err, ErrNotFound) {
		t = &Technician{}
	} else if err != nil {
		return nil, err
	}
	right, err := signin.Check(ctx, t.PasswordHash, password)
	if err != nil {
		return nil, err
	}
	if !right || t.OffAt != nil {
		return nil, ErrSignIn
	}
	return t, nil
}

// Lead returns the lead with a login; ErrNotFound for one who is none.
func (s *Store) Lead(login string) (*Technician, error) {
	t, err := s.Account(login)
	if err == nil && (!t.Lead() || t.OffAt != nil) {
		return nil, fmt.Errorf("the lead %s: %w", login, ErrNotFound)
	}
	return t, err
}

// Technician returns a technician by id.
func (s *Store) Technician(id uint64) (*Technician, error) {
	var t Technician
	if err := s.db.First(&t, id).Error; err != nil {
		return nil, found(err, "account %d", id)
	}
	return &t, nil
}

// Accounts are all who have accounts, by their names.
func (s *Store) Accounts() (out []Technician, err error) {
	return out, s.db.Order("off_at IS NOT NULL, name, id").Find(&out).Error
}

// AddPerson makes an account, and enters it in the trail: both, or nothing.
func (s *Store) AddPerson(t *Technician, e trail.Entry) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		if err := create(tx, t); err != nil {
			return err
		}
		return add(e)
	})
}

func create(tx *gorm.DB, t *Technician) error {
	t.Login = loginOf(t.Login)
	err := tx.Create(t).Error
	if twice(err) {
		return ErrLogin
	}
	return err
}

// ChangePerson changes an account, and enters it in the trail where change gives an entry for it: both, or nothing.
// A lead who can sign in is always left.
func (s *Store) ChangePerson(id uint64, change func(t *Technician) (*trail.Entry, error)) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		var t Technician
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&t, id).Error; err != nil {
			return found(err, "account %d", id)
		}
		was := t.Lead() && t.OffAt == nil
		e, err := change(&t)
		if err != nil {
			return err
		}
		if was && (!t.Lead() || t.OffAt != nil) {
			var others int64
			q := tx.Model(&Technician{}).Where("role = ? AND off_at IS NULL AND id <> ?", Leader, id)
			if err := q.Count(&others).Error; err != nil {
				return err
			}
			if others == 0 {
				return ErrLastLead
			}
		}
		if err := tx.Save(&t).Error; err != nil {
			return err
		}
		if t.OffAt != nil { // and out of every browser
			if err := tx.Delete(&Sitting{}, "technician = ?", id).Error; err != nil {
				return err
			}
		}
		if e == nil {
			return nil
		}
		return add(*e)
	})
}

// Sitting is a browser in which somebody is signed in.
type Sitting struct {
	ID              string `gorm:"primaryKey"`
	Technician      uint64
	BegunAt, SeenAt time.Time
	Source, Browser string
}

// Begin keeps a sitting.
func (s *Store) Begin(x Sitting) error { return s.db.Create(&x).Error }

// seenEvery is how often it is kept that somebody is still there.
const seenEvery = time.Minute

// Sits returns who sits somewhere, unless that is over: since nobody was there after idle, or since it began before
// the first of the two moments.
func (s *Store) Sits(id string, began, idle, now time.Time) (*Technician, error) {
	var x Sitting
	if err := s.db.First(&x, "id = ? AND begun_at > ? AND seen_at > ?", id, began, idle).Error; err != nil {
		return nil, found(err, "the session")
	}
	t, err := s.Technician(x.Technician)
	if err != nil || t.OffAt != nil {
		return nil, found(errors.Join(err, gorm.ErrRecordNotFound), "the account of the session")
	}
	if now.Sub(x.SeenAt) > seenEvery {
		err = s.Seen(id, now)
	}
	return t, err
}

// Seen keeps that somebody is still there.
func (s *Store) Seen(id string, now time.Time) error {
	return s.db.Model(&Sitting{}).Where("id = ?", id).Update("seen_at", now.UTC()).Error
}

// Sittings are where somebody is signed in, the latest seen first.
func (s *Store) Sittings(technician uint64, began, idle time.Time) (out []Sitting, err error) {
	q := s.db.Where("technician = ? AND begun_at > ? AND seen_at > ?", technician, began, idle)
	return out, q.Order("seen_at DESC, id").Limit(100).Find(&out).Error
}

// End ends a sitting of somebody.
func (s *Store) End(technician uint64, id string) error {
	return s.db.Delete(&Sitting{}, "technician = ? AND id = ?", technician, id).Error
}

// EndOthers ends all sittings of somebody but one; "" for all.
func (s *Store) EndOthers(technician uint64, but string) error {
	return s.db.Delete(&Sitting{}, "technician = ? AND id <> ?", technician, but).Error
}

// ForgetSittings forgets those that are over, so that the rest are found soon.
func (s *Store) ForgetSittings(began, idle time.Time) error {
	return s.db.Delete(&Sitting{}, "begun_at <= ? OR seen_at <= ?", began, idle).Error
}

// knownBrowser is one in which somebody has signed in before.
type knownBrowser struct {
	Hash       string `gorm:"primaryKey"`
	Technician uint64
	Since      time.Time
}

// Knows tells whether somebody has signed in before in a browser that holds what hash was kept of.
func (s *Store) Knows(hash string, technician uint64) (bool, error) {
	var n int64
	err := s.db.Model(&knownBrowser{}).Where("hash = ? AND technician = ?", hash, technician).Count(&n).Error
	return n > 0, err
}

// Know keeps that somebody has signed in in a browser.
func (s *Store) Know(hash string, technician uint64, now time.Time) error {
	row := knownBrowser{hash, technician, now.UTC()}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&row).Error
}

// Settings are the shop as its papers have it, and how it is kept.
type Settings struct {
	ID            uint8
	Name, Address string
	Demo          bool // its people's passwords are printed for everybody
	SecondFactor  bool // everybody needs one
	OpenedAt      time.Time
}

// TableName implements gorm's interface.
func (Settings) TableName() string { return "shops" }

// Settings returns them; ErrNotFound before it was opened.
func (s *Store) Settings() (*Settings, error) {
	var a Settings
	if err := s.db.First(&a, 1).Error; err != nil {
		return nil, found(err, "the shop")
	}
	return &a, nil
}

// ChangeSettings changes the settings, with the bays that there are from then on, and enters it in the trail: both, or
// nothing.
func (s *Store) ChangeSettings(change func(a *Settings) error, bays []Bay, e trail.Entry) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		var a Settings
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&a, 1).Error; err != nil {
			return found(err, "the shop")
		}
		if err := change(&a); err != nil {
			return err
		}
		if err := tx.Save(&a).Error; err != nil {
			return err
		}
		if err := makeBays(tx, bays); err != nil {
			return err
		}
		return add(e)
	})
}

// OpenShop makes the first lead and the bays of a shop that has nobody yet, and enters it in the trail: all of it, or
// nothing.
func (s *Store) OpenShop(a Settings, lead *Technician, bays []Bay, e trail.Entry) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		var n int64
		if err := tx.Model(&Technician{}).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			return ErrOpened
		}
		a.ID = 1
		if err := tx.Create(&a).Error; err != nil {
			return err
		}
		if err := create(tx, lead); err != nil {
			return err
		}
		if err := makeBays(tx, bays); err != nil {
			return err
		}
		return add(e)
	})
}

// makeBays makes those bays that there are not yet.
func makeBays(tx *gorm.DB, bays []Bay) error {
	for _, b := range bays {
		if err := tx.Where("letter = ?", b.Letter).FirstOrCreate(&b).Error; err != nil {
			return err
		}
	}
	return nil
}
