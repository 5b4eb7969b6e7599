package run

import (
	"errors"
	"io"
	"strings"
	"sync"

	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
)

// gatherer gathers what a plan must know of a drive, a source after the other.
type gatherer struct {
	o       Options
	sv      *survey.Survey
	steps   []plan.Step
	f       plan.Facts
	at      *stage
	backups []*shelf.Manifest // those that can stand for something on the drive
	// gathered keeps what was opened of backups. compared, where it is not nil, keeps what comparing the places
	// of records with their backups has shown, which reads all of both.
	gathered map[string]*gathering
	compared map[string]*shelf.Compared
}

// gatherFacts is Facts; what it opens of backups is kept in gathered. Where compared is not nil, the places of
// records are compared with their backups, and what that shows is kept there.
func gatherFacts(
	o Options, sv *survey.Survey, steps []plan.Step,
	gathered map[string]*gathering, compared map[string]*shelf.Compared,
) (plan.Facts, error) {
	g := &gatherer{o: o, sv: sv, steps: steps, at: asItIs(o, sv), gathered: gathered, compared: compared}
	g.f = plan.Facts{Lead: o.Lead, Backups: map[int]plan.Backup{}, Records: map[string]plan.Record{}}
	for _, source := range []func() error{
		g.approvals, g.drive, g.pc, g.mended, g.shelf, g.records, g.finds, g.gone, g.ids,
	} {
		if err := source(); err != nil {
			return g.f, err
		}
	}
	return g.f, nil
}

// approvals are what the lead has said yes to.
func (g *gatherer) approvals() (err error) {
	g.f.Approvals, err = approvals(g.o, g.sv)
	return err
}

// drive is how it is attached, whether its table can be changed, and the room that the bench has for what is kept.
func (g *gatherer) drive() error {
	if g.f.NoTable = g.sv.Layout.Scheme == "none"; !g.f.NoTable {
		g.f.TableTrouble = tableTrouble(g.sv)
	}
	if room, err := free(g.o.Runs); g.o.Runs != "" && err == nil {
		g.f.Room = room
	}
	g.f.ReadOnly, g.f.Removable, g.f.PC = g.o.Identity.ReadOnly, g.o.Identity.Removable, g.o.PC
	for _, p := range g.sv.Layout.Partitions() {
		if p.Volume != nil && p.Volume.Hibernated {
			g.f.Asleep = append(g.f.Asleep, p.Title())
		}
	}
	return nil
}

// pc is what its PC knows of the drive.
func (g *gatherer) pc() error {
	facts := g.o.PC
	if facts == nil {
		return nil
	}
	g.f.StartsHere = startsHere(g.sv.Layout, facts)
	there := map[string]bool{}
	for _, p := range g.sv.Layout.Partitions() {
		there[strings.ToLower(p.UniqueID)] = true
	}
	for _, id := range facts.Hibernated {
		if !there[strings.ToLower(id)] {
			g.f.Asleep = append(g.f.Asleep, "a system on another drive")
		}
	}
	if g.f.StartsHere {
		if err := loaders(&g.f, g.o.Dev, g.sv); err != nil {
			return err
		}
	}
	g.f.Lacks = map[string]pc.Missing{}
	for _, m := range facts.MissingLetters(func(id string) bool { return there[strings.ToLower(id)] }) {
		g.f.Lacks[m.Partition] = m
	}
	return nil
}

// mended is how the drive is laid out once its table is mended, where a step does that.
func (g *gatherer) mended() error {
	for _, s := range g.steps {
		if s.Do != plan.Mend {
			continue
		}
		after, err := mended(g.o.Dev, g.sv, g.o.PC, s.Keep)
		if err != nil {
			g.f.MendTrouble = Sentence(err)
			continue
		}
		if g.f.Mended == nil {
			g.f.Mended = map[int]plan.Mended{}
		}
		g.f.Mended[s.Keep] = plan.Mended{Layout: after.Layout, Trouble: tableTrouble(after)}
	}
	return nil
}

