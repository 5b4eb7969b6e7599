package store

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"gorm.io/gorm"

	"jadetrail/core/trail"
)

// Trail is the trail in the database.
type Trail struct {
	db  *gorm.DB
	Key ed25519.PrivateKey // signs entries; nil for none
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
	return t.db.Connection(func(conn *gorm.DB) error {
		var got int
		if err := conn.Raw("SELECT GET_LOCK(CONCAT(DATABASE(), '.trail'), 30)").Scan(&got).Error; err != nil {
			return err
		}
		if got != 1 {
			return fmt.Errorf("%w: another writer holds it", trail.ErrChain)
		}
		defer conn.Exec("DO RELEASE_LOCK(CONCAT(DATABASE(), '.trail'))")
		return conn.Transaction(func(tx *gorm.DB) error { return t.append(tx, entries) })
	})
}

func (t *Trail) append(tx *gorm.DB, entries []trail.Entry) error {
	var last trailEntry
	err := tx.Order("seq DESC").Limit(1).Take(&last).Error
	seq, previous := int64(last.Seq), last.Hash
	if errors.Is(err, gorm.ErrRecordNotFound) {
		seq, previous = 0, trail.First
	} else if err != nil {
		return err
	}
	for _, e := range entries {
		var n int64
		if err := tx.Model(&trailEntry{}).Where("id = ?", e.ID).Count(&n).Error; err != nil {
			return err
		}
		if n > 0 {
			continue
		}
		line, sealed, err := trail.Seal(e, seq+1, previous, t.Key)
		if err != nil {
			return err
		}
		row := trailEntry{Seq: uint64(sealed.Seq), ID: e.ID, Time: sealed.Time, Who: e.Who, Act: string(e.Act), Job: e.Job, Disk: e.Drive.DiskID, Record: e.Record, Hash: sealed.Hash, Line: string(line)}
		if err := tx.Create(&row).Error; err != nil {
			return err
		}
		seq, previous = sealed.Seq, sealed.Hash
	}
	return nil
}

// Filter of entries; empty fields do not filter.
type Filter struct {
	Job, Disk, Act, Who, Record, Text string
	Limit                             int
}

// Entries returns entries, the newest first.
func (t *Trail) Entries(f Filter) ([]trail.Entry, error) {
	q := t.db.Order("seq DESC")
	for column, value := range map[string]string{"job": f.Job, "disk": f.Disk, "act": f.Act, "who": f.Who, "record": f.Record} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	if f.Text != "" {
		q = q.Where("INSTR(LOWER(JSON_VALUE(line, '$.text')), LOWER(?)) > 0", f.Text)
	}
	if f.Limit > 0 {
		q = q.Limit(f.Limit)
	}
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
		return err
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
	return rows.Err()
}

// Verify checks the chain, and that the columns beside each line say the same.
func (t *Trail) Verify(ctx context.Context) (*trail.Report, error) {
	var v trail.Verifier
	var beside []string
	err := t.each(ctx, func(r *trailEntry) error {
		v.Add([]byte(r.Line))
		var e trail.Entry
		if json.Unmarshal([]byte(r.Line), &e) == nil && (uint64(e.Seq) != r.Seq || e.ID != r.ID || e.Hash != r.Hash || string(e.Act) != r.Act || e.Who != r.Who || e.Record != r.Record || e.Job != r.Job) {
			beside = append(beside, fmt.Sprintf("Entry %d: the columns beside it say something else; a row was changed behind its back.", r.Seq))
		}
		return nil
	})
	rep := v.Report()
	rep.Problems = append(rep.Problems, beside...)
	return rep, err
}
