// Package shop holds the shop's own rules: what it does to more than one of files, database and
// trail. The web only calls it.
//
// Such an act is written down before it is begun, with all that it will do, and struck out when it
// is done. Whatever cuts it short, a kill or a database that is away, it is finished later from
// what was written down, each part once: at the next start, and as soon as the database is back.
// What cannot be finished is taken back while that is still possible, and otherwise told.
package shop

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"jadetrail/app/store"
	"jadetrail/core/disk"
	"jadetrail/core/run"
	"jadetrail/core/shelf"
	"jadetrail/core/trail"
)

// Sentinel errors of acts.
var (
	// ErrLater tells that an act was begun and is finished as soon as that is possible.
	ErrLater = errors.New("it is written down and will be finished by itself")
	// ErrNeeded tells that drives stay where they are until an act is finished.
	ErrNeeded = errors.New("a backup waits to be entered or deleted, and the drives stay in their bays until then")
	// ErrOpen tells that an earlier change of the same file is not finished.
	ErrOpen = errors.New("an earlier change of it is not finished; nothing was changed")
	// ErrTaken tells that a bay has another drive meanwhile.
	ErrTaken = errors.New("the bay has another drive meanwhile")
	// ErrKilled is what the tests cut an act short with: nothing is done after it, as after a kill.
	ErrKilled = errors.New("killed")
)

// Move is a file or folder that gets another name, both counted from the data folder.
type Move struct {
	From string `json:"from"`
	To   string `json:"to"`
	// Maybe tells that there need not be one.
	Maybe bool `json:"maybe,omitempty"`
}

// File is a small file that is written, by its name counted from the data folder.
type File struct {
	Name string `json:"name"`
	Data []byte `json:"data"`
	// Former is what it held before the act, nil where it was not there: what an act that comes
	// to nothing puts back.
	Former *[]byte `json:"former,omitempty"`
}

// Act is something that the shop does, as data.
type Act struct {
	Version int      `json:"version"`
	ID      string   `json:"id"`
	Moves   []Move   `json:"moves,omitempty"`
	Files   []File   `json:"files,omitempty"`
	Drop    []string `json:"drop,omitempty"` // files that are needed no longer, once it was entered
	// Bay is one of which the drive changes: Image is what it has from then on, nil for
	// nothing.
	Bay   string  `json:"bay,omitempty"`
	Image *string `json:"image,omitempty"`
	Job   *string `json:"job,omitempty"`
	Shelf bool    `json:"shelf,omitempty"` // the drive in the bay is a shelf from then on
	// Backup is one that is taken off the shelf, once that was entered.
	Backup string      `json:"backup,omitempty"`
	Entry  trail.Entry `json:"entry"`
}

// Books are where acts are written down.
type Books struct {
	Data  string // the data folder
	Store *store.Store
	Shelf func() *shelf.Shelf
	// Fault, where it is set, is told of every place that an act passes, and cuts it short
	// there with an error: the tests make their list of places with it.
	Fault func(place string) error

	mu     sync.Mutex // one act at a time
	making sync.Map   // backups that are just being made, by the ids of their entries
}

func (b *Books) dir() string { return filepath.Join(b.Data, "acts") }

func (b *Books) path(id string) string { return filepath.Join(b.dir(), id+".json") }

func (b *Books) at(name string) string { return filepath.Join(b.Data, filepath.FromSlash(name)) }

func (b *Books) pass(place string) error {
	if b.Fault == nil {
		return nil
	}
	return b.Fault(place)
}

// Do does an act. An error that is not ErrLater tells that nothing was done; with ErrLater the act
// was begun and will be finished.
func (b *Books) Do(a Act) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	a.Version = 1
	if a.ID == "" || a.ID != filepath.Base(a.ID) || strings.HasPrefix(a.ID, ".") {
		return fmt.Errorf("an act needs a name, and %q is none", a.ID)
	}
	if err := os.MkdirAll(b.dir(), 0o755); err != nil {
		return err
	}
	if err := b.first(a); err != nil {
		return err
	}
	if err := b.pass("before it is written down"); err != nil {
		return err
	}
	if err := b.write(&a); err != nil {
		return err
	}
	return b.finish(&a, firstTry)
}

