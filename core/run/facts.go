package run

import (
	"context"
	"encoding/hex"
	"errors"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"jadetrail/core/ran"

	"jadetrail/core/compare"
	"jadetrail/core/disk"
	"jadetrail/core/layout"
	"jadetrail/core/pc"
	"jadetrail/core/plan"
	"jadetrail/core/seek"
	"jadetrail/core/shelf"
	"jadetrail/core/survey"
	"jadetrail/core/trail"
	"jadetrail/core/volume"
)

// Facts gathers what a plan on a drive depends on: the table's state, the
// backups that stand for the partitions, the records that the steps name.
func Facts(o Options, sv *survey.Survey, steps []plan.Step) (plan.Facts, error) {
	kept := map[string]*gathering{}
	defer func() {
		for _, g := range kept {
			g.r.Close()
		}
	}()
	return gatherFacts(o, sv, steps, kept, nil)
}

// altered tells that a record is not as the trail entered it, or not whole.
func altered(o Options, rec *trail.Record, hash string) (bool, error) {
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
	return Sentence(err)
}

// gone adds what could still be brought back to the drive: by records, and as a search has found it.
func gone(f *plan.Facts, o Options, at *stage, of []*trail.Record, backups []*shelf.Manifest) error {
	for _, rec := range of {
		there := slices.ContainsFunc(at.sv.Layout.Partitions(), func(p layout.Span) bool { return p.UniqueID == rec.Span.UniqueID && p.Start == rec.Span.Start })
		if there {
			continue
		}
		if f.Left = append(f.Left, rec.Span.UniqueID); rec.Erased {
			continue
		}
		g := plan.Gone{Record: rec.ID, Span: rec.Span, Backup: forRecord(rec, backups) != nil}
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

// Needs is what of a stand may still be as it was.
func Needs(s *seek.Stand) disk.Set {
	var ranges []disk.Range
	for _, p := range s.Pieces {
		if p.State != seek.Taken {
			ranges = append(ranges, disk.Range{Start: p.Off, End: p.Off + p.Len})
		}
	}
	return disk.NewSet(ranges)
}

// Hints are the places that records of deletions tell a search of.
func Hints(of []*trail.Record) []seek.Hint {
	var out []seek.Hint
	for _, rec := range of {
		if !rec.Erased {
			out = append(out, seek.Hint{Record: rec.ID, Span: rec.Span})
		}
	}
	return out
}

// AsFound is what a plan must know of a find.
func AsFound(o Options, sv *survey.Survey, x *seek.Find) (plan.Found, error) {
	p := x.Span()
	if p.Role = survey.RoleOf(p.TypeID, x.Volume()); p.TypeID == "" && survey.HoldsLoaders(x.Kind, x.Volume()) {
		p.Role = layout.EFI
	}
	out := plan.Found{Span: p, Ghost: x.Ghost && !x.Inferred, Mend: x.Mend}
	if x.Confidence == seek.Doubtful {
		out.Doubtful = strings.Join(x.Reasons, " ")
	}
	switch x.Kind {
	case volume.Unknown, volume.Swap, volume.Sealed, volume.LVM, volume.Member: // nobody looks into these
	default:
		if out.Listed = x.Volume() != nil; !x.Opens {
			out.Shut = "its root folder cannot be read."
		} else if !x.Own() {
			out.Shut = "what can be read where its tables were is another's."
		}
	}
	s, err := FindStands(o, sv, x)
	if err != nil {
		return out, err
	}
	out.Stand = standOfFind(s, x, sv.Layout.Sector)
	return out, nil
}

// standOfFind is what a plan must know of a find's place. Its files are looked at where something has
// taken some of it, as far as they can be listed.
func standOfFind(s *seek.Stand, x *seek.Find, sector disk.Bytes) plan.Stand {
	out := plan.Stand{Used: s.Used, Untouched: s.Untouched, Taken: s.Taken, Unknown: s.Unknown, Whole: s.Whole}
	if s.Taken == 0 {
		return out
	}
	var files []volume.File
	if x.Volume() != nil {
		out.Partly = walk(x.Volume(), func(v volume.File) error {
			if v.Kind == volume.Plain {
				files = append(files, v)
			}
			return nil
		}) != nil
	}
	ofFiles(&out, s, files, x.Start.Offset(sector))
	return out
}

// startsHere tells that a PC starts from a drive.
func startsHere(l *layout.Layout, facts *pc.Facts) bool {
	return strings.EqualFold(facts.StartDrive, l.DiskID) ||
		slices.ContainsFunc(l.Partitions(), func(p layout.Span) bool { return p.Role == layout.StartSystem })
}

// loaders reads what a PC starts from a drive: the loader files of its EFI partitions, and
// whether the first sector of an MBR holds code (its first 440 bytes).
func loaders(f *plan.Facts, dev disk.Device, sv *survey.Survey) error {
	if sv.Layout.Scheme == "mbr" {
		code, err := disk.ReadFull(dev, 0, 440)
		f.NoStartCode = disk.Zeros(code)
		return err
	}
	f.Loaders = map[string][]string{}
	for _, p := range sv.Layout.Partitions() {
		v := sv.Volumes[p.Number]
		if p.Role != layout.EFI || v == nil {
			continue
		}
		files, err := v.Files()
		if err != nil {
			continue // the check says that it cannot be read
		}
		paths := []string{}
		for _, x := range files {
			if strings.EqualFold(path.Ext(x.Path), ".efi") && x.Kind == volume.Plain && x.Bytes > 0 {
				paths = append(paths, x.Path)
			}
		}
		f.Loaders[p.UniqueID] = paths
	}
	return nil
}

// WithFolders returns the facts with the folders of people's files in a volume.
func WithFolders(f plan.Facts, number int, sum *volume.Summary) plan.Facts {
	f.Insides = maps.Clone(f.Insides)
	if f.Insides == nil {
		f.Insides = map[int]plan.InsideFacts{}
	}
	x := f.Insides[number]
	x.Folders = nil
	for _, p := range sum.People() {
		x.Folders = append(x.Folders, plan.Folder{Path: p.Path, Bytes: p.Taken})
	}
	f.Insides[number] = x
	return f
}

// fromShelf finds out what the steps take from backups.
func fromShelf(f *plan.Facts, sh *shelf.Shelf, steps []plan.Step, gathered map[string]*gathering) {
	for _, s := range steps {
		m, err := sh.Load(s.Backup)
		if err != nil {
			continue // the plan says that it is not there
		}
		if s.Do == plan.Create && m.Kind == shelf.Image {
			f.Images[s.Backup] = plan.Image{
				Span: m.From.Span, Sector: m.From.Sector, MBR: len(m.From.Span.TypeID) == 2,
				Verified: m.Verified != nil, Fills: fills(m),
			}
		}
		if s.Do != plan.CopyBack {
			continue
		}
		g := gathered[s.Arrival()]
		if g == nil {
			if g, err = gather(sh, s.Backup, s.Only); err != nil {
				continue
			}
			gathered[s.Arrival()] = g
		}
		a, in := ran.Arrival{}, g.in
		takes(&a, g)
		x := plan.Arriving{
			Files: a.Files, Bytes: a.Bytes, Verified: m.Verified != nil || m.Damage != nil, Lost: len(a.Lost),
			Room: disk.Bytes(len(in)) * 2 * disk.KiB,
		}
		x.Whole = x.Room
		for _, g := range in {
			if g.SameAs == "" && g.Stream == "" && g.Attributes&volume.AttrPacked != 0 && g.Kind == volume.Plain {
				x.Packed++
			}
			if g.SameAs == "" && g.Bytes > 600 {
				x.Room += (g.Bytes - volume.LengthOf(g.Holes)).Up(plan.NewCluster)
				x.Whole += g.Bytes.Up(plan.NewCluster)
			}
		}
		f.Arriving[s.Arrival()] = x
	}
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

// Standing returns the best backup that stands for a partition as it is now, nil
// for none: one that is verified and made from the same state if there is any.
func Standing(dev disk.Device, of trail.Drive, sv *survey.Survey, p layout.Span, backups []*shelf.Manifest) (*plan.Backup, error) {
	var best *plan.Backup
	var now string
	for _, m := range backups {
		if !sameOrigin(m, of, p) || !m.Whole() {
			continue
		}
		if now == "" {
			var err error
			if now, err = shelf.Fingerprint(survey.Window(dev, p), sv.Volumes[p.Number]); err != nil {
				return nil, err
			}
		}
		b := plan.Backup{
			ID: m.ID, Verified: m.Verified != nil, Same: m.From.Fingerprint == now, Away: m.Away, Foreign: m.Foreign,
			Kind: string(m.Kind), Made: m.Made,
		}
		if m.Verified != nil {
			b.Checked = *m.Verified
			if err := m.Lies(); err != nil {
				b.Verified, b.Lost = false, err.Error()
			}
		}
		if best == nil || b.Verified && b.Same && !(best.Verified && best.Same) {
			best = &b
		}
	}
	return best, nil
}

// covering returns a comparison that proves that a volume's contents as they are now are on another volume
// too, which is still there and as it was then, nil for none.
func covering(o Options, sv *survey.Survey, p layout.Span, proofs []*compare.Result, steps []plan.Step) (*plan.Backup, error) {
	v := sv.Volumes[p.Number]
	if v == nil || !slices.ContainsFunc(proofs, func(r *compare.Result) bool { return r.Here.Place.Span.UniqueID == p.UniqueID }) {
		return nil, nil
	}
	print, err := v.Fingerprint()
	if err != nil {
		return nil, err
	}
	var going []string
	for _, q := range sv.Layout.Partitions() {
		if slices.ContainsFunc(steps, func(s plan.Step) bool { return s.Deletes() && (s.Do == plan.Clear || number(s.Partition) == q.Number) }) {
			going = append(going, q.UniqueID)
		}
	}
	for _, r := range proofs {
		if !r.Stands(drive(o, sv.Layout), p, print, going) {
			continue
		}
		still, err := stillThere(o, sv, r)
		if err != nil {
			return nil, err
		}
		if still {
			return &plan.Backup{
				ID: r.ID, Verified: true, Same: true, Coverage: true, Made: r.Time, Checked: r.Time,
			}, nil
		}
	}
	return nil, nil
}

// stillThere tells that the other side of a comparison is there, and as it was when it was compared. Of a
// drive that cannot be looked at now that is not known.
func stillThere(o Options, sv *survey.Survey, r *compare.Result) (bool, error) {
	there := r.There.Place
	if there.Fingerprint == "" {
		return false, nil
	}
	if r.Elsewhere() {
		if o.Elsewhere == nil {
			return false, nil
		}
		print, err := o.Elsewhere(there)
		return print == there.Fingerprint, err
	}
	for _, p := range sv.Layout.Partitions() {
		if v := sv.Volumes[p.Number]; v != nil && p.UniqueID == there.Span.UniqueID {
			print, err := v.Fingerprint()
			return print == there.Fingerprint, err
		}
	}
	return false, nil
}

func sameOrigin(m *shelf.Manifest, of trail.Drive, p layout.Span) bool {
	was := m.From.Span
	return m.From.Drive().Same(of) && was.UniqueID == p.UniqueID && (was.Number == p.Number || was.Start == p.Start) && was.Bytes == p.Bytes
}

// forRecord is the verified backup that covers what a record's partition held.
func forRecord(rec *trail.Record, backups []*shelf.Manifest) *shelf.Manifest {
	for _, m := range backups {
		if m.Kind == shelf.Image && m.Verified != nil && sameOrigin(m, rec.Drive, rec.Span) && m.From.Fingerprint == rec.Fingerprint {
			return m
		}
	}
	return nil
}

// fills is how much a backup of a whole partition writes where it is put.
func fills(m *shelf.Manifest) (n disk.Bytes) {
	for _, p := range m.Pieces {
		if !p.Zero {
			n += p.Len
		}
	}
	return n
}

// Sentence makes an error's text one that stands alone.
func Sentence(err error) string {
	s := strings.ReplaceAll(err.Error(), context.Canceled.Error(), "it was stopped")
	if s == "" {
		return s
	}
	s = strings.ToUpper(s[:1]) + s[1:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}

// newID makes a short name that is not used twice.
func newID(prefix string, stamp string, random io.Reader) (string, error) {
	var b [3]byte
	if _, err := io.ReadFull(random, b[:]); err != nil {
		return "", err
	}
	return prefix + "-" + stamp + "-" + hex.EncodeToString(b[:]), nil
}

func number(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}
