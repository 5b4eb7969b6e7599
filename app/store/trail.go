package store

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"gorm.io/gorm"

	"jadetrail/core/trail"
)

// Trail is the trail in the database.
type Trail struct {
	db  *gorm.DB
	Key ed25519.PrivateKey // signs entries; nil for none
	// Log is told of every entry once it is in the trail.
	Log *slog.Logger

	words  words
	lately lately
}

// trailEntry is a row of the trail.
type trailEntry struct {
	Seq                         uint64 `gorm:"primaryKey;autoIncrement:false"`
	ID                          string
	Time                        time.Time
	Who, Act, Job, Disk, Record string
	Hash, Line                  string
}

// Append implements trail.Sink. One writer at a time gives the entries their
// place in the chain.
func (t *Trail) Append(entries ...trail.Entry) error {
	return t.inChain(func(_ *gorm.DB, add adding) error { return add(entries...) })
}

// adding adds entries to the trail within a transaction.
type adding func(entries ...trail.Entry) error

// inChain does something in one transaction while nobody else adds to the chain.
func (t *Trail) inChain(f func(tx *gorm.DB, add adding) error) error {
	var added []trail.Entry
	err := t.locked(func(tx *gorm.DB) error {
		return f(tx, func(entries ...trail.Entry) error { return t.append(tx, entries, &added) })
	})
	if err != nil {
		return err
	}
	for _, e := range added {
		t.Log.Info(
			"entered", "seq", e.Seq, "act", e.Act, "who", e.Who, "job", e.Job, "drive", e.Drive.Serial, "run", e.Run,
		)
	}
	return nil
}

// locked does something in one transaction that holds the chain.
func (t *Trail) locked(f func(tx *gorm.DB) error) error {
	return inWords(t.db.Connection(func(conn *gorm.DB) error { // that it cannot be had is in no words yet
		var got int
		if err := conn.Raw("SELECT GET_LOCK(CONCAT(DATABASE(), '.trail'), 30)").Scan(&got).Error; err != nil {
			return err
		}
		if got != 1 {
			return fmt.Errorf("%w: another writer holds it", trail.ErrChain)
		}
		defer conn.Exec("DO RELEASE_LOCK(CONCAT(DATABASE(), '.trail'))")
		return conn.Transaction(f)
	}))
}

// append adds entries that are not there yet, and tells which these were.
func (t *Trail) append(tx *gorm.DB, entries []trail.Entry, added *[]trail.Entry) error {
	var last trailEntry
	err := tx.Order("seq DESC").Limit(1).Take(&last).Error
	seq, previous := int64(last.Seq), last.Hash
	if errors.Is(err, gorm.ErrRecordNotFound) {
		seq, previous = 0, trail.First
	} else if err != nil {
		return err
	}
	for _, e := range entries {
		if there, err := entered(tx, e.ID); err != nil || there {
			if err != nil {
				return err
			}
			continue
		}
		line, sealed, err := trail.Seal(e, seq+1, previous, t.Key)
		if err != nil {
			return err
		}
		row := trailEntry{
			Seq: uint64(sealed.Seq), ID: e.ID, Time: sealed.Time, Who: e.Who, Act: string(e.Act), Job: e.Job,
			Disk: e.Drive.DiskID, Record: e.Record, Hash: sealed.Hash, Line: string(line),
		}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		if err := follow(tx, e); err != nil {
			return err
		}
		seq, previous = sealed.Seq, sealed.Hash
		*added = append(*added, sealed)
	}
	return nil
}

// Entered tells whether an entry is in the trail.
func (t *Trail) Entered(id string) (bool, error) { return entered(t.db, id) }

func entered(tx *gorm.DB, id string) (bool, error) {
	var n int64
	err := tx.Model(&trailEntry{}).Where("id = ?", id).Count(&n).Error
	return n > 0, err
}

// openRun is a run as the database knows it, beside the trail.
type openRun struct {
	Run                    string `gorm:"primaryKey"`
	Disk, Serial, Job, Who string
	Begun                  time.Time
	Ended                  *time.Time
	Text                   string
}

// follow keeps in step with an entry what the database knows besides: which runs are open, and
// that the plan of a job is at an end once it was carried out. It happens with the entry, or not
// at all.
func follow(tx *gorm.DB, e trail.Entry) error {
	switch {
	case e.Begins():
		text := []rune(e.Text)
		row := openRun{
			Run: e.Run, Disk: e.Drive.DiskID, Serial: e.Drive.Serial, Job: e.Job, Who: e.Who, Begun: e.Time.UTC(),
			Text: string(text[:min(len(text), 300)]),
		}
		return tx.Create(&row).Error
	case e.Ends():
		if err := tx.Model(&openRun{}).Where("run = ?", e.Run).Update("ended", e.Time.UTC()).Error; err != nil {
			return err
		}
		if e.Act == trail.ActDone && e.Job != "" {
			if err := endPlan(tx, e.Job, e.Time); !errors.Is(err, ErrNotFound) { // of a job that is not known here, nothing is to be ended
				return err
			}
		}
	}
	return nil
}

