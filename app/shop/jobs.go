package shop

import (
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/pc"
	"jadetrail/core/trail"
	"jadetrail/core/words"
)

// Intake is what is said at the counter about a job.
type Intake struct {
	Customer uint64 // one who is known, 0 for a new one
	Name     string
	Phone    string
	Email    string
	Address  string
	PC       string
	Story    string // what is wrong
	Want     string // the wish, in words
	Goal     string // the kind of goal that it is, "" for none
	GoalOf   string // the letter of the volume that it is about, "" for none
	Amount   string // how much, "" for none
	Keep     string // what must not be lost
	Promised string // the day, as 2026-12-24; "" for none
}

// customer is who an intake says that the customer is.
func (in Intake) customer() (c store.Customer, err error) {
	c.ID = in.Customer
	var errs [4]error
	c.Name, errs[0] = lineSaid("the customer's name", in.Name, maxName, true)
	c.Telephone, errs[1] = lineSaid("the telephone number", in.Phone, 40, false)
	c.Email, errs[2] = lineSaid("the e-mail address", in.Email, 200, false)
	c.Address, errs[3] = wellSaid("the address", in.Address, maxAddress, false)
	c.Digits = store.Digits(c.Telephone)
	if err = errors.Join(errs[:]...); err != nil {
		return c, err
	}
	if _, e := mail.ParseAddress(c.Email); c.Email != "" && e != nil {
		err = fmt.Errorf("%q is no e-mail address; nothing was changed", c.Email)
	}
	return c, err
}

// into writes an intake to a job.
func (in Intake) into(j *store.Job) error {
	var errs [6]error
	j.PC, errs[0] = lineSaid("which PC or drive it is", in.PC, maxName, true)
	j.Story, errs[1] = wellSaid("what is wrong", in.Story, maxText, false)
	j.Want, errs[2] = lineSaid("the wish", in.Want, 300, true)
	j.Keep, errs[3] = wellSaid("what must not be lost", in.Keep, maxText, false)
	j.Goal, errs[4] = lineSaid("the kind of goal", in.Goal, 40, false)
	j.GoalAmount, errs[5] = lineSaid("how much", in.Amount, 100, false)
	if err := errors.Join(errs[:]...); err != nil {
		return err
	}
	j.GoalOf = strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(in.GoalOf), ":"))
	if j.GoalOf != "" && !pc.Letter(j.GoalOf) {
		return fmt.Errorf("%.10q is no letter of a volume; nothing was changed", in.GoalOf)
	}
	j.Promised = nil
	if in.Promised != "" {
		day, err := time.Parse(time.DateOnly, in.Promised)
		if err != nil {
			return fmt.Errorf("%.20q is no day; nothing was changed. Write it as 2026-12-24", in.Promised)
		}
		j.Promised = &day
	}
	return nil
}

// NewJob opens a job, given to who opens it, and returns its number.
func (s *Shop) NewJob(who *store.Technician, in Intake) (number string, err error) {
	c, err := in.customer()
	now := s.Now().UTC()
	j := store.Job{OpenedAt: &now, OpenedBy: who.Name, GivenTo: &who.ID}
	if err = errors.Join(err, in.into(&j)); err != nil {
		return "", err
	}
	e, err := s.entry(who.Name, trail.ActOpenJob, "Job opened: "+j.Want)
	if err != nil {
		return "", err
	}
	return s.Store.OpenJob(j, c, e)
}

// jobChange changes a job and its customer, and says what the trail tells of it; "" for nothing.
type jobChange func(j *store.Job, c *store.Customer) (text string, err error)

// changeJob changes an open job.
func (s *Shop) changeJob(who, number string, change jobChange) error {
	return s.actOnJob(who, number, trail.ActJob, func(j *store.Job, c *store.Customer) (string, error) {
		if j.ClosedAt != nil {
			return "", store.ErrClosed
		}
		return change(j, c)
	})
}

// actOnJob does an act with a job, open or closed, and enters it: both, or nothing.
func (s *Shop) actOnJob(who, number string, act trail.Act, change jobChange) error {
	return s.Store.ChangeJob(number, func(j *store.Job, c *store.Customer) (*trail.Entry, error) {
		text, err := change(j, c)
		if err != nil || text == "" {
			return nil, err
		}
		e, err := s.entry(who, act, text)
		e.Job = number
		return &e, err
	})
}

