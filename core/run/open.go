package run

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"jadetrail/core/carry"
	"jadetrail/core/disk"
	"jadetrail/core/finding"
	"jadetrail/core/layout"
	"jadetrail/core/sign"
	"jadetrail/core/survey"
	"jadetrail/core/table"
	"jadetrail/core/trail"
	"jadetrail/core/volume/recognise"
)

// Names of the files in a run's folder.
const (
	metaFile     = "run.json"
	begunFile    = "begun.json"
	journalFile  = "journal"
	endedFile    = "ended.json"
	piecesFile   = "pieces.json"
	contentsFile = "contents.jsonl"
)

// Sentinel errors about a run that is open on a drive.
var (
	// ErrBroken tells that what was kept of an open run is damaged or gone. Nothing is written
	// on a guess; the run stays open.
	ErrBroken = errors.New("what was kept of the unfinished run is damaged")
	// ErrOther tells that the drive at hand is not the one of the run, or not as the run left it.
	ErrOther = errors.New("this is not the drive as the unfinished run left it")
)

// begunNote is what stands beside a run's journal from before the first write on, and tells alone
// that there was one.
type begunNote struct {
	Version int         `json:"version"`
	Run     string      `json:"run"`
	Begun   time.Time   `json:"begun"`
	Drive   trail.Drive `json:"drive"`
	Size    disk.Bytes  `json:"size_bytes"`
	Meta    string      `json:"run_json"`              // BLAKE3 of run.json
	Pieces  string      `json:"pieces_json,omitempty"` // BLAKE3 of pieces.json
}

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
	Meta *Meta
	// Broken is why the run can be neither finished nor taken back, nil where it can.
	Broken error

	begun *begunNote
}

// Titles are the steps of the run's plan, as far as they are known.
func (u *Unfinished) Titles() []string {
	if u.Meta == nil {
		return nil
	}
	return u.Meta.Titles
}

// driveOf names the drive of the options.
func driveOf(o Options) (trail.Drive, error) {
	d := trail.Drive{Model: o.Identity.Model, Serial: o.Identity.Serial}
	if o.Dev == nil {
		return d, nil
	}
	t, err := table.Read(o.Dev)
	if err != nil {
		return d, err
	}
	d.DiskID = t.DiskID
	return d, nil
}

