// Package store keeps jobs, plans, technicians and the trail in MariaDB. It never
// decides what is on a drive.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"time"

	mysqldriver "github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/mysql"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"

	"jadetrail/app/signin"
	"jadetrail/core/layout"
	"jadetrail/core/plan"
	"jadetrail/core/trail"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Sentinel errors of Open.
var (
	ErrUnreachable = errors.New("the database cannot be reached")
	ErrSchema      = errors.New("the database is of another version")
	ErrNotFound    = errors.New("not found")
)

// Store is the application's database.
type Store struct {
	db *gorm.DB
	*Trail
}

// Job is one customer's PC on the bench.
type Job struct {
	Number    string `gorm:"primaryKey"`
	Customer  string
	PC        string `gorm:"column:pc"`
	Story     string
	Want      string
	Plan      *string
	Expect    *string
	Rehearsed *time.Time
	PlanState uint64 // which state of the plan this is, 0 for no plan
	PlanEnded uint64 // the last state of the plan that was carried out before

	CustomerID *uint64
	Goal       string     // the kind of goal that the wish is, "" for one that is said in words alone
	GoalOf     string     // the letter of the volume that it is about, "" for not known
	GoalAmount string     // how much, as it was said, "" for not known
	Keep       string     // what must not be lost
	Promised   *time.Time // the day, nil for none
	ConsentAt  *time.Time // when the customer's signed consent was there
	ConsentBy  string     // who took it
	GivenTo    *uint64
	WaitsFor   Waits
	WaitsWhy   string
	WaitsSince *time.Time
	OpenedAt   *time.Time // nil for one from before this was kept
	OpenedBy   string
	HandedAt   *time.Time
	HandedBy   string
	ClosedAt   *time.Time
	ClosedBy   string
	KeptUntil  *time.Time // the day until which backups and pictures are kept, once it is closed
	ClearedAt  *time.Time // when what was kept until then was taken away
}

// Bay of the bench.
type Bay struct {
	Letter string `gorm:"primaryKey"`
	Image  *string
	Shelf  bool
	Job    *string
	Since  *time.Time // when its drive came, nil for from the beginning
}

// mostConnections is how many connections with the database are open at once.
const mostConnections = 24

func open(dsn string) (*gorm.DB, error) {
	cfg, err := mysqldriver.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("%w: its address is not valid: %v", ErrUnreachable, err)
	}
	cfg.ParseTime, cfg.Loc, cfg.MultiStatements = true, time.UTC, false
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}
	cfg.Params["time_zone"] = "'+00:00'"
	cfg.Timeout = 5 * time.Second
	dialect := worded{mysql.Dialector{Config: &mysql.Config{DSN: cfg.FormatDSN(), DSNConfig: cfg}}}
	db, err := gorm.Open(dialect, &gorm.Config{Logger: logger.Discard, TranslateError: true})
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %v", ErrUnreachable, cfg.Addr, err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	// However many ask at once, the database has so many of us and no more; the others wait for their turn.
	pool.SetMaxOpenConns(mostConnections)
	pool.SetMaxIdleConns(mostConnections / 2)
	pool.SetConnMaxIdleTime(5 * time.Minute)
	return db, nil
}

// newest is the newest migration that this program knows.
func newest() (int64, error) {
	p, err := goose.NewProvider(goose.DialectMySQL, &sql.DB{}, migrationFiles())
	if err != nil {
		return 0, err
	}
	list := p.ListSources()
	return list[len(list)-1].Version, nil
}

func migrationFiles() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}

// Open connects with the application's own account and checks that the schema is
// the one this program was made for.
func Open(dsn string) (*Store, error) {
	db, err := open(dsn)
	if err != nil {
		return nil, err
	}
	want, err := newest()
	if err != nil {
		return nil, err
	}
	var have int64
	if err := db.Raw("SELECT COALESCE(MAX(version_id), 0) FROM goose_db_version WHERE is_applied").Scan(&have).Error; err != nil || have < want {
		return nil, fmt.Errorf(
			"%w: it has version %d and this program needs %d; run `jadetrail migrate` first", ErrSchema, have, want,
		)
	}
	if have > want {
		return nil, fmt.Errorf(
			"%w: it has version %d, made by a newer Jade Trail; this program knows %d. Nothing was changed. Start the newer program",
			ErrSchema, have, want,
		)
	}
	return &Store{db, &Trail{db: db, Log: slog.New(slog.DiscardHandler)}}, nil
}

