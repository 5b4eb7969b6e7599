package run

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/ran"
	"jadetrail/core/rehearse"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/words"
)

// ErrOther tells that the drive at hand is not the one of the run, or not as the run left it.
var ErrOther = errors.New("this is not the drive as the unfinished run left it")

// Teller is who knows that a run is open.
type Teller string

// The tellers. Each can tell alone.
const (
	ByDrive  Teller = "the drive itself"
	ByFolder Teller = "the run's folder"
	ByTrail  Teller = "the trail"
)

// Unfinished is a run that was begun on a drive and has no end.
type Unfinished struct {
	ID    string
	Begun time.Time
	Who   string
	Told  []Teller
	// Meta is what the run's folder says of it, nil where that cannot be read or is not here.
	Meta *ran.Meta
	// Broken is why the run can be neither finished nor taken back, nil where it can.
	Broken error

	begun *ran.Begun
}

// Titles are the steps of the run's plan, as far as they are known.
func (u *Unfinished) Titles() []string {
	if u.Meta == nil {
		return nil
	}
	return u.Meta.Titles
}

// Open finds the unfinished run on a drive, nil for none: by the sign that the drive carries, by
// the folder of the runs, and by the trail. Each of them is enough. It looks at the drive, not at
// its path, and writes nothing.
func Open(o Options) (*Unfinished, error) {
	drive, signed, err := o.Signed()
	if err != nil {
		return nil, err
	}
	found := map[string]*Unfinished{}
	get := func(id string, by Teller) *Unfinished {
		u := found[id]
		if u == nil {
			u = &Unfinished{ID: id}
			found[id] = u
		}
		u.Told = append(u.Told, by)
		return u
	}
	dirs, _, err := ran.Folders(o.Runs)
	if err != nil {
		return nil, err
	}
	ended := map[string]bool{}
	for _, d := range dirs {
		if ended[d.ID] = d.Ended; d.Ended || !d.IsOn(drive, o.Drive.Size(), o.Image) {
			continue
		}
		u := get(d.ID, ByFolder)
		u.Meta, u.begun, u.Broken = d.Meta, d.Begun, d.Broken
		if u.Begun = d.At(); d.Meta != nil {
			u.Who = d.Meta.Who
		}
	}
	if signed != nil {
		u := get(signed.Run, ByDrive)
		u.Begun = signed.Begun
		if ended[signed.Run] {
			u.Broken = fmt.Errorf(
				"%w: the run %s ended, but this drive is as it was in the middle of it: it is an older copy, or was put back to one",
				ErrOther, signed.Run,
			)
		}
	}
	if o.Trail != nil {
		known, err := o.Trail.Unended(drive)
		if err != nil {
			return nil, fmt.Errorf("whether a run on this drive is open cannot be told: %w", err)
		}
		for _, b := range known {
			if ended[b.Run] || !sign.RunForm.MatchString(b.Run) { // its end has only not been entered yet
				continue
			}
			u := get(b.Run, ByTrail)
			u.Begun, u.Who = b.Time, cmp.Or(u.Who, b.Who)
		}
	}
	var out *Unfinished
	for _, u := range found {
		if u.void(o) {
			continue
		}
		if out == nil || len(u.Told) > len(out.Told) || len(u.Told) == len(out.Told) && u.ID > out.ID {
			out = u
		}
	}
	if out == nil {
		return nil, nil
	}
	return out, out.complete(o)
}

// void tells that a run was cut before anything was written, beyond doubt: it has no journal, there
// is no note that it had one, and nobody else knows of it.
func (u *Unfinished) void(o Options) bool {
	if len(u.Told) > 1 || u.Told[0] != ByFolder || u.begun != nil || u.Broken != nil {
		return false
	}
	_, err := os.Stat(filepath.Join(o.Runs, u.ID, ran.JournalFile))
	return errors.Is(err, fs.ErrNotExist)
}

// complete notes why a run that is open cannot be gone on with.
func (u *Unfinished) complete(o Options) error {
	if u.Broken != nil {
		return nil
	}
	if u.Meta == nil {
		u.Broken = fmt.Errorf("%w: its folder is not here", ran.ErrBroken)
		return nil
	}
	_, err := os.Stat(filepath.Join(o.Runs, u.ID, ran.JournalFile))
	if errors.Is(err, fs.ErrNotExist) {
		u.Broken, err = fmt.Errorf("%w: its journal is gone", ran.ErrBroken), nil
	}
	return err
}

// Closed refuses what must not be made from, or done to, a drive with an unfinished run.
func Closed(o Options) error {
	u, err := Open(o)
	if err != nil || u == nil {
		return err
	}
	return fmt.Errorf("%w (%s). Nothing was written. %s", ErrPending, u.words(), u.ways())
}

// words name the run.
func (u *Unfinished) words() string {
	t := "run " + cmp.Or(u.ID, "whose name cannot be read")
	if !u.Begun.IsZero() {
		t += " of " + u.Begun.Local().Format("2 Jan 2006 15:04")
	}
	var told []string
	for _, by := range u.Told {
		told = append(told, string(by))
	}
	return t + ", told by " + strings.Join(told, ", ")
}

// Finding tells of the run before all else that is said of its drive.
func (u *Unfinished) Finding() finding.Finding {
	return finding.Finding{Code: survey.UnfinishedRun, Severity: finding.Error,
		Text: fmt.Sprintf("A run on this drive is not finished (%s). What is read from the drive cannot be relied on. %s.", u.words(), strings.TrimSuffix(u.ways(), "."))}
}

// ways say what can be done about the run.
func (u *Unfinished) ways() string {
	if u.Broken == nil {
		return "Finish it or take it back first"
	}
	return words.Sentence(u.Broken) + " Put back what is missing, or the drive as it was, and finish the run or take it back; or say, with a reason, that the drive is left as it is"
}

// signPlace finds a place for the sign of a run: one that no partition has, before, during or
// after it, and that it does not touch. 0 where the drive has none.
func signPlace(p *rehearse.Run, dev disk.Device) (disk.Bytes, error) {
	var taken []disk.Range
	for _, op := range p.Script {
		taken = append(taken, op.Onto(), disk.Range{Start: op.From, End: op.From + op.Len})
	}
	layouts := []*layout.Layout{p.Before}
	for _, c := range p.Columns {
		layouts = append(layouts, c.Layout)
	}
	for _, l := range layouts {
		for _, q := range l.Spans {
			if q.Kind == layout.Partition || q.Why == layout.InChain {
				taken = append(taken, disk.Range{Start: q.Start.Offset(l.Sector), End: (q.End + 1).Offset(l.Sector)})
			}
		}
	}
	for _, sv := range []*survey.Survey{p.Was, p.Survey} {
		for _, r := range sv.Table.Ranges() {
			taken = append(taken, disk.Range{Start: r.Start, End: r.End})
		}
	}
	all := disk.NewSet(taken)
	at, err := sign.Place(dev, func(r disk.Range) bool { return !all.Meets(r) })
	if errors.Is(err, sign.ErrNoPlace) {
		return 0, nil
	}
	return at, err
}