// Open finds the unfinished run on a drive, nil for none: by the sign that the drive carries, by
// the folder of the runs, and by the trail. Each of them is enough. It looks at the drive, not at
// its path, and writes nothing.
func Open(o Options) (*Unfinished, error) {
	drive, err := driveOf(o)
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
	dirs, _, err := folders(o.Runs)
	if err != nil {
		return nil, err
	}
	ended := map[string]bool{}
	for _, d := range dirs {
		if ended[d.id] = d.ended; d.ended || !d.isOn(o, drive) {
			continue
		}
		u := get(d.id, ByFolder)
		u.Meta, u.begun, u.Broken = d.meta, d.begun, d.broken
		if u.Begun = d.at(); d.meta != nil {
			u.Who = d.meta.Who
		}
	}
	if o.Dev != nil {
		s, err := sign.Find(o.Dev)
		if err != nil {
			return nil, err
		}
		if s != nil {
			u := get(s.Run, ByDrive)
			u.Begun = s.Begun
			if ended[s.Run] {
				u.Broken = fmt.Errorf("%w: the run %s ended, but this drive is as it was in the middle of it: it is an older copy, or was put back to one", ErrOther, s.Run)
			}
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
	_, err := os.Stat(filepath.Join(o.Runs, u.ID, journalFile))
	return errors.Is(err, fs.ErrNotExist)
}

// complete notes why a run that is open cannot be gone on with.
func (u *Unfinished) complete(o Options) error {
	if u.Broken != nil {
		return nil
	}
	if u.Meta == nil {
		u.Broken = fmt.Errorf("%w: its folder is not here", ErrBroken)
		return nil
	}
	_, err := os.Stat(filepath.Join(o.Runs, u.ID, journalFile))
	if errors.Is(err, fs.ErrNotExist) {
		u.Broken, err = fmt.Errorf("%w: its journal is gone", ErrBroken), nil
	}
	return err
}

// runFolder is the folder of a run, as far as it can be read.
type runFolder struct {
	id     string
	ended  bool
	meta   *Meta
	begun  *begunNote
	broken error
}

// at is when the run was begun, as far as its folder says so.
func (d *runFolder) at() time.Time {
	switch {
	case d.begun != nil:
		return d.begun.Begun
	case d.meta != nil:
		return d.meta.Begun
	}
	return time.Time{}
}

// isOn tells that the run is one on the given drive.
func (d *runFolder) isOn(o Options, drive trail.Drive) bool {
	if d.meta != nil {
		m := d.meta
		size := o.Dev == nil || m.Before == nil || m.Before.Size == o.Dev.Size()
		was := trail.Drive{DiskID: m.DiskID, Serial: m.Identity.Serial}
		is := was
		if m.After != nil {
			is.DiskID = m.After.DiskID
		}
		if was.Same(drive) || is.Same(drive) {
			return size
		}
		// Neither its table nor its serial number names the drive.
		return size && m.Image == o.Image && (was.Serial == "" || drive.Serial == "") && (drive.DiskID == "" || was.DiskID == "" && is.DiskID == "")
	}
	return d.begun != nil && d.begun.Drive.Same(drive) && (o.Dev == nil || d.begun.Size == o.Dev.Size())
}

// folders reads all folders of runs. What is in the folder besides, and what cannot be read of
// runs, stops nothing: stray tells of it.
func folders(runs string) (out []runFolder, stray []string, err error) {
	dirs, err := os.ReadDir(runs)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	for _, e := range dirs {
		if !e.IsDir() {
			stray = append(stray, e.Name())
			continue
		}
		d := readFolder(runs, e.Name())
		if d.broken != nil && d.begun == nil && d.meta == nil {
			stray = append(stray, e.Name())
		}
		out = append(out, d)
	}
	return out, stray, nil
}

func readFolder(runs, id string) runFolder {
	d := runFolder{id: id}
	dir := filepath.Join(runs, id)
	if _, err := os.Stat(filepath.Join(dir, endedFile)); err == nil {
		d.ended = true
		return d
	}
	b, err := os.ReadFile(filepath.Join(dir, begunFile))
	if err == nil {
		var n begunNote
		if err := json.Unmarshal(b, &n); err != nil || n.Version != 1 || n.Run != id {
			d.broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, begunFile)
		} else {
			d.begun = &n
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		d.broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, begunFile)
	}
	_, err = os.Stat(filepath.Join(dir, journalFile))
	journal := err == nil
	b, err = os.ReadFile(filepath.Join(dir, metaFile))
	if errors.Is(err, fs.ErrNotExist) {
		if d.begun != nil || journal {
			d.broken = fmt.Errorf("%w: %s is gone", ErrBroken, metaFile)
		}
		return d
	}
	var m Meta
	switch {
	case err != nil:
		d.broken = fmt.Errorf("%w: %s cannot be read", ErrBroken, metaFile)
	case d.begun != nil && sumOf(b) != d.begun.Meta, json.Unmarshal(b, &m) != nil, m.ID != id:
		d.broken = fmt.Errorf("%w: %s is not what was written", ErrBroken, metaFile)
	case m.Version != metaVersion:
		d.broken = fmt.Errorf("%w: another version of this program began it, and only that can go on with it", ErrBroken)
	default:
		m.sum = sumOf(b)
		d.meta = &m
	}
	return d
}

func sumOf(b []byte) string {
	sum := blake3.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Stray tells what lies in the folder of the runs and is none, or cannot be read as one.
func Stray(runs string) ([]string, error) {
	_, stray, err := folders(runs)
	return stray, err
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
	return Sentence(u.Broken) + " Put back what is missing, or the drive as it was, and finish the run or take it back; or say, with a reason, that the drive is left as it is"
}

// movedPiece is a stretch of the drive that a run moves, with its hash: kept beside the journal,
// so that it can be told what lies where even when the journal cannot be read.
type movedPiece struct {
	From disk.Bytes `json:"from"`
	To   disk.Bytes `json:"to"` // -1 where the run leaves it nowhere as a whole
	Len  disk.Bytes `json:"len"`
	Sum  string     `json:"sum"` // BLAKE3; empty for nothing but zeros
}

// Evidence is what can be proven of a drive without the journal of its run.
type Evidence struct {
	// Pieces is how many stretches the run moves, New and Old how many of them lie in their new
	// and their old place only, Both in both, Neither in neither.
	Pieces, New, Old, Both, Neither int
	Bytes                           disk.Bytes
	Table                           string // what its partition table is like
}

// Text says it for people.
func (e *Evidence) Text() string {
	t := e.Table
	if e.Pieces > 0 {
		t += fmt.Sprintf(" Of the %s that the run moves, in %d pieces, %d lie in their new place only, %d in their old one only, %d in both, and %d in neither", e.Bytes, e.Pieces, e.New, e.Old, e.Both, e.Neither)
		if t += "."; e.Neither == 1 {
			t = strings.TrimSuffix(t, ".") + ", as one that was on its way would be."
		}
	}
	return t
}

// Prove tells what can be proven of the drive of a run whose journal cannot be read, from the
// hashes that were kept beside it. It writes nothing.
func (u *Unfinished) Prove(o Options) (*Evidence, error) {
	e := &Evidence{Table: "What its partition table should be is not known."}
	if u.Meta != nil {
		sv, err := survey.Read(o.Dev, u.Meta.PC)
		if err != nil {
			return nil, err
		}
		sv.Relabel(u.Meta.Before)
		was := len(layout.Differ(u.Meta.Before, sv.Layout)) == 0
		sv.Relabel(u.Meta.After)
		is := len(layout.Differ(u.Meta.After, sv.Layout)) == 0
		switch {
		case was && is:
			e.Table = "The partitions are as before the run, which does not change them."
		case was:
			e.Table = "The partitions and the starts of their volumes are as before the run."
		case is:
			e.Table = "The partitions and the starts of their volumes are as they should be after the run."
		default:
			e.Table = "The partitions or the starts of their volumes are neither as before the run nor as they should be after it."
		}
	}
	if u.begun == nil {
		return e, nil
	}
	b, err := os.ReadFile(filepath.Join(o.Runs, u.ID, piecesFile))
	if err != nil || sumOf(b) != u.begun.Pieces {
		return e, nil // nothing can be told by it
	}
	var pieces []movedPiece
	if err := json.Unmarshal(b, &pieces); err != nil {
		return e, nil
	}
	for _, p := range pieces {
		e.Pieces++
		e.Bytes += p.Len
		old, now := p.lies(o.Dev, p.From), p.To >= 0 && p.lies(o.Dev, p.To)
		switch {
		case old && now:
			e.Both++
		case old:
			e.Old++
		case now:
			e.New++
		default:
			e.Neither++
		}
	}
	return e, nil
}

// lies tells that the piece lies at a place.
func (p movedPiece) lies(dev disk.Device, at disk.Bytes) bool {
	b, err := disk.ReadFull(dev, at, p.Len)
	if err != nil {
		return false
	}
	if p.Sum == "" {
		return disk.Zeros(b)
	}
	return sumOf(b) == p.Sum
}

// notePieces keeps what a run moves, and returns the hash of the file; "" for a run that moves
// nothing.
func notePieces(dir string, c *carry.Carry) (string, error) {
	var pieces []movedPiece
	for _, m := range c.Moved() {
		p := movedPiece{From: m.From, To: m.To, Len: m.Len}
		if m.Sum != [32]byte{} {
			p.Sum = hex.EncodeToString(m.Sum[:])
		}
		pieces = append(pieces, p)
	}
	if len(pieces) == 0 {
		return "", nil
	}
	b, err := json.Marshal(pieces)
	if err != nil {
		return "", err
	}
	return sumOf(b), disk.WriteDurably(filepath.Join(dir, piecesFile), b)
}

// signPlace finds a place for the sign of a run: one that no partition has, before, during or
// after it, and that it does not touch. 0 where the drive has none.
func (p *prepared) signPlace(dev disk.Device) (disk.Bytes, error) {
	var taken []disk.Range
	for _, op := range p.script {
		taken = append(taken, op.Onto(), disk.Range{Start: op.From, End: op.From + op.Len})
	}
	layouts := []*layout.Layout{p.before}
	for _, c := range p.columns {
		layouts = append(layouts, c.Layout)
	}
	for _, l := range layouts {
		for _, q := range l.Spans {
			if q.Kind == layout.Partition || q.Why == layout.InChain {
				taken = append(taken, disk.Range{Start: q.Start.Offset(l.Sector), End: (q.End + 1).Offset(l.Sector)})
			}
		}
	}
	for _, sv := range []*survey.Survey{p.was, p.sv} {
		for _, r := range sv.Table.Ranges() {
			taken = append(taken, disk.Range{Start: r[0], End: r[1]})
		}
	}
	all := disk.NewSet(taken)
	at, err := sign.Place(dev, func(r disk.Range) bool { return !all.Meets(r) })
	if errors.Is(err, sign.ErrNoPlace) {
		return 0, nil
	}
	return at, err
}

// theDrive proves that the drive at hand is the one of the run, in the state in which the run left
// it: by what it is, by its sign, by what the finished part wrote and by what the rest will read.
// Nothing is written before that.
func theDrive(ctx context.Context, o Options, u *Unfinished, c *carry.Carry) error {
	m := u.Meta
	other := func(format string, args ...any) error {
		return fmt.Errorf("%w: %s. Nothing was written; the run stays open. Put the drive back as it was, or say with a reason that it is left as it is", ErrOther, fmt.Sprintf(format, args...))
	}
	if m.Identity.Serial != "" && o.Identity.Serial != "" && !strings.EqualFold(m.Identity.Serial, o.Identity.Serial) {
		return other("its serial number is %q, and the run is on %q", o.Identity.Serial, m.Identity.Serial)
	}
	if o.Dev.Size() != m.Before.Size || o.Dev.SectorBytes() != m.Before.Sector {
		return other("it has %s in sectors of %d bytes, and the drive of the run %s in sectors of %d", o.Dev.Size().Exact(), o.Dev.SectorBytes(), m.Before.Size.Exact(), m.Before.Sector)
	}
	s, err := sign.Find(o.Dev)
	if err != nil {
		return err
	}
	switch {
	case s != nil && s.Run != u.ID:
		return other("it carries the sign of another run, %s", cmp.Or(s.Run, "whose name cannot be read"))
	case s == nil && m.Sign != 0 && c.Marked() && !c.Done():
		return other("the sign is missing that the run put on it")
	}
	seen, err := c.Prove(ctx, o.Dev, o.Report)
	if errors.Is(err, carry.ErrStopped) {
		return err
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrBroken, err)
	}
	if len(seen.Differs) > 0 {
		first := seen.Differs[0]
		return other("%s in %d places hold something else than the run left there, the first at sector %s%s", seen.Differs.Bytes(), len(seen.Differs), disk.Grouped(int64(first.Start.At(o.Dev.SectorBytes()))), placeIn(m, first))
	}
	return untouched(o, m, c, other)
}

// placeIn says in which partition a place lies, before the run or after it.
func placeIn(m *Meta, r disk.Range) string {
	for _, l := range []*layout.Layout{m.Before, m.After} {
		for _, q := range l.Partitions() {
			at := disk.Range{Start: q.Start.Offset(l.Sector), End: (q.End + 1).Offset(l.Sector)}
			if at.Meets(r) {
				return fmt.Sprintf(", in %s (partition %d)", q.Title(), q.Number)
			}
		}
	}
	return ""
}

// untouched compares the metadata of the volumes into whose places the run does not write.
func untouched(o Options, m *Meta, c *carry.Carry, other func(string, ...any) error) error {
	touched := c.Script().Origins()
	for _, q := range m.After.Partitions() {
		want, known := m.Prints[fmt.Sprint(q.Number)]
		if !known || touched.Touches(q.Start.Offset(m.After.Sector), q.Bytes) {
			continue
		}
		found, err := recognise.Open(survey.Window(o.Dev, q))
		if err != nil {
			return err
		}
		got := ""
		if found.Volume != nil {
			got, err = found.Volume.Fingerprint()
		}
		if err != nil || got != want {
			return other("%s (partition %d), which the run does not touch, was changed since", q.Title(), q.Number)
		}
	}
	return nil
}