// EditJob changes what an intake says about a job. What the trail tells of it is which of that was changed, and no
// more of a customer than that.
func (s *Shop) EditJob(who *store.Technician, number string, in Intake) error {
	return s.changeJob(who.Name, number, func(j *store.Job, c *store.Customer) (string, error) {
		was, wasFrom := *j, *c
		in.Customer = c.ID
		to, err := in.customer()
		if err = errors.Join(err, in.into(j)); err != nil {
			return "", err
		}
		*c = to
		j.Customer = to.Name
		var what []string
		for _, x := range []struct {
			name    string
			changed bool
		}{
			{"who the customer is", to != wasFrom},
			{"the PC", j.PC != was.PC},
			{"what is wrong", j.Story != was.Story},
			{"the wish", j.Want != was.Want || j.Goal != was.Goal || j.GoalOf != was.GoalOf || j.GoalAmount != was.GoalAmount},
			{"what must not be lost", j.Keep != was.Keep},
			{"the promised day", dayOf(j.Promised) != dayOf(was.Promised)},
		} {
			if x.changed {
				what = append(what, x.name)
			}
		}
		if len(what) == 0 {
			return "", errors.New("that is what the job says already; nothing was changed")
		}
		return "Changed in the job: " + strings.Join(what, ", "), nil
	})
}

// dayOf is a day as it is written, "" for none.
func dayOf(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.DateOnly)
}

// IntakeOf is what a job says now.
func (s *Shop) IntakeOf(j *store.Job) (in Intake, err error) {
	in = Intake{
		Name: j.Customer, PC: j.PC, Story: j.Story, Want: j.Want, Goal: j.Goal, GoalOf: j.GoalOf,
		Amount: j.GoalAmount, Keep: j.Keep, Promised: dayOf(j.Promised),
	}
	if j.CustomerID == nil {
		return in, nil
	}
	c, err := s.Store.Customer(*j.CustomerID)
	if err == nil {
		in.Customer, in.Name, in.Phone, in.Email, in.Address = c.ID, c.Name, c.Telephone, c.Email, c.Address
	}
	return in, err
}

// GiveJob gives a job to somebody, who may change something.
func (s *Shop) GiveJob(who *store.Technician, number string, to uint64) error {
	t, err := s.Store.Technician(to)
	if err != nil {
		return err
	}
	if t.OffAt != nil || !t.Role.May(store.Worker) {
		return fmt.Errorf("%s cannot work on a job; nothing was changed", t.Name)
	}
	return s.changeJob(who.Name, number, func(j *store.Job, _ *store.Customer) (string, error) {
		if j.GivenTo != nil && *j.GivenTo == to {
			return "", fmt.Errorf("%s has the job already; nothing was changed", t.Name)
		}
		j.GivenTo = &to
		return "Given to " + t.Name, nil
	})
}

// waitWords are whom or what a job waits for.
var waitWords = map[store.Waits]string{
	store.WaitsCustomer: "the customer", store.WaitsLead: "the lead", store.WaitsPart: "a part",
}

// WaitsFor says for whom or what a job waits; "" for nothing.
func WaitsFor(w store.Waits) string { return waitWords[w] }

// AllWaits are what jobs can wait for, as it is chosen from.
var AllWaits = []store.Waits{store.WaitsCustomer, store.WaitsLead, store.WaitsPart}

// LetWait lets a job wait for somebody or something, for a reason; for nothing, it waits no longer.
func (s *Shop) LetWait(who *store.Technician, number string, waits store.Waits, why string) error {
	why, err := lineSaid("what it waits for", why, 500, waits != store.WaitsNot)
	if err != nil {
		return err
	}
	if waits != store.WaitsNot && waitWords[waits] == "" {
		return errors.New("a job waits for the customer, the lead or a part; nothing was changed")
	}
	return s.changeJob(who.Name, number, func(j *store.Job, _ *store.Customer) (string, error) {
		if waits == store.WaitsNot && j.WaitsFor == store.WaitsNot {
			return "", errors.New("the job waits for nobody; nothing was changed")
		}
		text := "It waits no longer for " + waitWords[j.WaitsFor]
		j.WaitsFor, j.WaitsWhy, j.WaitsSince = waits, why, nil
		if waits != store.WaitsNot {
			now := s.Now().UTC()
			j.WaitsSince = &now
			text = "It waits for " + waitWords[waits]
		}
		return text, nil
	})
}