// Unended implements trail.Sink: by what the database knows of runs, and by the trail itself.
func (t *Trail) Unended(d trail.Drive) ([]trail.Begun, error) {
	open, err := t.openRuns()
	if err != nil {
		return nil, err
	}
	return t.unended(d, open, keptOf)
}

// openRuns are those that the database knows to have begun and not to have ended.
func (t *Trail) openRuns() (open []openRun, err error) {
	err = t.db.Where("ended IS NULL").Find(&open).Error
	return open, err
}

func (t *Trail) unended(d trail.Drive, open []openRun, keep kept[[]trail.Begun]) (out []trail.Begun, err error) {
	for _, r := range open {
		b := trail.Begun{
			Run: r.Run, Time: r.Begun, Who: r.Who, Job: r.Job, Text: r.Text,
			Drive: trail.Drive{DiskID: r.Disk, Serial: r.Serial},
		}
		if d == (trail.Drive{}) || d.Same(b.Drive) {
			out = append(out, b)
		}
	}
	if d.DiskID == "" && d.Serial == "" {
		return out, nil
	}
	find := func() ([]trail.Begun, error) { return t.begun(d) }
	var begun []trail.Begun
	if d.DiskID == "" { // an end may stand at another drive's entry
		begun, err = find()
	} else {
		begun, err = keep(t, d, begunOf, find)
	}
	if err != nil {
		return nil, err
	}
	for _, b := range begun {
		if !slices.ContainsFunc(out, func(o trail.Begun) bool { return o.Run == b.Run }) && !t.endedElsewhere(b.Run) {
			out = append(out, b)
		}
	}
	return out, nil
}

// begun are the runs on a drive of which its entries do not say that they ended.
func (t *Trail) begun(d trail.Drive) ([]trail.Begun, error) {
	ends := []string{
		string(trail.ActPlan), string(trail.ActDone), string(trail.ActUndone), string(trail.ActLeft),
		string(trail.ActVoid),
	}
	q := t.db.Where("act IN ?", ends).Order("seq")
	if d.DiskID != "" {
		q = q.Where("disk = ?", d.DiskID)
	}
	entries, err := read(q)
	return trail.Unended(entries, d), err
}

// RecordHash implements trail.Sink.
func (t *Trail) RecordHash(record string) (string, error) {
	list, err := t.Entries(Filter{Record: record})
	return trail.RecordHash(list, record), err
}

// endedElsewhere tells that a run has an end in the trail under another id of its drive: its plan
// gave the drive a new table.
func (t *Trail) endedElsewhere(run string) bool {
	var n int64
	var ids []string
	for _, act := range []string{"done", "undone", "left", "void"} {
		ids = append(ids, trail.EndID(run, act))
	}
	err := t.db.Model(&trailEntry{}).Where("id IN ?", ids).Count(&n).Error
	return err == nil && n > 0
}

// Filter of entries; empty fields do not filter.
type Filter struct {
	Job, Act, Who, Record, Text string
	// Label is what a drive is known by: its serial number, or its table's id where it has none.
	Label    string
	From, To time.Time // the first moment, and the first one after
	Before   int64     // only entries with smaller numbers
	After    int64     // only entries with larger numbers; not with Text
	Limit    int
	// Drive asks for the history of one drive, whatever its table was called at the time. Not with
	// Text or Limit.
	Drive *trail.Drive
}

// labelColumn is what the drive of an entry is known by.
const labelColumn = "COALESCE(NULLIF(serial, ''), disk)"

// of narrows a query to a drive. One of which nothing is known has no history.
func of(q *gorm.DB, d *trail.Drive) *gorm.DB {
	byID := d.DiskID != ""
	switch {
	case d.Serial != "" && byID:
		return q.Where("serial = ? OR (serial IS NULL OR serial = '') AND disk = ?", d.Serial, d.DiskID)
	case d.Serial != "":
		return q.Where("serial = ?", d.Serial)
	case byID:
		return q.Where("disk = ?", d.DiskID)
	}
	return q.Where("1 = 0")
}