// write writes an act down, with what its files held before, or not at all.
func (b *Books) write(a *Act) error {
	for i := range a.Files {
		former, err := os.ReadFile(b.at(a.Files[i].Name))
		if err == nil {
			a.Files[i].Former = &former
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	err = disk.WriteDurably(b.path(a.ID), text)
	if err == nil {
		return nil
	}
	// It may have its name already, and only that is not durable yet.
	if e := os.Remove(b.path(a.ID)); e != nil && !errors.Is(e, fs.ErrNotExist) {
		return later(errors.Join(err, e))
	}
	return err
}

// first finishes what waits before another act. Before a drive goes into a bay or out of it no backup
// may wait: the drive that goes may be the shelf that it needs. And what changes a file or a bay comes
// after what changed it earlier.
func (b *Books) first(a Act) error {
	waits, err := b.settle()
	if err != nil {
		return err
	}
	if a.Bay != "" && waits.backups {
		return fmt.Errorf(
			"%w; nothing was changed: %s", ErrNeeded, strings.Join(append(waits.Waits, waits.Stuck...), "; "),
		)
	}
	for _, what := range a.changes() {
		if slices.Contains(waits.changes, what) {
			return fmt.Errorf("%s: %w: %s", what, ErrOpen, strings.Join(append(waits.Waits, waits.Stuck...), "; "))
		}
	}
	return nil
}

// changes are the names of what an act changes.
func (a *Act) changes() []string {
	var out []string
	if a.Bay != "" {
		out = append(out, "bay "+a.Bay)
	}
	for _, f := range a.Files {
		out = append(out, filepath.Base(f.Name))
	}
	return out
}

// try is how far an act is known to have come when it is taken up.
type try int

const (
	firstTry try = iota
	// begun: somebody may have been told that it will be finished. It is taken back only for what
	// will not pass by itself.
	begun
	// entered: it has happened, and is not taken back any more.
	entered
)

// again finishes an act that was cut short.
func (b *Books) again(a *Act) error {
	there, err := b.Store.Entered(a.Entry.ID)
	if err != nil {
		return later(err)
	}
	if there {
		return b.finish(a, entered)
	}
	return b.finish(a, begun)
}

// finish does what an act says and was not done yet, and strikes it out.
func (b *Books) finish(a *Act, known try) error {
	// 1. Files, which can be taken back.
	err := b.files(a)
	switch {
	case err == nil:
	case errors.Is(err, ErrKilled):
		return err
	case known == entered, known == begun && !errors.Is(err, errInTheWay):
		return later(err)
	default:
		return errors.Join(err, b.takeBack(a))
	}
	// 2. What the database has of it, with the entry of the trail, at once.
	if err := b.pass("before the database"); err != nil {
		return later(err)
	}
	err = b.Store.Act(a.Entry, b.inBay(a))
	if errors.Is(err, store.ErrBayTaken) {
		return errors.Join(fmt.Errorf("bay %s: %w", a.Bay, ErrTaken), b.takeBack(a))
	}
	if err != nil {
		return later(err)
	}
	if err := b.pass("after the database"); err != nil {
		return later(err)
	}
	// 3. What was entered as gone goes.
	if a.Backup != "" {
		if err := b.Shelf().Delete(a.Backup); err != nil && !shelf.Missing(err) {
			return later(err)
		}
	}
	for _, name := range a.Drop {
		if err := os.Remove(b.at(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return later(err)
		}
	}
	if err := b.pass("before it is struck out"); err != nil {
		return later(err)
	}
	return b.strike(a.ID)
}

// inBay is what the act does to a bay, nil for nothing.
func (b *Books) inBay(a *Act) *store.BayChange {
	if a.Bay == "" {
		return nil
	}
	return &store.BayChange{Letter: a.Bay, Image: a.Image, Job: a.Job, Shelf: a.Shelf}
}

func later(err error) error {
	if errors.Is(err, ErrKilled) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrLater, err)
}

func (b *Books) strike(id string) error {
	if err := os.Remove(b.path(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %w", ErrLater, err)
	}
	// The act is at its end whether or not that its line is gone is durable: one that comes back is
	// finished once more, which changes nothing.
	_ = disk.SyncDir(b.dir())
	return nil
}

// files moves and writes an act's files, those that are not in their places yet.
func (b *Books) files(a *Act) error {
	for i, m := range a.Moves {
		if err := b.pass(fmt.Sprintf("before file %d is moved", i+1)); err != nil {
			return err
		}
		if err := b.move(m); err != nil {
			return err
		}
	}
	for i, f := range a.Files {
		if err := b.pass(fmt.Sprintf("before file %d is written", i+1)); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(b.at(f.Name)), 0o755); err != nil {
			return err
		}
		if err := disk.WriteDurably(b.at(f.Name), f.Data); err != nil {
			return err
		}
	}
	return nil
}

// move gives a file its other name, where that was not done already. It never replaces one.
func (b *Books) move(m Move) error {
	from, to := b.at(m.From), b.at(m.To)
	_, there := os.Lstat(to)
	_, here := os.Lstat(from)
	switch {
	case here == nil && there == nil:
		return inTheWay(fmt.Sprintf(
			"there is a %s already; nothing was replaced. Take it out of the folder %s first", m.To,
			filepath.Dir(m.To),
		))
	case here == nil:
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return err
		}
		return errors.Join(disk.SyncDir(filepath.Dir(from)), disk.SyncDir(filepath.Dir(to)))
	case there == nil || m.Maybe: // it was moved before, or there is none
		return nil
	}
	return inTheWay(filepath.Base(from) + " is not there")
}

// errInTheWay is what does not pass by itself.
var errInTheWay = errors.New("in the way")

// inTheWay is such an error, in its own words.
type inTheWay string

func (e inTheWay) Error() string { return string(e) }

// Is makes it errInTheWay.
func (e inTheWay) Is(target error) bool { return target == errInTheWay }

// takeBack gives the files of an act that comes to nothing their former names and contents, and
// strikes it out.
func (b *Books) takeBack(a *Act) error {
	for _, f := range slices.Backward(a.Files) {
		if err := b.asBefore(f); err != nil {
			return fmt.Errorf("%w: it cannot be taken back: %w", ErrLater, err)
		}
	}
	for _, m := range slices.Backward(a.Moves) {
		if _, err := os.Lstat(b.at(m.From)); err == nil { // it was not moved: what has the other name is another one
			continue
		}
		if err := b.move(Move{From: m.To, To: m.From, Maybe: true}); err != nil {
			return fmt.Errorf("%w: it cannot be taken back: %w", ErrLater, err)
		}
	}
	return b.strike(a.ID)
}

// asBefore gives a file that an act wrote what it held before.
func (b *Books) asBefore(f File) error {
	now, err := os.ReadFile(b.at(f.Name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case !bytes.Equal(now, f.Data): // it was not written, or is another one meanwhile
		return nil
	case f.Former != nil:
		return disk.WriteDurably(b.at(f.Name), *f.Former)
	}
	return os.Remove(b.at(f.Name))
}

// Settled is what became of acts that had been cut short.
type Settled struct {
	At       time.Time
	Finished []string // what they entered in the trail
	Waits    []string // why others could not be finished yet
	Stuck    []string // why others cannot be finished by themselves

	backups bool     // one of those needs a backup
	changes []string // what those change
}

// Settle finishes the acts that were cut short. It is called at every start, and while any are
// written down.
func (b *Books) Settle() (*Settled, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.settle()
}

func (b *Books) settle() (*Settled, error) {
	out := &Settled{}
	ids, err := b.open()
	if err != nil {
		return out, err
	}
	for _, id := range ids {
		if b.beingMade(id) {
			continue
		}
		text, err := os.ReadFile(b.path(id))
		if err != nil {
			return out, err
		}
		var a Act
		if err := json.Unmarshal(text, &a); err != nil || a.Version != 1 || a.ID != id {
			out.Stuck = append(out.Stuck, fmt.Sprintf("the act %s cannot be read", id))
			continue
		}
		if a.Entry.Act == trail.ActBackup && a.Backup == "" {
			err = b.backedUp(&a)
		} else {
			err = b.again(&a)
		}
		if err != nil {
			out.backups = out.backups || a.Entry.Backup != ""
			out.changes = append(out.changes, a.changes()...)
		}
		switch {
		case err == nil && a.Entry.Text != "":
			out.Finished = append(out.Finished, a.Entry.Text)
		case errors.Is(err, ErrLater):
			out.Waits = append(out.Waits, fmt.Sprintf("the act %s: %v", id, err))
		case err != nil:
			out.Stuck = append(out.Stuck, fmt.Sprintf("the act %s: %v", id, err))
		}
	}
	return out, nil
}

// open are the acts that are written down and not struck out, in the order of their names.
func (b *Books) open() ([]string, error) {
	list, err := filepath.Glob(filepath.Join(b.dir(), "*.json"))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, p := range list {
		out = append(out, strings.TrimSuffix(filepath.Base(p), ".json"))
	}
	slices.Sort(out)
	return out, nil
}

// beingMade tells that an act is a backup that is just being made.
func (b *Books) beingMade(id string) bool {
	_, now := b.making.Load(id)
	return now
}

// Waiting tells how many acts are written down and not finished, but for backups that are just being
// made.
func (b *Books) Waiting() int {
	ids, err := b.open()
	if err != nil {
		return 0
	}
	return len(slices.DeleteFunc(ids, b.beingMade))
}

// Begin implements run.Books: a backup is about to be made that the entry tells of.
func (b *Books) Begin(e trail.Entry) error {
	text, err := json.Marshal(Act{Version: 1, ID: e.ID, Entry: e})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(b.dir(), 0o755); err != nil {
		return err
	}
	if err := b.pass("before the backup is written down"); err != nil {
		return err
	}
	b.making.Store(e.ID, true)
	err = disk.WriteDurably(b.path(e.ID), text)
	if err == nil {
		err = b.pass("before the backup is made")
	}
	if err != nil {
		b.making.Delete(e.ID)
	}
	return err
}

// End implements run.Books: the backup was made and entered, or came to nothing.
func (b *Books) End(e trail.Entry) error {
	b.making.Delete(e.ID)
	if err := b.pass("before the backup is struck out"); err != nil {
		return err
	}
	return b.strike(e.ID)
}

// Made implements run.Books: the backup was made and is to be entered.
func (b *Books) Made(e trail.Entry) error {
	b.making.Delete(e.ID)
	return b.pass("after the backup was made")
}

// backedUp enters a backup that was made, and strikes out one that was not.
func (b *Books) backedUp(a *Act) error {
	m, err := b.Shelf().Load(a.Entry.Backup)
	if shelf.Missing(err) {
		a.Entry.Text = ""
		return b.strike(a.ID)
	}
	if errors.Is(err, shelf.ErrUnsure) {
		return later(err)
	}
	if err != nil {
		return err
	}
	e := a.Entry
	e.Text += run.WordBackup(m.From.Span.Title(), m)
	if err := b.Store.Append(e); err != nil {
		return later(err)
	}
	a.Entry = e
	return b.strike(a.ID)
}

// Held is a trail that holds back what is entered, for an act to enter it with the rest.
type Held struct {
	trail.Sink
	Entries []trail.Entry
}

// Append implements trail.Sink.
func (h *Held) Append(entries ...trail.Entry) error {
	h.Entries = append(h.Entries, entries...)
	return nil
}
