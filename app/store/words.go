package store

import (
	"slices"
	"strings"
	"sync"
	"time"
)

// words is what every entry of the trail says, in memory: looking for a text reads the few
// entries that a page shows, and not the whole trail. It takes about 200 bytes an entry. What
// is shown comes from the database all the same.
type words struct {
	mu    sync.Mutex
	all   []brief // the oldest first
	names map[string]string
}

// brief is what an entry can be found by.
type brief struct {
	Seq                         uint64
	Time                        time.Time
	Who, Act, Job, Disk, Record string
	Text                        string
}

// LearnWords reads what entries have come since, so that the next search for a text need not.
func (t *Trail) LearnWords() error {
	w := &t.words
	w.mu.Lock()
	defer w.mu.Unlock()
	return t.learn()
}

func (t *Trail) learn() error {
	w, last := &t.words, uint64(0)
	if n := len(w.all); n > 0 {
		last = w.all[n-1].Seq
	}
	rows, err := t.db.Model(&trailEntry{}).Select("seq, time, who, act, job, disk, record, JSON_VALUE(line, '$.text') AS text").Where("seq > ?", last).Order("seq").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	if w.names == nil {
		w.names = map[string]string{}
	}
	for rows.Next() {
		var b brief
		var text *string
		if err := rows.Scan(&b.Seq, &b.Time, &b.Who, &b.Act, &b.Job, &b.Disk, &b.Record, &text); err != nil {
			return err
		}
		for _, s := range []*string{&b.Who, &b.Act, &b.Job, &b.Disk} { // each of them is kept once
			if same, there := w.names[*s]; there {
				*s = same
			} else {
				w.names[*s] = *s
			}
		}
		if text != nil {
			b.Text = strings.ToLower(*text)
		}
		w.all = append(w.all, b)
	}
	return rows.Err()
}

// saying are the numbers of the entries that a filter with a text lets through, the newest
// first, as many as its limit.
func (t *Trail) saying(f Filter) ([]uint64, error) {
	w := &t.words
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := t.learn(); err != nil {
		return nil, err
	}
	text := strings.ToLower(f.Text)
	is := func(wanted, has string) bool { return wanted == "" || wanted == has }
	var out []uint64
	for _, b := range slices.Backward(w.all) {
		if f.Before > 0 && b.Seq >= uint64(f.Before) || !f.From.IsZero() && b.Time.Before(f.From) || !f.To.IsZero() && !b.Time.Before(f.To) {
			continue
		}
		if !is(f.Job, b.Job) || !is(f.Disk, b.Disk) || !is(f.Act, b.Act) || !is(f.Who, b.Who) || !is(f.Record, b.Record) || !strings.Contains(b.Text, text) {
			continue
		}
		if out = append(out, b.Seq); f.Limit > 0 && len(out) == f.Limit {
			break
		}
	}
	return out, nil
}