// found makes of an error of looking something up one that says what was not found, and leaves any
// other as it is: only what is truly not there is not found.
func found(err error, format string, args ...any) error {
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return fmt.Errorf("%s: %w", fmt.Sprintf(format, args...), ErrNotFound)
	}
	return err
}

// Ping asks the database whether it is there.
func (s *Store) Ping(ctx context.Context) error {
	d, err := s.db.DB()
	if err != nil {
		return err
	}
	return inWords(d.PingContext(ctx))
}

// SQL is the plain connection, for the sessions.
func (s *Store) SQL() (*sql.DB, error) { return s.db.DB() }

// Close closes the connection.
func (s *Store) Close() error {
	d, err := s.db.DB()
	if err == nil {
		err = d.Close()
	}
	return err
}

// Migrate brings the schema up to date with the owner's account and gives the
// application's account what it needs and no more: it cannot drop, alter,
// truncate or touch triggers, and in the trail it can only read and add.
func Migrate(ctx context.Context, ownerDSN, appUser string) error {
	db, err := open(ownerDSN)
	if err != nil {
		return err
	}
	d, err := db.DB()
	if err != nil {
		return err
	}
	defer d.Close()
	p, err := goose.NewProvider(goose.DialectMySQL, d, migrationFiles())
	if err != nil {
		return err
	}
	want, err := newest()
	if err != nil {
		return err
	}
	if have, err := p.GetDBVersion(ctx); err == nil && have > want {
		return fmt.Errorf(
			"%w: it has version %d, made by a newer Jade Trail; this program knows %d. Nothing was changed. Start the newer program",
			ErrSchema, have, want,
		)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("the database could not be brought up to date: %w", err)
	}
	var schema string
	if err := d.QueryRowContext(ctx, "SELECT DATABASE()").Scan(&schema); err != nil {
		return err
	}
	for table, rights := range map[string]string{
		"technicians": "SELECT, INSERT, UPDATE", "jobs": "SELECT, INSERT, UPDATE", "bays": "SELECT, INSERT, UPDATE",
		"sessions": "SELECT, INSERT, UPDATE, DELETE", "trail_entries": "SELECT, INSERT",
		"shops": "SELECT, INSERT, UPDATE", "customers": "SELECT, INSERT, UPDATE", "notes": "SELECT, INSERT, UPDATE",
		"sittings": "SELECT, INSERT, UPDATE, DELETE", "known_browsers": "SELECT, INSERT, UPDATE",
		"plan_states": "SELECT, INSERT, UPDATE", "kept_plans": "SELECT, INSERT, DELETE", "drive_rates": "SELECT, INSERT, UPDATE", "open_runs": "SELECT, INSERT, UPDATE", "asks": "SELECT, INSERT, UPDATE", "goose_db_version": "SELECT",
	} {
		// Names cannot be parameters of GRANT; the account's is checked.
		if !accountForm.MatchString(appUser) {
			return fmt.Errorf("%q is not the name of a database account", appUser)
		}
		if _, err := d.ExecContext(ctx, fmt.Sprintf("GRANT %s ON `%s`.`%s` TO '%s'@'127.0.0.1'", rights, schema, table, appUser)); err != nil {
			return fmt.Errorf("the application's account could not be given its rights: %w", err)
		}
	}
	return nil
}

// Opening is what a demo has when it opens: its people, its jobs, and its bays with what is in them.
type Opening struct {
	Settings Settings
	People   []NewPerson
	Jobs     []Job
	Bays     []Bay
}

// NewPerson is somebody who can sign in from now on, with a password that is printed for everybody.
type NewPerson struct {
	Name, Login, Password string
	Role                  Role
}

// Lead tells that it is one.
func (p NewPerson) Lead() bool { return p.Role == Leader }

// Seed puts in place what of an opening does not exist yet; what exists stays as it is.
func (s *Store) Seed(o Opening) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		o.Settings.ID = 1
		if o.Settings.OpenedAt.IsZero() {
			o.Settings.OpenedAt = time.Now().UTC()
		}
		if err := tx.Where("id = 1").FirstOrCreate(&o.Settings).Error; err != nil {
			return err
		}
		for _, p := range o.People {
			if err := tx.First(&Technician{}, "login = ?", p.Login).Error; err == nil {
				continue
			}
			hash, err := signin.Hash(context.Background(), p.Password, signin.Public)
			if err != nil {
				return err
			}
			if err := tx.Create(&Technician{Login: p.Login, Name: p.Name, Role: p.Role, PasswordHash: hash}).Error; err != nil {
				return err
			}
		}
		for _, job := range o.Jobs {
			c := Customer{Name: job.Customer}
			if err := tx.Where("name = ?", c.Name).FirstOrCreate(&c).Error; err != nil {
				return err
			}
			job.CustomerID = &c.ID
			if err := tx.Where("number = ?", job.Number).FirstOrCreate(&job).Error; err != nil {
				return err
			}
		}
		return makeBays(tx, o.Bays)
	})
}