// Entries returns entries, the newest first. Text is looked for in what entries say, letters
// large and small alike.
func (t *Trail) Entries(f Filter) ([]trail.Entry, error) {
	q := t.db.Order("seq DESC")
	if narrow := f; f.Limit > 0 || f.Text != "" {
		if narrow.Before, narrow.Limit = 0, 0; narrow != (Filter{}) {
			found, err := t.saying(f)
			if err != nil || len(found) == 0 {
				return nil, err
			}
			q = q.Where("seq IN ?", found)
		} else if f.Before > 0 {
			q = q.Where("seq < ?", f.Before)
		}
	} else {
		for column, value := range map[string]string{"job": f.Job, labelColumn: f.Label, "act": f.Act, "who": f.Who, "record": f.Record} {
			if value != "" {
				q = q.Where(column+" = ?", value)
			}
		}
		if !f.From.IsZero() {
			q = q.Where("time >= ?", f.From)
		}
		if !f.To.IsZero() {
			q = q.Where("time < ?", f.To)
		}
		if f.Before > 0 {
			q = q.Where("seq < ?", f.Before)
		}
		if f.After > 0 {
			q = q.Where("seq > ?", f.After)
		}
		if f.Drive != nil {
			q = of(q, f.Drive)
		}
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
	return read(q)
}

// read reads the entries that a query finds.
func read(q *gorm.DB) ([]trail.Entry, error) {
	var rows []trailEntry
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]trail.Entry, len(rows))
	for i, r := range rows {
		if err := json.Unmarshal([]byte(r.Line), &out[i]); err != nil {
			return nil, fmt.Errorf("entry %d of the trail cannot be read: %w", r.Seq, err)
		}
	}
	return out, nil
}

// Past is what the trail tells of a drive in short.
type Past struct {
	Entries int
	Last    *trail.Entry // its latest run that was carried out or taken back, nil for none
	Good    bool         // what that run left was marked as good
}

// Past is a drive's history in short.
func (t *Trail) Past(d trail.Drive) (Past, error) {
	return keptOf(t, d, pastsOf, func() (Past, error) { return t.past(d) })
}

func (t *Trail) past(d trail.Drive) (p Past, err error) {
	its := func() *gorm.DB { return of(t.db.Model(&trailEntry{}), &d) }
	var n int64
	if err := its().Count(&n).Error; err != nil || n == 0 {
		return p, err
	}
	p.Entries = int(n)
	ends := []string{string(trail.ActDone), string(trail.ActUndone)}
	last, err := read(its().Where("act IN ?", ends).Order("seq DESC").Limit(1))
	if err != nil || len(last) == 0 {
		return p, err
	}
	p.Last = &last[0]
	marks, err := read(its().Where("act = ?", string(trail.ActMark)))
	p.Good = slices.ContainsFunc(marks, func(e trail.Entry) bool { return e.Run == p.Last.Run })
	return p, err
}

// Export writes the trail as JSON lines, the oldest first.
func (t *Trail) Export(ctx context.Context, w io.Writer) error {
	out := bufio.NewWriter(w)
	err := t.each(ctx, func(r *trailEntry) error {
		_, err := out.WriteString(r.Line + "\n")
		return err
	})
	if err != nil {
		return err
	}
	return out.Flush()
}

func (t *Trail) each(ctx context.Context, f func(r *trailEntry) error) error {
	rows, err := t.db.WithContext(ctx).Model(&trailEntry{}).Order("seq").Rows()
	if err != nil {
		return inWords(err)
	}
	defer rows.Close()
	for rows.Next() {
		var r trailEntry
		if err := t.db.ScanRows(rows, &r); err != nil {
			return err
		}
		if err := f(&r); err != nil {
			return err
		}
	}
	return inWords(rows.Err())
}

// Verify checks the chain, that the columns beside each line say the same, and that it agrees
// with the heads that were kept elsewhere. report, if it is set, is told how many entries were
// checked now and then.
func (t *Trail) Verify(ctx context.Context, heads []trail.Head, report func(checked int64)) (*trail.Report, error) {
	v := trail.Verifier{}
	if t.Key != nil {
		v.Key, _ = t.Key.Public().(ed25519.PublicKey)
	}
	v.Expect(heads)
	var beside []string
	n := int64(0)
	err := t.each(ctx, func(r *trailEntry) error {
		v.Add([]byte(r.Line))
		var e trail.Entry
		if json.Unmarshal([]byte(r.Line), &e) == nil && len(beside) < 100 {
			if wrong := r.differs(e); wrong != "" {
				beside = append(beside, fmt.Sprintf(
					"Entry %d: the column %s beside it says something else: the row was changed behind this program's back.",
					r.Seq, wrong,
				))
			}
		}
		if n++; n%1000 == 0 && report != nil {
			report(n)
		}
		return nil
	})
	rep := v.Report()
	rep.Problems = append(rep.Problems, beside...)
	return rep, err
}

