// Package facts is what must be known for a plan on a drive, beside how the drive is laid out: what its PC knows,
// which backups and comparisons stand for its partitions, what could still be brought back to it and how the place
// of that stands today. It is gathered by one function, a source after the other, and only read.
package facts

import (
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"jadetrail/core/compile"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/ran"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
	"jadetrail/core/words"
)

// Gather gathers what a plan on a drive depends on: the table's state, the
// backups that stand for the partitions, the records that the steps name.
func Gather(o Sources, sv *survey.Survey, steps []plan.Step) (plan.Facts, error) {
	kept := map[string]*shelf.Gathered{}
	defer func() {
		for _, g := range kept {
			g.Close()
		}
	}()
	return GatherInto(o, sv, steps, kept, nil)
}

// GatherInto is Gather; what it opens of backups is kept in gathered. Where compared is not nil, the places of
// records are compared with their backups, and what that shows is kept there.
func GatherInto(
	o Sources, sv *survey.Survey, steps []plan.Step,
	gathered map[string]*shelf.Gathered, compared map[string]*shelf.Compared,
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

// gatherer gathers what a plan must know of a drive, a source after the other.
type gatherer struct {
	o       Sources
	sv      *survey.Survey
	steps   []plan.Step
	f       plan.Facts
	at      *Stage
	backups []*shelf.Manifest // those that can stand for something on the drive
	// gathered keeps what was opened of backups. compared, where it is not nil, keeps what comparing the places
	// of records with their backups has shown, which reads all of both.
	gathered map[string]*shelf.Gathered
	compared map[string]*shelf.Compared
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
	if room, err := Free(g.o.Runs); g.o.Runs != "" && err == nil {
		g.f.Room = room
	}
	g.f.ReadOnly, g.f.Removable, g.f.PC = g.o.Identity.ReadOnly, g.o.Identity.Removable, g.o.PC
	g.f.Asleep = Asleep(g.sv.Layout, g.o.PC)
	return nil
}

// Asleep are the systems of a drive's PC that are hibernated, by their titles; facts is nil where the PC is not known.
func Asleep(l *layout.Layout, facts *pc.Facts) (out []string) {
	there := map[string]bool{}
	for _, p := range l.Partitions() {
		there[strings.ToLower(p.UniqueID)] = true
		if p.Volume != nil && p.Volume.Hibernated {
			out = append(out, p.Title())
		}
	}
	if facts == nil {
		return out
	}
	for _, id := range facts.Hibernated {
		if !there[strings.ToLower(id)] {
			out = append(out, "a system on another drive")
		}
	}
	return out
}

// pc is what its PC knows of the drive.
func (g *gatherer) pc() error {
	facts := g.o.PC
	if facts == nil {
		return nil
	}
	g.f.StartsHere = StartsHere(g.sv.Layout, facts)
	if g.f.StartsHere {
		if err := Loaders(&g.f, g.o.Dev, g.sv); err != nil {
			return err
		}
	}
	g.f.Lacks = map[string]pc.Missing{}
	for _, m := range facts.MissingLetters(g.sv.Layout.Has) {
		g.f.Lacks[m.Partition] = m
	}
	return nil
}

// mended is how the drive is laid out once its table is mended, where a step does that.
func (g *gatherer) mended() error {
	for _, s := range g.steps {
		mend, ok := s.Body.(plan.Mending)
		if !ok {
			continue
		}
		after, err := mended(g.o.Dev, g.sv, g.o.PC, mend.Keep)
		if err != nil {
			g.f.MendTrouble = words.Sentence(err)
			continue
		}
		if g.f.Mended == nil {
			g.f.Mended = map[int]plan.Mended{}
		}
		g.f.Mended[mend.Keep] = plan.Mended{Layout: after.Layout, Trouble: tableTrouble(after)}
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
		b, err := standing(g.o, g.sv, p, g.backups)
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
		id := s.Record()
		if id == "" {
			continue
		}
		if err := g.record(id); err != nil {
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
	m := ForRecord(rec, g.backups)
	if m != nil {
		r.Backup, r.Fills = m.ID, Fills(m)
	}
	if rec.Drive.Same(g.o.Named(g.sv.Layout)) && !rec.Erased {
		if g.compared != nil && m != nil {
			if err := g.at.compare(g.o, rec, m, g.compared); err != nil {
				return err
			}
		}
		if r.Stand, _, err = g.at.Standing(g.o, rec, g.compared[rec.ID]); err != nil {
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
		back, ok := s.Body.(plan.BringingBack)
		if !ok || back.Find == 0 {
			continue
		}
		x, err := Find(g.o, g.o.Dev, g.sv, back.Find, back.Told)
		if errors.Is(err, ErrNoFind) {
			continue
		}
		if err == nil {
			g.f.Finds[back.Find], err = AsFound(g.o, g.sv, x)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// gone is what could still be brought back to the drive.
func (g *gatherer) gone() error {
	of, err := g.o.Records.Of(g.o.Named(g.sv.Layout))
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

// altered tells that a record is not as the trail entered it, or not whole.
func altered(o Sources, rec *trail.Record, hash string) (bool, error) {
	if o.Trail != nil {
		want, err := o.Trail.RecordHash(rec.ID)
		if err != nil || want != "" && want != hash {
			return true, err
		}
	}
	err := o.Records.Whole(rec)
	if errors.Is(err, trail.ErrNoRecord) {
		return true, nil
	}
	return false, err
}

// tableTrouble is why nothing in a table can be changed, "" where it can, or where the plan sees for
// itself which of its entries stand against that.
func tableTrouble(sv *survey.Survey) string {
	err := sv.Table.Writable()
	if err == nil || sv.Table.Removable() == nil && plan.EntriesBroken(sv.Layout) {
		return ""
	}
	return words.Sentence(err)
}

// gone adds what could still be brought back to the drive: by records, and as a search has found it.
func gone(f *plan.Facts, o Sources, at *Stage, of []*trail.Record, backups []*shelf.Manifest) error {
	for _, rec := range of {
		there := slices.ContainsFunc(at.Survey.Layout.Partitions(), func(p layout.Span) bool { return p.UniqueID == rec.Span.UniqueID && p.Start == rec.Span.Start })
		if there {
			continue
		}
		if f.Left = append(f.Left, rec.Span.UniqueID); rec.Erased {
			continue
		}
		g := plan.Gone{Record: rec.ID, Span: rec.Span, Backup: ForRecord(rec, backups) != nil}
		var err error
		if g.Needs, err = at.needs(o, rec); err != nil && !errors.Is(err, trail.ErrNoRecord) { // of one that was altered nothing is known
			return err
		}
		f.Gone = append(f.Gone, g)
	}
	if o.Lost == nil {
		return nil
	}
	lost, err := o.Lost()
	f.Gone = append(f.Gone, lost...)
	return err
}

// fromShelf finds out what the steps take from backups; of one that is not there nothing is known.
func fromShelf(f *plan.Facts, sh *shelf.Shelf, steps []plan.Step, gathered map[string]*shelf.Gathered) {
	for _, s := range steps {
		switch b := s.Body.(type) {
		case plan.Creation:
			if m, err := sh.Load(b.Backup); err == nil && m.Kind == shelf.Image {
				f.Images[b.Backup] = plan.Image{
					Span: m.From.Span, Sector: m.From.Sector, MBR: len(m.From.Span.TypeID) == 2,
					Verified: m.Verified != nil, Fills: Fills(m),
				}
			}
		case plan.CopyingBack:
			m, err := sh.Load(b.Backup)
			if err != nil {
				continue
			}
			g := gathered[b.Arrival()]
			if g == nil {
				if g, err = sh.Gather(b.Backup, b.Only); err != nil {
					continue
				}
				gathered[b.Arrival()] = g
			}
			f.Arriving[b.Arrival()] = arriving(m, g)
		}
	}
}

// arriving is what is known of files that come from a backup.
func arriving(m *shelf.Manifest, g *shelf.Gathered) plan.Arriving {
	a := ran.Arrival{}
	a.Takes(g)
	x := plan.Arriving{
		Files: a.Files, Bytes: a.Bytes, Verified: m.Verified != nil || m.Damage != nil, Lost: len(a.Lost),
		Room: disk.Bytes(len(g.In)) * 2 * disk.KiB,
	}
	x.Whole = x.Room
	for _, in := range g.In {
		if in.SameAs == "" && in.Stream == "" && in.Attributes&volume.AttrPacked != 0 && in.Kind == volume.Plain {
			x.Packed++
		}
		if in.SameAs == "" && in.Bytes > 600 {
			x.Room += (in.Bytes - volume.LengthOf(in.Holes)).Up(plan.NewCluster)
			x.Whole += in.Bytes.Up(plan.NewCluster)
		}
	}
	return x
}

// mended is the drive as it would be with its table mended.
func mended(dev disk.Device, sv *survey.Survey, facts *pc.Facts, keep int) (*survey.Survey, error) {
	s, err := sv.Table.Mend(keep)
	if err != nil {
		return nil, err
	}
	over, err := disk.NewOverlay(dev, "")
	if err != nil {
		return nil, err
	}
	defer over.Close()
	if err := s.Apply(over, nil); err != nil {
		return nil, err
	}
	return survey.Read(over, facts)
}