// Jobs returns all jobs by their number.
func (s *Store) Jobs() (out []Job, err error) { return out, s.db.Order("number").Find(&out).Error }

// OpenJobs returns the jobs that are not closed, by their number.
func (s *Store) OpenJobs() (out []Job, err error) {
	return out, s.db.Where("closed_at IS NULL").Order("LENGTH(number), number").Find(&out).Error
}

// Bays returns all bays by their letter.
func (s *Store) Bays() (out []Bay, err error) {
	return out, s.db.Order("LENGTH(letter), letter").Find(&out).Error
}

// ErrBayTaken tells that a bay has another drive than the one that is put there.
var ErrBayTaken = errors.New("the bay has another drive")

// BayChange is what an act does to a bay: which drive it has from then on, nil for none, for which
// job, and whether it is a shelf.
type BayChange struct {
	Letter     string
	Image, Job *string
	Shelf      bool
}

// Act does what an act does to a bay, if anything, and enters it in the trail: both, or nothing.
// Doing it again changes nothing.
func (s *Store) Act(e trail.Entry, b *BayChange) error {
	return s.inChain(func(tx *gorm.DB, add adding) error {
		there, err := entered(tx, e.ID)
		if err != nil || there { // it was done
			return err
		}
		if b != nil {
			if err := b.do(tx, e.Time); err != nil {
				return err
			}
		}
		if e.ID == "" {
			return nil
		}
		return add(e)
	})
}

func (b *BayChange) do(tx *gorm.DB, when time.Time) error {
	var now Bay
	if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).First(&now, "letter = ?", b.Letter).Error; err != nil {
		return found(err, "bay %s", b.Letter)
	}
	if b.Image != nil && now.Image != nil && *now.Image != *b.Image {
		return fmt.Errorf("%w: bay %s", ErrBayTaken, b.Letter)
	}
	to := map[string]any{"image": b.Image, "job": b.Job, "shelf": b.Shelf}
	if b.Image == nil || now.Image == nil {
		to["since"] = nil
	}
	if b.Image != nil && now.Image == nil {
		to["since"] = when.UTC()
	}
	return tx.Model(&Bay{}).Where("letter = ?", b.Letter).Updates(to).Error
}

// SetShelf makes the drive in a bay a shelf, or no shelf any more.
func (s *Store) SetShelf(letter string, is bool) error {
	return s.db.Model(&Bay{}).Where("letter = ?", letter).Update("shelf", is).Error
}

// BaysOf returns the bays with a job's drives.
func (s *Store) BaysOf(job string) (out []Bay, err error) {
	return out, s.db.Where("job = ? AND image IS NOT NULL", job).Order("letter").Find(&out).Error
}

// Job returns one job with one of the bays that its drives are in: the given one, or
// with "" the first.
func (s *Store) Job(number, bay string) (*Job, *Bay, error) {
	var j Job
	if err := s.db.First(&j, "number = ?", number).Error; err != nil {
		return nil, nil, found(err, "job %s", number)
	}
	var b Bay
	q := s.db.Where("job = ?", number).Order("letter")
	if bay != "" {
		q = q.Where("letter = ?", bay)
	}
	if err := q.First(&b).Error; errors.Is(err, gorm.ErrRecordNotFound) {
		return &j, nil, nil
	} else if err != nil {
		return nil, nil, err
	}
	return &j, &b, nil
}

// Steps returns the job's plan and the drive as it was laid out when the plan
// was begun; nil for none.
func (j *Job) Steps() ([]plan.Step, *layout.Layout, error) {
	var steps []plan.Step
	var l *layout.Layout
	if j.Plan != nil {
		if err := json.Unmarshal([]byte(*j.Plan), &steps); err != nil {
			return nil, nil, err
		}
	}
	if j.Expect != nil {
		if err := json.Unmarshal([]byte(*j.Expect), &l); err != nil {
			return nil, nil, err
		}
	}
	return steps, l, nil
}

// Rehearsed notes that the job's plan was rehearsed.
func (s *Store) Rehearsed(number string, when time.Time) error {
	return s.db.Model(&Job{}).Where("number = ?", number).Update("rehearsed", when.UTC()).Error
}