// shelf is which backups, and which comparisons, stand for the partitions, and what the steps bring from the shelf.
func (g *gatherer) shelf() error {
	l, sh := g.sv.Layout, g.o.Shelf
	all, err := sh.List()
	if err != nil {
		return err
	}
	g.f.Shelved = sh.OnDrive(l)
	for _, m := range all {
		if !m.On(l) { // one on the same drive stands for nothing on it
			g.backups = append(g.backups, m)
		}
	}
	proofs, err := g.o.Coverage.List()
	if err != nil {
		return err
	}
	g.f.Arriving, g.f.Images = map[string]plan.Arriving{}, map[string]plan.Image{}
	var arriving sync.WaitGroup // while the volumes are read
	arriving.Go(func() { fromShelf(&g.f, sh, g.steps, g.gathered) })
	defer arriving.Wait()
	for _, p := range l.Partitions() {
		b, err := Standing(g.o.Dev, drive(g.o, l), g.sv, p, g.backups)
		if err != nil {
			return err
		}
		if b == nil || !b.Same || !b.Verified {
			c, err := covering(g.o, g.sv, p, proofs, g.steps)
			if err != nil {
				return err
			}
			if c != nil {
				b = c
			}
		}
		if b != nil {
			g.f.Backups[p.Number] = *b
		}
	}
	arriving.Wait()
	fromShelf(&g.f, sh, plan.Resolved(g.steps, g.f.Backups), g.gathered)
	return nil
}

// records are those that the steps name, and how their places stand today.
func (g *gatherer) records() error {
	for _, s := range g.steps {
		if s.Record == "" {
			continue
		}
		if err := g.record(s.Record); err != nil {
			return err
		}
	}
	return nil
}

// record is one of them; one that is not there is told by the plan.
func (g *gatherer) record(id string) error {
	rec, hash, err := g.o.Records.Load(id)
	if errors.Is(err, trail.ErrNoRecord) {
		return nil
	}
	if err != nil {
		return err
	}
	r := plan.Record{Span: rec.Span}
	if r.Altered, err = altered(g.o, rec, hash); err != nil {
		return err
	}
	if r.Altered {
		g.f.Records[id] = r
		return nil
	}
	m := forRecord(rec, g.backups)
	if m != nil {
		r.Backup, r.Fills = m.ID, fills(m)
	}
	if rec.Drive.Same(drive(g.o, g.sv.Layout)) && !rec.Erased {
		if g.compared != nil && m != nil {
			if err := g.at.compare(g.o, rec, m, g.compared); err != nil {
				return err
			}
		}
		if r.Stand, _, err = g.at.standing(g.o, rec, g.compared[rec.ID]); err != nil {
			return err
		}
	}
	g.f.Records[id] = r
	return nil
}

// finds are what a search has found, as far as the steps name it.
func (g *gatherer) finds() error {
	g.f.Finds = map[disk.LBA]plan.Found{}
	for _, s := range g.steps {
		if s.Do != plan.BringBack || s.Find == 0 {
			continue
		}
		x, err := Find(g.o, g.o.Dev, g.sv, s.Find, s.Told)
		if errors.Is(err, ErrNoFind) {
			continue
		}
		if err == nil {
			g.f.Finds[s.Find], err = AsFound(g.o, g.sv, x)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// gone is what could still be brought back to the drive.
func (g *gatherer) gone() error {
	of, err := g.o.Records.Of(drive(g.o, g.sv.Layout))
	if err != nil {
		return err
	}
	return gone(&g.f, g.o, g.at, of, g.backups)
}

// ids are fresh ones, for what the steps make.
func (g *gatherer) ids() error {
	for range max(len(g.steps), 1) {
		var fresh [16]byte
		if _, err := io.ReadFull(g.o.Random, fresh[:]); err != nil {
			return err
		}
		g.f.NewIDs = append(g.f.NewIDs, compile.UniqueID(fresh))
	}
	g.f.NewID = g.f.NewIDs[0]
	return nil
}