// TakeConsent keeps that the customer has signed the intake sheet, or that this is not so.
func (s *Shop) TakeConsent(who *store.Technician, number string, signed bool) error {
	return s.changeJob(who.Name, number, func(j *store.Job, _ *store.Customer) (string, error) {
		if signed == (j.ConsentAt != nil) {
			return "", errors.New("that is how it is already; nothing was changed")
		}
		if !signed {
			j.ConsentAt, j.ConsentBy = nil, ""
			return "The customer's signature on the intake sheet is not there", nil
		}
		now := s.Now().UTC()
		j.ConsentAt, j.ConsentBy = &now, who.Name
		return "The customer has signed the intake sheet", nil
	})
}

// MoveDrive lets the drive in a bay belong to another job, or with "" to the shop itself. A plan that was made for it
// stays with the job that it was made in, so that there may be none.
func (s *Shop) MoveDrive(who *store.Technician, letter, number string) (said string, err error) {
	b, d, err := s.inBay(letter)
	if err != nil {
		return "", err
	}
	defer d.Close()
	from := ""
	if b.Job != nil {
		from = *b.Job
	}
	act := Act{Bay: b.Letter, Image: b.Image, Shelf: b.Shelf}
	switch {
	case from == number:
		err = errors.New("the drive belongs there already; nothing was changed")
	case s.Desk.Busy(d.Path):
		err = errors.New("work on this drive is under way; nothing was changed. Wait until that is done, or stop it")
	case number != "":
		act.Job, err = &number, s.takesDrives(number)
	}
	if err == nil {
		err = s.noOpenRun(d)
	}
	if err == nil && from != "" {
		err = s.noPlanFor(from, d)
	}
	if err != nil {
		return "", err
	}
	tail, err := s.tail()
	if err != nil {
		return "", err
	}
	owner := func(number string) string { return words.Either(number == "", "the shop itself", number) }
	to := "to " + owner(number)
	act.ID = "move-" + tail
	act.Entry = trail.Entry{
		ID: "e-move-" + tail, Time: s.Now(), Who: who.Name, Act: trail.ActAttach, Job: number, Drive: NameOf(d),
		Text: fmt.Sprintf("Drive in bay %s belongs %s from now on, and belonged to %s before", b.Letter, to, owner(from)),
	}
	return fmt.Sprintf("The drive in bay %s belongs %s.", b.Letter, to), s.Books.Do(act)
}

// noPlanFor refuses a drive that a job's plan is for.
func (s *Shop) noPlanFor(number string, d *Drive) error {
	j, _, err := s.Store.Job(number, "")
	if err != nil {
		return err
	}
	steps, expect, err := j.Steps()
	if err == nil && len(steps) > 0 && (expect == nil || expect.Drive().Same(NameOf(d))) {
		err = fmt.Errorf(
			"%s has a plan for this drive; nothing was changed. Carry it out, or take its steps out first", number,
		)
	}
	return err
}

// takesDrives tells that a job can have drives: it is there, and is open.
func (s *Shop) takesDrives(number string) error {
	j, _, err := s.Store.Job(number, "")
	if err == nil && j.ClosedAt != nil {
		err = store.ErrClosed
	}
	return err
}

// AddNote keeps what somebody writes to a job.
func (s *Shop) AddNote(who *store.Technician, number, text string) error {
	text, err := wellSaid("the note", text, maxText, true)
	if err == nil {
		err = s.takesDrives(number)
	}
	tail, e := s.tail()
	if err = errors.Join(err, e); err != nil {
		return err
	}
	return s.Store.AddNote(store.Note{ID: "note-" + tail, Job: number, Who: who.Name, MadeAt: s.Now().UTC(), Text: text})
}

// BackupsOfJob are the backups that were made for a job and are on a shelf, and the entries of those that are not to
// be had and were not deleted.
func (s *Shop) BackupsOfJob(number string) (here []JobBackup, away []trail.Entry, err error) {
	made, err := s.Store.Entries(store.Filter{Job: number, Act: string(trail.ActBackup)})
	if err != nil {
		return nil, nil, err
	}
	taken, err := s.Store.Entries(store.Filter{Act: string(trail.ActDeleteBackup)})
	if err != nil {
		return nil, nil, err
	}
	all, err := s.Shelf().List()
	if err != nil {
		return nil, nil, err
	}
	for _, m := range all {
		if slices.ContainsFunc(made, func(e trail.Entry) bool { return e.Backup == m.ID }) {
			here = append(here, JobBackup{m.ID, m.From.Span.Title(), m.Made, m.KeepUntil})
		}
	}
	return here, notHere(made, taken, all), nil
}

// JobBackup is a backup that was made for a job.
type JobBackup struct {
	ID, Title string
	Made      time.Time
	Until     *time.Time
}