// differs names the first column that does not say what the line says.
func (r *trailEntry) differs(e trail.Entry) string {
	for _, c := range []struct {
		name string
		same bool
	}{
		{"seq", uint64(e.Seq) == r.Seq}, {"id", e.ID == r.ID}, {"hash", e.Hash == r.Hash}, {"act", string(e.Act) == r.Act}, {"who", e.Who == r.Who},
		{"record", e.Record == r.Record}, {"job", e.Job == r.Job}, {"disk", e.Drive.DiskID == r.Disk}, {"time", e.Time.Sub(r.Time).Abs() <= time.Millisecond},
	} {
		if !c.same {
			return c.name
		}
	}
	return ""
}

// Head is the newest entry, as the chain has it; 0 for none.
func (t *Trail) Head() (seq int64, hash string, err error) {
	var last trailEntry
	err = t.db.Select("seq", "hash").Order("seq DESC").Limit(1).Take(&last).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return 0, trail.First, nil
	}
	return int64(last.Seq), last.Hash, err
}

// NewestSigned is the newest entry that is signed, nil for none.
func (t *Trail) NewestSigned() (*trail.Entry, error) {
	return t.newest(t.db.Where(`line LIKE '%"signature":"_%'`))
}

// Keys are the public keys that have signed for the shop: the one that does now, and those before it. None
// where nothing is signed.
func (t *Trail) Keys() ([]ed25519.PublicKey, error) {
	if t.Key == nil {
		return nil, nil
	}
	now, _ := t.Key.Public().(ed25519.PublicKey)
	out := []ed25519.PublicKey{now}
	changes, err := t.Entries(Filter{Act: string(trail.ActKey)})
	for _, e := range changes {
		if e.Key == nil {
			continue
		}
		for _, text := range []string{e.Key.Old, e.Key.New} {
			if k, err := base64.StdEncoding.DecodeString(text); err == nil && len(k) == ed25519.PublicKeySize {
				out = append(out, k)
			}
		}
	}
	return out, err
}

// NewestKey is the newest entry that changed the key that signs, nil for none.
func (t *Trail) NewestKey() (*trail.Entry, error) {
	return t.newest(t.db.Where("act = ?", string(trail.ActKey)))
}

func (t *Trail) newest(among *gorm.DB) (*trail.Entry, error) {
	var row trailEntry
	err := among.Order("seq DESC").Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var e trail.Entry
	if err := json.Unmarshal([]byte(row.Line), &e); err != nil {
		return nil, fmt.Errorf("entry %d of the trail cannot be read: %w", row.Seq, err)
	}
	return &e, nil
}

// Entry is one entry by its number.
func (t *Trail) Entry(seq int64) (*trail.Entry, error) {
	var row trailEntry
	err := t.db.Where("seq = ?", seq).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, fmt.Errorf("%w: the trail has no entry %d", ErrNotFound, seq)
	}
	if err != nil {
		return nil, err
	}
	var e trail.Entry
	if err := json.Unmarshal([]byte(row.Line), &e); err != nil {
		return nil, fmt.Errorf("entry %d of the trail cannot be read: %w", seq, err)
	}
	return &e, nil
}

// Choice is a value that entries have, for a filter.
type Choice struct{ Key, Title string }

// Drives are the drives that entries are about, each once, whatever its table was called.
func (t *Trail) Drives() ([]Choice, error) {
	var rows []trailEntry
	if err := t.db.Raw(`SELECT e.* FROM trail_entries e JOIN (
		SELECT MAX(seq) AS seq FROM trail_entries WHERE serial > '' GROUP BY serial
		UNION ALL SELECT MAX(seq) FROM trail_entries WHERE (serial IS NULL OR serial = '') AND disk > '' GROUP BY disk
	) n ON e.seq = n.seq ORDER BY e.serial, e.disk`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	var out []Choice
	for _, r := range rows {
		var e trail.Entry
		label := Choice{r.Disk, r.Disk}
		if json.Unmarshal([]byte(r.Line), &e) == nil && e.Drive.Serial != "" {
			label = Choice{e.Drive.Serial, e.Drive.Serial + ", " + e.Drive.Model}
		}
		out = append(out, label)
	}
	return out, nil
}

// People are those who did what entries tell of.
func (t *Trail) People() ([]string, error) {
	var out []string
	return out, t.db.Raw("SELECT DISTINCT who FROM trail_entries WHERE who <> '' ORDER BY who").Scan(&out).Error
}

// Lines gives the entries of a job as they are kept, to the byte, the oldest first.
func (t *Trail) Lines(ctx context.Context, job string, f func(line string) error) error {
	rows, err := t.db.WithContext(ctx).Model(&trailEntry{}).Select("line").Where("job = ?", job).Order("seq").Rows()
	if err != nil {
		return inWords(err)
	}
	defer rows.Close()
	for rows.Next() {
		var line string
		if err := rows.Scan(&line); err != nil {
			return err
		}
		if err := f(line); err != nil {
			return err
		}
	}
	return inWords(rows.Err())
}
